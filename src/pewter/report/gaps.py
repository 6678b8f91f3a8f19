"""The gaps, worst first: seen, expected, why, mend and check of each."""

from pewter.judge.results import GapEntry

from .sheet import STYLES, Sheet, listed, sentence, some


def render_gaps(sheet: Sheet, entries: tuple[GapEntry, ...]) -> None:
    if not entries:
        return
    sheet.heading("Gaps", "worst first")
    for entry in entries:
        _gap(sheet, entry)


def _gap(sheet: Sheet, entry: GapEntry) -> None:
    level, judged = entry.level, entry.first
    title = f"{entry.number:>2} {sheet.marks.level[level]} {level.value}"
    sheet.line()
    if len(title) + len(judged.title) + len(judged.rule) + 4 <= sheet.width:
        sheet.line((title, STYLES[level]), (f"  {judged.title}", "bold"), (f"  {judged.rule}", "dim"))
    else:
        sheet.line((title, STYLES[level]), (f"  {judged.title}", "bold"))
        sheet.labelled(3, "rule", judged.rule)
    sheet.labelled(3, "where", "\n".join(some(entry.places)))
    sheet.labelled(3, "seen", "\n".join(some(entry.seen)))
    sheet.labelled(3, "expected", entry.gap.expected)
    sheet.labelled(3, "why", judged.why)
    sheet.labelled(3, "mend", " ".join((judged.mend, *map(sentence, entry.details))))
    for server, hosts, configuration in entry.configurations:
        there = f" ({listed(hosts)})" if len(entry.hosts) > len(hosts) else ""
        sheet.labelled(3, "", f"For {server}{there}:")
        sheet.verbatim(15, configuration)
    sheet.line("   ", (f"{'check':<9} ", "dim"), (judged.check, "green"))
