"""The report on a terminal: the important first, and nothing twice."""

from collections.abc import Sequence

from rich.text import Text

from pewter.judge.order import step_words
from pewter.judge.results import AreaCount, UnknownEntry
from pewter.judge.review import Review
from pewter.phrases import and_more, counted
from pewter.web.sites import common_domain

from .certificates import render_certificates
from .gaps import MAX_SHOWN, levels_in_words, render_first, render_gaps
from .name_table import render_name_table
from .names import render_names
from .protocol import render_protocols
from .sheet import MAX_WIDTH, MIN_WIDTH, STYLES, UNICODE, Marks, Sheet, listed, some, wrap
from .ways_in import render_ways_in
from .whole_mend import put_whole_mend

MAX_UNKNOWN = 8
"""Lines on what could not be checked; ``--full`` shows all."""

ONE_SCREEN = 60
"""Lines beyond which the report ends with its counts and the first thing to do once more: there the reader's eye is."""


def render_terminal(review: Review, width: int, marks: Marks = UNICODE, *, full: bool = True) -> Text:
    """The report, ready to print, with no line wider than ``width`` but for what cannot be broken.

    Not ``full``, what weakens and what is noted takes a line each; where there are many names, what is sound too.
    """
    sheet, results = Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks), review.results
    in_brief = not full
    sheet.domain = "" if full else common_domain([name.name for name in results.names])
    _verdict(sheet, review)
    render_first(sheet, results.first, results.after_first, review.judged.at)
    render_name_table(sheet, review)
    first = {step.gaps[0] for step in results.first}
    shorts = {} if full else results.shorts
    render_gaps(
        sheet, results.gaps, results.places, results.titles, results.common_cause, full=full, first=first, shorts=shorts
    )
    render_ways_in(sheet, results, only_closed=in_brief)
    render_names(sheet, results.zones, in_brief=in_brief)
    render_certificates(sheet, results.certificates, review.judged.at, in_brief=in_brief)
    render_protocols(sheet, results.protocols, in_brief=in_brief)
    _areas(sheet, results.areas, in_brief=in_brief)
    _rest(sheet, review, full=full)
    if full and results.gaps:
        sheet.line()
        sheet.line(("All mends together", "bold"))
        put_whole_mend(sheet, results)
    _next(sheet, review, full=full)
    return sheet.text


def _verdict(sheet: Sheet, review: Review) -> None:
    marks, evidence, results = sheet.marks, review.evidence, review.results
    worst = results.worst
    mark, style = (marks.holds, "bold green") if worst is None else (marks.level[worst], STYLES[worst])
    if not results.was_reviewed:
        mark, style = marks.unknown, "bold red"
    words = results.verdict
    sheet.flow("", (f"{evidence.plan.first}: {words}", style), "", (mark, style))
    counts = levels_in_words(sheet, results.counts)
    names = counted(sum(1 for name in evidence.names if name.declared or name.addresses), "name")
    taken = f"{names}, {counted(evidence.connections, 'connection')}, {evidence.elapsed_seconds:.1f} s"
    head, led = "  " + (f"{counts}   " if counts else ""), results.conditions
    fits = len(f"{head}({taken}; {led})") <= sheet.width
    if len(f"{head}({taken})") <= sheet.width:
        sheet.line(head, (f"({taken}; {led})" if led and fits else f"({taken})", "dim"))
        if led and not fits:
            sheet.labelled(1, "", led[0].upper() + led[1:], label_width=0)
    else:
        for words in filter(None, (counts.strip(), f"{taken}; {led}" if led else taken)):
            sheet.labelled(1, "", words, label_width=0)
    if results.supposed:
        sheet.labelled(2, marks.dot, results.supposed, "bold yellow", label_width=1)
    if evidence.interrupted:
        sheet.line(("  Interrupted: what follows is only what had been seen by then.", "bold yellow"))


def _all_hold(sheet: Sheet, counts: Sequence[AreaCount]) -> None:
    """Areas without a gap, together: a clean site is to fit on one screen."""
    words = f" {sheet.marks.dot} ".join(f"{count.area} {count.holds}" for count in counts)
    sheet.labelled(2, sheet.marks.holds, words, label_width=1)


def _areas_in_brief(sheet: Sheet, counts: Sequence[AreaCount]) -> None:
    """Together: how much was checked at all, so that silence is told from soundness; the areas that are not sound."""
    sound = [count for count in counts if count.worst is None and not count.unknown and count.made]
    held, made = sum(count.holds for count in sound), sum(count.made for count in sound)
    words = []
    if sound:
        areas = ", ".join(count.area for count in sound)
        words = [f"{sheet.marks.holds}{_TOGETHER}{held}{_TOGETHER}of{_TOGETHER}{made} ({areas})"]
    for count in (each for each in counts if each not in sound):
        mark = sheet.marks.holds if count.worst is None else sheet.marks.level[count.worst]
        mark = sheet.marks.unknown if count.worst is None and count.unknown else mark
        unknown = f" and {count.unknown} unknown" if count.unknown else ""
        words.append(f"{mark} {count.area} {count.holds} of {count.made}{unknown}".replace(" ", _TOGETHER))
    for line in wrap(f"checks: {'   '.join(words)}", sheet.width - 2):
        sheet.line("  ", (line.strip().replace(_TOGETHER, " "), "dim"))


_TOGETHER = "\xa0"
"""A blank at which no line is broken."""


def _areas(sheet: Sheet, counts: Sequence[AreaCount], *, in_brief: bool = False) -> None:
    if not counts:
        return
    marks = sheet.marks
    if in_brief:
        _areas_in_brief(sheet, counts)
        return
    sheet.heading("Areas", "checks that hold, of those that could be made")
    clean = [count for count in counts if count.worst is None and not count.unknown and count.made]
    if len(clean) == len(counts):
        _all_hold(sheet, counts)
        return
    for count in counts:
        worst = count.worst
        mark, style = (marks.holds, "green") if worst is None else (marks.level[worst], STYLES[worst])
        if worst is None and count.unknown:
            mark, style = marks.unknown, "yellow"
        line = f" {count.area:<9} {count.holds:>4} of {count.made}"
        more = [worst.value] if worst is not None else []
        more += [f"{count.accepted} accepted"] if count.accepted else []
        more += [f"{count.unknown} unknown"] if count.unknown else []
        remark = f"{'':<{max(4 - len(str(count.made)), 0)}} {', '.join(more)}" if more else ""
        sheet.line("  ", (mark, style), line, (remark, style if worst else "dim"))


# What is left


def _rest(sheet: Sheet, review: Review, *, full: bool) -> None:
    marks, evidence, results = sheet.marks, review.evidence, review.results
    dns = evidence.dns
    left_out = (results.unknowns, results.unvisited, evidence.faults, evidence.not_contacted)
    if any((*left_out, dns.not_asked, dns.hosts_file)) or evidence.environment_proxy:
        sheet.heading("Not checked")
        for fault in evidence.faults:
            words = f"{fault.what}: a fault of Pewter's own, which says nothing of the site ({fault.detail})"
            sheet.labelled(2, marks.unknown, words, label_width=1)
        unknown, most = unknown_lines(results.unknowns), MAX_SHOWN if full else MAX_UNKNOWN
        for words in unknown[:most]:
            sheet.labelled(2, marks.unknown, words, label_width=1)
        if len(unknown) > most:
            more = f"{and_more(len(unknown), most, 'reasons').strip()}{'' if full else ': --full shows them'}"
            sheet.labelled(2, marks.unknown, more, label_width=1)
        for refused in evidence.not_contacted[:MAX_SHOWN]:
            sheet.labelled(2, marks.unknown, f"{refused.url} was not contacted: {refused.reason}", label_width=1)
        for what in dns.not_asked:
            sheet.labelled(2, marks.unknown, f"not asked: {what}", label_width=1)
        for name, address in dns.hosts_file:
            was_there = any(each.name == name and address in each.routed for each in evidence.names)
            there = "it was looked at there, as a browser here does" if was_there else _NOT_THERE
            words = f"this machine's hosts file leads {name} to {address}: {there}"
            sheet.labelled(2, marks.dot, words, label_width=1)
        for left in results.unvisited:
            count = counted(len(left.paths), "linked page")
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


_NOT_THERE = "a browser here goes there, Pewter does not"


def unknown_lines(entries: Sequence[UnknownEntry]) -> list[str]:
    """A line a reason: where, why, and how many checks it cost."""
    of_reason: dict[str, tuple[dict[str, None], int]] = {}
    for entry in entries:
        places, count = of_reason.get(entry.reason, ({}, 0))
        places[entry.where.text] = None
        of_reason[entry.reason] = places, count + len(entry.rules)
    return [
        f"{listed(list(places))}: {reason} ({counted(count, 'check')})" for reason, (places, count) in of_reason.items()
    ]


def _next(sheet: Sheet, review: Review, *, full: bool) -> None:
    results = review.results
    if full:
        sheet.heading("Next")
    else:
        sheet.line()
    for hint in results.hints:
        sheet.labelled(2, sheet.marks.dot, hint, label_width=1)
    if not results.was_reviewed:
        words = "Look at the spelling of the name; --resolver and --route lead elsewhere."
        sheet.labelled(2, sheet.marks.arrow, words, label_width=len(sheet.marks.arrow))
        return
    if not results.gaps:
        words = "Nothing to mend. Look again before the earliest certificate is due for renewal."
        if results.unknowns:
            words = "Look again for what could not be checked; --timeout gives it more time."
        sheet.labelled(2, sheet.marks.arrow, words, label_width=len(sheet.marks.arrow))
        return
    first = next(entry for entry in results.gaps if not results.first or entry.number == results.first[0].gaps[0])
    words = f"pewter explain {first.rule}: lines for other servers; -w FILE.json keeps this look"
    sheet.labelled(2, sheet.marks.arrow, words, label_width=len(sheet.marks.arrow))
    worst = results.worst
    if worst is not None and sheet.text.plain.count("\n") > ONE_SCREEN:
        step = step_words(results.first[0], review.judged.at) if results.first else ""
        counts = levels_in_words(sheet, results.counts)
        words = f"{review.evidence.plan.first}: {counts}. Do first: {step}" if step else results.verdict
        sheet.line()
        sheet.labelled(0, sheet.marks.level[worst], words, STYLES[worst], label_width=1)
