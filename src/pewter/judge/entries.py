"""Entries of a report: gaps of one cause together, each with its words, its lines for servers and its place."""

import datetime
import re
from collections.abc import Sequence

import msgspec

from pewter.levels import Level
from pewter.phrases import all_of
from pewter.places import Place, PlaceKind
from pewter.web.urls import in_url

from .mending import Configuration, HasHosts, configurations, kinds_elsewhere, waits_of
from .nature import Matter, Safety
from .order import Worded, hosts_of_entries
from .outcomes import Gap, Judged
from .rules import RULE_OF
from .saved_outcomes import places_of
from .wording import words_for

_ORDER = {name: position for position, name in enumerate(RULE_OF)}


class GapEntry(msgspec.Struct, frozen=True, omit_defaults=True):
    """Gaps of one cause: one entry of a report."""

    number: int
    """From 1, worst first."""

    rule: str
    level: Level
    places: tuple[int, ...]
    """By their numbers in the list of places."""

    seen: tuple[str, ...]
    """What was seen, each wording and each piece of a list once."""

    expected: str
    why: str
    mend: str
    check: str
    """How to see that it is mended."""

    details: tuple[str, ...] = ()
    """What helps to mend just these."""

    hosts: tuple[str, ...] = ()
    """At which it is to be mended, in the order of the look."""

    by: datetime.datetime | None = None
    """From when on it stops visitors, where that is known."""

    configurations: tuple[Configuration, ...] = ()
    lines_for: tuple[str, ...] = ()
    """Kinds of servers that were not recognised here, and for which ``pewter explain`` has lines."""


def gap_entries(case: HasHosts, outcomes: Sequence[Judged]) -> tuple[GapEntry, ...]:
    """Gaps grouped by rule, level and cause; worst first, then in the order of the catalogue."""
    groups: dict[tuple[str, Level, str], list[Gap]] = {}
    for judged in outcomes:
        if isinstance(judged.outcome, Gap):
            gap = judged.outcome
            groups.setdefault((judged.rule, judged.level, gap.cause or gap.seen), []).append(gap)
    ranked = sorted(groups.items(), key=lambda group: (group[0][1].rank, _ORDER[group[0][0]]))
    numbered = [(number, rule, level, gaps) for number, ((rule, level, _), gaps) in enumerate(ranked, start=1)]
    places = places_of(outcomes)
    open_gaps = [
        (number, RULE_OF[rule], level, frozenset(gap.host or gap.where.host for gap in gaps))
        for number, rule, level, gaps in numbered
    ]
    cookies = tuple(
        dict.fromkeys(
            (gap.host or gap.where.host, gap.where.name, rule)
            for _, rule, _, gaps in numbered
            for gap in gaps
            if gap.where.kind is PlaceKind.COOKIE
        )
    )
    tried = frozenset(
        gap.host or gap.where.host
        for _, rule, _, gaps in numbered
        if RULE_OF[rule].nature.safety is Safety.HOLDS_FOR_LONG
        for gap in gaps
    )
    waits = {rule: waits_of(RULE_OF[rule], open_gaps) for rule in {each[1] for each in numbered}}
    return tuple(_entry(case, *each, waits[each[1]], places, cookies, tried) for each in numbered)


def _entry(
    case: HasHosts,
    number: int,
    name: str,
    level: Level,
    gaps: Sequence[Gap],
    waits: dict[str, str],
    places: dict[Place, int],
    cookies: Sequence[tuple[str, str, str]],
    tried: frozenset[str],
) -> GapEntry:
    rule = RULE_OF[name]
    first = words_for(case, rule, gaps[0])
    lines = configurations(case, rule, gaps, waits, cookies, tried)
    hosts = dict.fromkeys(gap.host or gap.where.host for gap in gaps)
    return GapEntry(
        number=number,
        rule=name,
        level=level,
        places=tuple(places[where] for where in {gap.where.text: gap.where for gap in gaps}.values()),
        seen=tuple(dict.fromkeys(piece for gap in gaps for piece in gap.parts or (gap.seen,))),
        expected=gaps[0].expected,
        why=first.why,
        mend=first.mend,
        check=first.check,
        details=tuple(dict.fromkeys(gap.detail for gap in gaps if gap.detail)),
        hosts=hosts_of_entries(case.names_in_order, hosts),
        by=min((gap.by for gap in gaps if gap.by is not None), default=None),
        configurations=lines,
        lines_for=() if lines else kinds_elsewhere(name),
    )


def worded(entries: Sequence[GapEntry]) -> list[Worded]:
    return [Worded(each.number, RULE_OF[each.rule], each.level, each.hosts, each.by) for each in entries]


def common_cause(entries: Sequence[GapEntry], site_names: Sequence[str]) -> str:
    """The one cause of three or more gaps, in words for the head of the list; empty where there is none."""
    of_name: dict[str, list[int]] = {}
    for entry in entries:
        if RULE_OF[entry.rule].nature.matter is Matter.OWN_ADDRESS:
            for name in site_names:
                if any(re.search(rf"http://{re.escape(in_url(name))}(?![\w.-])", seen) for seen in entry.seen):
                    of_name.setdefault(name, []).append(entry.number)
    if not of_name:
        return ""
    name, numbers = max(of_name.items(), key=lambda found: len(found[1]))
    if len(numbers) < 3:
        return ""
    return (
        f"Gaps {all_of(numbers)} point to one cause: what makes the pages takes its own address to be http://{name}. "
        f"Set it to https (an application's site or base URL, or the X-Forwarded-Proto that it trusts; the template of "
        f"files), then look again."
    )


def count_by_level(entries: Sequence[GapEntry]) -> dict[str, int]:
    """Entries by level, worst first; levels without any are left out."""
    return {level.value: count for level in Level if (count := sum(1 for entry in entries if entry.level is level))}
