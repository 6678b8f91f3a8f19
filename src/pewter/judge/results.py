"""What a review comes to: made once from a case and its outcomes, so that renderers only print."""

import datetime
import functools
import re
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple, TypeVar

import msgspec

from pewter.evidence import Alert, Ended, Evidence, Fault, Handshake, HowEnded, NotTls
from pewter.mends.composer import Piece
from pewter.mends.kinds import Manner
from pewter.phrases import all_of
from pewter.places import Place
from pewter.web.urls import https_origin, in_url, read_url

from .facts.browsers import Prediction
from .facts.case import Case
from .facts.legs import LegsDrawn, LegState, draw_legs
from .facts.policies_in_force import is_supposed, sts_answers
from .facts.protocol_pictures import ProtocolDrawn, SuitesDrawn, draw_protocols
from .facts.served_certificates import LifeDrawn, LifeState, Link, LinkState, ServedCertificate, served_certificates
from .facts.visits import Visit, predict_visits
from .facts.zone_pictures import AliasDrawn, ZoneDrawn, draw_zones
from .mending import STEPS, Configuration, HasHosts, configurations, kinds_elsewhere, step_of, waits_of
from .outcomes import Accepted, Gap, Holds, Judged, Level, Unknown
from .rules import AREAS, RULES
from .wording import words_for

__all__ = [
    "AliasDrawn",
    "AreaCount",
    "GapEntry",
    "LegState",
    "LegsDrawn",
    "LifeDrawn",
    "LifeState",
    "Link",
    "LinkState",
    "Manner",
    "NameFacts",
    "Piece",
    "Place",
    "Prediction",
    "ProtocolDrawn",
    "Results",
    "ServedCertificate",
    "SuitesDrawn",
    "Visit",
    "ZoneDrawn",
    "make_results",
]
"""Renderers take what they draw from here, and import no fact."""

_T = TypeVar("_T")

NOT_SENT = "not sent"
"""In place of a policy where an answer came without one."""

_RULES = {rule.name: rule for rule in RULES}
_ORDER = {name: position for position, name in enumerate(_RULES)}


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

    configurations: tuple[Configuration, ...] = ()
    lines_for: tuple[str, ...] = ()
    """Kinds of servers that were not recognised here, and for which ``pewter explain`` has lines."""


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


class NameFacts(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is told of a name beside its ways in."""

    name: str
    addresses: tuple[str, ...]
    is_routed: bool = False
    """A route gave them, and not the resolver."""

    policies: tuple[str, ...] = ()
    """Its HSTS policy on the home page, then other ones on other answers; ``not sent`` for none."""

    why_no_policy: str = ""
    """Why none was seen, where no answer was."""


class Unvisited(msgspec.Struct, frozen=True):
    """Links of a home page to its own host that the look did not follow."""

    origin: str
    paths: tuple[str, ...]
    """In the page's order."""


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


class RuleResult(msgspec.Struct, frozen=True, omit_defaults=True):
    """What one rule found."""

    rule: str
    level: Level
    title: str
    gaps: tuple[GapAt, ...] = ()
    holds: dict[str, tuple[int, ...]] = {}
    """What was seen, and the numbers of the places where it was."""

    unknown: dict[str, tuple[int, ...]] = {}
    """Why something could not be observed, and the numbers of the places where."""


class FirstStep(msgspec.Struct, frozen=True):
    """Gaps that are to be mended together, before those of the next step."""

    what: str
    gaps: tuple[int, ...]


class Results(msgspec.Struct, frozen=True):
    """All that a report says."""

    was_reviewed: bool
    """Anything at all was seen of the site: an HTTP answer, or octets in answer to a hello."""

    why_not: str
    """Why nothing was seen, where it was not."""

    worst: Level | None
    counts: dict[str, int]
    """Gap entries by level, worst first; levels without any are left out."""

    canonical: str
    canonical_is_given: bool
    conditions: str
    """Under which the look was made, where they are not every visitor's: routes, resolver, trust."""

    supposed: str
    """What the review supposes; empty where it supposes nothing."""

    names: tuple[NameFacts, ...]
    zones: tuple[ZoneDrawn, ...]
    legs: tuple[LegsDrawn, ...]
    visits: tuple[Visit, ...]
    certificates: tuple[ServedCertificate, ...]
    protocols: tuple[ProtocolDrawn, ...]
    areas: tuple[AreaCount, ...]
    common_cause: str
    """The one cause of several gaps, for the head of their list; empty where there is none."""

    gaps: tuple[GapEntry, ...]
    unknowns: tuple[UnknownEntry, ...]
    unvisited: tuple[Unvisited, ...]
    accepted: tuple[AcceptedEntry, ...]
    first: tuple[FirstStep, ...]
    """What to mend first."""

    places: tuple[Place, ...]
    """All that outcomes speak of, each once."""

    rules: tuple[RuleResult, ...]
    """In the order of reports."""

    @property
    def titles(self) -> dict[str, str]:
        """Of rules, by their names."""
        return {result.rule: result.title for result in self.rules}

    @property
    def outcomes(self) -> tuple[Judged, ...]:
        """Every outcome: of each rule its gaps, what it does not know, and what holds."""
        return tuple(outcome for result in self.rules for outcome in _outcomes(result, self.places))


AREAS_IN_ORDER = AREAS
Failed = Callable[[Fault | KeyboardInterrupt], None]
"""Told of what a fault of ours, or an interruption, cost."""


def guarded(failed: Failed, what: str, make: Callable[[], _T], otherwise: _T) -> _T:
    """A part of what is told: a fault of ours in it, or an interruption, costs no other."""
    try:
        return make()
    except KeyboardInterrupt as exc:
        failed(exc)
    except Exception as exc:
        failed(Fault.of(what, exc))
    return otherwise


def make_results(case: Case, outcomes: Sequence[Judged], failed: Failed) -> Results:
    """What the outcomes of a case come to.  A fault of ours costs only the part that it is in."""
    part = functools.partial(guarded, failed)
    first_target = case.evidence.plan.first
    gaps = part("the gaps", lambda: gap_entries(case, outcomes), tuple[GapEntry, ...]())
    protocol_levels = (
        (each.outcome.where, each.level)
        for each in outcomes
        if isinstance(each.outcome, Gap) and each.rule.startswith("protocol/")
    )
    reviewed = was_reviewed(case.evidence)
    places = places_of(outcomes)
    return Results(
        was_reviewed=reviewed,
        why_not="" if reviewed else _why_nothing_was_seen(first_target, outcomes),
        worst=worst_level(outcomes),
        counts=count_by_level(gaps),
        canonical=part("the canonical origin", lambda: case.canonical, https_origin(first_target)),
        canonical_is_given=case.terms.canonical is not None,
        conditions=_conditions(case.evidence),
        supposed=part("what is supposed", lambda: _supposition(case), ""),
        names=part("the names", lambda: tuple(_facts_of_names(case)), ()),
        legs=part("the legs", lambda: draw_legs(case), ()),
        zones=part("the zones", lambda: draw_zones(case), ()),
        visits=part("what a visitor meets", lambda: predict_visits(case), ()),
        certificates=part("the certificates", lambda: served_certificates(case), ()),
        protocols=part("the protocols", lambda: draw_protocols(case, protocol_levels), ()),
        areas=area_counts(outcomes),
        common_cause=common_cause(gaps, sorted(case.site_names)),
        gaps=gaps,
        unknowns=unknown_entries(outcomes),
        unvisited=part("the links", lambda: tuple(_unvisited(case)), ()),
        accepted=accepted_entries(outcomes),
        first=first_steps(gaps),
        places=tuple(places),
        rules=_by_rule(outcomes, places),
    )


# Outcomes, as they are saved


def places_of(outcomes: Sequence[Judged]) -> dict[Place, int]:
    """Every place that outcomes speak of, and its number."""
    return {place: number for number, place in enumerate(dict.fromkeys(each.outcome.where for each in outcomes))}


def _by_rule(outcomes: Sequence[Judged], places: dict[Place, int]) -> tuple[RuleResult, ...]:
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
    )
    if isinstance(outcome, Accepted):
        return msgspec.structs.replace(found, because=outcome.because, until=outcome.until)
    return found


def _outcomes(result: RuleResult, places: Sequence[Place]) -> Iterator[Judged]:
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
        )
        outcome = gap if at.until is None else Accepted(gap, at.because, at.until)
        yield Judged(result.rule, at.level, outcome)
    for reason, numbers in result.unknown.items():
        yield from (Judged(result.rule, result.level, Unknown(places[number], reason)) for number in numbers)
    for seen, numbers in result.holds.items():
        yield from (Judged(result.rule, result.level, Holds(places[number], seen)) for number in numbers)


# Gaps


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
        (number, rule, level, frozenset(gap.host or gap.where.host for gap in gaps))
        for number, rule, level, gaps in numbered
    ]
    waits = {rule: waits_of(rule, open_gaps) for rule in {each[1] for each in open_gaps}}
    return tuple(_entry(case, *each, waits[each[1]], places) for each in numbered)


def _entry(
    case: HasHosts,
    number: int,
    name: str,
    level: Level,
    gaps: Sequence[Gap],
    waits: dict[str, str],
    places: dict[Place, int],
) -> GapEntry:
    rule = _RULES[name]
    first = words_for(case, rule, gaps[0])
    lines = configurations(case, name, gaps, waits)
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
        configurations=lines,
        lines_for=() if lines else kinds_elsewhere(name),
    )


def first_steps(entries: Sequence[GapEntry]) -> tuple[FirstStep, ...]:
    """What to do first, in the order in which it is safe; all else can be mended in any order."""
    of_step: dict[int, list[int]] = {}
    for entry in entries:
        step = step_of(entry.rule, entry.level)
        if step is not None and entry.level is not Level.NOTE:
            of_step.setdefault(step, []).append(entry.number)
    return tuple(FirstStep(STEPS[step], tuple(numbers)) for step, numbers in sorted(of_step.items()))


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
        if entry.rule in _OF_ITS_OWN_ADDRESS:
            for name in site_names:
                if any(re.search(rf"http://{re.escape(in_url(name))}(?![\w.-])", seen) for seen in entry.seen):
                    of_name.setdefault(name, []).append(entry.number)
    if not of_name:
        return ""
    name, numbers = max(of_name.items(), key=lambda found: len(found[1]))
    if len(numbers) < 3:
        return ""
    return (
        f"Gaps {all_of(numbers)} point to one cause: the application's own address is set to http://{name}, or it "
        f"does not know that its visitors come by https. Set the address to https (its site or base URL, or the "
        f"trusted X-Forwarded-Proto of the proxy before it), then look again."
    )


# Counts


def count_by_level(entries: Sequence[GapEntry]) -> dict[str, int]:
    """Entries by level, worst first; levels without any are left out."""
    return {level.value: count for level in Level if (count := sum(1 for entry in entries if entry.level is level))}


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


# The look as a whole


def was_reviewed(evidence: Evidence) -> bool:
    """Whether anything at all was seen of the site: an HTTP answer, or octets in answer to a hello."""
    return any(journey.hops for journey in evidence.journeys) or any(
        isinstance(probe.answer, Handshake | Alert | NotTls)
        or (isinstance(probe.answer, Ended) and probe.answer.how in {HowEnded.GARBLED, HowEnded.OTHER_VERSION})
        for endpoint in evidence.endpoints
        for probe in endpoint.probes
    )


def _why_nothing_was_seen(target: str, outcomes: Sequence[Judged]) -> str:
    ours = [judged for judged in outcomes if judged.outcome.where.host == target]
    for judged in (*ours, *outcomes):
        match judged.outcome:
            case Gap(seen=words) | Unknown(reason=words):
                return words
    return "nothing answered"


def _conditions(evidence: Evidence) -> str:
    plan, led = evidence.plan, []
    if plan.routes:
        led.append(plan.routes[0] if len(plan.routes) == 1 else f"{len(plan.routes)} routes")
    if plan.resolvers:
        led.append(f"resolver{'s' if len(plan.resolvers) > 1 else ''} {', '.join(plan.resolvers)}")
    words = f"led by {' and '.join(led)}" if led else ""
    if evidence.trusts_given_only:
        words += f"{', ' if words else ''}trusting only what was given"
    return words


def _supposition(case: Case) -> str:
    if not is_supposed(case):
        return ""
    values = next((answer.values for name in case.site_names for answer in sts_answers(case, name)), ())
    field = f": {values[0]}" if values else ""
    return f"Supposed (--suppose hsts): every name sends Strict-Transport-Security{field}. This is so only then."


def _facts_of_names(case: Case) -> Iterator[NameFacts]:
    for name in case.evidence.names:
        if not name.addresses or name.name not in case.site_names:
            continue
        fields = list(dict.fromkeys(answer.values for answer in sts_answers(case, name.name)))
        sent = tuple(", then ".join(values) if values else NOT_SENT for values in fields)
        why = "" if fields else case.why_no_https_answer(name.name)
        is_routed = bool(name.routed) and name.routed != (name.name,)
        yield NameFacts(name.name, name.addresses, is_routed, sent, why)


def _unvisited(case: Case) -> Iterator[Unvisited]:
    visited = {hop.url.partition("#")[0] for journey in case.evidence.journeys for hop in journey.hops}
    looked_at = set()
    for _, hop, page in case.shown_pages():
        url = read_url(hop.url)
        if not url.is_https or url.origin in looked_at:
            continue
        looked_at.add(url.origin)
        left = tuple(path for path in page.inner_links if url.origin + path not in visited)
        if left:
            yield Unvisited(url.origin, left)
