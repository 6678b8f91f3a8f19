"""A review: evidence and outcomes, as one saved file."""

import datetime
from collections.abc import Sequence

import msgspec

from pewter import __version__
from pewter.errors import FileError
from pewter.escape import json_escaped
from pewter.evidence import Evidence, Fault
from pewter.pki import Store

from .case import Case
from .expectations import Wishes
from .judging import judge
from .outcomes import Judged
from .visits import Visit, predict_visits

FORMAT = "pewter-review/1"
"""1: the first form (Pewter 0.1)."""


class Review(msgspec.Struct, frozen=True):
    """What one review saw and what it makes of it."""

    format: str
    pewter: str
    """The version of Pewter that judged."""

    judged_for: datetime.datetime
    canonical: str
    stores: tuple[str, ...]
    """Titles of the root stores looked at."""

    wishes: Wishes
    evidence: Evidence
    visits: tuple[Visit, ...]
    outcomes: tuple[Judged, ...]


def make_review(case: Case) -> Review:
    """Judge a case."""
    failures: list[Fault | KeyboardInterrupt] = []
    visits, outcomes = _visits(case, failures), judge(case, failed=failures.append)
    if failures:
        faults = (*case.evidence.faults, *(each for each in failures if isinstance(each, Fault)))
        interrupted = case.evidence.interrupted or any(isinstance(each, KeyboardInterrupt) for each in failures)
        case.evidence = msgspec.structs.replace(case.evidence, faults=faults, interrupted=interrupted)
    return Review(
        format=FORMAT,
        pewter=__version__,
        judged_for=case.at,
        canonical=_canonical(case),
        stores=tuple(store.title + (f" ({store.origin})" if store.origin else "") for store in case.stores),
        wishes=case.wishes,
        evidence=case.evidence,
        visits=visits,
        outcomes=outcomes,
    )


def _visits(case: Case, failures: list[Fault | KeyboardInterrupt]) -> tuple[Visit, ...]:
    try:
        return predict_visits(case)
    except KeyboardInterrupt as exc:
        failures.append(exc)
        return ()
    except Exception as exc:
        failures.append(Fault.of("what a visitor meets", exc))
        return ()


def _canonical(case: Case) -> str:
    """Whatever a fault of ours does to it: the rules that need it have told of the fault."""
    try:
        return case.canonical
    except Exception:
        return f"https://{case.evidence.question.targets[0]}"


def case_of(review: Review, stores: Sequence[Store]) -> Case:
    """The case of a saved review, to be looked at again."""
    return Case(review.evidence, review.wishes, review.judged_for, stores)


def write_review(review: Review) -> bytes:
    """JSON in UTF-8, indented, with a line end after it; it may be shown on a terminal as it is."""
    return json_escaped(msgspec.json.format(msgspec.json.encode(review), indent=1)) + b"\n"


def read_review(octets: bytes, title: str) -> Review:
    """The inverse of :func:`write_review`; FileError, which names ``title``, for anything else."""
    try:
        head = msgspec.json.decode(octets, type=_Head)
    except msgspec.MsgspecError as exc:
        raise FileError(f"{title} is no saved review: {exc}. 'pewter review --write FILE.json' writes one.") from exc
    if head.format != FORMAT:
        raise FileError(f"{title} has the format {head.format!r}; this Pewter reads {FORMAT!r}.")
    try:
        return msgspec.json.decode(octets, type=Review)
    except msgspec.MsgspecError as exc:
        raise FileError(f"{title} is a damaged review: {exc}.") from exc


class _Head(msgspec.Struct):
    format: str
