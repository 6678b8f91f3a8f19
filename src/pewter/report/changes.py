"""What changed between two reviews, for a terminal."""

from rich.text import Text

from pewter.judge.comparison import CHANGE_TITLES, Change, Comparison, GapChange

from .sheet import MAX_WIDTH, MIN_WIDTH, STYLES, UNICODE, Marks, Sheet

MAX_SHOWN = 300


def render_changes(comparison: Comparison, width: int, marks: Marks = UNICODE) -> Text:
    """What opened and closed first; what stayed is a line each."""
    sheet = Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks)
    mark, style = marks.holds, "bold green"
    groups, worst = comparison.groups, comparison.worst_open
    if worst is not None:
        mark, style = marks.level[worst], STYLES[worst]
    elif Change.UNSEEN in groups:
        mark, style = marks.unknown, "bold yellow"
    words = f" {marks.dot} ".join(comparison.counts)
    sheet.flow("", (f"{comparison.site}: {words}", style), "", (mark, style))
    for change, found in groups.items():
        sheet.heading(CHANGE_TITLES[change], str(len(found)))
        for each in found[:MAX_SHOWN]:
            _gap(sheet, each)
        if len(found) > MAX_SHOWN:
            sheet.line("  ", f"and {len(found) - MAX_SHOWN:,} more")
    if comparison.facts:
        sheet.heading("Beside gaps")
        for fact in comparison.facts[:MAX_SHOWN]:
            sheet.flow("  ", (fact.subject, ""), "", (marks.dot, ""))
            sheet.labelled(4, "was", fact.before, label_width=5)
            sheet.labelled(4, "is", fact.after, label_width=5)
    return sheet.text


def _gap(sheet: Sheet, gap: GapChange) -> None:
    marks = sheet.marks
    is_gone = gap.change is Change.CLOSED
    mark, style = (marks.holds, "green") if is_gone else (marks.level[gap.level], STYLES[gap.level])
    sheet.flow("  ", (f"{gap.rule}  {gap.where.text}", ""), gap.title, (mark, style))
    if gap.before and gap.before != gap.after:
        sheet.labelled(4, "was", gap.before, label_width=5)
    if (gap.after and gap.change is not Change.STAYED) or gap.after != gap.before:
        sheet.labelled(4, "is", gap.after, label_width=5)
