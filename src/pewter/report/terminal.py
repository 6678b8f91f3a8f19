"""The report on a terminal: the important first, and nothing twice."""

from collections.abc import Sequence

from rich.text import Text

from pewter.judge.outcomes import Level
from pewter.judge.results import AreaCount
from pewter.judge.review import Review

from .certificates import render_certificates
from .gaps import MAX_SHOWN, levels_in_words, render_gaps
from .name_table import has_table, render_name_table
from .names import render_names
from .protocol import render_protocols
from .sheet import MAX_WIDTH, MIN_WIDTH, STYLES, UNICODE, Marks, Sheet, some, wrap
from .ways_in import render_ways_in

MAX_STEPS = 3
MAX_FIRST = 8
"""Gaps of one step that are named before the rest is counted."""

_VERDICTS = {
    Level.BREAKS: "Some visitors are stopped or warned.",
    Level.EXPOSES: "Visitors get in, but traffic or cookies can be read or changed.",
    Level.WEAKENS: "Visitors arrive safely; some defences are missing.",
    Level.NOTE: "Visitors arrive safely; there are notes.",
    None: "No gap found: visitors arrive safely.",
}


def render_terminal(review: Review, width: int, marks: Marks = UNICODE, *, full: bool = True) -> Text:
    """The report, ready to print, with no line wider than ``width`` but for what cannot be broken.

    Not ``full``, what weakens and what is noted takes a line each; where there are many names, what is sound too.
    """
    sheet, results = Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks), review.results
    is_brief = not full and has_table(review)
    _verdict(sheet, review)
    render_name_table(sheet, review)
    render_ways_in(sheet, results, only_closed=is_brief)
    render_names(sheet, results.zones)
    render_certificates(sheet, results.certificates, review.judged.at, sound_in_brief=is_brief)
    render_protocols(sheet, results.protocols, in_brief=is_brief)
    _areas(sheet, results.areas, in_brief=is_brief)
    render_gaps(sheet, results.gaps, results.places, results.titles, results.common_cause, full=full)
    _rest(sheet, review)
    _next(sheet, review)
    return sheet.text


def verdict_words(review: Review) -> str:
    """The verdict in one sentence."""
    results = review.results
    if not results.was_reviewed:
        return "The site could not be reviewed: nothing of it answered."
    if results.worst is None and results.unknowns:
        return "No gap found in what could be seen."
    return _VERDICTS[results.worst]


def _verdict(sheet: Sheet, review: Review) -> None:
    marks, evidence, results = sheet.marks, review.evidence, review.results
    worst = results.worst
    mark, style = (marks.holds, "bold green") if worst is None else (marks.level[worst], STYLES[worst])
    if not results.was_reviewed:
        mark, style = marks.unknown, "bold red"
    words = verdict_words(review)
    sheet.flow("", (f"{evidence.plan.first}: {words}", style), "", (mark, style))
    counts = levels_in_words(sheet, results.counts)
    names = sum(1 for name in evidence.names if name.addresses)
    taken = (
        f"{names} name{'s' if names != 1 else ''}, {evidence.connections} connections, {evidence.elapsed_seconds:.1f} s"
    )
    head, led = "  " + (f"{counts}   " if counts else ""), results.conditions
    fits = len(f"{head}({taken}; {led})") <= sheet.width
    sheet.line(head, (f"({taken}; {led})" if led and fits else f"({taken})", "dim"))
    if led and not fits:
        sheet.line("  ", (led[0].upper() + led[1:], "dim"))
    if results.supposed:
        sheet.labelled(2, marks.dot, results.supposed, "bold yellow", label_width=1)
    if evidence.interrupted:
        sheet.line(("  Interrupted: what follows is only what had been seen by then.", "bold yellow"))


def _all_hold(sheet: Sheet, counts: Sequence[AreaCount]) -> None:
    """Areas without a gap, together: a clean site is to fit on one screen."""
    words = f" {sheet.marks.dot} ".join(f"{count.area} {count.holds}" for count in counts)
    sheet.labelled(2, sheet.marks.holds, words, label_width=1)


def _areas_in_brief(sheet: Sheet, counts: Sequence[AreaCount]) -> None:
    words = []
    for count in counts:
        mark = sheet.marks.holds if count.worst is None else sheet.marks.level[count.worst]
        mark = sheet.marks.unknown if count.made == 0 else mark
        unknown = f" and {count.unknown} unknown" if count.unknown else ""
        words.append(f"{mark} {count.area} {count.holds} of {count.made}{unknown}".replace(" ", _TOGETHER))
    for line in wrap("   ".join(words), sheet.width - 2):
        sheet.line("  ", line.strip().replace(_TOGETHER, " "))


_TOGETHER = "\xa0"
"""A blank at which no line is broken."""


def _areas(sheet: Sheet, counts: Sequence[AreaCount], *, in_brief: bool = False) -> None:
    if not counts:
        return
    marks = sheet.marks
    sheet.heading("Areas", "checks that hold, of those that could be made")
    clean = [count for count in counts if count.worst is None and not count.unknown and count.made]
    if len(clean) == len(counts):
        _all_hold(sheet, counts)
        return
    if in_brief:
        _areas_in_brief(sheet, counts)
        return
    for count in counts:
        worst = count.worst
        mark, style = (marks.holds, "green") if worst is None else (marks.level[worst], STYLES[worst])
        if count.made == 0:
            mark, style = marks.unknown, "yellow"
        line = f" {count.area:<9} {count.holds:>4} of {count.made}"
        more = [worst.value] if worst is not None else []
        more += [f"{count.accepted} accepted"] if count.accepted else []
        more += [f"{count.unknown} unknown"] if count.unknown else []
        remark = f"{'':<{max(4 - len(str(count.made)), 0)}} {', '.join(more)}" if more else ""
        sheet.line("  ", (mark, style), line, (remark, style if worst else "dim"))


# What is left


def _rest(sheet: Sheet, review: Review) -> None:
    marks, evidence, results = sheet.marks, review.evidence, review.results
    dns = evidence.dns
    left_out = (results.unknowns, results.unvisited, evidence.faults, evidence.not_contacted)
    if any((*left_out, dns.not_asked, dns.hosts_file)) or evidence.environment_proxy:
        sheet.heading("Not checked")
        for fault in evidence.faults:
            words = f"{fault.what}: a fault of Pewter's own, which says nothing of the site ({fault.detail})"
            sheet.labelled(2, marks.unknown, words, label_width=1)
        for entry in results.unknowns[:MAX_SHOWN]:
            count = f"{len(entry.rules)} check{'s' if len(entry.rules) > 1 else ''}"
            sheet.labelled(2, marks.unknown, f"{entry.where}: {entry.reason} ({count})", label_width=1)
        if len(results.unknowns) > MAX_SHOWN:
            more = f"and {len(results.unknowns) - MAX_SHOWN:,} more places"
            sheet.labelled(2, marks.unknown, more, label_width=1)
        for refused in evidence.not_contacted[:MAX_SHOWN]:
            sheet.labelled(2, marks.unknown, f"{refused.url} was not contacted: {refused.reason}", label_width=1)
        for what in dns.not_asked:
            sheet.labelled(2, marks.unknown, f"not asked: {what}", label_width=1)
        for name, address in dns.hosts_file:
            words = f"this machine's hosts file leads {name} to {address}: a browser here goes there, Pewter does not"
            sheet.labelled(2, marks.dot, words, label_width=1)
        for left in results.unvisited:
            count = f"{len(left.paths)} linked page{'s' if len(left.paths) > 1 else ''}"
            words = f"{left.origin}: {count} not looked at: {', '.join(some(left.paths))} (--path adds one)"
            sheet.labelled(2, marks.dot, words, label_width=1)
        if evidence.environment_proxy:
            words = f"{evidence.environment_proxy} is set: a browser here would use that proxy, Pewter does not"
            sheet.labelled(2, marks.dot, words, label_width=1)
    if results.accepted:
        sheet.heading("Accepted")
        for accepted in results.accepted:
            words = f"{accepted.rule} at {accepted.where} until {accepted.until}: {accepted.because}"
            sheet.labelled(2, marks.accepted, words, label_width=1)


def _next(sheet: Sheet, review: Review) -> None:
    results = review.results
    sheet.heading("Next")
    if not results.was_reviewed:
        sheet.line("  ", "Look at the spelling of the name; --resolver and --route lead elsewhere.")
        return
    if not results.gaps:
        words = "Nothing to mend. Look again before the earliest certificate is due for renewal."
        if results.unknowns:
            words = "Look again for what could not be checked; --timeout gives it more time."
        sheet.line("  ", words)
        return
    worst = results.worst
    if worst is not None:
        counts = levels_in_words(sheet, results.counts).strip()
        words = f"{verdict_words(review)} {counts}"
        sheet.labelled(2, sheet.marks.level[worst], words, STYLES[worst], label_width=1)
    for position, step in enumerate(results.first[:MAX_STEPS]):
        numbers = ", ".join(map(str, step.gaps[:MAX_FIRST]))
        more = f" and {len(step.gaps) - MAX_FIRST:,} more" if len(step.gaps) > MAX_FIRST else ""
        words = f"gap{'s' if len(step.gaps) > 1 else ''} {numbers}{more}: {step.what}"
        sheet.labelled(2, "Do first" if position == 0 else "then", words, label_width=8)
    first = next(entry for entry in results.gaps if not results.first or entry.number == results.first[0].gaps[0])
    sheet.line("  ", f"pewter explain {first.rule}   shows its mend for every kind of server")
    sheet.line("  ", "pewter review --write review.json   keeps this look; pewter recheck review.json looks again")
