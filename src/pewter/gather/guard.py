"""What Pewter contacts and what not, so that a reviewed site cannot aim it at the reviewer's own network.

One function decides, on the address that a connection would be made to, after every look-up and route.
"""

import ipaddress
from dataclasses import dataclass

from .routes import Destination, Routes

WEB_PORTS = frozenset({80, 443})

_EMBEDDING = (
    (ipaddress.IPv6Network("::ffff:0:0/96"), 0),  # IPv4-mapped (RFC 4291 section 2.5.5.2)
    (ipaddress.IPv6Network("::/96"), 0),  # IPv4-compatible (RFC 4291 section 2.5.5.1)
    (ipaddress.IPv6Network("::ffff:0:0:0/96"), 0),  # IPv4-translated (RFC 2765 section 2.1)
    (ipaddress.IPv6Network("64:ff9b::/96"), 0),  # NAT64 (RFC 6052 section 2.1)
    (ipaddress.IPv6Network("2002::/16"), 80),  # 6to4 (RFC 3056 section 2)
)
"""IPv6 networks whose addresses lead to an IPv4 address within them, and how many bits stand behind that."""

_NEVER_PUBLIC = (
    (ipaddress.IPv6Network("64:ff9b:1::/48"), "a NAT64 address of a local network"),  # RFC 8215
    (ipaddress.IPv6Network("fec0::/10"), "a site-local address"),  # RFC 3879
    (ipaddress.IPv6Network("2001::/32"), "a Teredo address, which leads anywhere"),  # RFC 4380
)


@dataclass(frozen=True, slots=True)
class Guard:
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

    def why_not(self, host: str, destination: Destination) -> str | None:
        """The reason to leave a place alone; None to go on.

        A place that a route names on its left side is open, for the names and ports that it names.  Typed names
        may be anywhere, and all others only at public addresses.  Ports are 80, 443 and those of the site.
        """
        if self._has_route(host, destination):
            return None
        kind = why_not_public(destination.connect_address) if destination.address not in self.own else None
        if kind is not None and host not in self.typed:
            return f"{destination.address} is {kind}, and {host} was not typed"
        is_of_site = host in self.typed or host in self.added
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


def why_not_public(text: str) -> str | None:
    """What an address is that is not on the public internet, as ``a loopback address``; None where it is public."""
    address = ipaddress.ip_address(text)
    if isinstance(address, ipaddress.IPv6Address):
        if address.scope_id is not None:
            return "an address with a zone, which is of one link"
        for network, words in _NEVER_PUBLIC:
            if address in network:
                return words
        for network, behind in _EMBEDDING:
            if address in network and int(address) > 1:
                within = ipaddress.IPv4Address(int(address) >> behind & 0xFFFFFFFF)
                return _kind(within)
    return _kind(address)


def _kind(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> str | None:
    if address.is_multicast:
        return "a multicast address"
    if address.is_global:
        return None
    if address.is_loopback:
        return "a loopback address"
    if address.is_link_local:
        return "a link-local address"
    return "a private or reserved address"
