"""What Pewter contacts and what not, so that a reviewed site cannot aim it at the reviewer's own network.

One function decides, on the address that a connection would be made to, after every look-up and route.
"""

import msgspec

from pewter.names.addresses import why_not_public

from .routes import Destination, Routes

WEB_PORTS = frozenset({80, 443})
BLOCKED_PORTS = frozenset(
    {
        *(1, 7, 9, 11, 13, 15, 17, 19, 20, 21, 22, 23, 25, 37, 42, 43, 53, 69, 77, 79, 87, 95, 101, 102, 103, 104, 109),
        *(110, 111, 113, 115, 117, 119, 123, 135, 137, 139, 143, 161, 179, 389, 427, 465, 512, 513, 514, 515, 526, 530),
        *(531, 532, 540, 548, 554, 556, 563, 587, 601, 636, 989, 990, 993, 995, 1719, 1720, 1723, 2049, 3659, 4045),
        *(4190, 5060, 5061, 6000, 6566, 6665, 6666, 6667, 6668, 6669, 6679, 6697, 10080),
    }
)
"""Of other services, to which no browser sends a request (Fetch section 2.9)."""


class Guard(msgspec.Struct, frozen=True):
    """What a look may contact."""

    typed: frozenset[str]
    """Names and addresses that the reviewer gave: they may be anywhere."""

    added: frozenset[str]
    """Names of the site that Pewter added, as the sibling of one."""

    own: frozenset[str]
    """Addresses of typed names that are wholly off the public internet."""

    ports: frozenset[int]
    """On which names of the site are looked at beside 80 and 443."""

    routes: Routes
    promised: frozenset[tuple[str, int]] = frozenset()
    """Hosts and ports that records of the site's own names lead browsers to."""

    listed: frozenset[str] = frozenset()
    """Names that came from a list: of the site, and yet at public addresses alone."""

    def why_not(self, host: str, destination: Destination) -> str | None:
        """The reason to leave a place alone; None to go on.

        A place that a route names on its left side is open, for the names and ports that it names.  Typed names
        may be anywhere, and all others only at public addresses.  Ports are 80, 443, those of the site, and what its
        records promise at public addresses, as far as browsers go there.
        """
        if self._has_route(host, destination):
            return None
        kind = why_not_public(destination.connect_address) if destination.address not in self.own else None
        if kind is not None and host in self.listed:
            return f"{destination.address} is {kind}, and names of a list are contacted at public addresses"
        if kind is not None and host not in self.typed:
            return f"{destination.address} is {kind}, and {host} was not typed"
        is_of_site = host in self.typed or host in self.added or host in self.listed
        is_public = why_not_public(destination.connect_address) is None
        is_promised = is_public and (host, destination.port) in self.promised
        if is_promised and destination.port in BLOCKED_PORTS:
            return f"port {destination.port} belongs to another service: browsers do not go there"
        is_known = destination.port in WEB_PORTS or (is_of_site and destination.port in self.ports)
        if not is_known and not is_promised:
            return f"port {destination.port} is none of the site's"
        # A typed name may be anywhere, but not at public and at private addresses at once.
        return f"{destination.address} is {kind}, beside public ones of {host}" if kind is not None else None

    def _has_route(self, host: str, destination: Destination) -> bool:
        """Whether a route with this very place on its left side led here."""
        return any(
            route.host in {host, destination.address} and route.port in {None, destination.port}
            for route in self.routes.routes
            if route.port is not None or destination.port in WEB_PORTS | self.ports
        )
