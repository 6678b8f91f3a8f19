"""Names that a resolver denies, and that every server of their zone has: a denial is kept too (RFC 2308 section 5)."""

import datetime

from pewter.evidence import Reply
from pewter.names.answers import end_of_aliases, soa_above
from pewter.names.comparison import said_of
from pewter.names.spread import negative_ttl
from pewter.phrases import moment

from .case import Case
from .naming import Zone, naming

_ADDRESS_TYPES = ("A", "AAAA")


def denial_kept(case: Case, zone: Zone, reply: Reply, name: str, new: frozenset[str]) -> str:
    """Until when a resolver keeps the denial of a name that the servers have; empty where it denies nothing."""
    is_denied = reply.rcode == "NXDOMAIN" and end_of_aliases(reply, name) == name
    if not is_denied or not new or any(" " in each for each in new):
        return ""
    soa = soa_above(reply, name)
    if soa is None:
        return "still says that there is no such name"
    ends = case.evidence.begun + datetime.timedelta(seconds=negative_ttl(soa))
    return f"still says that there is no such name, until {moment(ends)}"


def why_denied(case: Case, name: str) -> str:
    """Of a name without addresses: that the servers of its zone have some, and until when the resolver denies them."""
    found = naming(case)
    zone = found.zone_of(name)
    if zone is None or found.why_not_direct:
        return ""
    for kind in _ADDRESS_TYPES:
        said = said_of(found.answers, zone.good, name, kind)
        new = frozenset[str]().union(*(each.union for each in said))
        reply = found.answers.resolved(name, kind)
        if said and all(each.union for each in said) and isinstance(reply, Reply):
            words = denial_kept(case, zone, reply, name, new)
            if words:
                return f"the servers of {zone.apex} have the name, and the resolver {words}"
    return ""
