"""A table of the site's names, a line each: state, where each lands, its certificate, its policy, its worst gap."""

from collections.abc import Mapping, Sequence

from rich.cells import cell_len

from pewter.judge.results import LifeState, Prediction
from pewter.judge.review import Review
from pewter.phrases import and_more
from pewter.report.name_lines import NameLine, name_lines
from pewter.web.sites import common_domain, short_name
from pewter.web.urls import read_url

from .sheet import STYLES, Marks, Sheet, cut

FEWEST = 3
"""Names from which on there is a table."""

MAX_SHOWN = 300
LONGEST_NAME, LONGEST_GAP = 30, 28
"""Columns of a name that are shown, and of the words for its worst gap that there is to be room for."""

_HEADS = ("", "lands on", "certificate", "HSTS", "worst gap")
_OVERDUE = {LifeState.RENEWAL_DUE, LifeState.RENEWAL_OVERDUE, LifeState.EXPIRING}
_COLUMNS = ((0, 1, 2, 3, 4), (0, 1, 2, 4), (0, 1, 4), (0, 4))
"""Which columns are shown, the first of these that fits."""


def has_table(review: Review) -> bool:
    """Whether there are names enough for one."""
    return len(name_lines(review)) >= FEWEST


def render_name_table(sheet: Sheet, review: Review) -> None:
    """One line a name, whatever the width; names whose every gap is accepted are one line at the end."""
    lines = name_lines(review)
    if len(lines) < FEWEST:
        return
    domain = common_domain([line.name for line in lines])
    sheet.heading(f"{len(lines)} names", f"of {domain}" if domain else "")
    shown = [line for line in lines if not line.is_accepted][:MAX_SHOWN]
    shorts = review.results.shorts
    rows, columns = _fitting(shown, shorts, domain, sheet.width - 4)
    widths = [max(cell_len(row[column]) for row in (_HEADS, *rows)) for column in columns[:-1]]
    room = sheet.width - 4 - sum(width + 2 for width in widths)
    sheet.line("    ", (_joined(_HEADS, columns, widths, room), "dim"))
    for line, row in zip(shown, rows, strict=True):
        mark, style = mark_of(line, sheet.marks)
        cells = (*row[:-1], _gap_words(line, shorts, room))
        sheet.line("  ", (mark, style), " ", (_joined(cells, columns, widths, room), "dim" if line.is_unused else ""))
    if len(lines) > MAX_SHOWN:
        sheet.line("  ", and_more(len(lines), MAX_SHOWN).strip())
    accepted = [line.name for line in lines if line.is_accepted]
    if accepted:
        sheet.labelled(2, sheet.marks.accepted, f"with accepted gaps alone: {', '.join(accepted)}", label_width=1)


Row = tuple[str, str, str, str, str]


def _fitting(
    shown: Sequence[NameLine], shorts: Mapping[str, str], domain: str, room: int
) -> tuple[list[Row], tuple[int, ...]]:
    """The rows, and the columns of them that fit: first renewal dates are left out, then the policy, then more."""
    for columns in _COLUMNS:
        for is_dated in (True, False):
            rows = [cells_of(line, shorts, domain, is_dated=is_dated) for line in shown]
            rows = [(cut(row[0], LONGEST_NAME), *row[1:]) for row in rows]
            needed = sum(max(cell_len(row[column]) for row in (_HEADS, *rows)) + 2 for column in columns[:-1])
            if needed + min(max((cell_len(row[-1]) for row in rows), default=0), LONGEST_GAP) <= room:
                return rows, columns
    return rows, columns


def cells_of(line: NameLine, shorts: Mapping[str, str], domain: str = "", *, is_dated: bool = True) -> Row:
    """The words of one line: name, landing, certificate, policy, worst gap; names without the domain they are of."""
    return (
        short_name(line.name, domain) + (" (wildcard)" if line.is_wildcard else ""),
        _landing(line, domain),
        _certificate(line, is_dated=is_dated),
        "-" if line.is_unused else line.policy,
        _gap_words(line, shorts),
    )


def _gap_words(line: NameLine, shorts: Mapping[str, str], room: int = 1000) -> str:
    """The worst gap, cut at its end where there is no room, and how many more there are."""
    accepted = f", {line.accepted} accepted" if line.accepted else ""
    more = f" +{line.gaps - 1}" if line.gaps > 1 else ""
    words = shorts.get(line.worst_gap, "") or "none"
    if len(words) + len(more) + len(accepted) > room:
        accepted = ""
    left = room - len(more) - len(accepted)
    if len(words) > left >= _LEAST_WORDS:
        words = f"{words[: left - 1].rstrip()}…"
    return f"{words}{more}{accepted}"


_LEAST_WORDS = 8


def mark_of(line: NameLine, marks: Marks) -> tuple[str, str]:
    """By its worst gap; a name of which nothing could be seen holds nothing."""
    if line.worst is not None:
        return marks.level[line.worst], STYLES[line.worst]
    return (marks.holds, "green") if sight_of(line) == "holds" else (marks.unknown, "yellow")


def sight_of(line: NameLine) -> str:
    """Of a name without a gap: whether it was seen to open, ``holds``, or not, ``unknown``."""
    return "holds" if line.ways and line.instead is None else "unknown"


_SHORT = {
    Prediction.IN_SOME: "in some browsers",
    Prediction.CIRCLES: "in circles",
    Prediction.PARTS_BLOCKED: "parts blocked",
    Prediction.UNENCRYPTED: "unencrypted",
}


def _landing(line: NameLine, domain: str) -> str:
    if line.is_unused:
        return "no address"
    if not line.open_ways:
        return _SHORT.get(line.instead, line.instead.value) if line.instead is not None else "not looked at"
    hosts = [read_url(each).host for each in line.lands[:2]]
    there = ", ".join("itself" if host == line.name else short_name(host, domain) for host in hosts)
    return there if line.open_ways == line.ways else f"{there} ({line.open_ways} of {line.ways})"


def _certificate(line: NameLine, *, is_dated: bool) -> str:
    if line.days_left is None:
        return "-"
    if line.state is LifeState.EXPIRED:
        return "ended"
    left = f"{line.days_left} d" if line.days_left or not line.hours_left else f"{line.hours_left} h"
    if line.state in _OVERDUE:
        return f"{left}, renew now"
    return f"{left}, due {line.renewal:%Y-%m-%d}" if line.renewal is not None and is_dated else left


def _joined(row: Sequence[str], columns: Sequence[int], widths: Sequence[int], room: int) -> str:
    *padded, last = (row[column] for column in columns)
    shown = [cell + " " * (width - cell_len(cell)) for cell, width in zip(padded, widths, strict=True)]
    return "  ".join((*shown, cut(last, max(room, 1)))).rstrip()
