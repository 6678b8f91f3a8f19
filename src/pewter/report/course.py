"""The course of a site over several looks: for a terminal, as a table, as a page, and as a picture."""

import datetime
from collections.abc import Sequence
from typing import Any

import msgspec
from rich.text import Text

from pewter.errors import UsageError
from pewter.escape import escaped, json_escaped
from pewter.judge.course import Course, LookTaken, Spell
from pewter.levels import Level
from pewter.phrases import and_more, counted
from pewter.web.sites import common_domain

from .charts import LEVEL_COLOURS, picture
from .html import MARKS, template
from .rows import table
from .sheet import MAX_WIDTH, MIN_WIDTH, STYLES, UNICODE, Marks, Sheet, quoted

FORMAT = "pewter-course/1"
MAX_SPELLS, MAX_DRAWN, MAX_FACTS, MAX_PLACES = 300, 40, 3, 3


def render_course(course: Course, width: int, marks: Marks = UNICODE) -> Text:
    """What is open and since when, what was, and the looks."""
    sheet = Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks)
    sheet.domain = common_domain(sorted({each.where.host for each in course.spells if each.where.host}))
    last = course.last
    still = course.still
    mark, style = (marks.level[still[0].level], STYLES[still[0].level]) if still else (marks.holds, "bold green")
    verdict = f"{course.site}: {len(still)} open, {len(course.over)} ended"
    sheet.flow("", (verdict, style), _span(course), (mark, style))
    for title, spells in (("Open", still), ("Ended", course.over)):
        if not spells:
            continue
        sheet.heading(title, str(len(spells)))
        together: dict[str, list[Spell]] = {}
        for each in spells:
            together.setdefault(_when(each, last), []).append(each)
        for when, found in together.items():
            sheet.labelled(2, "", when, "bold", label_width=0)
            _alike(sheet, found)
    sheet.heading("Looks", "gaps by level, what opened and ended, and what changed with it")
    for look in course.looks:
        counts = " ".join(f"{marks.level[Level(name)]}{count}" for name, count in look.gaps.items() if count)
        counts = counts or ("no gap" if look.was_reviewed else marks.unknown)
        sheet.flow("  ", (f"{look.begun:%Y-%m-%d %H:%M}  {counts}", "bold"), _changes_of(look), ("", ""))
        for fact in look.facts[:MAX_FACTS]:
            words = quoted(f"{fact.subject}: {fact.before} {marks.arrow} {fact.after}", 2 * sheet.width)
            sheet.labelled(4, marks.dot, words, label_width=1)
        if len(look.facts) > MAX_FACTS:
            sheet.labelled(4, marks.dot, and_more(len(look.facts), MAX_FACTS).strip(), label_width=1)
    return sheet.text


def _alike(sheet: Sheet, spells: Sequence[Spell]) -> None:
    """Gaps of the same time: a rule and level once, with its places."""
    marks = sheet.marks
    of_rule: dict[tuple[str, Level], list[Spell]] = {}
    for each in spells:
        of_rule.setdefault((each.rule, each.level), []).append(each)
    for found in of_rule.values():
        each = found[0]
        mark = (marks.level[each.level], STYLES[each.level]) if each.is_open else (marks.holds, "green")
        if each.end is not None and not each.end.is_over:
            mark = (marks.unknown, "yellow")
        places = list(dict.fromkeys(sheet.short(each.where.text) for each in found))
        shown = ", ".join(places[:MAX_PLACES])
        if len(places) > MAX_PLACES:
            shown += f" {and_more(len(places), MAX_PLACES).strip()}"
        sheet.flow("    ", (each.title, ""), shown, mark)


def _when(each: Spell, now: datetime.datetime) -> str:
    """``open 3 to 10 days: seen from 2026-03-01 (not on 2026-02-22) to 2026-03-04; closed on 2026-03-05``."""
    least, most = each.days(now)
    if most is None:
        long = f"for {counted(least, 'day')} or more" if least else "since before the first look"
    elif most <= 1:
        long = "for a day at most"
    else:
        long = f"for {counted(most, 'day')}" if most == least else f"for {least} to {counted(most, 'day')}"
    parts = [f"{'open' if each.is_open else 'was open'} {long}"]
    since = f"seen from {each.first_seen:%Y-%m-%d}"
    since += f" (not on {each.not_before:%Y-%m-%d})" if each.not_before is not None else " (the first look)"
    parts.append(f"{since} to {each.last_seen:%Y-%m-%d}" if each.last_seen != each.first_seen else since)
    if each.unseen:
        parts.append(f"not to be seen at {counted(len(each.unseen), 'look')} since")
    if each.ended is not None and each.end is not None:
        parts.append(f"{each.end.value} on {each.ended:%Y-%m-%d}")
    return "; ".join(parts)


def _changes_of(look: LookTaken) -> str:
    parts = [f"{look.opened} opened" if look.opened else "", f"{look.ended} ended" if look.ended else ""]
    parts += [f"{look.unseen} could not be seen" if look.unseen else "", look.remark]
    return ", ".join(filter(None, parts))


COLUMNS = (
    "rule", "level", "place", "about", "not_before", "first_seen", "last_seen", "ended", "end", "days_at_least",
    "days_at_most", "unseen",
)  # fmt: skip


def render_csv(course: Course) -> bytes:
    """One row for each time that a gap was open."""
    return table(COLUMNS, (_row(each, course.last) for each in course.spells))


def _row(each: Spell, now: datetime.datetime) -> list[str]:
    least, most = each.days(now)
    return [
        each.rule, each.level.value, each.where.text, each.about, _moment(each.not_before), _moment(each.first_seen),
        _moment(each.last_seen), _moment(each.ended), each.end.value if each.end is not None else "open",
        str(least), "" if most is None else str(most), str(len(each.unseen)),
    ]  # fmt: skip


def _moment(at: datetime.datetime | None) -> str:
    return "" if at is None else f"{at:%Y-%m-%dT%H:%M:%SZ}"


def render_json(course: Course) -> bytes:
    """All of it, in UTF-8 on one line with its end."""
    content = {"format": FORMAT, **msgspec.structs.asdict(course)}
    return json_escaped(msgspec.json.encode(content)) + b"\n"


MOST_FACTS_OF_A_PAGE = 8


def render_html(course: Course) -> bytes:
    """A page with the picture; without Matplotlib the tables stand alone."""
    still, over = course.still, course.over
    try:
        chart = render_svg(course).decode("utf-8") if course.spells else ""
    except UsageError:
        chart = ""
    groups = (("Open", still), ("Ended", over))
    text: str = template("course.html.j2").render(
        site=course.site,
        verdict=f"{len(still)} open, {len(over)} ended",
        verdict_class=still[0].level.value if still else "holds",
        span=_span(course),
        chart=chart,
        groups=[(title, [_cells(each, course.last) for each in found]) for title, found in groups if found],
        looks=[(each, _counts_of(each), _changes_of(each)) for each in course.looks],
        marks=MARKS,
        most=MAX_SPELLS,
        most_facts=MOST_FACTS_OF_A_PAGE,
    )
    return text.encode("utf-8", "replace")


def _cells(each: Spell, now: datetime.datetime) -> tuple[Spell, str, str]:
    if each.is_open:
        return each, each.level.value, _when(each, now)
    return each, "holds" if each.end is not None and each.end.is_over else "unknown", _when(each, now)


def _counts_of(look: LookTaken) -> str:
    counts = ", ".join(f"{count} {name}" for name, count in look.gaps.items() if count)
    return counts or ("no gap" if look.was_reviewed else "nothing seen")


def _span(course: Course) -> str:
    first = course.looks[0].begun
    return f"{counted(len(course.looks), 'look')} from {first:%Y-%m-%d} to {course.last:%Y-%m-%d}"


def render_svg(course: Course) -> bytes:
    return _drawn(course, ".svg")


def render_png(course: Course) -> bytes:
    return _drawn(course, ".png")


def _drawn(course: Course, suffix: str) -> bytes:
    """A bar for each time that a gap was open: pale where it may have been open, with a mark at each look."""
    rows = course.spells[:MAX_DRAWN]
    height = 1.4 + 0.27 * max(len(rows), 1)
    return picture(lambda figure: _draw(figure, course, rows), suffix, height, f"Course of {escaped(course.site)}")


def _draw(figure: Any, course: Course, rows: tuple[Spell, ...]) -> None:
    axes = figure.subplots()
    first, last = course.looks[0].begun, course.last
    room = max((last - first) * 0.04, datetime.timedelta(hours=1))
    for number, each in enumerate(rows):
        colour = LEVEL_COLOURS[each.level.value]
        begun = each.not_before or first - room
        until = each.ended or last + room
        axes.barh(number, until - begun, left=begun, height=0.5, color=colour, alpha=0.25, linewidth=0)
        sure = (each.last_seen if each.ended else until) - each.first_seen or room / 6
        axes.barh(number, sure, left=each.first_seen, height=0.5, color=colour, linewidth=0)
        for at in each.unseen:
            axes.text(at, number, "?", ha="center", va="center")
    for look in course.looks:
        axes.axvline(look.begun, color="#5a6875", linewidth=0.5, zorder=0)
    axes.set_yticks(range(len(rows)), [_short(f"{each.title}: {each.where.host or each.where.text}") for each in rows])
    axes.set_ylim(len(rows) - 0.4 if rows else 0.6, -0.6)
    axes.set_xlim(first - room, last + room)
    left = len(course.spells) - len(rows)
    words = f"{len(course.looks)} looks, a line each; pale: it may have been open"
    axes.set_xlabel(words + (f"; {left} more are not drawn" if left else ""), color="#5a6875")
    axes.tick_params(axis="x", labelrotation=0)
    figure.autofmt_xdate(rotation=20)


def _short(text: str) -> str:
    text = escaped(text)
    return text if len(text) <= 62 else f"{text[:60]}..."
