"""DNSSEC as far as it can be told from outside (RFC 4034, RFC 4035)."""

import datetime
from collections.abc import Iterable

import msgspec

from pewter.evidence import Reply, Unseen

from .answers import data_of


class Signature(msgspec.Struct, frozen=True):
    """What an RRSIG says of its own life."""

    covered: str
    expires: datetime.datetime
    begins: datetime.datetime
    key_tag: int


def signatures_in(reply: Reply, owner: str) -> tuple[Signature, ...]:
    """Of the records of an owner in the answer."""
    found = []
    for record in reply.answer:
        if record.type == "RRSIG" and record.owner == owner:
            covered, expires, begins, tag, _ = record.data.split(" ", 4)
            found.append(Signature(covered, _moment(expires), _moment(begins), int(tag)))
    return tuple(found)


def _moment(seconds: str) -> datetime.datetime:
    return datetime.datetime.fromtimestamp(int(seconds), datetime.UTC)


def key_tags(reply: Reply, zone: str) -> frozenset[int]:
    """Of the zone's keys; a DNSKEY is kept as flags, algorithm and key tag."""
    return frozenset(int(each.split()[2]) for each in data_of(reply, "DNSKEY", zone))


ALGORITHMS = frozenset({5, 7, 8, 10, 13, 14, 15, 16})
"""Of keys, that resolvers validate (IANA: DNSSEC algorithm numbers); RSA/MD5, DSA and GOST are not."""

DIGESTS = frozenset({1, 2, 4})
"""Of keys in DS records: SHA-1, SHA-256, SHA-384."""


def delegated_tags(reply: Reply, zone: str) -> frozenset[int]:
    """The keys that the parent vouches for, by their tags; empty for an unsigned delegation.

    Records of algorithms that nobody knows count for nothing: with such alone a zone is insecure (RFC 4035
    section 5.2).
    """
    records = (each.split() for each in data_of(reply, "DS", zone))
    return frozenset(
        int(tag) for tag, algorithm, digest, *_ in records if int(algorithm) in ALGORITHMS and int(digest) in DIGESTS
    )


def is_opaque(reply: Reply, zone: str) -> bool:
    """Whether the parent vouches for keys, and only by algorithms that nobody knows."""
    return bool(data_of(reply, "DS", zone)) and not delegated_tags(reply, zone)


def validates(root_soa: Reply | Unseen) -> bool | None:
    """Whether a resolver validates: the root is signed, so its SOA comes with AD from one that does."""
    if isinstance(root_soa, Unseen) or root_soa.rcode != "NOERROR":
        return None
    return root_soa.is_validated


def is_bogus(checked: Reply | Unseen, unchecked: Reply | Unseen) -> bool:
    """Whether a resolver refuses what it gives without checking; failing both ways is not DNSSEC's doing."""
    return (
        isinstance(checked, Reply)
        and checked.rcode == "SERVFAIL"
        and isinstance(unchecked, Reply)
        and unchecked.rcode in {"NOERROR", "NXDOMAIN"}
    )


def first_to_expire(found: Iterable[Signature]) -> Signature | None:
    return min(found, key=lambda each: each.expires, default=None)
