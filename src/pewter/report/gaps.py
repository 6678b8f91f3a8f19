"""The gaps, worst first: seen, expected, why, mend and check of each."""

from collections.abc import Mapping, Sequence

from rich.cells import cell_len

from pewter.escape import escaped
from pewter.judge.outcomes import Level
from pewter.judge.results import GapEntry, Manner, Piece, Place
from pewter.phrases import all_of

from .sheet import STYLES, Sheet, listed, sentence, some

MAX_SHOWN = 300
"""Entries that are shown, the worst; a site may have thousands of cookies."""


def levels_in_words(sheet: Sheet, counts: dict[str, int]) -> str:
    """``7 breaks · 2 notes``; empty where there is no gap."""
    return f" {sheet.marks.dot} ".join(
        f"{count} {level if count == 1 or level != Level.NOTE.value else 'notes'}" for level, count in counts.items()
    )


def render_gaps(
    sheet: Sheet,
    entries: tuple[GapEntry, ...],
    places: Sequence[Place],
    titles: Mapping[str, str],
    common_cause: str = "",
    *,
    full: bool = True,
) -> None:
    """Not ``full``, those that neither break nor expose take a line each."""
    if not entries:
        return
    sheet.heading("Gaps", "worst first")
    if common_cause:
        sheet.line()
        sheet.labelled(2, sheet.marks.arrow, common_cause, "bold", label_width=1)
    shown = entries[:MAX_SHOWN]
    whole = shown if full else [each for each in shown if each.level in _WHOLE]
    in_short = not full and len(whole) > FEW
    if in_short:
        sheet.line()
    for entry in whole:
        _gap(sheet, entry, titles[entry.rule], [places[number] for number in entry.places], in_short=in_short)
    if len(whole) < len(shown):
        sheet.line()
        for entry in shown[len(whole) :]:
            _gap_in_brief(sheet, entry, titles[entry.rule], [places[number] for number in entry.places])
    if in_short or len(whole) < len(shown):
        sheet.line()
        words = "--full shows every gap with its mend, the lines for your server, and how to check it"
        sheet.labelled(2, sheet.marks.arrow, words, "bold", label_width=len(sheet.marks.arrow))
    if len(entries) > MAX_SHOWN:
        sheet.line()
        words = f"and {len(entries) - MAX_SHOWN:,} more gaps: --write FILE.json holds them all"
        sheet.labelled(2, sheet.marks.dot, words, "bold", label_width=1)


FEW = 6
"""Gaps that break or expose, up to which each is shown with its lines and its check."""

_WHOLE = frozenset({Level.BREAKS, Level.EXPOSES})


def _gap_in_brief(sheet: Sheet, entry: GapEntry, title: str, places: Sequence[Place]) -> None:
    level, first = entry.level, places[0].text
    where = first if len(places) == 1 else f"{first} and {len(places) - 1} more"
    head = f"{entry.number:>2} {sheet.marks.level[level]}"
    words = f"{title}  {where}"
    room = sheet.width - cell_len(head) - len(entry.rule) - 3
    if cell_len(escaped(words)) > room:
        words = title if cell_len(title) <= room else ""
    sheet.line((head, STYLES[level]), f" {entry.rule}", (f"  {words}" if words else "", "dim"))


def _gap(sheet: Sheet, entry: GapEntry, title: str, places: Sequence[Place], *, in_short: bool) -> None:
    """``in_short``: without the lines for the server and the check."""
    level = entry.level
    head = f"{entry.number:>2} {sheet.marks.level[level]} {level.value}"
    if not in_short:
        sheet.line()
    if len(head) + len(title) + len(entry.rule) + 4 <= sheet.width:
        sheet.line((head, STYLES[level]), (f"  {title}", "bold"), (f"  {entry.rule}", "dim"))
    else:
        sheet.line((head, STYLES[level]), (f"  {title}", "bold"))
        sheet.labelled(3, "rule", entry.rule)
    if in_short:
        seen = "; ".join(some(entry.seen))
        unsaid = [place.text for place in places if place.text not in seen]
        seen = f"{', '.join(some(unsaid))}: {seen}" if unsaid else seen
        sheet.labelled(3, "seen", f"{seen} (expected: {entry.expected})")
        sheet.labelled(3, "why", sentence(entry.why.partition(". ")[0]))
        sheet.labelled(3, "mend", " ".join((entry.mend, *map(sentence, entry.details))))
        return
    sheet.labelled(3, "where", some([place.text for place in places]))
    sheet.labelled(3, "seen", some(entry.seen))
    sheet.labelled(3, "expected", entry.expected)
    sheet.labelled(3, "why", entry.why)
    sheet.labelled(3, "mend", " ".join((entry.mend, *map(sentence, entry.details))))
    for each in entry.configurations:
        there = f" ({listed(each.hosts)})" if len({place.host for place in places}) > len(each.hosts) else ""
        if each.held_back:
            sheet.labelled(3, "", f"For {each.server}{there}: {each.held_back}.")
            continue
        for position, piece in enumerate(each.pieces):
            lead = f"For {each.server}{there}" if position == 0 else "And"
            _piece(sheet, lead, piece)
    if entry.lines_for:
        sheet.labelled(3, "", f"Lines for {all_of(entry.lines_for)}: pewter explain {entry.rule}")
    sheet.line("   ", (f"{'check':<9} ", "dim"), (entry.check, "green"))


def _piece(sheet: Sheet, lead: str, piece: Piece) -> None:
    if piece.manner is Manner.WORDS:
        sheet.labelled(3, "", f"{lead}{f' {piece.where}' if piece.where else ''}: {piece.lines}")
        return
    sheet.labelled(3, "", f"{lead}, {piece.where}{':' if piece.lines else '.'}")
    if piece.lines:
        sheet.verbatim(15, piece.lines)
    if piece.note:
        sheet.labelled(3, "", piece.note, "dim")
