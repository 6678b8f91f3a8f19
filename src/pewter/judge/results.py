"""What a review comes to: made once from a case and its outcomes, so that renderers only print."""

import functools
from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

import msgspec

from pewter.evidence import Alert, Ended, Evidence, Fault, Handshake, HowEnded, NotTls, WayIn, is_this_machine
from pewter.facts.browsers import Prediction
from pewter.facts.case import Case
from pewter.facts.legs import LegState
from pewter.facts.policies_in_force import is_supposed, sts_answers
from pewter.facts.visits import Visit, predict_visits
from pewter.levels import Level
from pewter.mends.composer import Piece
from pewter.mends.kinds import Kind, Manner
from pewter.phrases import all_of, plural
from pewter.pictures.certificates import LifeDrawn, LifeState, Link, LinkState, ServedCertificate, served_certificates
from pewter.pictures.legs import LegsDrawn, draw_legs
from pewter.pictures.protocols import ProtocolDrawn, SuitesDrawn, draw_protocols
from pewter.pictures.zones import AliasDrawn, ZoneDrawn, draw_zones
from pewter.places import Place
from pewter.web.sites import common_domain
from pewter.web.urls import https_origin, read_url

from .counts import (
    AcceptedEntry,
    AreaCount,
    UnknownEntry,
    accepted_entries,
    area_counts,
    unknown_entries,
    worst_level,
)
from .entries import GapEntry, common_cause, count_by_level, gap_entries, worded
from .mending import server_of
from .order import NOTHING_SEEN, FirstStep, Told, first_steps, verdict
from .outcomes import Gap, Judged, Unknown
from .rules import AREAS
from .saved_outcomes import RuleResult, outcomes_of, places_of, rule_results

__all__ = [
    "AcceptedEntry",
    "AliasDrawn",
    "AreaCount",
    "FirstStep",
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
    "UnknownEntry",
    "Visit",
    "ZoneDrawn",
    "make_results",
]
"""Renderers take what they draw from here, and import no fact."""

_T = TypeVar("_T")

NOT_SENT = "not sent"
"""In place of a policy where an answer came without one."""


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


class Results(msgspec.Struct, frozen=True, kw_only=True, dict=True):
    """All that a report says."""

    was_reviewed: bool
    """Anything at all was seen of the site: an HTTP answer, or octets in answer to a hello."""

    why_not: str
    """Why nothing was seen, where it was not."""

    verdict: str = ""
    """In one sentence: what the worst gaps do, and to whom; empty in reviews that were saved before there was one."""

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
    """What to do first."""

    after_first: tuple[int, ...] = ()
    """The numbers of the other gaps that break or expose."""

    hints: tuple[str, ...] = ()
    """Where else to look, in whole sentences."""

    places: tuple[Place, ...]
    """All that outcomes speak of, each once."""

    rules: tuple[RuleResult, ...]
    """In the order of reports."""

    @property
    def titles(self) -> dict[str, str]:
        """Of rules, by their names."""
        return {result.rule: result.title for result in self.rules}

    @property
    def shorts(self) -> dict[str, str]:
        """What a gap of each rule is in few words, by the rules' names."""
        return {result.rule: result.short for result in self.rules}

    @functools.cached_property
    def outcomes(self) -> tuple[Judged, ...]:
        """Every outcome: of each rule its gaps, what it does not know, and what holds."""
        return tuple(outcome for result in self.rules for outcome in outcomes_of(result, self.places))


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
    visits = part("what a visitor meets", lambda: predict_visits(case), tuple[Visit, ...]())
    told = part("the names told of", lambda: _told_of(case, visits), Told((), "", "", frozenset(), case.at))
    no_steps: tuple[tuple[FirstStep, ...], tuple[int, ...]] = ((), ())
    first, after_first = part("what to do first", lambda: first_steps(worded(gaps), told), no_steps)
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
        verdict=part("the verdict", lambda: _verdict(case, outcomes, gaps, visits, told), ""),
        worst=worst_level(outcomes),
        counts=count_by_level(gaps),
        canonical=part("the canonical origin", lambda: case.canonical, https_origin(first_target)),
        canonical_is_given=case.terms.canonical is not None,
        conditions=_conditions(case.evidence),
        supposed=part("what is supposed", lambda: _supposition(case), ""),
        names=part("the names", lambda: tuple(_facts_of_names(case)), ()),
        legs=part("the legs", lambda: draw_legs(case), ()),
        zones=part("the zones", lambda: draw_zones(case), ()),
        visits=visits,
        certificates=part("the certificates", lambda: served_certificates(case), ()),
        protocols=part("the protocols", lambda: draw_protocols(case, protocol_levels), ()),
        areas=area_counts(outcomes),
        common_cause=common_cause(gaps, sorted(case.site_names)),
        gaps=gaps,
        unknowns=unknown_entries(outcomes),
        unvisited=part("the links", lambda: tuple(_unvisited(case)), ()),
        accepted=accepted_entries(outcomes),
        first=first,
        after_first=after_first,
        hints=part("the hints", lambda: tuple(_hints(case)), ()),
        places=tuple(places),
        rules=rule_results(outcomes, places),
    )


def _hints(case: Case) -> Iterator[str]:
    """What the look itself shows that there is more to look at."""
    edges = [name for name in case.resolving_names if server_of(case, name)[0] is Kind.EDGE]
    if edges and not case.evidence.plan.origins:
        yield (
            f"An edge service answers for {all_of(edges[:3])}{' and more' if len(edges) > 3 else ''}: --origin ADDRESS "
            "looks at the server behind it, too."
        )
    machines = [name.name for name in case.evidence.names if is_this_machine(name.name)]
    if machines:
        yield f"{all_of(machines[:3])} is this machine itself (RFC 6761 section 6.3): nobody else gets there."


def _told_of(case: Case, visits: Sequence[Visit]) -> Told:
    """The site's names, but for siblings that do not exist."""
    names = tuple(each.name for each in case.evidence.names if each.name in case.site_names)
    met = [each for each in visits if each.reason is not WayIn.ABSENT]
    opening = {read_url(each.start).host for each in met if each.meets.is_good or each.is_login_wall}
    return Told(names, common_domain(names), read_url(case.canonical).host, frozenset(names) - opening, case.at)


def _verdict(
    case: Case, outcomes: Sequence[Judged], entries: Sequence[GapEntry], visits: Sequence[Visit], told: Told
) -> str:
    if not was_reviewed(case.evidence):
        return NOTHING_SEEN
    met = [each for each in visits if each.reason is not WayIn.ABSENT]
    plan = case.evidence.plan
    return verdict(
        worded(entries),
        told,
        arrive=bool(met) and all(each.meets.is_good or each.is_login_wall for each in met),
        has_unknown=bool(unknown_entries(outcomes)),
        is_partial=bool(plan.only or plan.skip),
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
        led.append(f"{plural(len(plan.resolvers), 'resolver')} {', '.join(plan.resolvers)}")
    routed = {name.name: name.routed for name in evidence.names}
    here = [name for name, address in evidence.dns.hosts_file if address in routed.get(name, ())]
    if here:
        led.append(f"this machine's hosts file (for {all_of(dict.fromkeys(here))})")
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
