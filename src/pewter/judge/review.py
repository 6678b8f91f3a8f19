"""A review: evidence, the terms by which it was judged, and what it comes to; as one saved file that stands alone."""

import datetime
from collections.abc import Sequence
from typing import Annotated, Any

import msgspec

from pewter.errors import FileError
from pewter.escape import json_escaped
from pewter.evidence import Evidence, Fault, Hop, Journey, StoredCertificate
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.phrases import counted
from pewter.pki import Certificate, Store, read_certificate
from pewter.version import __version__
from pewter.web.suffixes import list_version

from .door import DamagedError, check
from .judging import judge
from .results import Results, make_results
from .rules import chosen_rules

FORMAT = "pewter-review/2"
"""The first form that later versions promise to read; 1 was never released."""


class StoreUsed(msgspec.Struct, frozen=True, omit_defaults=True):
    """A root store by which was judged, as far as it mattered."""

    title: str
    origin: str = ""
    """``certifi 2026.10.18``."""

    is_public: bool = False
    anchors: tuple[str, ...] = ()
    """Fingerprints of its anchors that could have issued what was served."""


class JudgedBy(msgspec.Struct, frozen=True):
    """What judged."""

    pewter: str
    """The version of Pewter."""

    at: datetime.datetime
    """The moment for which certificates were judged."""

    suffix_list: str
    """Whose list of public suffixes, and its version."""

    stores: tuple[StoreUsed, ...]
    anchors: tuple[StoredCertificate, ...]
    """Those that the stores name, each once: with them it can be judged again where no such store is."""


class Review(msgspec.Struct, frozen=True):
    """What one review saw and what it makes of it."""

    format: str
    terms: Terms
    judged: JudgedBy
    evidence: Evidence
    results: Results
    remark: str = ""
    """What is to be said of its results, where they were made anew when it was read."""

    mark: str = ""
    """Of the user who took the look, over its plan and trust: another's review does not decide whom we contact."""

    def __repr__(self) -> str:
        """One line: whose, when, and how bad."""
        found = [f"{count} {level}" for level, count in self.results.counts.items() if count]
        words = ", ".join(found) if self.results.was_reviewed else f"not reviewed: {self.results.why_not}"
        return f"<Review of {self.evidence.plan.first}, {self.evidence.begun:%Y-%m-%d %H:%M} UTC: {words or 'no gap'}>"


def make_review(case: Case) -> Review:
    """Judge a case."""
    failures: list[Fault | KeyboardInterrupt] = []
    rules = chosen_rules(case.evidence.plan.only, case.evidence.plan.skip)
    outcomes = judge(case, rules, failures.append)
    results = make_results(case, outcomes, failures.append)
    evidence = case.evidence
    if failures:
        faults = (*evidence.faults, *(each for each in failures if isinstance(each, Fault)))
        interrupted = evidence.interrupted or any(isinstance(each, KeyboardInterrupt) for each in failures)
        evidence = msgspec.structs.replace(evidence, faults=tuple(dict.fromkeys(faults)), interrupted=interrupted)
    return Review(FORMAT, case.terms, _judged_by(case), evidence, results)


def _judged_by(case: Case) -> JudgedBy:
    candidates = [(store, _candidates(case, store)) for store in case.chains.own_stores]
    anchors = {each.sha256: each.der for _, found in candidates for each in found}
    return JudgedBy(
        __version__,
        case.at,
        list_version(),
        tuple(
            StoreUsed(store.title, store.origin, store.is_public, tuple(each.sha256 for each in found))
            for store, found in candidates
        ),
        tuple(StoredCertificate(sha256, der) for sha256, der in anchors.items()),
    )


def _candidates(case: Case, store: Store) -> tuple[Certificate, ...]:
    """Anchors with the name of an issuer, or of a certificate, that is at hand."""
    found: dict[str, Certificate] = {}
    for certificate in case.chains.at_hand:
        for name in (certificate.issuer, certificate.subject):
            found.update((each.sha256, each) for each in store.by_subject.get(name.comparable, ()))
    return tuple(found.values())


def case_of(review: Review, terms: Terms | None = None, at: datetime.datetime | None = None) -> Case:
    """The case of a saved review, to be judged again: by its own stores, and by other terms or for another day."""
    return Case(review.evidence, terms or review.terms, at or review.judged.at, stores_of(review))


def stores_of(review: Review) -> tuple[Store, ...]:
    """The stores by which a review was judged, as far as they mattered."""
    anchors = {stored.sha256: read_certificate(stored.der) for stored in review.judged.anchors}

    def named(fingerprints: Sequence[str]) -> tuple[Certificate, ...]:
        return tuple(each for each in map(anchors.get, fingerprints) if isinstance(each, Certificate))

    return tuple(Store(each.title, named(each.anchors), each.is_public, each.origin) for each in review.judged.stores)


def write_review(review: Review) -> bytes:
    """JSON in UTF-8 on one line, with its end; it may be shown on a terminal as it is.

    Journeys come to the same places: each hop is written once, in ``evidence.hops``, and journeys give its number.
    """
    saved = msgspec.to_builtins(review)
    hops: dict[bytes, int] = {}
    for journey in saved["evidence"].get("journeys", ()):
        journey["hops"] = [hops.setdefault(msgspec.json.encode(hop), len(hops)) for hop in journey["hops"]]
    saved["evidence"]["hops"] = list(map(msgspec.Raw, hops))
    return json_escaped(msgspec.json.encode(saved)) + b"\n"


def read_review(octets: bytes, title: str, *, is_own: bool = True) -> Review:
    """The inverse of :func:`write_review`; FileError, which names ``title``, for anything else.

    One that is not this user's ``own`` keeps what was seen, within bounds: results are made of that anew, so that
    nothing is said in our voice that is another's.
    """
    try:
        head = msgspec.json.decode(octets, type=_Head)
    except (msgspec.MsgspecError, RecursionError) as exc:
        raise FileError(f"{title} is no saved review: {exc}. 'pewter review --write FILE.json' writes one.") from exc
    if head.format != FORMAT:
        raise FileError(f"{title} has the format {head.format!r}; this Pewter reads {FORMAT!r}.")
    try:
        saved = msgspec.json.decode(octets, type=_SavedReview)
        hops = saved.evidence.hops
        journeys = tuple(
            Journey(**{**_fields(each), "hops": tuple(hops[number] for number in each.hops)})
            for each in saved.evidence.journeys
        )
        evidence = Evidence(**{**_fields(saved.evidence, Evidence), "journeys": journeys})
        check(evidence, saved.terms, saved.judged.at)
    except (msgspec.MsgspecError, RecursionError, DamagedError) as exc:
        raise FileError(f"{title} is a damaged review: {exc}.") from exc
    except IndexError as exc:
        raise FileError(f"{title} is a damaged review: a journey names a hop that is not there.") from exc
    review = Review(
        **{**_fields(saved, Review), "evidence": evidence, "remark": "", "mark": OWN if is_own and saved.mark else ""}
    )
    return review if is_own and review.results.verdict else _with_results(review, title)


OWN = "own"
"""The mark of a review that is this user's, before it is signed; see :mod:`pewter.plan.own_mark`."""


def _with_results(review: Review, title: str) -> Review:
    """Results made anew, by the same stores and for the same moment.  FileError where its evidence cannot be judged."""
    evidence = msgspec.structs.replace(review.evidence, faults=())  # of another's Pewter, if they are true
    review = msgspec.structs.replace(review, evidence=evidence)
    try:
        again = make_review(case_of(review))
        why = next((f"{each.what}: {each.detail}" for each in again.evidence.faults), "")
    except Exception as exc:  # whatever a file that somebody made up may do
        why = f"{type(exc).__name__}: {exc}"
    if why:
        raise FileError(f"{title} is a damaged review: what it saw cannot be judged ({why[:200]}).")
    return msgspec.structs.replace(review, results=again.results, judged=again.judged, remark=remark_on(review, again))


def remark_on(saved: Review, again: Review) -> str:
    """What there is to say where results made anew are not those that were saved."""
    was, now = _told(saved), _told(again)
    if was == now or not saved.results.verdict:
        return ""
    if saved.judged.pewter != again.judged.pewter:
        return f"judged again: Pewter {saved.judged.pewter} had judged it"
    differing = counted(len(was ^ now), "outcome")
    return f"its results are not what its evidence comes to ({differing}): edited by hand? Judged again"


_BY_AN_EARLIER_LOOK = frozenset({"dns/still-cached"})


def _told(review: Review) -> frozenset[bytes]:
    """Every outcome, but for those that hang on an earlier look; nothing where they cannot be told."""
    try:
        outcomes = [each for each in review.results.outcomes if each.rule not in _BY_AN_EARLIER_LOOK]
    except (IndexError, KeyError):  # of another's file
        return frozenset()
    return frozenset(map(msgspec.json.encode, outcomes))


def _fields(value: msgspec.Struct, kind: type[msgspec.Struct] | None = None) -> dict[str, Any]:
    return {name: getattr(value, name) for name in (kind or type(value)).__struct_fields__}


class _SavedJourney(Journey, frozen=True, omit_defaults=True):
    hops: tuple[Annotated[int, msgspec.Meta(ge=0)], ...]  # type: ignore[assignment]


class _SavedEvidence(Evidence, frozen=True, omit_defaults=True, kw_only=True):
    hops: tuple[Hop, ...]
    journeys: tuple[_SavedJourney, ...] = ()


class _SavedReview(Review, frozen=True, kw_only=True):
    evidence: _SavedEvidence


class _Head(msgspec.Struct):
    format: str
