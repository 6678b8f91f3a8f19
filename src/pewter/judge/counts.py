"""What outcomes come to in numbers and lists: by area, what is unknown, what is accepted."""

import datetime
from collections.abc import Sequence

import msgspec

from pewter.evidence import Fault
from pewter.levels import Level
from pewter.places import Place

from .outcomes import Accepted, Gap, Holds, Judged, Unknown
from .rules import AREAS


class AreaCount(msgspec.Struct, frozen=True):
    """One line of the report's areas."""

    area: str
    holds: int
    made: int
    """Checks that could be made: held, gaps and accepted ones.  An unknown is never one of them."""

    unknown: int
    accepted: int
    worst: Level | None


class UnknownEntry(msgspec.Struct, frozen=True):
    """What could not be checked for one reason at one place."""

    where: Place
    reason: str
    rules: tuple[str, ...]


class AcceptedEntry(msgspec.Struct, frozen=True):
    """A gap that the site's owner accepts."""

    rule: str
    where: Place
    because: str
    until: datetime.date


def worst_level(outcomes: Sequence[Judged]) -> Level | None:
    levels = [judged.level for judged in outcomes if isinstance(judged.outcome, Gap)]
    return min(levels, key=lambda level: level.rank) if levels else None


def reaches(outcomes: Sequence[Judged], level: Level) -> bool:
    """Whether any gap is at this level or above."""
    worst = worst_level(outcomes)
    return worst is not None and worst.rank <= level.rank


def area_counts(outcomes: Sequence[Judged]) -> tuple[AreaCount, ...]:
    """One count an area, in the order of reports; areas of which nothing was judged are left out."""
    by_area: dict[str, list[Judged]] = {}
    for judged in outcomes:
        by_area.setdefault(judged.rule.partition("/")[0], []).append(judged)
    counts = []
    for area in AREAS:
        of_area = by_area.get(area, [])
        if not of_area:
            continue
        kinds = [type(judged.outcome) for judged in of_area]
        counts.append(
            AreaCount(
                area,
                kinds.count(Holds),
                len(kinds) - kinds.count(Unknown),
                kinds.count(Unknown),
                kinds.count(Accepted),
                worst_level(of_area),
            )
        )
    return tuple(counts)


def unknown_entries(outcomes: Sequence[Judged]) -> tuple[UnknownEntry, ...]:
    """What could not be checked, by reason and place; of what a fault of ours cost, the fault itself tells."""
    groups: dict[tuple[str, str], tuple[Place, list[str]]] = {}
    for judged in outcomes:
        match judged.outcome:
            case Unknown(where=where, reason=reason) if reason != Fault.REASON:
                groups.setdefault((where.text, reason), (where, []))[1].append(judged.rule)
    return tuple(
        UnknownEntry(where, reason, tuple(dict.fromkeys(rules))) for (_, reason), (where, rules) in groups.items()
    )


def accepted_entries(outcomes: Sequence[Judged]) -> tuple[AcceptedEntry, ...]:
    return tuple(
        AcceptedEntry(judged.rule, judged.outcome.where, judged.outcome.because, judged.outcome.until)
        for judged in outcomes
        if isinstance(judged.outcome, Accepted)
    )
