"""``pewter expiry``: what runs out when, out of saved reviews, folders of them and certificate files."""

import datetime
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from rich.text import Text

from pewter.errors import FileError
from pewter.escape import escaped
from pewter.judge.endings import Ending, EndingKind, endings_of, endings_of_certificate, soonest_first
from pewter.judge.expectations import Expectations
from pewter.judge.review import Review
from pewter.phrases import until
from pewter.pki import Certificate, read_certificate
from pewter.plan.files import check_writable, write_whole
from pewter.plan.own_files import read_certificate_file
from pewter.plan.saved_reviews import read_saved
from pewter.plan.texts import read_as_of
from pewter.report import charts
from pewter.report.formats import check_format
from pewter.report.icalendar import calendar
from pewter.report.metrics import families_of_endings, openmetrics, textfile
from pewter.report.rows import table

from .output import print_text
from .saying import say

SUFFIXES = (".ics", ".csv", ".om", ".prom", *charts.SUFFIXES)
MAX_FILES = 10_000
SURVEY = "survey.sqlite"
"""The ledger in the folder of a survey."""


@dataclass(frozen=True)
class ExpiryCommand:
    """The options as typed."""

    sources: tuple[Path, ...]
    as_of: str | None = None
    write: tuple[Path, ...] = ()


def run_expiry(command: ExpiryCommand) -> int:
    """A list, soonest first; 0 wherever something could be read."""
    at = read_as_of(command.as_of) or datetime.datetime.now(datetime.UTC)
    for file in command.write:
        check_format(file, SUFFIXES)
        check_writable(file)
    endings = soonest_first(_endings_in(command.sources))
    for file in command.write:
        write_whole(file, _render(endings, at, file.suffix))
        say(f"wrote {file}")
    print_text(_listed(endings, at))
    return 0


def _render(endings: Sequence[Ending], at: datetime.datetime, suffix: str) -> bytes:
    match suffix:
        case ".ics":
            return calendar(endings, at)
        case ".om":
            return openmetrics(families_of_endings(endings))
        case ".prom":
            return textfile(families_of_endings(endings))
        case ".csv":
            return _rows(endings)
        case _:
            return charts.timeline(endings, at, suffix)


def _endings_in(sources: Sequence[Path]) -> Iterator[Ending]:
    """Of several reviews of one site the newest tells; older ones are left out."""
    for source in sources:
        if (source / SURVEY).is_file():
            yield from _of_survey(source)
    newest: dict[str, tuple[Path, Review]] = {}
    for file in _files(sources):
        try:
            if file.suffix != ".json":
                yield from _of_certificates(file)
                continue
            review = read_saved(file)
        except FileError as exc:
            if file in sources:
                raise
            say(f"left out: {exc}")
            continue
        site = review.evidence.plan.first
        other = newest.get(site)
        if other is None or review.evidence.begun > other[1].evidence.begun:
            newest[site] = (file, review)
    for file, review in newest.values():
        yield from endings_of(review, file.name)


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


def _of_certificates(file: Path) -> Iterator[Ending]:
    for der in read_certificate_file(file, say):
        certificate = read_certificate(der)
        if isinstance(certificate, Certificate):
            yield from endings_of_certificate(certificate, Expectations().renewal_point, file.name)


def _listed(endings: Sequence[Ending], at: datetime.datetime) -> Text:
    text = Text()
    if not endings:
        text.append("Nothing that was seen ends.\n")
    width = max((len(each.kind.value) for each in endings), default=0)
    for ending in endings:
        left = ending.at - at
        style = "bold red" if left.days < 0 else "yellow" if left.days < 30 else ""
        text.append(f"{ending.at:%Y-%m-%d %H:%M}  {until(left):>14}  ", style)
        text.append(f"{ending.kind.value:<{width}}  ")
        text.append(f"{escaped(ending.where)}", "bold")
        text.append(f"  {escaped(ending.words)} ({escaped(ending.source)})\n", "dim")
    return text


def _rows(endings: Sequence[Ending]) -> bytes:
    rows = ((f"{each.at:%Y-%m-%dT%H:%M:%SZ}", each.kind.value, each.where, each.words, each.source) for each in endings)
    return table(("ends_at", "kind", "where", "words", "source"), rows)
