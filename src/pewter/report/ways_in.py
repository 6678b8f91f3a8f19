"""The ways in: each URL that a visitor may type, its hops, and what is met there."""

from collections.abc import Sequence

from pewter.escape import escaped
from pewter.evidence import WayIn
from pewter.judge.results import LegState, NameFacts, Prediction, Results, Visit
from pewter.levels import Level
from pewter.web.urls import read_url

from .sheet import STYLES, Marks, Sheet, listed, quoted, some, wrap

_LEG = 14


def render_ways_in(sheet: Sheet, results: Results, *, only_closed: bool = False) -> None:
    """Each name with its ways in; ``only_closed``: only what does not open well."""
    if not results.visits:
        return
    how = "given" if results.canonical_is_given else "worked out"
    of = f"; names are of {sheet.domain}" if sheet.domain else ""
    of = f"{of}; as a private window sees it" if not only_closed else of
    sheet.heading("Seen" if only_closed else "Ways in", f"canonical: {results.canonical} ({how}){of}")
    facts = {
        each.name: f"{listed(each.addresses)}{' (by a route)' if each.is_routed else ''}, HSTS {_policy(results, each)}"
        for each in results.names
    }
    by_name: dict[str, list[Visit]] = {}
    shown = [visit for visit in results.visits if visit.reason is not WayIn.ABSENT]
    for visit in shown:
        by_name.setdefault(read_url(visit.start).host, []).append(visit)
    folded = {name: fold_addresses(visits) for name, visits in by_name.items()}
    if only_closed:
        _closed_ways(sheet, folded, facts)
        _legs(sheet, results)
        return
    rows_shown = [row for rows in folded.values() if not _all_open(rows) for row in rows]
    target_width = min(max((len(_target(*row)) for row in rows_shown), default=0), 34)
    hop_width = max((len(_hops(visit)) for visit, _ in rows_shown), default=0)
    for name, rows in folded.items():
        _ways_in_of_name(sheet, name, rows, facts.get(name, ""), target_width, hop_width)
    _legs(sheet, results)
    if any(visit.reason is WayIn.FOUND for visit, _ in rows_shown):
        words = "* found on the home page: its first link that looks like a login, an account, an admin page, a search,"
        sheet.labelled(4, "", f"{words} and its first deep page", "dim", label_width=0)


def _legs(sheet: Sheet, results: Results) -> None:
    """The way over an edge service, leg by leg."""
    arrow = sheet.marks.arrow
    for legs in results.legs:
        is_good = legs.to_edge is legs.to_origin is LegState.VALID
        mark, style = (sheet.marks.holds, "green") if is_good else _mark_of_leg(sheet.marks, legs.to_origin)
        edge = f"{listed(legs.edge)}: " if legs.edge else ""
        sheet.flow("  ", (f"{sheet.short(legs.name)} over an edge service", ""), "", (mark, style))
        sheet.labelled(6, f"visitor {arrow} edge", f"{edge}{legs.to_edge.value}", label_width=_LEG)
        again = "; it asks for https again, so that visitors go round in circles" if legs.asks_again else ""
        words = f"{legs.origin}: {legs.to_origin.value}{f' ({legs.why})' if legs.why else ''}{again}"
        sheet.labelled(6, f"edge {arrow} origin", words, "" if is_good else style, label_width=_LEG)


def _mark_of_leg(marks: Marks, state: LegState) -> tuple[str, str]:
    if state in {LegState.UNKNOWN, LegState.CLOSED}:
        return marks.unknown, "yellow"
    level = Level.NOTE if state is LegState.VALID else Level.EXPOSES
    return marks.level[level], STYLES[level]


def _policy(results: Results, name: NameFacts) -> str:
    """Of the home page first; other answers with another field are counted."""
    if not name.policies:
        return f"not seen: {name.why_no_policy}"
    first, *others = name.policies
    if results.supposed:
        return f"{first} (supposed)"
    return first + (f"; on other answers: {' / '.join(some(others))}" if others else "")


def _all_open(rows: list[tuple[Visit, str]]) -> bool:
    """Whether nothing is to be said but where they land."""
    landings = {read_url(visit.lands).origin for visit, _ in rows}
    return len(landings) == 1 and all(visit.meets.is_good and not visit.detail for visit, _ in rows)


def _hops(visit: Visit) -> str:
    return " ".join(map(str, visit.statuses)) or "-"


def fold_addresses(visits: Sequence[Visit]) -> list[tuple[Visit, str]]:
    """Visits with the addresses for which they stand; those of all addresses that go alike are one."""
    by_start: dict[str, dict[object, list[Visit]]] = {}
    for visit in visits:
        course = (visit.statuses, visit.lands, visit.meets, visit.detail)
        by_start.setdefault(visit.start, {}).setdefault(course, []).append(visit)
    folded = []
    for courses in by_start.values():
        for alike in courses.values():
            addresses = ", ".join(visit.by_address or "" for visit in alike) if len(courses) > 1 else ""
            folded.append((alike[0], addresses))
    return folded


def _ways_in_of_name(
    sheet: Sheet, name: str, rows: list[tuple[Visit, str]], facts: str, target_width: int, hop_width: int
) -> None:
    marks = sheet.marks
    mark, style = min((_mark_of_visit(marks, visit) for visit, _ in rows), key=_severity)
    if _all_open(rows):
        landing = read_url(rows[0][0].lands)
        there = "" if landing.host == name else f" {marks.arrow} {landing.origin}"
        words = f"{len(rows)} ways in, all open{there}"
        sheet.flow("  ", (name, ""), f"{words} {marks.dot} {facts}" if facts else words, (mark, style))
        return
    sheet.flow("  ", (name, "bold"), facts, (mark, style))
    for visit, addresses in rows:
        mark, style = _mark_of_visit(marks, visit)
        scheme = read_url(visit.start).scheme
        head = f"      {scheme:<5} {_target(visit, addresses):<{target_width}}  {_hops(visit):<{hop_width}}  "
        words = f"{visit.meets.value}{_remark(name, visit, marks)}"
        room = max(sheet.width - len(head), 16)
        first, *more = wrap(escaped(words), room)
        of_words = "" if visit.meets.is_good else style
        sheet.line("    ", (mark, style), head[5:], (first, of_words))
        for line in more:
            sheet.line(" " * len(head), (line, of_words))


def _closed_ways(sheet: Sheet, folded: dict[str, list[tuple[Visit, str]]], facts: dict[str, str]) -> None:
    """Of each name what does not open well, the same said once for all its ways; names whose ways all open together."""
    marks, open_names = sheet.marks, dict[str, list[str]]()
    for name, rows in folded.items():
        bad = [row for row in rows if _mark_of_visit(marks, row[0])[1] != "green"]
        if not bad:
            landings = dict.fromkeys(read_url(visit.lands).origin for visit, _ in rows)
            there = "" if list(landings) == [f"https://{name}"] else f" {marks.arrow} {listed(list(landings))}"
            open_names.setdefault(there, []).append(name)
            continue
        alike: dict[tuple[tuple[str, str], str], dict[str, list[str]]] = {}
        for visit, addresses in bad:
            said = (_mark_of_visit(marks, visit), f"{visit.meets.value}{_remark(name, visit, marks)}")
            targets = alike.setdefault(said, {})
            targets.setdefault(_target(visit, addresses), []).append(read_url(visit.start).scheme)
        for (mark_and_style, words), targets in alike.items():
            ways = ", ".join(f"{' and '.join(dict.fromkeys(schemes))} {target}" for target, schemes in targets.items())
            mark, style = mark_and_style
            told = quoted(f"{sheet.short(name)} {ways}: {words}", sheet.width - 4)
            sheet.labelled(2, mark, told, style, label_width=1)
    for there, names in open_names.items():
        policy = f"; {facts[names[0]]}" if len(folded) == 1 and names[0] in facts else ""
        where = listed([sheet.short(each) for each in names])
        sheet.labelled(2, marks.holds, f"ways in: all open at {where}{there}{policy}", label_width=1)


def _severity(mark_and_style: tuple[str, str]) -> int:
    """Worst first, by the style that belongs to the mark."""
    order = [*(STYLES[level] for level in Level), "green"]
    return order.index(mark_and_style[1])


def _target(visit: Visit, addresses: str) -> str:
    found = " *" if visit.reason is WayIn.FOUND else ""
    return read_url(visit.start).target + found + (f" at {addresses}" if addresses else "")


def _remark(name: str, visit: Visit, marks: Marks) -> str:
    if visit.meets is Prediction.OPENS:
        landing = read_url(visit.lands)
        there = "" if landing.host == name else f" {marks.arrow} {visit.lands}"
        if landing.host == name and landing.target != read_url(visit.start).target:
            there = f" {marks.arrow} {landing.target}"
        return f"{there} ({visit.detail})" if visit.detail else there
    if visit.meets is Prediction.IN_SOME:
        landing = read_url(visit.lands)
        return f": {visit.detail}" + ("" if landing.host == name else f" {marks.arrow} {visit.lands}")
    if visit.meets in {Prediction.CIRCLES, Prediction.UNENCRYPTED}:
        return ""
    if visit.meets is Prediction.PARTS_BLOCKED and read_url(visit.lands).host != name:
        return f" {marks.arrow} {visit.lands}"
    host = "" if read_url(visit.lands).host == name else f" at {visit.lands}"
    return f"{host} ({visit.detail})" if visit.detail else host


def _mark_of_visit(marks: Marks, visit: Visit) -> tuple[str, str]:
    match visit.meets:
        case Prediction.OPENS if visit.detail:
            return marks.level[Level.WEAKENS], STYLES[Level.WEAKENS]
        case Prediction.OPENS:
            return marks.holds, "green"
        case Prediction.ERROR_PAGE if visit.is_login_wall:
            return marks.level[Level.NOTE], STYLES[Level.NOTE]
        case Prediction.UNKNOWN:
            return marks.unknown, "yellow"
        case Prediction.UNENCRYPTED:
            return marks.level[Level.EXPOSES], STYLES[Level.EXPOSES]
        case _:
            return marks.level[Level.BREAKS], STYLES[Level.BREAKS]
