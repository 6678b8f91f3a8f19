"""Outcomes in the form in which they are saved: by rule, each place once and given by its number."""

import datetime
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import msgspec

from pewter.levels import Level
from pewter.places import Place

from .outcomes import Accepted, Gap, Holds, Judged, Unknown
from .rules import RULES


class GapAt(msgspec.Struct, frozen=True, omit_defaults=True):
    """A gap at a place, which is given by its number in the list of places."""

    place: int
    level: Level
    seen: str
    expected: str
    cause: str = ""
    own_level: Level | None = None
    detail: str = ""
    mend: str = ""
    parts: tuple[str, ...] = ()
    host: str = ""
    about: str = ""
    because: str = ""
    """Why the site's owner accepts it; empty for a gap that counts."""

    check_url: str = ""
    until: datetime.date | None = None
    by: datetime.datetime | None = None


class RuleResult(msgspec.Struct, frozen=True, omit_defaults=True):
    """What one rule found."""

    rule: str
    level: Level
    title: str
    short: str = ""
    """The gap in few words, where there is one."""

    gaps: tuple[GapAt, ...] = ()
    holds: dict[str, tuple[int, ...]] = {}
    """What was seen, and the numbers of the places where it was."""

    unknown: dict[str, tuple[int, ...]] = {}
    """Why something could not be observed, and the numbers of the places where."""


def places_of(outcomes: Sequence[Judged]) -> dict[Place, int]:
    """Every place that outcomes speak of, and its number."""
    return {place: number for number, place in enumerate(dict.fromkeys(each.outcome.where for each in outcomes))}


def rule_results(outcomes: Sequence[Judged], places: dict[Place, int]) -> tuple[RuleResult, ...]:
    of_rule: dict[str, _OfRule] = {}
    for judged in outcomes:
        found, outcome = of_rule.setdefault(judged.rule, _OfRule([], {}, {})), judged.outcome
        match outcome:
            case Holds(where=where, seen=words):
                found.holds.setdefault(words, []).append(places[where])
            case Unknown(where=where, reason=words):
                found.unknown.setdefault(words, []).append(places[where])
            case _:
                found.gaps.append(_gap_at(judged, places))
    return tuple(
        RuleResult(
            rule.name,
            rule.level,
            rule.words.title,
            rule.words.short if found.gaps else "",
            tuple(found.gaps),
            {words: tuple(numbers) for words, numbers in found.holds.items()} if found.holds else {},
            {words: tuple(numbers) for words, numbers in found.unknown.items()} if found.unknown else {},
        )
        for rule in RULES
        for found in [of_rule.get(rule.name)]
        if found is not None
    )


class _OfRule(NamedTuple):
    """What one rule found, while it is gathered."""

    gaps: list[GapAt]
    holds: dict[str, list[int]]
    unknown: dict[str, list[int]]


def _gap_at(judged: Judged, places: dict[Place, int]) -> GapAt:
    outcome = judged.outcome
    gap = outcome.gap if isinstance(outcome, Accepted) else outcome
    assert isinstance(gap, Gap)
    found = GapAt(
        places[gap.where],
        judged.level,
        gap.seen,
        gap.expected,
        gap.cause,
        gap.level,
        gap.detail,
        gap.mend,
        gap.parts,
        gap.host,
        gap.about,
        check_url=gap.check_url,
        by=gap.by,
    )
    if isinstance(outcome, Accepted):
        return msgspec.structs.replace(found, because=outcome.because, until=outcome.until)
    return found


def outcomes_of(result: RuleResult, places: Sequence[Place]) -> Iterator[Judged]:
    for at in result.gaps:
        gap = Gap(
            places[at.place],
            at.seen,
            at.expected,
            at.cause,
            at.own_level,
            at.detail,
            at.mend,
            at.parts,
            at.host,
            at.about,
            at.check_url,
            at.by,
        )
        outcome = gap if at.until is None else Accepted(gap, at.because, at.until)
        yield Judged(result.rule, at.level, outcome)
    for reason, numbers in result.unknown.items():
        yield from (Judged(result.rule, result.level, Unknown(places[number], reason)) for number in numbers)
    for seen, numbers in result.holds.items():
        yield from (Judged(result.rule, result.level, Holds(places[number], seen)) for number in numbers)
