"""The gaps, worst first: seen, expected, why, mend and check of each."""

import datetime
import re
from collections.abc import Collection, Mapping, Sequence

from rich.cells import cell_len

from pewter.escape import escaped
from pewter.judge.order import FirstStep, step_words
from pewter.judge.results import GapEntry, Manner, Piece, Place
from pewter.levels import Level
from pewter.phrases import all_of, and_more, counted

from .sheet import STYLES, Sheet, cut, listed, quoted, sentence, some, wrap

MAX_SHOWN = 300
"""Entries that are shown, the worst; a site may have thousands of cookies."""


def levels_in_words(sheet: Sheet, counts: dict[str, int]) -> str:
    """``7 breaks · 2 notes``; empty where there is no gap."""
    return f" {sheet.marks.dot} ".join(
        f"{count} {level if count == 1 or level != Level.NOTE.value else 'notes'}" for level, count in counts.items()
    )


def render_first(sheet: Sheet, first: Sequence[FirstStep], after_first: Sequence[int], at: datetime.datetime) -> None:
    """In the order in which it is to be done; the other gaps that break or expose are counted."""
    if not first:
        return
    if len(first) == 1 and not after_first:
        sheet.labelled(2, "Do first", step_words(first[0], at), label_width=8)
        return
    sheet.heading("Do first")
    for position, step in enumerate(first, start=1):
        sheet.labelled(2, str(position), step_words(step, at), label_width=1)
    if after_first:
        count, numbers = len(after_first), all_of(_in_runs(after_first))
        words = f"then {counted(count, 'other gap')} that {'break or expose' if count > 1 else 'breaks or exposes'}"
        sheet.labelled(2, sheet.marks.dot, f"{words}: {numbers}", label_width=1)


def _in_runs(numbers: Sequence[int]) -> list[str]:
    """``7``, ``8``, ``11 to 20``: three and more that follow on each other together."""
    runs: list[list[int]] = []
    for number in numbers:
        if runs and number == runs[-1][-1] + 1:
            runs[-1].append(number)
        else:
            runs.append([number])
    return [words for run in runs for words in ([f"{run[0]} to {run[-1]}"] if len(run) > _PAIR else map(str, run))]


_PAIR = 2


def render_gaps(
    sheet: Sheet,
    entries: tuple[GapEntry, ...],
    places: Sequence[Place],
    titles: Mapping[str, str],
    common_cause: str = "",
    *,
    full: bool = True,
    first: Collection[int] = (),
    shorts: Mapping[str, str] | None = None,
) -> None:
    """Not ``full``: whole are only those that are to be mended ``first``.

    Of others that break or expose stands what was seen, of the rest a line each; notes, where ``shorts`` has words
    for them, stand together.
    """
    if not entries:
        return
    if full or len(entries) > 1:
        sheet.heading("Gaps", "worst first")
    else:
        sheet.line()
    if common_cause:
        sheet.labelled(2, sheet.marks.arrow, common_cause, "bold", label_width=1)
    shown = entries[:MAX_SHOWN]
    whole = {each.number for each in shown if full or each.number in first}
    if not full and not first and len(shown) == 1:
        whole = {shown[0].number}
    was_short, notes = False, list[str]()
    for position, entry in enumerate(shown):
        title, where = titles[entry.rule], [places[number] for number in entry.places]
        if entry.number in whole:
            if not full and position:
                sheet.line()
            _gap(sheet, entry, title, where, in_brief=not full)
        elif entry.level is Level.NOTE and shorts:
            notes.append(f"{shorts.get(entry.rule) or title} ({entry.number})")
        elif entry.level in _SERIOUS:
            _gap_in_short(sheet, entry, title, where)
        else:
            if not was_short and whole:
                sheet.line()
            _gap_in_brief(sheet, entry, title, where)
            was_short = True
    if notes:
        mark = sheet.marks.level[Level.NOTE]
        head = f"   {mark} {'notes' if len(notes) > 1 else 'note'}: "
        for position, line in enumerate(wrap(escaped("; ".join(notes)), sheet.width - len(head))):
            sheet.line((head if position == 0 else " " * len(head), STYLES[Level.NOTE]), line)
    if len(whole) < len(shown):
        words = "--full shows every gap with its mend, lines for your server and check"
        sheet.labelled(2, sheet.marks.arrow, words, "bold", label_width=len(sheet.marks.arrow))
    if len(entries) > MAX_SHOWN:
        sheet.line()
        words = f"{and_more(len(entries), MAX_SHOWN, 'gaps').strip()}: --write FILE.json holds them all"
        sheet.labelled(2, sheet.marks.dot, words, "bold", label_width=1)


_SERIOUS = frozenset({Level.BREAKS, Level.EXPOSES})


def _gap_in_brief(sheet: Sheet, entry: GapEntry, title: str, places: Sequence[Place]) -> None:
    """One line: what is wrong, then where and by which rule, as far as there is room."""
    level = entry.level
    head = f"{entry.number:>2} {sheet.marks.level[level]} "
    first = escaped(sheet.short(places[0].text))
    more = and_more(len(places), 1)
    room = sheet.width - cell_len(head)
    words = cut(escaped(title), room)
    room -= cell_len(words)
    where = f"  {cut(first, max(room - cell_len(more) - 2, 0))}{more}" if room > _LEAST_WHERE else ""
    room -= cell_len(where)
    rule = f"  {entry.rule}" if room >= len(entry.rule) + 2 else ""
    sheet.line((head, STYLES[level]), words, (where, ""), (rule, "dim"))


_LEAST_WHERE = 24


def _head(sheet: Sheet, entry: GapEntry, title: str) -> None:
    level = entry.level
    head = f"{entry.number:>2} {sheet.marks.level[level]} {level.value}"
    if len(head) + len(title) + len(entry.rule) + 4 <= sheet.width:
        sheet.line((head, STYLES[level]), (f"  {title}", "bold"), (f"  {entry.rule}", "dim"))
        return
    first, *others = wrap(escaped(title), sheet.width - len(head) - 2)
    sheet.line((head, STYLES[level]), (f"  {first}", "bold"))
    for line in others:
        sheet.line(" " * (len(head) + 2), (line, "bold"))
    sheet.labelled(3, "rule", entry.rule)


def _gap_in_short(sheet: Sheet, entry: GapEntry, title: str, places: Sequence[Place]) -> None:
    """What is wrong, where, and what was seen: two or three lines."""
    level = entry.level
    head = f"{entry.number:>2} {sheet.marks.level[level]} {level.value}"
    rule = f"  {entry.rule}" if len(head) + len(title) + len(entry.rule) + 4 <= sheet.width else ""
    sheet.line((head, STYLES[level]), (f"  {cut(escaped(title), sheet.width - len(head) - 2)}", "bold"), (rule, "dim"))
    seen = "; ".join(some(entry.seen))
    unsaid = [sheet.short(place.text) for place in places if place.text not in seen]
    words = sheet.short(f"{listed(unsaid)}: {seen}" if unsaid else seen)
    sheet.labelled(4, "", quoted(words, sheet.width - 5), label_width=0)


def _gap(sheet: Sheet, entry: GapEntry, title: str, places: Sequence[Place], *, in_brief: bool = False) -> None:
    """``in_brief``: what was seen with where, and of its reason the beginning."""
    if in_brief:
        _head(sheet, entry, title)
        seen = "; ".join(some(entry.seen))
        unsaid = [place.text for place in places if place.text not in seen]
        words = f"{listed(unsaid)}: {seen}" if unsaid else seen
        sheet.labelled(3, "seen", f"{words} (expected: {entry.expected})")
        sheet.labelled(3, "why", sentence(_BEGINNING.split(entry.why, maxsplit=1)[0]))
    else:
        sheet.line()
        _head(sheet, entry, title)
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
        if each.choice:
            sheet.labelled(3, "", f"{each.choice}.")
        for position, piece in enumerate(each.pieces):
            lead = f"For {each.server}{there}" if position == 0 else "And"
            _piece(sheet, lead, piece)
    if entry.lines_for:
        sheet.labelled(3, "", f"Lines for {all_of(entry.lines_for)}: pewter explain {entry.rule}")
    sheet.line("   ", (f"{'check':<9} ", "dim"), (entry.check, "green"))


_BEGINNING = re.compile(r"(?<=.{30})(?:[.:;] )")
"""Where the first statement of a reason ends."""


def _piece(sheet: Sheet, lead: str, piece: Piece) -> None:
    if piece.manner is Manner.WORDS:
        sheet.labelled(3, "", f"{lead}{f' {piece.where}' if piece.where else ''}: {piece.lines}")
        return
    sheet.labelled(3, "", f"{lead}, {piece.where}{':' if piece.lines else '.'}")
    if piece.lines:
        sheet.verbatim(15, piece.lines)
    if piece.note:
        sheet.labelled(3, "", piece.note, "dim")
