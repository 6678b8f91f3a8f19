"""Which addresses are on the public internet."""

import ipaddress

from pewter.kept import kept

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


@kept(most=1024)
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
