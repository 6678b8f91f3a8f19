"""The report of ``pewter bundle``: what each file holds, the path, and what would go wrong."""

from rich.text import Text

from pewter.judge.bundle import BundleCase, is_server
from pewter.judge.outcomes import Gap, Judged, Level
from pewter.judge.results import gap_entries, worst_level
from pewter.pki import Certificate
from pewter.pki.files import FileItem

from .certificates import render_certificates
from .gaps import levels_in_words, render_gaps
from .sheet import MAX_WIDTH, MIN_WIDTH, STYLES, UNICODE, Marks, Sheet

_VERDICTS = {
    Level.BREAKS: "Installed as it is, it would stop visitors.",
    Level.EXPOSES: "It would work, and ought not to be installed as it is.",
    Level.WEAKENS: "It would work for most visitors.",
    Level.NOTE: "It can be installed; there are notes.",
    None: "Whole and in order: it can be installed.",
}


def render_bundle(
    case: BundleCase, outcomes: tuple[Judged, ...], next_lines: tuple[str, ...], width: int, marks: Marks = UNICODE
) -> Text:
    """The whole report, ready to print."""
    sheet = Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks)
    entries = gap_entries(outcomes)
    worst = worst_level(outcomes)
    mark, style = (marks.holds, "bold green") if worst is None else (marks.level[worst], STYLES[worst])
    install = case.bundle.install
    subject = install.name if install is not None else ", ".join(each.name for each in case.bundle.files) or "no file"
    verdict = _VERDICTS[worst] if install is not None or worst is None else "There is nothing to install here."
    sheet.flow("", (f"{subject}: {verdict}", style), "", (mark, style))
    counts = levels_in_words(sheet, entries)
    held = sum(1 for each in outcomes if not isinstance(each.outcome, Gap))
    sheet.line("  " + (f"{counts}   " if counts else ""), (f"({held} of {len(outcomes)} checks hold)", "dim"))
    _files(sheet, case)
    render_certificates(sheet, case, are_served=False)
    _live(sheet, case)
    render_gaps(sheet, entries)
    if next_lines:
        sheet.heading("Next")
        for line in next_lines:
            sheet.labelled(1, "", line, label_width=0)
    return sheet.text


def _files(sheet: Sheet, case: BundleCase) -> None:
    if not case.bundle.files:
        return
    sheet.heading("Files")
    for file in case.bundle.files:
        sheet.flow("  ", (file.name, "bold"), file.form)
        for position, item in enumerate(file.items, start=1):
            words = _item_words(case, item)
            sheet.labelled(4, f"{position}", words, STYLES[Level.BREAKS] if item.problem else "", label_width=3)
        for problem in file.problems:
            sheet.labelled(4, sheet.marks.level[Level.BREAKS], problem, STYLES[Level.BREAKS], label_width=3)


def _item_words(case: BundleCase, item: FileItem) -> str:
    certificate = item.certificate
    if isinstance(certificate, Certificate):
        span = f"{certificate.not_before:%Y-%m-%d} to {certificate.not_after:%Y-%m-%d}"
        kind = "server" if is_server(certificate) else "root" if certificate.is_self_issued else "CA"
        by = "by itself" if certificate.is_self_issued else f"by {certificate.issuer.title}"
        return f"{kind}: {certificate.title}, {span}, {by}; {certificate.key}, SHA-256 {certificate.sha256[:8]}"
    words = item.words + (f": {item.problem}" if item.problem else "")
    if item.spki is not None:
        owners = [each.title for each in case.bundle.all_certificates if each.spki == item.spki]
        words += f", belongs to {owners[0]}" if owners else ", belongs to no certificate here"
    return words


def _live(sheet: Sheet, case: BundleCase) -> None:
    if not case.bundle.live:
        return
    leaf = case.bundle.leaf
    sheet.heading("Live")
    for live in case.bundle.live:
        if not live.certificates:
            sheet.labelled(2, sheet.marks.unknown, f"{live.place}: {live.reason}", label_width=1)
            continue
        served = live.certificates[0]
        same = leaf is not None and served.sha256 == leaf.sha256
        words = "serves this certificate" if same else "serves another certificate"
        span = f"{served.not_before:%Y-%m-%d} to {served.not_after:%Y-%m-%d} by {served.issuer.title}"
        mark = sheet.marks.holds if same else sheet.marks.level[Level.NOTE]
        words = f"{live.place}: {words} ({span}, SHA-256 {served.sha256[:8]}), {len(live.certificates)} sent"
        sheet.labelled(2, mark, words, label_width=1)
