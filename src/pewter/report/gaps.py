"""The gaps, worst first: seen, expected, why, mend and check of each."""

from pewter.judge.outcomes import Level
from pewter.judge.results import GapEntry

from .sheet import STYLES, Sheet, listed, sentence, some

MAX_SHOWN = 300
"""Entries that are shown, the worst; a site may have thousands of cookies."""


def levels_in_words(sheet: Sheet, counts: dict[str, int]) -> str:
    """``7 breaks · 2 notes``; empty where there is no gap."""
    return f" {sheet.marks.dot} ".join(
        f"{count} {level if count == 1 or level != Level.NOTE.value else 'notes'}" for level, count in counts.items()
    )


def render_gaps(sheet: Sheet, entries: tuple[GapEntry, ...], common_cause: str = "") -> None:
    if not entries:
        return
    sheet.heading("Gaps", "worst first")
    if common_cause:
        sheet.line()
        sheet.labelled(2, sheet.marks.arrow, common_cause, "bold", label_width=1)
    for entry in entries[:MAX_SHOWN]:
        _gap(sheet, entry)
    if len(entries) > MAX_SHOWN:
        sheet.line()
        words = f"and {len(entries) - MAX_SHOWN:,} more gaps: --write FILE.json holds them all"
        sheet.labelled(2, sheet.marks.dot, words, "bold", label_width=1)


def _gap(sheet: Sheet, entry: GapEntry) -> None:
    level = entry.level
    title = f"{entry.number:>2} {sheet.marks.level[level]} {level.value}"
    sheet.line()
    if len(title) + len(entry.title) + len(entry.rule) + 4 <= sheet.width:
        sheet.line((title, STYLES[level]), (f"  {entry.title}", "bold"), (f"  {entry.rule}", "dim"))
    else:
        sheet.line((title, STYLES[level]), (f"  {entry.title}", "bold"))
        sheet.labelled(3, "rule", entry.rule)
    sheet.labelled(3, "where", some([place.text for place in entry.places]))
    sheet.labelled(3, "seen", some(entry.seen))
    sheet.labelled(3, "expected", entry.expected)
    sheet.labelled(3, "why", entry.why)
    sheet.labelled(3, "mend", " ".join((entry.mend, *map(sentence, entry.details))))
    for each in entry.configurations:
        there = f" ({listed(each.hosts)})" if len(entry.hosts) > len(each.hosts) else ""
        sheet.labelled(3, "", f"For {each.server}{there}:")
        sheet.verbatim(15, each.lines)
    sheet.line("   ", (f"{'check':<9} ", "dim"), (entry.check, "green"))
