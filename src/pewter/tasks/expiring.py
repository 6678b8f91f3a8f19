"""What runs out when, out of saved reviews, folders of them and certificate files."""

import datetime
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import msgspec

from pewter.errors import FileError
from pewter.expectations import Expectations
from pewter.judge.endings import Ending, EndingKind, endings_of_certificate, soonest_first
from pewter.judge.last_seen import LastSeen
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
    notes: tuple[str, ...] = ()
    """Sentences on newer looks that did not see what an older one tells."""


def expiry(request: ExpiryRequest, around: Surroundings | None = None) -> Endings:
    """Raises UsageError or FileError for what cannot be read; of a folder, what cannot is left out and said."""
    around = around or Alone()
    at = read_as_of(request.as_of) or around.now()
    found: list[Ending] = []
    sites: dict[str, LastSeen] = {}
    for source in request.sources:
        if (source / SURVEY).is_file():
            found += _of_survey(source)
    for file in _files(request.sources):
        try:
            if file.suffix != ".json":
                found += _of_certificates(file, around.say)
                continue
            review = read_saved(file)
        except FileError as exc:
            if file in request.sources:
                raise
            around.say(f"left out: {exc}")
            continue
        sites.setdefault(review.evidence.plan.first, LastSeen()).add(review, file.name)
    for site in sites.values():
        found += site.endings()
    notes = tuple(note for site in sites.values() for note in site.notes())
    return Endings(soonest_first(found), at, notes)


def _of_survey(folder: Path) -> Iterator[Ending]:
    from pewter.survey.store import Ledger  # noqa: PLC0415

    with Ledger.open_to_read(folder) as ledger:
        for _, each, seen in ledger.ends():
            words = f"{each.words}; seen last on {seen[:10]}" if seen else each.words
            yield Ending(each.at, EndingKind(each.kind), each.where, words, folder.name)


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
