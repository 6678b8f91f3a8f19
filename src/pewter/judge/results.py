"""Counting and grouping what was judged; renderers only print."""

import re
from collections.abc import Sequence
from dataclasses import dataclass

from pewter.evidence import Alert, Ended, Handshake, NotTls

from .judging import AREAS, RULES
from .outcomes import Accepted, Gap, Holds, Judged, Level, Unknown, host_of_place
from .review import Review


@dataclass(frozen=True, slots=True)
class GapEntry:
    """Gaps of one cause: one entry of a report."""

    number: int
    """From 1, worst first."""

    first: Judged
    places: tuple[str, ...]
    seen: tuple[str, ...]
    """What was seen, each wording and each piece of a list once."""

    details: tuple[str, ...]

    configurations: tuple[tuple[str, tuple[str, ...], str], ...] = ()
    """Server software, the hosts that run it, and the lines for it."""

    @property
    def gap(self) -> Gap:
        assert isinstance(self.first.outcome, Gap)
        return self.first.outcome

    @property
    def level(self) -> Level:
        return self.first.level

    @property
    def hosts(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(map(host_of_place, self.places)))


@dataclass(frozen=True, slots=True)
class AreaCount:
    """One line of the report's areas."""

    area: str
    holds: int
    made: int
    """Checks that could be made: held, gaps and accepted ones.  An unknown is never one of them."""

    unknown: int
    accepted: int
    worst: Level | None


@dataclass(frozen=True, slots=True)
class UnknownEntry:
    """What could not be checked for one reason at one place."""

    where: str
    reason: str
    rules: tuple[str, ...]


def gap_entries(outcomes: Sequence[Judged]) -> tuple[GapEntry, ...]:
    """Gaps grouped by rule, level and cause; worst first, then in the order of the catalogue."""
    groups: dict[tuple[str, Level, str], list[tuple[Judged, Gap]]] = {}
    for judged in outcomes:
        if isinstance(judged.outcome, Gap):
            gap = judged.outcome
            groups.setdefault((judged.rule, judged.level, gap.cause or gap.seen), []).append((judged, gap))
    order = {rule.name: position for position, rule in enumerate(RULES)}
    ranked = sorted(
        groups.values(), key=lambda group: (group[0][0].level.rank, order.get(group[0][0].rule, len(order)))
    )
    return tuple(
        GapEntry(
            number,
            group[0][0],
            tuple(dict.fromkeys(gap.where for _, gap in group)),
            tuple(dict.fromkeys(piece for _, gap in group for piece in gap.parts or (gap.seen,))),
            tuple(dict.fromkeys(gap.detail for _, gap in group if gap.detail)),
            _configurations(group),
        )
        for number, group in enumerate(ranked, start=1)
    )


def _configurations(group: Sequence[tuple[Judged, Gap]]) -> tuple[tuple[str, tuple[str, ...], str], ...]:
    """The lines once for each kind of server, as they are for the first of its hosts."""
    hosts: dict[str, dict[str, None]] = {}
    lines: dict[str, str] = {}
    for judged, gap in group:
        if judged.configuration:
            hosts.setdefault(judged.server, {})[host_of_place(gap.where)] = None
            lines.setdefault(judged.server, judged.configuration)
    return tuple((server, tuple(hosts[server]), lines[server]) for server in lines)


_OF_ITS_OWN_ADDRESS = frozenset(
    {
        "redirect/downgrade",
        "page/blocked-content",
        "page/upgraded-content",
        "page/insecure-form",
        "page/plain-links",
        "page/canonical-tag",
    }
)
"""What an application gets wrong that takes its own address to be http."""


def common_cause(entries: Sequence[GapEntry], site_names: Sequence[str]) -> str:
    """The one cause of three or more gaps, in words for the head of the list; empty where there is none."""
    of_name: dict[str, list[int]] = {}
    for entry in entries:
        if entry.first.rule in _OF_ITS_OWN_ADDRESS:
            for name in site_names:
                if any(re.search(rf"http://{re.escape(name)}(?![\w.-])", seen) for seen in entry.seen):
                    of_name.setdefault(name, []).append(entry.number)
    if not of_name:
        return ""
    name, numbers = max(of_name.items(), key=lambda found: len(found[1]))
    if len(numbers) < 3:
        return ""
    listed = f"{', '.join(map(str, numbers[:-1]))} and {numbers[-1]}"
    return (
        f"Gaps {listed} point to one cause: the application's own address is set to http://{name}, or it does not "
        f"know that its visitors come by https. Set the address to https (its site or base URL, or the trusted "
        f"X-Forwarded-Proto of the proxy before it), then look again."
    )


def count_by_level(entries: Sequence[GapEntry]) -> dict[Level, int]:
    """Entries by level, worst first; levels without any are left out."""
    return {level: count for level in Level if (count := sum(1 for entry in entries if entry.level is level))}


def worst_level(outcomes: Sequence[Judged]) -> Level | None:
    levels = [judged.level for judged in outcomes if isinstance(judged.outcome, Gap)]
    return min(levels, key=lambda level: level.rank) if levels else None


def area_counts(outcomes: Sequence[Judged]) -> tuple[AreaCount, ...]:
    """One count an area, in the order of reports; areas of which nothing was judged are left out."""
    counts = []
    for area in AREAS:
        of_area = [judged for judged in outcomes if judged.rule.startswith(area + "/")]
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
    """What could not be checked, by reason and place."""
    groups: dict[tuple[str, str], list[str]] = {}
    for judged in outcomes:
        if isinstance(judged.outcome, Unknown):
            groups.setdefault((judged.outcome.where, judged.outcome.reason), []).append(judged.rule)
    return tuple(UnknownEntry(where, reason, tuple(dict.fromkeys(rules))) for (where, reason), rules in groups.items())


def accepted_entries(outcomes: Sequence[Judged]) -> tuple[tuple[Judged, Accepted], ...]:
    return tuple((judged, judged.outcome) for judged in outcomes if isinstance(judged.outcome, Accepted))


def reaches(outcomes: Sequence[Judged], level: Level) -> bool:
    """Whether any gap is at this level or above."""
    worst = worst_level(outcomes)
    return worst is not None and worst.rank <= level.rank


def was_reviewed(review: Review) -> bool:
    """Whether anything at all was seen of the site: an HTTP answer, or octets in answer to a hello."""
    return any(journey.hops for journey in review.evidence.journeys) or any(
        isinstance(probe.answer, Handshake | Alert | NotTls)
        or (isinstance(probe.answer, Ended) and probe.answer.how in {"garbled", "other version"})
        for endpoint in review.evidence.endpoints
        for probe in endpoint.probes
    )


def why_nothing_was_seen(review: Review) -> str:
    """In words, for a review of which :func:`was_reviewed` is false."""
    first = review.evidence.question.targets[0]
    ours = [judged for judged in review.outcomes if host_of_place(judged.outcome.where) == first]
    for judged in (*ours, *review.outcomes):
        match judged.outcome:
            case Gap(seen=words) | Unknown(reason=words):
                return words
    return "nothing answered"
