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
from pewter.judge.outcomes import Level
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
from pewter.report.sheet import MIN_WIDTH, STYLES, Marks, Sheet, cut, quoted

from .output import output_marks, output_width, print_text
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
    """A line each: how urgent, when, what; each file named once."""
    marks = output_marks()
    sheet = Sheet(max(MIN_WIDTH, min(output_width(), WIDEST)), marks)
    if not endings:
        sheet.line("Nothing that was seen ends.")
        return sheet.text
    sources = list(dict.fromkeys(each.source for each in endings))
    sheet.flow(
        "",
        ("What ends when", "bold"),
        f"on {at:%Y-%m-%d %H:%M} UTC" + (f", by {sources[0]}" if len(sources) == 1 else ""),
    )
    width = max(len(each.kind.value) for each in endings)
    for ending in endings:
        left = ending.at - at
        mark, style = _urgency(marks, ending, left)
        head = f" {ending.at:%Y-%m-%d %H:%M}  {until(left):>12}  {ending.kind.value:<{width}}  "
        number = f" [{sources.index(ending.source) + 1}]" if len(sources) > 1 else ""
        room = max(sheet.width - len(head) - len(number) - 1, 12)
        where = cut(escaped(ending.where), room)
        room -= len(where) + 2
        remark = f"  {quoted(escaped(ending.words), room)}" if room > _LEAST_WORDS else ""
        sheet.line((mark, style), (head, style), (where, "bold"), (remark, "dim"), (number, "dim"))
    if len(sources) > 1:
        sheet.line()
        for position, source in enumerate(sources, start=1):
            sheet.line(f"[{position}] ", (source, "dim"))
    return sheet.text


def _urgency(marks: Marks, ending: Ending, left: datetime.timedelta) -> tuple[str, str]:
    if left < datetime.timedelta():
        level = Level.WEAKENS if ending.kind is EndingKind.RENEWAL else Level.BREAKS
        return marks.level[level], STYLES[level]
    if left.days < SOON:
        level = Level.NOTE if ending.kind is EndingKind.RENEWAL else Level.WEAKENS
        return marks.level[level], STYLES[level]
    return marks.holds, ""


WIDEST, SOON, _LEAST_WORDS = 100, 30, 14
"""Columns; days; columns of a remark below which it says nothing."""


def _rows(endings: Sequence[Ending]) -> bytes:
    rows = ((f"{each.at:%Y-%m-%dT%H:%M:%SZ}", each.kind.value, each.where, each.words, each.source) for each in endings)
    return table(("ends_at", "kind", "where", "words", "source"), rows)
