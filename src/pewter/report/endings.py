"""What ends when: the list on a terminal, and the formats that have no module of their own."""

import datetime
from collections.abc import Sequence

from rich.text import Text

from pewter.escape import escaped
from pewter.judge.endings import Ending, EndingKind
from pewter.levels import Level
from pewter.phrases import until

from .metrics import families_of_endings, openmetrics, textfile
from .rows import table
from .sheet import MIN_WIDTH, STYLES, UNICODE, Marks, Sheet, cut, quoted

WIDEST, SOON, _LEAST_WORDS = 100, 30, 14
"""Columns; days; columns of a remark below which it says nothing."""


def render_endings(
    endings: Sequence[Ending],
    at: datetime.datetime,
    width: int,
    marks: Marks = UNICODE,
    notes: Sequence[str] = (),
) -> Text:
    """A line each: how urgent, when, what; each file named once; at the end ``notes``, a sentence each."""
    sheet = Sheet(max(MIN_WIDTH, min(width, WIDEST)), marks)
    if not endings:
        sheet.line("Nothing that was seen ends.")
        return sheet.text
    sources = list(dict.fromkeys(each.source for each in endings))
    sheet.flow(
        "",
        ("What ends when", "bold"),
        f"on {at:%Y-%m-%d %H:%M} UTC" + (f", by {sources[0]}" if len(sources) == 1 else ""),
    )
    widest = max(len(each.kind.value) for each in endings)
    for ending in endings:
        left = ending.at - at
        mark, style = _urgency(marks, ending, left)
        head = f" {ending.at:%Y-%m-%d %H:%M}  {until(left):>12}  {ending.kind.value:<{widest}}  "
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
    if notes:
        sheet.line()
    for note in notes:
        sheet.flow("", (note, ""), "", (marks.unknown, ""))
    return sheet.text


def _urgency(marks: Marks, ending: Ending, left: datetime.timedelta) -> tuple[str, str]:
    if left < datetime.timedelta():
        level = Level.WEAKENS if ending.kind is EndingKind.RENEWAL else Level.BREAKS
        return marks.level[level], STYLES[level]
    if left.days < SOON:
        level = Level.NOTE if ending.kind is EndingKind.RENEWAL else Level.WEAKENS
        return marks.level[level], STYLES[level]
    return marks.holds, ""


# Formats


def render_rows(endings: Sequence[Ending], at: datetime.datetime) -> bytes:
    rows = ((f"{each.at:%Y-%m-%dT%H:%M:%SZ}", each.kind.value, each.where, each.words, each.source) for each in endings)
    return table(("ends_at", "kind", "where", "words", "source"), rows)


def render_openmetrics(endings: Sequence[Ending], at: datetime.datetime) -> bytes:
    return openmetrics(families_of_endings(endings))


def render_textfile(endings: Sequence[Ending], at: datetime.datetime) -> bytes:
    return textfile(families_of_endings(endings))


def render_png(endings: Sequence[Ending], at: datetime.datetime) -> bytes:
    return _chart(endings, at, ".png")


def render_svg(endings: Sequence[Ending], at: datetime.datetime) -> bytes:
    return _chart(endings, at, ".svg")


def _chart(endings: Sequence[Ending], at: datetime.datetime, suffix: str) -> bytes:
    from .charts import timeline  # noqa: PLC0415

    return timeline(endings, at, suffix)
