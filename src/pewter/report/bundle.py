"""The report of ``pewter bundle``: what each file holds, the path, and what would go wrong."""

from rich.text import Text

from pewter.judge.bundle_review import BundleReview, FileDrawn, LiveDrawn
from pewter.levels import Level

from .certificates import render_certificates
from .gaps import levels_in_words, render_first, render_gaps
from .sheet import MAX_WIDTH, MIN_WIDTH, STYLES, UNICODE, Marks, Sheet

_VERDICTS = {
    Level.BREAKS: "Installed as it is, it would stop visitors.",
    Level.EXPOSES: "It would work, and ought not to be installed as it is.",
    Level.WEAKENS: "It would work for most visitors.",
    Level.NOTE: "It can be installed; there are notes.",
    None: "Whole and in order: it can be installed.",
}


def render_bundle(review: BundleReview, next_lines: tuple[str, ...], width: int, marks: Marks = UNICODE) -> Text:
    """The whole report, ready to print."""
    sheet, worst = Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks), review.worst
    mark, style = (marks.holds, "bold green") if worst is None else (marks.level[worst], STYLES[worst])
    is_anything = review.can_be_installed or worst is None
    verdict = _VERDICTS[worst] if is_anything else "There is nothing to install here."
    is_in_parts = any(entry.rule == "bundle/in-parts" for entry in review.gaps)
    if is_in_parts and worst is Level.NOTE:
        verdict = "Whole, in separate files: join them before they are installed."
    sheet.flow("", (f"{review.subject}: {verdict}", style), "", (mark, style))
    counts = levels_in_words(sheet, review.counts)
    held = f"({review.held} of {len(review.outcomes)} checks hold)"
    sheet.line("  " + (f"{counts}   " if counts else ""), (held, "dim"))
    render_first(sheet, review.first, review.after_first, review.judged_for)
    _files(sheet, review.files)
    render_certificates(
        sheet, review.certificates, review.judged_for, lacking="IN ANOTHER FILE" if is_in_parts else "NOT IN THIS FILE"
    )
    _live(sheet, review.live)
    render_gaps(sheet, review.gaps, review.places, review.titles)
    if next_lines:
        sheet.heading("Next")
        for line in next_lines:
            sheet.labelled(1, "", line, label_width=0)
    return sheet.text


def _files(sheet: Sheet, files: tuple[FileDrawn, ...]) -> None:
    if files:
        sheet.heading("Files")
    for file in files:
        sheet.flow("  ", (file.name, "bold"), file.form)
        for position, item in enumerate(file.items, start=1):
            style = STYLES[Level.BREAKS] if item.is_faulty else ""
            sheet.labelled(4, f"{position}", item.words, style, label_width=3)
        for problem in file.problems:
            sheet.labelled(4, sheet.marks.level[Level.BREAKS], problem, STYLES[Level.BREAKS], label_width=3)


def _live(sheet: Sheet, live: tuple[LiveDrawn, ...]) -> None:
    if live:
        sheet.heading("Live")
    marks = {None: sheet.marks.unknown, True: sheet.marks.holds, False: sheet.marks.level[Level.NOTE]}
    for each in live:
        sheet.labelled(2, marks[each.is_same], each.words, label_width=1)
