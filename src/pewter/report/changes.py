"""What changed between two reviews, for a terminal: one entry a gap, with its places."""

from collections.abc import Sequence

from rich.text import Text

from pewter.judge.changed_facts import FactChange
from pewter.judge.comparison import CHANGE_TITLES, Change, ChangeEntry, Comparison, LookFacts
from pewter.levels import Level
from pewter.phrases import and_more, counted
from pewter.web.sites import common_domain

from .sheet import MAX_WIDTH, MIN_WIDTH, STYLES, UNICODE, Marks, Sheet, listed, quoted, some

MAX_SHOWN = 300
FEW = 8
"""Entries that closed, up to which each is told with what was seen and what is; of more, a line each."""

MAX_FACTS = 6


def render_changes(comparison: Comparison, width: int, marks: Marks = UNICODE) -> Text:
    """What opened first, then what closed, what could not be seen, and what stayed."""
    sheet = Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks)
    groups, worst = comparison.entries, comparison.worst_open
    mark, style = marks.holds, "bold green"
    if worst is not None:
        mark, style = marks.level[worst], STYLES[worst]
    elif {Change.UNSEEN, Change.REPLACED} & set(groups):
        mark, style = marks.unknown, "bold yellow"
    words = f" {marks.dot} ".join(comparison.counts)
    sheet.flow("", (f"{comparison.site}: {words}", style), "", (mark, style))
    for label, look in zip(("before", "after"), comparison.looks, strict=False):
        sheet.labelled(2, label, look_words(look), label_width=6)
    sheet.domain = common_domain(sorted({each.where.host for each in comparison.gaps if each.where.host}))
    for change, found in groups.items():
        sheet.heading(CHANGE_TITLES[change], str(len(found)))
        if change in {Change.UNSEEN, Change.LEFT} and len(found) > FEW:
            _by_reason(sheet, found)
            continue
        in_brief = change in {Change.CLOSED, Change.STAYED} and len(found) > FEW
        notes = [each for each in found if in_brief and each.level is Level.NOTE]
        for each in found[:MAX_SHOWN]:
            if each not in notes:
                _entry(sheet, each, in_brief=in_brief)
        if notes:
            mark = marks.holds if change is Change.CLOSED else marks.level[Level.NOTE]
            words = "; ".join(each.short or each.title for each in notes)
            sheet.labelled(2, mark, f"notes: {words}", label_width=1)
        if len(found) > MAX_SHOWN:
            sheet.line("  ", and_more(len(found), MAX_SHOWN).strip())
    if comparison.facts:
        sheet.heading("Beside gaps")
        facts = facts_alike(comparison.facts)
        for subject, before, after in facts[:MAX_FACTS]:
            was, now = (sheet.short(quoted(each, sheet.width - 8)) for each in differing(before, after))
            sheet.labelled(2, marks.dot, f"{sheet.short(subject)}: {was} {marks.arrow} {now}", label_width=1)
        if len(facts) > MAX_FACTS:
            words = f"{and_more(len(facts), MAX_FACTS).strip()}: --write FILE.json holds them all"
            sheet.labelled(2, marks.dot, words, label_width=1)
    return sheet.text


def _by_reason(sheet: Sheet, entries: Sequence[ChangeEntry]) -> None:
    """A reason once, with what it kept from being seen."""
    marks = sheet.marks
    of_reason: dict[str, list[ChangeEntry]] = {}
    for entry in entries:
        of_reason.setdefault("; ".join(some(entry.after)), []).append(entry)
    for reason, found in of_reason.items():
        sheet.labelled(2, marks.unknown, f"{reason}:", "yellow", label_width=1)
        sheet.labelled(3, "", "; ".join(_in_few_words(sheet, each) for each in found[:MAX_SHOWN]), label_width=0)


def _in_few_words(sheet: Sheet, entry: ChangeEntry) -> str:
    """``certificate expired at timetable``; of several places how many."""
    first, words = sheet.short(entry.places[0]), entry.short or entry.title
    if len(entry.places) > 1:
        return f"{words} ({len(entry.places)})"
    return words if "://" in first else f"{words} at {first}"


def look_words(look: LookFacts) -> str:
    """When it was taken and from where, and what judged it."""
    resolvers = f"resolver {', '.join(look.resolvers)}" if look.resolvers else "this machine's resolver"
    routes = look.routes[0] if len(look.routes) == 1 else counted(len(look.routes), "route")
    parts = [f"{look.begun:%Y-%m-%d %H:%M} UTC", f"Pewter {look.pewter}", resolvers]
    if look.routes:
        parts.append(f"by {routes}")
    if abs((look.judged_for - look.begun).total_seconds()) >= _MINUTE:
        parts.append(f"judged for {look.judged_for:%Y-%m-%d %H:%M} UTC")
    for option, chosen in (("--only", look.only), ("--skip", look.skip)):
        if chosen:
            parts.append(f"{option} {' '.join(some(chosen))}")
    if look.remark:
        parts.append(look.remark)
    return "; ".join(parts)


_MINUTE = 60


def facts_alike(facts: Sequence[FactChange]) -> list[tuple[str, str, str]]:
    """Subject, before and after; what changed alike at several places is told once."""
    of_kind: dict[str, int] = {}
    ranked = []
    for fact in facts:
        kind, of, names = fact.subject.partition(" of ")
        of_kind[kind] = of_kind.get(kind, 0) + 1
        subject = f"{kind} of {listed(names.split(', '))}" if of else kind
        ranked.append((of_kind[kind], subject, fact.before, fact.after))
    # The first of each kind before the second of any.
    return [(subject, before, after) for _, subject, before, after in sorted(ranked, key=lambda each: each[0])]


def differing(before: str, after: str) -> tuple[str, str]:
    """Both without what they share behind their first piece."""
    was, now = before.split(", "), after.split(", ")
    shared = set(was[1:]) & set(now[1:])
    if not shared or ";" in before + after:
        return before, after
    return (
        ", ".join(each for each in (was[0], *(one for one in was[1:] if one not in shared))),
        ", ".join(each for each in (now[0], *(one for one in now[1:] if one not in shared))),
    )


def _entry(sheet: Sheet, entry: ChangeEntry, *, in_brief: bool) -> None:
    marks = sheet.marks
    mark, style = _mark_of(marks, entry)
    places = [sheet.short(place) for place in entry.places]
    where = listed(places) if len(entry.places) < _MANY else places[0] + and_more(len(places), 1)
    if in_brief:
        room = sheet.width - len(entry.title) - 6
        where = where if len(where) <= room else _cut(places, room)
        room -= len(where) + 2
        rule = f"  {entry.rule}" if room >= len(entry.rule) else ""
        sheet.line("  ", (mark, style), f" {entry.title}", f"  {where}" if where else "", (rule, "dim"))
        return
    sheet.flow("  ", (entry.title, ""), f"{where}  {entry.rule}", (mark, style))
    before, after = "; ".join(some(entry.before)), "; ".join(some(entry.after))
    if before and before != after:
        sheet.labelled(4, "was", before, label_width=5)
    if after and (entry.change is not Change.STAYED or after != before):
        sheet.labelled(4, _LABELS.get(entry.change, "is"), after, label_width=5)


_MANY = 3
_LABELS = {Change.UNSEEN: "why", Change.LEFT: "why", Change.ACCEPTED: "since"}


def _cut(places: Sequence[str], room: int) -> str:
    """The first place, or how many there are, as it fits."""
    more = and_more(len(places), 1)
    if len(places[0]) + len(more) <= room:
        return places[0] + more
    count = counted(len(places), "place")
    return count if len(places) > 1 and len(count) <= room else ""


def _mark_of(marks: Marks, entry: ChangeEntry) -> tuple[str, str]:
    match entry.change:
        case Change.CLOSED:
            return marks.holds, "green"
        case Change.UNSEEN | Change.LEFT:
            return marks.unknown, "yellow"
        case Change.ACCEPTED:
            return marks.accepted, ""
    level: Level = entry.level
    return marks.level[level], STYLES[level]
