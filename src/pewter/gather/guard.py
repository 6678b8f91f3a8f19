"""What Pewter contacts and what not, so that a reviewed site cannot aim it at the reviewer's own network.

One function decides, on the address that a connection would be made to, after every look-up and route.
"""

import msgspec

from pewter.names.addresses import why_not_public

from .routes import Destination, Routes

WEB_PORTS = frozenset({80, 443})


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
    listed: frozenset[str] = frozenset()
    """Names that came from a list: of the site, and yet at public addresses alone."""

    def why_not(self, host: str, destination: Destination) -> str | None:
        """The reason to leave a place alone; None to go on.

        A place that a route names on its left side is open, for the names and ports that it names.  Typed names
        may be anywhere, and all others only at public addresses.  Ports are 80, 443 and those of the site.
        """
        if self._has_route(host, destination):
            return None
        kind = why_not_public(destination.connect_address) if destination.address not in self.own else None
        if kind is not None and host in self.listed:
            return f"{destination.address} is {kind}, and names of a list are contacted at public addresses"
        if kind is not None and host not in self.typed:
            return f"{destination.address} is {kind}, and {host} was not typed"
        is_of_site = host in self.typed or host in self.added or host in self.listed
        if destination.port not in WEB_PORTS and not (is_of_site and destination.port in self.ports):
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
