"""The site's zones: servers, what they agree on, and where names lead."""

from collections.abc import Sequence

from pewter.judge.results import AliasDrawn, ZoneDrawn
from pewter.levels import Level
from pewter.phrases import counted

from .sheet import STYLES, Sheet, some

_LABEL = 9


_STRESSED = ("is behind", "differs")


def render_names(sheet: Sheet, zones: Sequence[ZoneDrawn], *, in_brief: bool = False) -> None:
    """A zone without fault takes one line; ``in_brief`` of others what is not sound."""
    if not zones:
        return
    marks = sheet.marks
    if in_brief:
        for zone in zones:
            _in_brief(sheet, zone)
        return
    sheet.heading("Names", "the zones of the site, as the resolver and each name server tell them")
    for zone in zones:
        mark, style = (marks.holds, "green") if zone.is_sound else (marks.level[Level.WEAKENS], STYLES[Level.WEAKENS])
        if zone.unknown:
            mark, style = marks.unknown, "yellow"
        if zone.is_sound and not zone.aliases and not zone.https:
            facts = (*zone.servers, f"CAA {zone.caa}", f"DNSSEC {zone.signatures}", f"kept {zone.kept}")
            sheet.flow("  ", (zone.apex, ""), f" {marks.dot} ".join(facts), (mark, style))
            continue
        count = counted(len(zone.names), "name")
        sheet.flow("  ", (zone.apex, "bold"), count, (mark, style))
        if zone.unknown:
            sheet.labelled(4, "servers", zone.unknown, "yellow", label_width=_LABEL)
        else:
            for position, line in enumerate(zone.servers):
                state = next((words for words in _STRESSED if words in line), "")
                label = "servers" if position == 0 else ""
                style = STYLES[Level.WEAKENS]
                sheet.labelled(4, label, line, stressed=state, stress_style=style, label_width=_LABEL)
            sheet.labelled(4, "above", f"the zone above {zone.above}", label_width=_LABEL)
        if zone.kept:
            sheet.labelled(4, "kept", zone.kept, label_width=_LABEL)
        sheet.labelled(4, "CAA", zone.caa, label_width=_LABEL)
        if zone.https:
            sheet.labelled(4, "HTTPS", some(zone.https), label_width=_LABEL)
        sheet.labelled(4, "DNSSEC", zone.signatures, label_width=_LABEL)
        for alias in zone.aliases:
            _alias(sheet, alias)


def _in_brief(sheet: Sheet, zone: ZoneDrawn) -> None:
    marks = sheet.marks
    mark = marks.unknown if zone.unknown else marks.holds if zone.is_sound else marks.level[Level.WEAKENS]
    lines = [zone.unknown] if zone.unknown else list(zone.servers)
    if zone.is_sound or zone.unknown:
        words = [*lines, f"CAA {zone.caa}", f"DNSSEC {zone.signatures}"]
    else:
        words = [line for line in lines[1:] or lines if line]
        words += [f"{alias.links[0]} leads nowhere: {alias.dead_end}" for alias in zone.aliases if alias.dead_end]
        words += [] if zone.above.startswith("names the same") else [f"the zone above {zone.above}"]
    sheet.labelled(2, mark, f"zone {zone.apex}: {'; '.join(map(sheet.short, some(words)))}", label_width=1)


def _alias(sheet: Sheet, alias: AliasDrawn) -> None:
    path = f" {sheet.marks.arrow} ".join(some(alias.links))
    broken = f"[{alias.dead_end}]" if alias.dead_end else ""
    words = f"{path} {broken}".strip()
    sheet.labelled(4, "alias", words, stressed=broken, stress_style=STYLES[Level.BREAKS], label_width=_LABEL)
