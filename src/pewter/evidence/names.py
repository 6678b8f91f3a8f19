"""What the name service said."""

import ipaddress
import re

import msgspec

from pewter.kept import kept

from .observed import Seen, Unseen


class Answer(msgspec.Struct, frozen=True, omit_defaults=True):
    """One answer of a name server (RFC 1035 section 4.1)."""

    rcode: str
    """``NOERROR``, ``NXDOMAIN`` and so on, in the words of the IANA registry."""

    aliases: tuple[str, ...] = ()
    """The CNAME targets in the order of the walk, lower case and without the last dot."""

    addresses: tuple[str, ...] = ()
    """Sorted as text, since name servers rotate them: ``("192.0.2.10",)``."""


class Lookup(msgspec.Struct, frozen=True, omit_defaults=True):
    """One question and what came of it."""

    record_type: str
    """``A`` or ``AAAA``."""

    answer: Seen[Answer] | Unseen


class Name(msgspec.Struct, frozen=True, omit_defaults=True):
    """A host name of the site (A-labels, lower case, no last dot) or an IP address that was typed as one."""

    name: str
    declared: bool = True
    """False for a sibling (apex or ``www``) that nobody named, and for a host that a journey led to."""

    lookups: tuple[Lookup, ...] = ()
    """Empty where a route or the name itself gave the address."""

    routed: tuple[str, ...] = ()
    """Addresses that a route gave in place of the name service."""

    @property
    def addresses(self) -> tuple[str, ...]:
        """Every address of the name, each once, in the order in which it was learnt."""
        found = list(self.routed)
        for lookup in self.lookups:
            if isinstance(lookup.answer, Seen):
                found += lookup.answer.value.addresses
        return tuple(dict.fromkeys(found))


_ZONE = re.compile(r"[A-Za-z0-9._~-]{1,15}")
"""An IPv6 zone identifier (RFC 4007 section 11): an interface's name or number, in the characters of RFC 6874."""


def read_ip_address(text: str) -> str:
    """An IP address, written in short; ValueError for what is none, or has a zone that no interface is called."""
    address = str(ipaddress.ip_address(text))
    zone = address.partition("%")[1:]
    if zone[0] and not _ZONE.fullmatch(zone[1]):
        raise ValueError(f"{text[:60]!r} has no zone identifier that an interface can have")
    return address


@kept(most=1024)
def is_ip_address(host: str) -> bool:
    """Whether a host is an IP address, without brackets; everything else is a name."""
    if ":" not in host and not host[-1:].isdecimal():
        return False
    try:
        read_ip_address(host)
    except ValueError:
        return False
    return True


THIS_MACHINE = "127.0.0.1"


def is_this_machine(name: str) -> bool:
    """Whether a name is ``localhost`` or below it: this machine by definition (RFC 6761 section 6.3)."""
    return name == "localhost" or name.endswith(".localhost")
