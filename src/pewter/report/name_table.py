"""A table of the site's names, a line each: state, where each lands, its certificate, its policy, its worst gap."""

from collections.abc import Sequence

from rich.cells import cell_len

from pewter.judge.name_lines import NameLine, name_lines
from pewter.judge.results import LifeState, Prediction
from pewter.judge.review import Review
from pewter.web.urls import read_url

from .sheet import STYLES, Marks, Sheet

FEWEST = 3
"""Names from which on there is a table."""

MAX_SHOWN = 300
_HEADS = ("", "lands on", "certificate", "HSTS", "worst gap")
_OVERDUE = {LifeState.RENEWAL_DUE, LifeState.RENEWAL_OVERDUE, LifeState.EXPIRING}


def has_table(review: Review) -> bool:
    """Whether there are names enough for one."""
    return len(name_lines(review)) >= FEWEST


def render_name_table(sheet: Sheet, review: Review) -> None:
    """Names whose every gap is accepted are one line at the end."""
    lines = name_lines(review)
    if len(lines) < FEWEST:
        return
    domain = common_domain([line.name for line in lines])
    sheet.heading(f"{len(lines)} names", f"of {domain}" if domain else "")
    shown = [line for line in lines if not line.is_accepted][:MAX_SHOWN]
    rows = [cells_of(line, domain) for line in shown]
    widths = [max(cell_len(row[column]) for row in (_HEADS, *rows)) for column in range(len(_HEADS) - 1)]
    room = sheet.width - 4 - sum(map(_with_gap, widths))
    sheet.line("    ", (_joined(_HEADS, widths) if room >= len(_HEADS[-1]) else _joined(_HEADS[:-1], widths), "dim"))
    for line, row in zip(shown, rows, strict=True):
        mark, style = mark_of(line, sheet.marks)
        of_row = "dim" if line.is_unused else ""
        fits = cell_len(row[-1]) <= room
        sheet.line("  ", (mark, style), " ", (_joined(row if fits else row[:-1], widths), of_row))
        if not fits:
            sheet.line(" " * max(sheet.width - cell_len(row[-1]), 6), row[-1])
    if len(lines) > MAX_SHOWN:
        sheet.line("  ", f"and {len(lines) - MAX_SHOWN:,} more")
    accepted = [line.name for line in lines if line.is_accepted]
    if accepted:
        sheet.labelled(2, sheet.marks.accepted, f"with accepted gaps alone: {', '.join(accepted)}", label_width=1)


def common_domain(names: Sequence[str]) -> str:
    """The one of the names under which all others are; empty where there is none."""
    shortest = min(names, key=len)
    return shortest if all(name == shortest or name.endswith(f".{shortest}") for name in names) else ""


def cells_of(line: NameLine, domain: str = "") -> tuple[str, str, str, str, str]:
    """The words of one line: name, landing, certificate, policy, worst gap; names without the domain they are of."""
    accepted = f", {line.accepted} accepted" if line.accepted else ""
    more = f" +{line.gaps - 1}" if line.gaps > 1 else ""
    return (
        _under(line.name, domain) + (" (wildcard)" if line.is_wildcard else ""),
        _landing(line, domain),
        _certificate(line),
        "-" if line.is_unused else line.policy,
        f"{line.worst_gap or 'none'}{more}{accepted}",
    )


def _under(name: str, domain: str) -> str:
    if not domain:
        return name
    return "(apex)" if name == domain else name.removesuffix(f".{domain}")


def mark_of(line: NameLine, marks: Marks) -> tuple[str, str]:
    """By its worst gap; a name of which nothing could be seen holds nothing."""
    if line.worst is not None:
        return marks.level[line.worst], STYLES[line.worst]
    return (marks.holds, "green") if sight_of(line) == "holds" else (marks.unknown, "yellow")


def sight_of(line: NameLine) -> str:
    """Of a name without a gap: whether it was seen to open, ``holds``, or not, ``unknown``."""
    return "holds" if line.ways and line.instead is None else "unknown"


_SHORT = {Prediction.IN_SOME: "in some browsers", Prediction.CIRCLES: "goes in circles"}


def _landing(line: NameLine, domain: str) -> str:
    if line.is_unused:
        return "no address"
    if not line.open_ways:
        return _SHORT.get(line.instead, line.instead.value) if line.instead is not None else "not looked at"
    hosts = [read_url(each).host for each in line.lands[:2]]
    there = ", ".join("itself" if host == line.name else _under(host, domain) for host in hosts)
    return there if line.open_ways == line.ways else f"{there} ({line.open_ways} of {line.ways})"


def _certificate(line: NameLine) -> str:
    if line.days_left is None:
        return "-"
    if line.state is LifeState.EXPIRED:
        return "ended"
    days = f"{line.days_left} d"
    if line.state in _OVERDUE:
        return f"{days}, renew now"
    return f"{days}, due {line.renewal:%m-%d}" if line.renewal is not None else days


def _joined(row: Sequence[str], widths: Sequence[int]) -> str:
    """The last cell may be longer than its column."""
    padded = [cell + " " * (width - cell_len(cell)) for cell, width in zip(row, widths, strict=False)]
    return "  ".join((*padded, *row[len(padded) :])).rstrip()


def _with_gap(width: int) -> int:
    return width + 2
