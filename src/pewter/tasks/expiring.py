"""What runs out when, out of saved reviews, folders of them and certificate files."""

import datetime
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import msgspec

from pewter.errors import FileError
from pewter.expectations import Expectations
from pewter.judge.endings import Ending, EndingKind, endings_of, endings_of_certificate, soonest_first
from pewter.pki import Certificate, read_certificate
from pewter.plan.own_files import read_certificate_file
from pewter.plan.saved_reviews import read_saved
from pewter.plan.texts import read_as_of

from .surroundings import Alone, Surroundings

MAX_FILES = 10_000
SURVEY = "survey.sqlite"
"""The ledger in the folder of a survey."""


class ExpiryRequest(msgspec.Struct, frozen=True):
    """Of what, and by which day it is told what is past."""

    sources: tuple[Path, ...]
    as_of: str | None = None


class Endings(msgspec.Struct, frozen=True):
    """What ends, soonest first."""

    endings: tuple[Ending, ...]
    at: datetime.datetime


def expiry(request: ExpiryRequest, around: Surroundings | None = None) -> Endings:
    """Raises UsageError or FileError for what cannot be read; of a folder, what cannot is left out and said."""
    around = around or Alone()
    at = read_as_of(request.as_of) or around.now()
    return Endings(tuple(soonest_first(_endings_in(request.sources, around.say))), at)


def _endings_in(sources: Sequence[Path], say: Callable[[str], None]) -> Iterator[Ending]:
    """Of several reviews of one site the newest tells; older ones are left out."""
    for source in sources:
        if (source / SURVEY).is_file():
            yield from _of_survey(source)
    newest: dict[str, tuple[datetime.datetime, list[Ending]]] = {}
    for file in _files(sources):
        try:
            if file.suffix != ".json":
                yield from _of_certificates(file, say)
                continue
            review = read_saved(file)
        except FileError as exc:
            if file in sources:
                raise
            say(f"left out: {exc}")
            continue
        site = review.evidence.plan.first
        if site not in newest or review.evidence.begun > newest[site][0]:
            newest[site] = review.evidence.begun, list(endings_of(review, file.name))
    for _, found in newest.values():
        yield from found


def _of_survey(folder: Path) -> Iterator[Ending]:
    from pewter.survey.store import Ledger  # noqa: PLC0415

    with Ledger.open_to_read(folder) as ledger:
        for _, each in ledger.ends():
            yield Ending(each.at, EndingKind(each.kind), each.where, each.words, folder.name)


def _files(sources: Sequence[Path]) -> Iterator[Path]:
    for source in sources:
        if not source.is_dir():
            yield source
            continue
        if (source / SURVEY).is_file():
            continue
        found = sorted(each for each in source.iterdir() if each.suffix in {".json", ".pem", ".crt", ".cer"})
        if not found:
            raise FileError(f"{source} holds no saved review (.json) and no certificate file (.pem, .crt, .cer).")
        yield from found[:MAX_FILES]


def _of_certificates(file: Path, say: Callable[[str], None]) -> Iterator[Ending]:
    for der in read_certificate_file(file, say):
        certificate = read_certificate(der)
        if isinstance(certificate, Certificate):
            yield from endings_of_certificate(certificate, Expectations().renewal_point, file.name)
