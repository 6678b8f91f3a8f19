"""What changed from one review to the next: gaps by rule and place, and the facts beside them."""

import datetime
import enum
import functools
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence

import msgspec

from pewter.escape import json_escaped
from pewter.evidence import Evidence
from pewter.levels import Level
from pewter.places import Place, PlaceKind

from .changed_facts import FactChange, changed_facts
from .outcomes import Accepted, Gap, Holds, Judged, Outcome, Unknown
from .review import Review, case_of, make_review, remark_on
from .sight import Sights

MAX_WORDS = 4
"""Of what holds now at the place of a gap that closed."""


class Change(enum.Enum):
    """What became of a gap."""

    OPENED = "opened"
    CLOSED = "closed"
    """The same check was made at the same place and holds, or what it was about is surely gone."""

    REPLACED = "replaced by another gap"
    """It is not there, since something else is wrong in its place: never closed."""

    UNSEEN = "not seen this time"
    """It could not be looked at this time: never closed."""

    LEFT = "no longer under review"
    ACCEPTED = "accepted"
    """The owner accepts it now."""

    STAYED = "stayed"

    @property
    def is_over(self) -> bool:
        """Nobody has to look again."""
        return self in {Change.CLOSED, Change.ACCEPTED}


DOUBTFUL = frozenset({Change.OPENED, Change.REPLACED, Change.UNSEEN})
"""After which nobody can say that all is closed."""

CHANGE_TITLES = {
    Change.OPENED: "Opened",
    Change.CLOSED: "Closed",
    Change.REPLACED: "Another gap in its place",
    Change.UNSEEN: "Could not be seen this time",
    Change.LEFT: "No longer under review",
    Change.ACCEPTED: "Accepted now",
    Change.STAYED: "Stayed",
}
"""In the order in which reports show them."""


class GapChange(msgspec.Struct, frozen=True):
    """One gap at one place."""

    change: Change
    rule: str
    title: str
    level: Level
    where: Place
    before: str
    """What was seen; empty where there was no gap."""

    after: str
    """What is seen now, or why it could not be."""

    about: str = ""
    """Which of several at one place."""

    short: str = ""
    """The gap in few words."""


class ChangeEntry(msgspec.Struct, frozen=True):
    """What became of the gaps of one rule alike: one entry of a report."""

    change: Change
    rule: str
    title: str
    short: str
    level: Level
    """The worst of them."""

    places: tuple[str, ...]
    """Each once, for readers."""

    before: tuple[str, ...]
    """What was seen, each wording once."""

    after: tuple[str, ...]
    """What is seen now, or why it could not be, each wording once."""


class LookFacts(msgspec.Struct, frozen=True, omit_defaults=True):
    """When and from where one of the two looks was taken, and what judged it."""

    begun: datetime.datetime
    judged_for: datetime.datetime
    pewter: str
    """The version that judged."""

    resolvers: tuple[str, ...] = ()
    """None: the machine's own."""

    routes: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    remark: str = ""
    """Where its saved results are not what its evidence comes to."""


class Comparison(msgspec.Struct, frozen=True):
    """An old review held against a new one of the same site."""

    site: str
    before: datetime.datetime
    """When the older look began."""

    after: datetime.datetime
    gaps: tuple[GapChange, ...]
    """Opened first, then what closed, was replaced, could not be seen, left, was accepted, and stayed."""

    facts: tuple[FactChange, ...]
    looks: tuple[LookFacts, ...] = ()
    """The older and the newer one."""

    def __repr__(self) -> str:
        return f"<Comparison of {self.site}, {self.before:%Y-%m-%d} to {self.after:%Y-%m-%d}: {', '.join(self.counts)}>"

    @property
    def groups(self) -> dict[Change, tuple[GapChange, ...]]:
        """Its gaps by what became of them, in the order of reports; what there is none of is left out."""
        found = {change: tuple(each for each in self.gaps if each.change is change) for change in CHANGE_TITLES}
        return {change: gaps for change, gaps in found.items() if gaps}

    @property
    def entries(self) -> dict[Change, tuple[ChangeEntry, ...]]:
        """The same, one entry a rule."""
        return {change: tuple(_entries(gaps)) for change, gaps in self.groups.items()}

    @property
    def counts(self) -> list[str]:
        """Entries in words: ``2 opened``, ``1 closed``."""
        found = [f"{len(entries)} {change.value}" for change, entries in self.entries.items()]
        return found or ["no gap before and none now"]

    @property
    def worst_open(self) -> Level | None:
        """Of what opened and what stayed."""
        levels = (each.level for each in self.gaps if each.change in {Change.OPENED, Change.STAYED})
        return min(levels, key=lambda level: level.rank, default=None)

    def in_doubt(self, level: Level) -> bool:
        """Whether a gap at this level or above opened, or was there before and could not be seen to be closed."""
        return any(each.change in DOUBTFUL and each.level.rank <= level.rank for each in self.gaps)


def _entries(gaps: Iterable[GapChange]) -> Iterator[ChangeEntry]:
    of_rule: dict[str, list[GapChange]] = {}
    for each in gaps:
        of_rule.setdefault(each.rule, []).append(each)
    for found in of_rule.values():
        worst = min(found, key=lambda each: each.level.rank)
        yield ChangeEntry(
            worst.change,
            worst.rule,
            worst.title,
            worst.short,
            worst.level,
            tuple(dict.fromkeys(each.where.text for each in found)),
            tuple(dict.fromkeys(each.before for each in found if each.before)),
            tuple(dict.fromkeys(each.after for each in found if each.after)),
        )


class GapKey(msgspec.Struct, frozen=True):
    """By what a gap is known from one review to the next."""

    rule: str
    place: str
    about: str = ""


def key_of(rule: str, where: Place, about: str = "") -> GapKey:
    return GapKey(rule, where.key, about)


def gap_keys(review: Review) -> dict[GapKey, tuple[Level, Gap]]:
    """The open gaps of a review, and how bad each is."""
    return {key: (each.level, gap) for key, (each, gap) in _gaps(review).items()}


def compare(old: Review, new: Review, remarks: Sequence[str] = ("", "")) -> Comparison:
    """Gaps are known by rule and place: a new address, certificate or date is no new gap.

    ``remarks``: on the results of the older and of the newer one, as :func:`judged_again` gives them.
    """
    later = _Later(old, new)
    changes = [*later.opened, *later.of_earlier(_gaps(old))]
    order = list(CHANGE_TITLES)
    changes.sort(key=lambda each: (order.index(each.change), each.level.rank))
    looks = tuple(_look_facts(each, remark) for each, remark in zip((old, new), remarks, strict=True))
    return Comparison(
        new.evidence.plan.first,
        old.evidence.begun,
        new.evidence.begun,
        tuple(changes),
        tuple(changed_facts(old, new)),
        looks,
    )


FORMAT = "pewter-comparison/1"


def write_comparison(old: Review, new: Review, remarks: Sequence[str] = ("", "")) -> bytes:
    """JSON in UTF-8 on one line, with its end."""
    content = {"format": FORMAT, **msgspec.structs.asdict(compare(old, new, remarks))}
    return json_escaped(msgspec.json.encode(content)) + b"\n"


def changes_by_key(old: Review, new: Review) -> dict[GapKey, GapChange]:
    """Of each gap, what became of it; of one that was accepted before, too."""
    accepted = {
        key_of(each.rule, each.outcome.gap.where, each.outcome.gap.about): (each, each.outcome.gap)
        for each in old.results.outcomes
        if isinstance(each.outcome, Accepted)
    }
    later = _Later(old, new)
    changes = (
        *later.of_earlier({**accepted, **_gaps(old)}),
        *later.opened,
    )  # what opened counts, also if accepted once
    return {key_of(each.rule, each.where, each.about): each for each in changes}


def judged_again(review: Review) -> tuple[Review, str]:
    """A saved review as its own evidence has it, and what there is to say where that is not what was saved.

    What an earlier look decided, or an interruption cost, cannot be worked out again: then the saved results count.
    """
    if review.evidence.interrupted or review.evidence.faults:
        return review, ""
    if review.remark:
        return review, review.remark
    again = make_review(case_of(review))
    remark = remark_on(review, again)
    return (again, remark) if remark else (review, "")


def _look_facts(review: Review, remark: str) -> LookFacts:
    begun, plan, judged = review.evidence.begun, review.evidence.plan, review.judged
    return LookFacts(begun, judged.at, judged.pewter, plan.resolvers, plan.routes, plan.only, plan.skip, remark)


def _gaps(review: Review) -> dict[GapKey, tuple[Judged, Gap]]:
    return {
        key_of(each.rule, each.outcome.where, each.outcome.about): (each, each.outcome)
        for each in review.results.outcomes
        if isinstance(each.outcome, Gap)
    }


class _Later:
    """The newer of two reviews, asked what became of each gap of the older."""

    def __init__(self, old: Review, new: Review) -> None:
        self._old, self._new = old, new
        self._before, self._sights = Sights(old.evidence), Sights(new.evidence)
        self._gaps = _gaps(new)
        self._others: dict[tuple[str, str], list[Judged]] = {}
        self._why_not_judged: dict[str, str] = {}
        """Of rules that a fault of ours or an interruption left out."""

        self._why: dict[tuple[str, str, Place], str] = {}
        for each in new.results.outcomes:
            outcome = each.outcome
            if isinstance(outcome, Gap):
                continue
            self._others.setdefault((each.rule, outcome.where.key), []).append(each)
            if isinstance(outcome, Unknown) and outcome.where.kind is PlaceKind.SITE:
                self._why_not_judged[each.rule] = outcome.reason
        self._titles = {**old.results.titles, **new.results.titles}
        shorts = {rule: new.results.shorts.get(rule) or short for rule, short in old.results.shorts.items()}
        self._shorts = {**new.results.shorts, **shorts}
        before = _gaps(old)
        self.opened = [
            self._changed(Change.OPENED, each, gap, "", gap.seen)
            for identity, (each, gap) in self._gaps.items()
            if identity not in before
        ]

    def of_earlier(self, gaps: Mapping[GapKey, tuple[Judged, Gap]]) -> Iterator[GapChange]:
        """What became of gaps of the older review."""
        for identity, (each, gap) in gaps.items():
            change, words = self.what_became(identity, gap)
            yield self._changed(change, each, gap, gap.seen, words)

    def _changed(self, change: Change, each: Judged, gap: Gap, was: str, now: str) -> GapChange:
        title, short = self._titles[each.rule], self._shorts[each.rule]
        return GapChange(change, each.rule, title, each.level, gap.where, was, now, gap.about, short)

    def what_became(self, identity: GapKey, gap: Gap) -> tuple[Change, str]:
        """Never closed, but where the same check was made at the same place and held, or its matter is surely gone."""
        if identity in self._gaps:
            return Change.STAYED, self._gaps[identity][1].seen
        here = [each.outcome for each in self._others.get((identity.rule, identity.place), ())]
        for outcome in here:
            if isinstance(outcome, Accepted) and outcome.gap.about == gap.about:
                return Change.ACCEPTED, outcome.because
        host = gap.host or gap.where.host
        if self._has_left(gap.where.host):
            return Change.LEFT, f"{gap.where.host} is no name of the site any more"
        why = self._why_not_seen(identity, gap, host, here)
        if why:
            return Change.UNSEEN, why
        if self._by_the_newer_terms is not None and identity not in self._by_the_newer_terms:
            return Change.UNSEEN, "by what the newer review goes by it was no gap before either"
        holds = list(dict.fromkeys(outcome.seen for outcome in here if isinstance(outcome, Holds)))
        hidden_by = self._in_its_place(identity.rule, host, only_what_stops=bool(holds))
        if hidden_by is not None:
            return Change.REPLACED, f"{hidden_by.title}: {hidden_by.after}"
        return Change.CLOSED, "; ".join(holds[:MAX_WORDS]) or "looked at again, and nothing of the kind is there"

    @functools.cached_property
    def _by_the_newer_terms(self) -> Container[GapKey] | None:
        """The older look's gaps, judged by the expectations and the canonical host of the newer review.

        None where these are its own.
        """
        old, new = self._old, self._new
        terms = msgspec.structs.replace(
            old.terms, expect=new.terms.expect, canonical=new.terms.canonical, accept=(), suppose=old.terms.suppose
        )
        if terms == msgspec.structs.replace(old.terms, accept=()):
            return None
        return _gaps(make_review(case_of(old, terms)))

    def _has_left(self, host: str) -> bool:
        """Whether a name that was asked for was taken out of the site."""
        asked = any(each.name == host and each.declared for each in self._old.evidence.names)
        targets = {each.host for each in self._new.evidence.plan.targets}
        return asked and host not in targets and host not in self._sights.names

    def _why_not_seen(self, identity: GapKey, gap: Gap, host: str, here: Sequence[Outcome]) -> str:
        """Why it cannot be told whether the gap is still there; empty where it can."""
        unknown = [each for each in here if isinstance(each, Unknown)]
        address = gap.where.address
        if unknown:
            there = [each for each in here if address and each.where.address == address]
            if not there or any(isinstance(each, Unknown) for each in there):
                return unknown[0].reason
        if identity.rule in self._why_not_judged:
            return self._why_not_judged[identity.rule]
        area = identity.rule.partition("/")[0]
        otherwise = self._judged_otherwise(area, host)
        if otherwise:
            return otherwise
        holds_there = any(isinstance(each, Holds) and each.where.address == address for each in here)
        asked = identity.rule, host, gap.where
        if asked not in self._why:
            self._why[asked] = self._before.why_not_again(*asked, self._sights, holds_there=holds_there)
        return self._why[asked]

    def _judged_otherwise(self, area: str, host: str) -> str:
        """Whether the newer review was judged by what does not show the site to be mended."""
        old, new = self._old, self._new
        if area == "chain":
            if set(old.evidence.given_logs) - set(new.evidence.given_logs):
                return "the keys of the logs were not given this time"
            given = (old.evidence.given_trust, new.evidence.given_trust)
            others = set(given[0]) != set(given[1]) or old.evidence.trusts_given_only != new.evidence.trusts_given_only
            if others and _sent_by(old.evidence, host) == _sent_by(new.evidence, host):
                return "the same certificates were judged by other roots this time"
        if area == "date" and new.judged.at < old.judged.at:
            return f"it was judged for an earlier day this time ({new.judged.at:%Y-%m-%d})"
        if area == "date" and set(old.evidence.given_certificates) - set(new.evidence.given_certificates):
            return "the certificate files were not given this time"
        if area == "hsts" and set(old.terms.suppose) != set(new.terms.suppose):
            return "it was supposed to be otherwise in one of the two reviews"
        return ""

    def _in_its_place(self, rule: str, host: str, *, only_what_stops: bool) -> GapChange | None:
        """What opened at the same host and hides whether the gap is still there.

        ``only_what_stops``: the check was made and holds, so that only what breaks in another area can have hidden it.
        """
        area = rule.partition("/")[0]
        for each in self.opened:
            if host not in {each.where.host, *self._hosts_led_to(each)}:
                continue
            of_area = each.rule.partition("/")[0]
            if each.level is Level.BREAKS and area in _HIDDEN_BY.get(of_area, ()):
                return each
            if not only_what_stops and of_area == area:
                return each
        return None

    def _hosts_led_to(self, change: GapChange) -> tuple[str, ...]:
        gap = self._gaps[key_of(change.rule, change.where, change.about)][1]
        return (gap.host,) if gap.host else ()


def _sent_by(evidence: Evidence, host: str) -> set[tuple[str, ...]]:
    """The chains that a host served."""
    return {each.chain for endpoint in evidence.endpoints if endpoint.name == host for each in endpoint.handshakes}


_HIDDEN_BY = {
    "dns": frozenset({"reach", "redirect", "chain", "name", "date", "protocol", "hsts", "cookie", "page"}),
    "reach": frozenset({"redirect", "chain", "name", "date", "protocol", "hsts", "cookie", "page"}),
    "redirect": frozenset({"hsts", "cookie", "page"}),
    "protocol": frozenset({"chain", "name", "date", "hsts", "cookie", "page"}),
}
"""Areas of which nothing is seen where an area has a gap that breaks."""
