"""When a change of a zone has surely spread (RFC 1035 section 3.2.1, RFC 2308 section 5)."""

import datetime
from collections.abc import Iterable, Sequence

from pewter.evidence import Record

LONGEST_TTL = (1 << 31) - 1
"""Beyond it a TTL counts as 0 (RFC 2181 section 8)."""


def ttl_of(records: Iterable[Record]) -> int | None:
    """Of a set: the lowest (RFC 2181 section 5.2); None of an empty one."""
    found = [0 if each.ttl > LONGEST_TTL else each.ttl for each in records]
    return min(found) if found else None


def negative_ttl(soa: Record) -> int:
    """How long the absence of a record is kept: the lower of the SOA's minimum and its own TTL."""
    return min(int(soa.data.split()[6]), soa.ttl)


def spread_by(agreed_at: datetime.datetime, old_ttls: Sequence[int | None]) -> datetime.datetime | None:
    """When the last copy of the old answer ends at resolvers that obey; None where its TTL is not known.

    ``agreed_at`` is when the last server gave the new answer, at the latest; ``old_ttls`` those of the record before
    the change, from a server that is still behind or an earlier review.  The new answer does not tell the old TTL.
    """
    known = [each for each in old_ttls if each is not None]
    return agreed_at + datetime.timedelta(seconds=max(known)) if known else None
