"""Each name of a site in one line: where it lands, its certificate's days, its policy, its worst gap.

Worked out from results, so that a saved review need not hold it.
"""

import datetime
from collections.abc import Sequence

import msgspec

from pewter.evidence import WayIn
from pewter.judge.outcomes import Accepted, Gap, Judged
from pewter.judge.results import NOT_SENT, LifeState, NameFacts, Prediction
from pewter.judge.review import Review
from pewter.levels import Level
from pewter.pki.identity import matches
from pewter.web.hsts import StrictTransportSecurity, read_sts
from pewter.web.urls import read_url

_DAY, _HOUR = 86400, 3600


class NameLine(msgspec.Struct, frozen=True):
    """What is told of one name in a table."""

    name: str
    worst: Level | None
    """Of its gaps; None where it has none, or where nothing could be judged."""

    lands: tuple[str, ...]
    """The origins at which its ways in end that open; empty where none does."""

    open_ways: int
    ways: int
    instead: Prediction | None
    """What the first way in that does not open meets; None where all open."""

    state: LifeState | None
    """Of the certificate with the fewest days left."""

    days_left: int | None
    hours_left: int | None
    renewal: datetime.datetime | None
    is_wildcard: bool
    """Its certificate covers it by a wildcard."""

    policy: str
    """``365 d``, ``365 d, sub`` (with its subdomains), ``not sent``, ``not seen``."""

    worst_gap: str
    """The rule of its worst gap."""

    gaps: int
    accepted: int
    has_address: bool

    @property
    def is_accepted(self) -> bool:
        """All that is wrong with it is accepted."""
        return self.accepted > 0 and self.gaps == 0

    @property
    def is_unused(self) -> bool:
        """The name service has no address for it: nobody gets there."""
        return not self.has_address


def name_lines(review: Review) -> tuple[NameLine, ...]:
    """In the order of the look."""
    results = review.results
    of_host: dict[str, list[Judged]] = {}
    for judged in results.outcomes:
        gap = judged.outcome.gap if isinstance(judged.outcome, Accepted) else judged.outcome
        if isinstance(gap, Gap):
            of_host.setdefault(gap.host or gap.where.host, []).append(judged)
    names = (each for each in review.evidence.names if each.declared or each.addresses)
    return tuple(_line(review, each.name, of_host.get(each.name, ()), bool(each.addresses)) for each in names)


def _line(review: Review, name: str, judged: Sequence[Judged], has_address: bool) -> NameLine:
    results = review.results
    gaps = sorted((each for each in judged if isinstance(each.outcome, Gap)), key=lambda each: each.level.rank)
    visits = [each for each in results.visits if read_url(each.start).host == name and each.reason is not WayIn.ABSENT]
    closed = {each.start: each for each in visits if not each.meets.is_good}
    open_ones = {each.start: each for each in visits if each.start not in closed}
    served = [each for each in results.certificates if name in each.hosts and each.life is not None]
    soonest = min(served, key=lambda each: each.life.not_after if each.life is not None else _NEVER, default=None)
    life = soonest.life if soonest is not None and soonest.life is not None and not soonest.life.is_endless else None
    facts = next((each for each in results.names if each.name == name), None)
    return NameLine(
        name=name,
        worst=gaps[0].level if gaps else None,
        lands=tuple(dict.fromkeys(read_url(each.lands).origin for each in open_ones.values())),
        open_ways=len(open_ones),
        ways=len(open_ones) + len(closed),
        instead=next((each.meets for each in closed.values()), None),
        state=life.state if life is not None else None,
        days_left=life.days_left if life is not None else None,
        hours_left=int((life.not_after - review.judged.at).total_seconds() // _HOUR) if life is not None else None,
        renewal=life.renewal if life is not None else None,
        is_wildcard=any(each.startswith("*.") and matches(each, name) for one in served for each in one.names),
        policy=_policy(facts),
        worst_gap=gaps[0].rule if gaps else "",
        gaps=len(gaps),
        accepted=len(judged) - len(gaps),
        has_address=has_address,
    )


_NEVER = datetime.datetime.max.replace(tzinfo=datetime.UTC)


def _policy(facts: NameFacts | None) -> str:
    if facts is None or not facts.policies:
        return "not seen"
    read = read_sts(facts.policies[0])
    if not isinstance(read, StrictTransportSecurity):
        return "not sent" if facts.policies[0] == NOT_SENT else "not valid"
    days, rest = divmod(read.max_age, _DAY)
    age = f"{read.max_age} s" if rest and not days else f"{days} d"
    return age + (", sub" if read.include_subdomains else "")
