"""Service identity (RFC 9525): does a certificate cover a host?"""

import ipaddress
import re
from collections.abc import Callable

from .certificates import Certificate


def covers(certificate: Certificate, host: str) -> bool:
    """Whether a subjectAltName entry matches ``host``, an A-label name or an IP address.

    The subject's common name does not count, even where there is no subjectAltName (RFC 9525
    section 2).  IP addresses match iPAddress entries alone, octet by octet (section 6.4).
    """
    try:
        address = ipaddress.ip_address(host)
    except ValueError:
        # A certificate may have thousands of names, each of which is held against each other one.
        whole, behind_wildcards = certificate.dns_index
        name = host.lower().removesuffix(".")
        first_label, _, rest = name.partition(".")
        return name in whole or (bool(first_label) and f".{rest}" in behind_wildcards)
    return address.packed in certificate.extensions.ip_addresses


def matches(presented: str, host: str) -> bool:
    """Whether one dNSName matches a host name (RFC 9525 section 6.3).

    A wildcard is the whole left-most label and stands for exactly one label; any other ``*`` makes
    the presented name match nothing.  One trailing dot of the host is dropped, one of the presented
    name makes it invalid.
    """
    presented, host = presented.lower(), host.lower().removesuffix(".")
    if not presented.isascii() or presented.endswith("."):
        return False
    if not presented.startswith("*."):
        return "*" not in presented and bool(presented) and presented == host
    suffix = presented[1:]
    first_label, dot, rest = host.partition(".")
    return "*" not in suffix and bool(first_label) and bool(dot) and "." + rest == suffix


_INTERNAL = frozenset({"local", "localhost", "localdomain", "internal", "intranet", "lan", "home", "corp", "private"})
_LABEL = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?")


def why_odd(presented: str, is_public_suffix: Callable[[str], bool]) -> str:
    """Why a dNSName matches nothing, or may not be in a public certificate; empty for an ordinary one."""
    if not presented.isascii() or not presented.isprintable() or " " in presented:
        return "octets that no host name has"
    if presented.endswith("."):
        return "a dot at its end"
    try:
        ipaddress.ip_address(presented)
    except ValueError:
        pass
    else:
        return "an IP address written as a DNS name"
    base = presented.removeprefix("*.")
    if "*" in base:
        return "a wildcard that is not the whole left-most label"
    if "_" in base:
        return "an underscore"
    if not base or not all(map(_LABEL.fullmatch, base.split("."))) or len(base) > 253:
        return "no host name"
    if "." not in base or base.rpartition(".")[2].lower() in _INTERNAL:
        return "a wildcard for a whole top-level domain" if presented != base else "an internal name"
    if presented != base and is_public_suffix(base.lower()):
        return "a wildcard on a public suffix"
    return ""


def presented_names(certificate: Certificate) -> tuple[str, ...]:
    """Every name that the certificate covers, as a reader wants it: DNS names, then addresses."""
    addresses = []
    for octets in certificate.extensions.ip_addresses:
        try:
            addresses.append(str(ipaddress.ip_address(octets)))
        except ValueError:
            addresses.append(f"{len(octets)} octets that are no address")
    return (*certificate.extensions.dns_names, *addresses)
