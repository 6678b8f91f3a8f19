"""A review: evidence, the terms by which it was judged, and what it comes to; as one saved file that stands alone."""

import datetime
from collections.abc import Sequence
from typing import Annotated, Any

import msgspec

from pewter.errors import FileError
from pewter.escape import json_escaped
from pewter.evidence import Evidence, Fault, Hop, StoredCertificate
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.pki import Certificate, Store, read_certificate
from pewter.version import __version__
from pewter.web.suffixes import list_version

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


def read_review(octets: bytes, title: str) -> Review:
    """The inverse of :func:`write_review`; FileError, which names ``title``, for anything else."""
    try:
        head = msgspec.json.decode(octets, type=_Head)
    except msgspec.MsgspecError as exc:
        raise FileError(f"{title} is no saved review: {exc}. 'pewter review --write FILE.json' writes one.") from exc
    if head.format != FORMAT:
        raise FileError(f"{title} has the format {head.format!r}; this Pewter reads {FORMAT!r}.")
    try:
        saved = msgspec.json.decode(octets)
        courses = _taken_out(saved)
        hops = msgspec.convert(courses.hops, tuple[Hop, ...])
        review = msgspec.convert(saved, Review)
        journeys = tuple(
            msgspec.structs.replace(journey, hops=tuple(hops[number] for number in numbers))
            for journey, numbers in zip(review.evidence.journeys, courses.numbers, strict=True)
        )
    except msgspec.MsgspecError as exc:
        raise FileError(f"{title} is a damaged review: {exc}.") from exc
    except IndexError as exc:
        raise FileError(f"{title} is a damaged review: a journey names a hop that is not there.") from exc
    review = msgspec.structs.replace(review, evidence=msgspec.structs.replace(review.evidence, journeys=journeys))
    if not review.results.verdict:
        # Saved before results had all that is told now: they are made anew, by the same stores and for the same moment.
        again = make_review(case_of(review))
        return msgspec.structs.replace(review, results=again.results)
    return review


class _Head(msgspec.Struct):
    format: str


class _Journey(msgspec.Struct):
    hops: tuple[Annotated[int, msgspec.Meta(ge=0)], ...]


class _Courses(msgspec.Struct):
    hops: tuple[object, ...]
    journeys: tuple[_Journey, ...] = ()

    @property
    def numbers(self) -> tuple[tuple[int, ...], ...]:
        return tuple(journey.hops for journey in self.journeys)


def _taken_out(saved: Any) -> _Courses:
    """The hops of a saved review, and which of them each journey has; without them it is of the form of the types.

    Raises msgspec.ValidationError.
    """
    evidence = msgspec.convert(saved, _OnlyEvidence).evidence
    courses = msgspec.convert(evidence, _Courses)
    del evidence["hops"]
    for journey in evidence.get("journeys", ()):
        journey["hops"] = []
    return courses


class _OnlyEvidence(msgspec.Struct):
    evidence: dict[str, Any]
