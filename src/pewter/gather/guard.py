"""What Pewter does not contact, so that a reviewed site cannot aim it at the reviewer's own network."""

import ipaddress
from collections.abc import Collection

from .routes import Destination, Routes


def why_not_contact(
    destination: Destination, own_addresses: Collection[str], own_ports: Collection[int], routes: Routes
) -> str | None:
    """The reason to leave an address alone that a redirect or a certificate led to; None to go on.

    Addresses that are not public (loopback, link-local, private and the like) are contacted only where
    they belong to one of the site's own names or to a route, and then on 80, 443 or a port that the
    reviewer gave.
    """
    address = ipaddress.ip_address(destination.address)
    mapped = getattr(address, "ipv4_mapped", None)
    if (mapped or address).is_global and not address.is_multicast:
        return None
    if not (destination.address in own_addresses or routes.are_of(destination.address)):
        return f"{destination.address} is {_kind(mapped or address)}, and not an address of the site"
    if destination.port not in own_ports:
        return f"port {destination.port} of {destination.address}, which is {_kind(mapped or address)}"
    return None


def _kind(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> str:
    if address.is_loopback:
        return "a loopback address"
    if address.is_link_local:
        return "a link-local address"
    if address.is_multicast:
        return "a multicast address"
    return "a private or reserved address"
