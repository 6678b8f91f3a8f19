"""How far a change of the site's zones has come: servers that are behind, and copies that resolvers keep."""

import datetime
from collections.abc import Iterator

from pewter.evidence import Record, Reply, Way
from pewter.facts.case import Case
from pewter.facts.naming import Naming, Zone, naming
from pewter.names.answers import soa_above
from pewter.names.comparison import content, said_of
from pewter.names.spread import negative_ttl, ttl_of
from pewter.phrases import all_of, moment

_TYPES = ("A", "AAAA", "CAA")


def spreading(case: Case) -> tuple[str, ...]:
    """A sentence for each zone with servers, and each resolver with copies, that are still behind.

    A copy counts as old only where the case's earlier review, or a server that is behind, gives the same.
    """
    found = naming(case)
    return tuple(words for zone in found.zones for words in (*_servers(zone), *_copies(case, found, zone)))


def _servers(zone: Zone) -> Iterator[str]:
    if zone.behind:
        late = all_of([zone.title(number) for number in sorted(zone.behind)])
        new = len(zone.good) - len(zone.behind)
        yield f"{new} of {len(zone.good)} name servers of {zone.apex} have the newest zone; {late} still behind"


def _copies(case: Case, found: Naming, zone: Zone) -> Iterator[str]:
    now = [number for number in zone.good if number not in zone.behind]
    for resolver in found.answers.resolvers:
        ends = [
            end for name in zone.names for kind in _TYPES for end in _end(case, found, zone, now, resolver, name, kind)
        ]
        if ends:
            yield f"copies at the resolver {found.answers.server(resolver).address} end by {moment(max(ends))}"


def _end(
    case: Case, found: Naming, zone: Zone, now: list[int], resolver: int, name: str, kind: str
) -> Iterator[datetime.datetime]:
    """When the copy of one answer ends, where it is an old one."""
    reply = found.answers.reply(resolver, name, kind, Way.RESOLVED)
    said = said_of(found.answers, now, name, kind)
    if not isinstance(reply, Reply) or not said or reply.rcode not in {"NOERROR", "NXDOMAIN"}:
        return
    given = content(reply, name, kind)
    if any(given <= each.union and given for each in said) or {each.union for each in said} == {given}:
        return
    old = [each.union for each in said_of(found.answers, zone.behind, name, kind)]
    earlier = case.earlier.resolved(name, kind) if case.earlier is not None else None
    if isinstance(earlier, Reply):
        old.append(content(earlier, name, kind))
    left = _seconds_left(reply, name)
    if given in old and left is not None:
        yield case.evidence.begun + datetime.timedelta(seconds=left)


def _seconds_left(reply: Reply, name: str) -> int | None:
    records: tuple[Record, ...] = reply.answer
    if records:
        return ttl_of(records)
    soa = soa_above(reply, name)
    return negative_ttl(soa) if soa is not None else None
