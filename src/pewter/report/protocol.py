"""The protocol picture: versions in a row, suites by strength, groups, and what visitors' programs get."""

from pewter.evidence import Order, VersionOutcome
from pewter.judge.results import ProtocolDrawn, SuitesDrawn
from pewter.levels import Level
from pewter.phrases import some

from .sheet import STYLES, Marks, Sheet, listed

_SHOWN_SUITES = 8
_ORDERS = {
    Order.SERVER: "the server's order",
    Order.SERVER_IN_PART: "the server's order, as far as learnt",
    Order.CLIENT: "the client decides",
    Order.MIXED: "partly the client decides",
    Order.ONE: "",
    Order.NOT_KNOWN: "order not known",
}


def render_protocols(sheet: Sheet, drawn: tuple[ProtocolDrawn, ...], *, in_brief: bool = False) -> None:
    """Each picture; those without a gap above a note in a line or two, ``in_brief`` the others too."""
    if in_brief:
        _in_brief(sheet, drawn)
        return
    if drawn:
        sheet.heading("Protocol", "as each address speaks it")
    for each in drawn:
        _picture(sheet, each)


def _in_brief(sheet: Sheet, drawn: tuple[ProtocolDrawn, ...]) -> None:
    """The same words once for all places of which they hold."""
    marks = sheet.marks
    alike: dict[tuple[Level | None, str], list[str]] = {}
    for each in drawn:
        level: Level | None = None if each.worst is Level.NOTE else each.worst
        alike.setdefault((level, _in_one_line(each, marks)), []).extend(each.places)
    for (worst, words), places in alike.items():
        mark = marks.holds if worst is None else marks.level[worst]
        sheet.labelled(
            2,
            mark,
            f"protocol at {listed([sheet.short(each) for each in places])}: {words or 'nothing was learnt'}",
            label_width=1,
        )


def _picture(sheet: Sheet, drawn: ProtocolDrawn) -> None:
    marks, worst = sheet.marks, drawn.worst
    mark, style = (marks.holds, "green") if worst is None else (marks.level[worst], STYLES[worst])
    remark = f"{drawn.connections} connections" + (", slowed down" if drawn.slowed_down else "")
    remark += f"; {listed(drawn.spot_checked)} by spot checks" if drawn.spot_checked else ""
    places = listed(drawn.places)
    if worst is None or worst is Level.NOTE:
        sheet.flow("  ", (places, ""), remark, (mark, style))
        sheet.labelled(3, "", _in_one_line(drawn, marks), label_width=0)
        return
    sheet.flow("  ", (places, "bold"), remark, (mark, style))
    sheet.labelled(4, "versions", _versions(drawn, marks))
    for suites in drawn.suites:
        _suites(sheet, suites)
    for position, seen in enumerate(drawn.groups):
        order = _ORDERS[seen.order]
        words = f"{seen.version}: {', '.join(seen.groups) or 'none'}" + (f" ({order})" if order else "")
        sheet.labelled(4, "groups" if position == 0 else "", words)
    if drawn.finite_field:
        sheet.labelled(4, "", f"finite field of {drawn.finite_field}")
    sheet.labelled(4, "options", ", ".join(drawn.options))
    for position, client in enumerate(drawn.clients):
        sheet.labelled(4, "clients" if position == 0 else "", client)


def _in_one_line(drawn: ProtocolDrawn, marks: Marks) -> str:
    accepted = [version for version, outcome in drawn.versions if outcome is VersionOutcome.ACCEPTED]
    count = len({name for suites in drawn.suites for _, names in suites.by_strength for name in names})
    groups = [group for seen in drawn.groups[:1] for group in seen.groups[:3]]
    parts = [", ".join(accepted), _count(count) if count else "", ", ".join(groups), "h2" if drawn.has_h2 else ""]
    return f" {marks.dot} ".join(part for part in parts if part)


def _versions(drawn: ProtocolDrawn, marks: Marks) -> str:
    words = {VersionOutcome.ACCEPTED: marks.holds, VersionOutcome.REFUSED: "no", VersionOutcome.UNKNOWN: marks.unknown}
    return "   ".join(f"{words[outcome]} {version}" for version, outcome in drawn.versions)


def _suites(sheet: Sheet, suites: SuitesDrawn) -> None:
    parts = (_count(suites.count), _ORDERS[suites.order], suites.unfinished)
    sheet.labelled(4, suites.version, ", ".join(part for part in parts if part))
    for strength, names in suites.by_strength:
        style = STYLES[Level.EXPOSES] if strength == "weak" else ""
        sheet.labelled(6, "", f"{strength}: {some(names, _SHOWN_SUITES)}", style, label_width=7)


def _count(suites: int) -> str:
    return "1 suite" if suites == 1 else f"{suites} suites"
