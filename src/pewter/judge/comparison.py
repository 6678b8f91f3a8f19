"""What changed from one review to the next: gaps by rule and place, and the facts beside them."""

import datetime
import enum
from collections.abc import Callable, Iterator

import msgspec

from pewter.escape import json_escaped
from pewter.evidence import Evidence, VersionOutcome
from pewter.places import Place

from .outcomes import Accepted, Gap, Holds, Judged, Level, Unknown
from .results import ServedCertificate
from .review import Review

MAX_WORDS = 4
"""Of what holds now at the place of a gap that closed."""


class Change(enum.Enum):
    """What became of a gap."""

    OPENED = "opened"
    CLOSED = "closed"
    STAYED = "stayed"
    UNSEEN = "no longer seen"
    """It could not be looked at this time: never closed."""

    ACCEPTED = "accepted"
    """The owner accepts it now."""


CHANGE_TITLES = {
    Change.OPENED: "Opened",
    Change.CLOSED: "Closed",
    Change.UNSEEN: "No longer seen: it could not be looked at this time",
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


class FactChange(msgspec.Struct, frozen=True):
    """Something beside gaps."""

    subject: str
    """``certificate of www.x.example``."""

    before: str
    after: str


class Comparison(msgspec.Struct, frozen=True):
    """An old review held against a new one of the same site."""

    site: str
    before: datetime.datetime
    """When the older look began."""

    after: datetime.datetime
    gaps: tuple[GapChange, ...]
    """Opened first, then what closed, could not be seen, was accepted, and stayed."""

    facts: tuple[FactChange, ...]

    @property
    def groups(self) -> dict[Change, tuple[GapChange, ...]]:
        """Its gaps by what became of them, in the order of reports; what there is none of is left out."""
        found = {change: tuple(each for each in self.gaps if each.change is change) for change in CHANGE_TITLES}
        return {change: gaps for change, gaps in found.items() if gaps}

    @property
    def counts(self) -> list[str]:
        """In words: ``2 opened``, ``1 closed``."""
        return [f"{len(gaps)} {change.value}" for change, gaps in self.groups.items()] or ["no gap before and none now"]

    @property
    def worst_open(self) -> Level | None:
        """Of what opened and what stayed."""
        levels = (each.level for each in self.gaps if each.change in {Change.OPENED, Change.STAYED})
        return min(levels, key=lambda level: level.rank, default=None)


class GapKey(msgspec.Struct, frozen=True):
    """By what a gap is known from one review to the next."""

    rule: str
    place: str
    about: str = ""


def key_of(rule: str, where: Place, about: str = "") -> GapKey:
    return GapKey(rule, where.key, about)


def gap_keys(review: Review) -> dict[GapKey, Gap]:
    """The open gaps of a review."""
    return {key: gap for key, (_, gap) in _gaps(review).items()}


def unknown_keys(review: Review) -> dict[GapKey, str]:
    """What could not be seen, by rule and place, and why."""
    return {
        key_of(each.rule, each.outcome.where): each.outcome.reason
        for each in review.results.outcomes
        if isinstance(each.outcome, Unknown)
    }


def compare(old: Review, new: Review) -> Comparison:
    """Gaps are known by rule and place: a new address, certificate or date is no new gap."""
    before, after = _gaps(old), _gaps(new)
    others = _others(new)
    titles = {**old.results.titles, **new.results.titles}
    changes = [
        GapChange(Change.OPENED, each.rule, titles[each.rule], each.level, each.outcome.where, "", gap.seen, gap.about)
        for identity, (each, gap) in after.items()
        if identity not in before
    ]
    for identity, (each, gap) in before.items():
        change, words = _what_became(identity, after, others)
        title = titles[each.rule]
        changes.append(GapChange(change, each.rule, title, each.level, gap.where, gap.seen, words, gap.about))
    order = list(CHANGE_TITLES)
    changes.sort(key=lambda each: (order.index(each.change), each.level.rank))
    return Comparison(
        new.evidence.plan.first, old.evidence.begun, new.evidence.begun, tuple(changes), tuple(_facts(old, new))
    )


FORMAT = "pewter-comparison/1"


def write_comparison(old: Review, new: Review) -> bytes:
    """JSON in UTF-8 on one line, with its end."""
    content = {"format": FORMAT, **msgspec.structs.asdict(compare(old, new))}
    return json_escaped(msgspec.json.encode(content)) + b"\n"


def changes_by_key(old: Review, new: Review) -> dict[GapKey, GapChange]:
    """Of each gap, what became of it."""
    return {key_of(each.rule, each.where, each.about): each for each in compare(old, new).gaps}


def _gaps(review: Review) -> dict[GapKey, tuple[Judged, Gap]]:
    return {
        key_of(each.rule, each.outcome.where, each.outcome.about): (each, each.outcome)
        for each in review.results.outcomes
        if isinstance(each.outcome, Gap)
    }


def _others(review: Review) -> dict[tuple[str, str], list[Judged]]:
    """What is no gap, by rule and place."""
    found: dict[tuple[str, str], list[Judged]] = {}
    for each in review.results.outcomes:
        if not isinstance(each.outcome, Gap):
            found.setdefault((each.rule, each.outcome.where.key), []).append(each)
    return found


def _what_became(
    identity: GapKey, after: dict[GapKey, tuple[Judged, Gap]], others: dict[tuple[str, str], list[Judged]]
) -> tuple[Change, str]:
    if identity in after:
        return Change.STAYED, after[identity][1].seen
    rule, place = identity.rule, identity.place
    here = [each.outcome for each in others.get((rule, place), ())]
    for outcome in here:
        if isinstance(outcome, Accepted):
            return Change.ACCEPTED, outcome.because
    holds = list(dict.fromkeys(outcome.seen for outcome in here if isinstance(outcome, Holds)))
    if holds:
        return Change.CLOSED, "; ".join(holds[:MAX_WORDS])
    unknown = [each.outcome for of_rule, found in others.items() if of_rule[0] == rule for each in found]
    unseen = [each for each in (*here, *unknown) if isinstance(each, Unknown)]
    of_place = next((each for each in unseen if each.where.key == place or each.where.kind.value == "site"), None)
    if of_place is not None:
        return Change.UNSEEN, of_place.reason
    if not any(of_rule[0] == rule for of_rule in others) and not any(each.rule == rule for each in after):
        # Nothing of the rule was judged: its matter is gone, or was not asked for.
        return Change.CLOSED, "nothing of the kind is there any more"
    return Change.CLOSED, "no longer so"


# Beside gaps


def _facts(old: Review, new: Review) -> Iterator[FactChange]:
    for subject, read in _SUBJECTS.items():
        before, after = read(old), read(new)
        for name in dict.fromkeys((*before, *after)):
            if before.get(name, "") != after.get(name, "") and name in before and name in after:
                yield FactChange(f"{subject} of {name}", before[name], after[name])
    gone = set(_names(old.evidence)) - set(_names(new.evidence))
    come = set(_names(new.evidence)) - set(_names(old.evidence))
    if gone or come:
        left, new_ones = ", ".join(sorted(gone)) or "none left out", ", ".join(sorted(come)) or "none new"
        yield FactChange("names under review", left, new_ones)


def _names(evidence: Evidence) -> tuple[str, ...]:
    return tuple(each.name for each in evidence.names)


def _certificates(review: Review) -> dict[str, str]:
    found: dict[str, list[str]] = {}
    for certificate in review.results.certificates:
        for host in certificate.hosts:
            found.setdefault(host, []).append(_in_words(certificate))
    return {host: "; ".join(sorted(words)) for host, words in found.items()}


def _in_words(certificate: ServedCertificate) -> str:
    life = certificate.life
    dates = f", {life.not_before:%Y-%m-%d} to {life.not_after:%Y-%m-%d}" if life is not None else ""
    names = ", ".join(certificate.names)
    return f"{certificate.sha256[:8]} by {certificate.issuer}{dates}, {certificate.key}, for {names}"


def _policies(review: Review) -> dict[str, str]:
    return {each.name: "; ".join(each.policies) for each in review.results.names if each.policies}


def _addresses(review: Review) -> dict[str, str]:
    return {each.name: ", ".join(sorted(each.addresses)) or "none" for each in review.evidence.names}


def _landings(review: Review) -> dict[str, str]:
    visits = (each for each in review.results.visits if each.by_address is None)
    return {each.start: f"{each.meets.value} at {each.lands}" for each in visits}


def _protocols(review: Review) -> dict[str, str]:
    return {
        place: "; ".join(
            (
                ", ".join(name for name, outcome in drawn.versions if outcome is VersionOutcome.ACCEPTED),
                f"{sum(suites.count for suites in drawn.suites)} suites",
            )
        )
        for drawn in review.results.protocols
        for place in drawn.places
    }


def _name_servers(review: Review) -> dict[str, str]:
    return {zone.apex: "; ".join(zone.servers) for zone in review.results.zones}


_SUBJECTS: dict[str, Callable[[Review], dict[str, str]]] = {
    "addresses": _addresses,
    "name servers": _name_servers,
    "certificate": _certificates,
    "versions and suites": _protocols,
    "HSTS policy": _policies,
    "way in": _landings,
}
