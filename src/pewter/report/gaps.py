"""The gaps, worst first: seen, expected, why, mend and check of each."""

from collections.abc import Mapping, Sequence

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
) -> None:
    if not entries:
        return
    sheet.heading("Gaps", "worst first")
    if common_cause:
        sheet.line()
        sheet.labelled(2, sheet.marks.arrow, common_cause, "bold", label_width=1)
    for entry in entries[:MAX_SHOWN]:
        _gap(sheet, entry, titles[entry.rule], [places[number] for number in entry.places])
    if len(entries) > MAX_SHOWN:
        sheet.line()
        words = f"and {len(entries) - MAX_SHOWN:,} more gaps: --write FILE.json holds them all"
        sheet.labelled(2, sheet.marks.dot, words, "bold", label_width=1)


def _gap(sheet: Sheet, entry: GapEntry, title: str, places: Sequence[Place]) -> None:
    level = entry.level
    head = f"{entry.number:>2} {sheet.marks.level[level]} {level.value}"
    sheet.line()
    if len(head) + len(title) + len(entry.rule) + 4 <= sheet.width:
        sheet.line((head, STYLES[level]), (f"  {title}", "bold"), (f"  {entry.rule}", "dim"))
    else:
        sheet.line((head, STYLES[level]), (f"  {title}", "bold"))
        sheet.labelled(3, "rule", entry.rule)
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
