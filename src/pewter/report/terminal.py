"""The report on a terminal: the important first, and nothing twice.

Layout is done on plain text; styles are laid over it afterwards and never count in a width.
"""

import re
import textwrap
from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text

from pewter.evidence import Unseen
from pewter.judge.case import Case
from pewter.judge.outcomes import Level
from pewter.judge.results import (
    GapEntry,
    accepted_entries,
    area_counts,
    count_by_level,
    gap_entries,
    unknown_entries,
    was_reviewed,
    worst_level,
)
from pewter.judge.review import Review
from pewter.judge.served import Link, LinkState, ServedCertificate, served_certificates
from pewter.judge.visits import Meeting, Visit
from pewter.web.urls import read_url

from .escape import terminal_safe

MIN_WIDTH, MAX_WIDTH = 80, 120
_BAR_CELLS = 24
_LISTED = 4
"""Places and names of one entry that are listed before the rest is counted."""


@dataclass(frozen=True, slots=True)
class Marks:
    """Shapes, so that nothing depends on colour."""

    level: dict[Level, str]
    holds: str
    unknown: str
    accepted: str
    arrow: str
    above: str
    passed: str
    left: str
    renewal: str
    dot: str


UNICODE = Marks(
    {Level.BREAKS: "■", Level.EXPOSES: "◆", Level.WEAKENS: "▲", Level.NOTE: "·"},
    "✓", "?", "○", "→", "←", "█", "░", "│", "·",
)  # fmt: skip
ASCII = Marks(
    {Level.BREAKS: "B", Level.EXPOSES: "E", Level.WEAKENS: "W", Level.NOTE: "n"},
    "+", "?", "a", "->", "<-", "#", ".", "|", "-",
)  # fmt: skip

STYLES = {
    Level.BREAKS: "bold red",
    Level.EXPOSES: "bold magenta",
    Level.WEAKENS: "yellow",
    Level.NOTE: "cyan",
}

_VERDICTS = {
    Level.BREAKS: "Some visitors are stopped or warned.",
    Level.EXPOSES: "Visitors get in, but traffic or cookies can be read or changed.",
    Level.WEAKENS: "Visitors arrive safely; some defences are missing.",
    Level.NOTE: "Visitors arrive safely; there are notes.",
    None: "No gap found: visitors arrive safely.",
}


def render_terminal(review: Review, case: Case, width: int, marks: Marks = UNICODE) -> Text:
    """The whole report, ready to print, with no line wider than ``width`` but for what cannot be broken."""
    sheet = _Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks)
    _verdict(sheet, review)
    _ways_in(sheet, review)
    _certificates(sheet, case)
    _areas(sheet, review)
    entries = gap_entries(review.outcomes)
    _gaps(sheet, entries)
    _rest(sheet, review)
    _next(sheet, review, entries)
    return sheet.text


class _Sheet:
    def __init__(self, width: int, marks: Marks) -> None:
        self.width = width
        self.marks = marks
        self.text = Text()

    def line(self, *parts: tuple[str, str] | str) -> None:
        """One line of styled pieces."""
        for part in parts:
            content, style = (part, "") if isinstance(part, str) else part
            self.text.append(terminal_safe(content), style)
        self.text.append("\n")

    def heading(self, title: str, remark: str = "") -> None:
        self.line()
        self.flow("", (title, "bold"), remark)

    def flow(self, indent: str, head: tuple[str, str], remark: str, mark: tuple[str, str] = ("", "")) -> None:
        """A mark, a head and a dim remark: on one line where they fit, else wrapped below each other."""
        text, style = terminal_safe(head[0]), head[1]
        blank = " " if mark[0] else ""
        before = len(indent) + len(mark[0]) + len(blank)
        remark = terminal_safe(remark)
        if before + len(text) + 2 + len(remark) <= self.width:
            self.line(indent, mark, blank, (text, style), (f"  {remark}" if remark else "", "dim"))
            return
        first, *more = textwrap.wrap(text, self.width - before, break_long_words=False, break_on_hyphens=False)
        self.line(indent, mark, blank, (first, style))
        for line in more:
            self.line(" " * before, (line, style))
        for line in textwrap.wrap(remark, self.width - before - 2, break_long_words=False, break_on_hyphens=False):
            self.line(" " * (before + 2), (line, "dim"))

    def labelled(
        self, indent: int, label: str, content: str, style: str = "", label_width: int = 9,
        stressed: str = "", stress_style: str = "",
    ) -> None:  # fmt: skip
        """A label and text wrapped behind it; line ends of the text are kept.  ``stressed`` is a part of the text."""
        room = self.width - indent - label_width - 1
        pieces = [
            piece
            for line in terminal_safe_lines(content)
            for piece in textwrap.wrap(line, room, break_long_words=False, break_on_hyphens=False) or [""]
        ]
        for position, piece in enumerate(pieces):
            shown = label if position == 0 else ""
            self.line(" " * indent, (f"{shown:<{label_width}} ", "dim"), (piece, style))
        if stressed:
            self._stress(stressed, stress_style)

    def _stress(self, words: str, style: str) -> None:
        """Lay a style over words that were just printed, wherever they were broken."""
        broken_anywhere = r"\s+".join(map(re.escape, terminal_safe(words).split()))
        found = list(re.finditer(broken_anywhere, self.text.plain))
        if found:
            self.text.stylize(style, *found[-1].span())

    def verbatim(self, indent: int, content: str) -> None:
        """Lines to be copied: never wrapped."""
        for line in terminal_safe_lines(content):
            self.line(" " * indent, (line, "green"))


def terminal_safe_lines(content: str) -> list[str]:
    """Lines of a text of our own, each made safe."""
    return [terminal_safe(line) for line in content.split("\n")]


def _verdict(sheet: _Sheet, review: Review) -> None:
    entries = gap_entries(review.outcomes)
    worst = worst_level(review.outcomes)
    marks, evidence = sheet.marks, review.evidence
    mark, style = (marks.holds, "bold green") if worst is None else (marks.level[worst], STYLES[worst])
    words = _VERDICTS[worst]
    if not was_reviewed(review):
        mark, style, words = marks.unknown, "bold red", "The site could not be reviewed: nothing of it answered."
    elif worst is None and unknown_entries(review.outcomes):
        words = "No gap found in what could be seen."
    sheet.flow("", (f"{evidence.question.targets[0]}: {words}", style), "", (mark, style))
    counts = f" {marks.dot} ".join(
        f"{count} {level.value if count == 1 or level is not Level.NOTE else 'notes'}"
        for level, count in count_by_level(entries).items()
    )
    names = sum(1 for name in evidence.names if name.addresses)
    taken = (
        f"{names} name{'s' if names != 1 else ''}, {evidence.connections} connections, {evidence.elapsed_seconds:.1f} s"
    )
    sheet.line("  " + (f"{counts}   " if counts else ""), (f"({taken})", "dim"))
    if evidence.interrupted:
        sheet.line(("  Interrupted: what follows is only what had been seen by then.", "bold yellow"))


# Ways in


def _ways_in(sheet: _Sheet, review: Review) -> None:
    if not review.visits:
        return
    how = "given" if review.wishes.canonical else "worked out"
    sheet.heading("Ways in", f"canonical: {review.canonical} ({how})")
    by_name: dict[str, list[Visit]] = {}
    shown = [visit for visit in review.visits if visit.reason != "absent"]
    for visit in shown:
        by_name.setdefault(read_url(visit.start).host, []).append(visit)
    folded = {name: _fold_addresses(visits) for name, visits in by_name.items()}
    listed = [row for rows in folded.values() if not _all_open(rows) for row in rows]
    target_width = min(max((len(_target(*row)) for row in listed), default=0), 34)
    hop_width = max((len(_hops(visit)) for visit, _ in listed), default=0)
    for name, rows in folded.items():
        _ways_in_of_name(sheet, name, rows, target_width, hop_width)
    if any(visit.reason.startswith("found") for visit, _ in listed):
        words = "* found on the home page: its first link that looks like a login, an account, an admin page, a search,"
        sheet.labelled(4, "", f"{words} and its first deep page", "dim", label_width=0)


def _all_open(rows: list[tuple[Visit, str]]) -> bool:
    """Whether nothing is to be said but where they land."""
    landings = {read_url(visit.lands).origin for visit, _ in rows}
    return len(landings) == 1 and all(visit.meets is Meeting.OPENS and not visit.detail for visit, _ in rows)


def _hops(visit: Visit) -> str:
    return " ".join(map(str, visit.statuses)) or "-"


def _fold_addresses(visits: Sequence[Visit]) -> list[tuple[Visit, str]]:
    """Visits with the addresses for which they stand; those of all addresses that go alike are one."""
    by_start: dict[str, dict[object, list[Visit]]] = {}
    for visit in visits:
        course = (visit.statuses, visit.lands, visit.meets, visit.detail)
        by_start.setdefault(visit.start, {}).setdefault(course, []).append(visit)
    folded = []
    for courses in by_start.values():
        for alike in courses.values():
            addresses = ", ".join(visit.by_address or "" for visit in alike) if len(courses) > 1 else ""
            folded.append((alike[0], addresses))
    return folded


def _ways_in_of_name(
    sheet: _Sheet, name: str, rows: list[tuple[Visit, str]], target_width: int, hop_width: int
) -> None:
    marks = sheet.marks
    mark, style = min((_mark_of_visit(marks, visit) for visit, _ in rows), key=_severity)
    if _all_open(rows):
        landing = read_url(rows[0][0].lands)
        there = "" if landing.host == name else f" {marks.arrow} {landing.origin}"
        sheet.flow("  ", (name, ""), f"{len(rows)} ways in, all open{there}", (mark, style))
        return
    sheet.line("  ", (mark, style), (f" {name}", "bold"))
    for visit, addresses in rows:
        mark, style = _mark_of_visit(marks, visit)
        scheme = read_url(visit.start).scheme
        head = f"      {scheme:<5} {_target(visit, addresses):<{target_width}}  {_hops(visit):<{hop_width}}  "
        words = f"{visit.meets.value}{_remark(name, visit, marks)}"
        room = max(sheet.width - len(head), 24)
        first, *more = textwrap.wrap(words, room, break_long_words=False, break_on_hyphens=False)
        of_words = "" if visit.meets.is_good else style
        sheet.line("    ", (mark, style), head[5:], (first, of_words))
        for line in more:
            sheet.line(" " * len(head), (line, of_words))


def _severity(mark_and_style: tuple[str, str]) -> int:
    """Worst first, by the style that belongs to the mark."""
    order = [*(STYLES[level] for level in Level), "green"]
    return order.index(mark_and_style[1])


def _target(visit: Visit, addresses: str) -> str:
    found = " *" if visit.reason.startswith("found") else ""
    return read_url(visit.start).target + found + (f" at {addresses}" if addresses else "")


def _remark(name: str, visit: Visit, marks: Marks) -> str:
    if visit.meets is Meeting.OPENS:
        landing = read_url(visit.lands)
        there = "" if landing.host == name else f" {marks.arrow} {visit.lands}"
        if landing.host == name and landing.target != read_url(visit.start).target:
            there = f" {marks.arrow} {landing.target}"
        return (" in some browsers only" if visit.detail else "") + there
    if visit.meets in {Meeting.CIRCLES, Meeting.UNENCRYPTED}:
        return ""
    if visit.meets is Meeting.PARTS_BLOCKED and read_url(visit.lands).host != name:
        return f" {marks.arrow} {visit.lands}"
    host = "" if not visit.lands.startswith("http") or read_url(visit.lands).host == name else f" at {visit.lands}"
    return f"{host} ({visit.detail})" if visit.detail else host


def _mark_of_visit(marks: Marks, visit: Visit) -> tuple[str, str]:
    match visit.meets:
        case Meeting.OPENS if visit.detail:
            return marks.level[Level.WEAKENS], STYLES[Level.WEAKENS]
        case Meeting.OPENS:
            return marks.holds, "green"
        case Meeting.UNKNOWN:
            return marks.unknown, "yellow"
        case Meeting.UNENCRYPTED:
            return marks.level[Level.EXPOSES], STYLES[Level.EXPOSES]
        case _:
            return marks.level[Level.BREAKS], STYLES[Level.BREAKS]


# Certificates

_LIFE_LEVELS = {
    "in date": None,
    "renewal overdue": Level.WEAKENS,
    "expiring": Level.EXPOSES,
    "expired": Level.BREAKS,
    "not yet valid": Level.BREAKS,
}


def _certificates(sheet: _Sheet, case: Case) -> None:
    certificates = served_certificates(case)
    if not certificates:
        return
    sheet.heading("Certificates", f"judged for {case.at:%Y-%m-%d %H:%M} UTC")
    for certificate in certificates:
        _certificate(sheet, certificate)


def _certificate(sheet: _Sheet, certificate: ServedCertificate) -> None:
    marks = sheet.marks
    level = Level.BREAKS if certificate.problem else _LIFE_LEVELS.get(certificate.state)
    mark, style = (marks.holds, "green") if level is None else (marks.level[level], STYLES[level])
    if certificate.unreadable:
        sheet.line("  ", (mark, style), " a certificate that cannot be read")
        sheet.labelled(4, "served by", _listed(certificate.places))
        sheet.labelled(4, "why", certificate.unreadable)
        return
    covered = _listed(certificate.names) or f"{certificate.title} (no subjectAltName)"
    sheet.flow("  ", (covered, ""), f"{certificate.key}, SHA-256 {certificate.sha256[:8]}", (mark, style))
    if set(certificate.places) != set(certificate.names):
        sheet.labelled(4, "served by", _listed(certificate.places))
    _path(sheet, certificate.links)
    _life(sheet, certificate)


def _path(sheet: _Sheet, links: tuple[Link, ...]) -> None:
    marks = sheet.marks
    words, broken = [], ""
    for position, link in enumerate(links):
        title = "leaf" if position == 0 else link.title
        match link.state:
            case LinkState.NOT_SENT:
                words.append(f"[NOT SENT: {title}]")
            case LinkState.BROKEN:
                words.append(f"[BROKEN at {title}: {link.remark}]")
            case LinkState.ANCHOR:
                words.append(f"{title} ({link.remark})")
            case LinkState.SENT:
                words.append(title)
        if link.state in {LinkState.NOT_SENT, LinkState.BROKEN}:
            broken = broken or words[-1]
    path = f" {marks.above} ".join(words)
    sheet.labelled(4, "path", path, stressed=broken, stress_style=STYLES[Level.BREAKS])


def _life(sheet: _Sheet, certificate: ServedCertificate) -> None:
    life = certificate.life
    if life is None or certificate.renewal is None:
        return
    marks = sheet.marks
    full = round(certificate.passed * _BAR_CELLS)
    cells = [marks.passed] * full + [marks.left] * (_BAR_CELLS - full)
    span = life.length
    renewal_cell = round((certificate.renewal - life.not_before) / span * _BAR_CELLS) if span else _BAR_CELLS
    cells.insert(min(renewal_cell, _BAR_CELLS), marks.renewal)
    days = abs(certificate.days_left)
    if certificate.state == "expired":
        words = f"expired {life.not_after:%Y-%m-%d}"
    elif certificate.state == "not yet valid":
        words = f"not valid before {life.not_before:%Y-%m-%d}"
    else:
        words = f"{days} of {span.days} days left, until {life.not_after:%Y-%m-%d}"
        if certificate.state == "in date":
            words += f", renewal due {certificate.renewal:%Y-%m-%d}"
        else:
            words += f", {certificate.state}"
    level = _LIFE_LEVELS[certificate.state]
    sheet.labelled(4, "life", "".join(cells) + " " + words, STYLES[level] if level else "")


# Areas and gaps


def _areas(sheet: _Sheet, review: Review) -> None:
    counts = area_counts(review.outcomes)
    if not counts:
        return
    marks = sheet.marks
    sheet.heading("Areas", "checks that hold, of those that could be made")
    for count in counts:
        worst = count.worst
        mark, style = (marks.holds, "green") if worst is None else (marks.level[worst], STYLES[worst])
        if count.made == 0:
            mark, style = marks.unknown, "yellow"
        line = f" {count.area:<9} {count.holds:>4} of {count.made}"
        more = [worst.value] if worst is not None else []
        more += [f"{count.accepted} accepted"] if count.accepted else []
        more += [f"{count.unknown} unknown"] if count.unknown else []
        remark = f"{'':<{4 - len(str(count.made))}} {', '.join(more)}" if more else ""
        sheet.line("  ", (mark, style), line, (remark, style if worst else "dim"))


def _gaps(sheet: _Sheet, entries: tuple[GapEntry, ...]) -> None:
    if not entries:
        return
    sheet.heading("Gaps", "worst first")
    for entry in entries:
        _gap(sheet, entry)


def _gap(sheet: _Sheet, entry: GapEntry) -> None:
    level, judged = entry.level, entry.first
    title = f"{entry.number:>2} {sheet.marks.level[level]} {level.value}"
    sheet.line()
    if len(title) + len(judged.title) + len(judged.rule) + 4 <= sheet.width:
        sheet.line((title, STYLES[level]), (f"  {judged.title}", "bold"), (f"  {judged.rule}", "dim"))
    else:
        sheet.line((title, STYLES[level]), (f"  {judged.title}", "bold"))
        sheet.labelled(3, "rule", judged.rule)
    sheet.labelled(3, "where", "\n".join(_some(entry.places)))
    sheet.labelled(3, "seen", "\n".join(_some(entry.seen)))
    sheet.labelled(3, "expected", entry.gap.expected)
    sheet.labelled(3, "why", judged.why)
    sheet.labelled(3, "mend", " ".join((judged.mend, *map(_sentence, entry.details))))
    for server, hosts, configuration in entry.configurations:
        there = f" ({_listed(hosts)})" if len(entry.hosts) > len(hosts) else ""
        sheet.labelled(3, "", f"For {server}{there}:")
        sheet.verbatim(15, configuration)
    sheet.line("   ", (f"{'check':<9} ", "dim"), (judged.check, "green"))


def _sentence(text: str) -> str:
    return text if text.endswith((".", "?", "!")) else text + "."


def _listed(texts: Sequence[str]) -> str:
    return ", ".join(_some(texts))


def _some(texts: Sequence[str]) -> list[str]:
    if len(texts) <= _LISTED + 1:
        return list(texts)
    return [*texts[:_LISTED], f"and {len(texts) - _LISTED} more"]


# What is left


def _rest(sheet: _Sheet, review: Review) -> None:
    marks, evidence = sheet.marks, review.evidence
    unknown = unknown_entries(review.outcomes)
    if unknown or evidence.not_contacted or evidence.environment_proxy:
        sheet.heading("Not checked")
        for entry in unknown:
            count = f"{len(entry.rules)} check{'s' if len(entry.rules) > 1 else ''}"
            sheet.labelled(2, marks.unknown, f"{entry.where}: {entry.reason} ({count})", label_width=1)
        for refused in evidence.not_contacted:
            sheet.labelled(2, marks.unknown, f"{refused.url} was not contacted: {refused.reason}", label_width=1)
        if evidence.environment_proxy:
            words = f"{evidence.environment_proxy} is set: a browser here would use that proxy, Pewter does not"
            sheet.labelled(2, marks.dot, words, label_width=1)
    accepted = accepted_entries(review.outcomes)
    if accepted:
        sheet.heading("Accepted")
        for judged, outcome in accepted:
            words = f"{judged.rule} at {outcome.where} until {outcome.until}: {outcome.because}"
            sheet.labelled(2, marks.accepted, words, label_width=1)


def _next(sheet: _Sheet, review: Review, entries: tuple[GapEntry, ...]) -> None:
    sheet.heading("Next")
    if not was_reviewed(review):
        sheet.line("  ", "Look at the spelling of the name; --resolver and --route lead elsewhere.")
        return
    if not entries:
        words = "Nothing to mend. Look again before the earliest certificate is due for renewal."
        if unknown_entries(review.outcomes) or any(isinstance(each.end, Unseen) for each in review.evidence.journeys):
            words = "Look again for what could not be checked; --timeout gives it more time."
        sheet.line("  ", words)
        return
    first = entries[0]
    sheet.line("  ", f"Mend gap 1 first ({first.first.rule} at {', '.join(first.hosts[:2])}).")
    sheet.line("  ", f"pewter explain {first.first.rule}   shows its mend for every kind of server")
    sheet.line("  ", "pewter review --write review.json   keeps this look, to compare later")
