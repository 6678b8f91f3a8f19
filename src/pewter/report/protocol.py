"""The protocol picture: versions in a row, suites by strength, groups, and what visitors' programs get."""

from pewter.evidence import Endpoint, Protocol, Seen, SuitesSeen, protocols
from pewter.judge.case import Case
from pewter.judge.clients import Negotiated, negotiations
from pewter.judge.outcomes import Gap, Judged, Level
from pewter.judge.protocol_suites import picture_of, weakness
from pewter.tls import Version, suite_name, version_name
from pewter.tls.codepoints import group_name
from pewter.tls.primes import well_known_prime
from pewter.tls.suites import CipherSuite, table

from .sheet import STYLES, Marks, Sheet, listed

_STRENGTHS = ("AEAD", "CBC", "no forward secrecy", "weak")
_SHOWN_SUITES = 8


def render_protocols(sheet: Sheet, case: Case, outcomes: tuple[Judged, ...]) -> None:
    """One picture for endpoints that speak the same; those without a gap above a note in one line."""
    groups: dict[object, list[Endpoint]] = {}
    for endpoint in case.endpoints:
        if endpoint.protocol is not None and endpoint.protocol.versions:
            groups.setdefault(picture_of(endpoint.protocol), []).append(endpoint)
    if not groups:
        return
    sheet.heading("Protocol", "as each address speaks it")
    for endpoints in groups.values():
        places = {case.place(endpoint) for endpoint in endpoints}
        _picture(sheet, case, endpoints, _worst(outcomes, places))


def _worst(outcomes: tuple[Judged, ...], places: set[str]) -> Level | None:
    levels = [
        judged.level
        for judged in outcomes
        if judged.rule.startswith("protocol/") and isinstance(judged.outcome, Gap) and judged.outcome.where in places
    ]
    return min(levels, key=lambda level: level.rank) if levels else None


def _places(case: Case, endpoints: list[Endpoint]) -> list[str]:
    """A name alone where all its addresses speak the same."""
    found: dict[str, None] = {}
    for endpoint in endpoints:
        here = {each.address for each in endpoints if each.name == endpoint.name}
        everywhere = {each.address for each in case.endpoints_of(endpoint.name)}
        found[endpoint.name if here == everywhere else case.place(endpoint)] = None
    return list(found)


def _picture(sheet: Sheet, case: Case, endpoints: list[Endpoint], worst: Level | None) -> None:
    endpoint = endpoints[0]
    protocol = endpoint.protocol
    assert protocol is not None
    marks = sheet.marks
    mark, style = (marks.holds, "green") if worst is None else (marks.level[worst], STYLES[worst])
    count = sum(each.protocol.connections for each in endpoints if each.protocol is not None)
    slow = ", slowed down" if protocol.slowed_down else ""
    places = listed(_places(case, endpoints))
    if worst is None or worst is Level.NOTE:
        sheet.flow("  ", (places, ""), f"{count} connections{slow}", (mark, style))
        sheet.labelled(3, "", _in_one_line(protocol, marks), label_width=0)
        return
    sheet.flow("  ", (places, "bold"), f"{count} connections{slow}", (mark, style))
    sheet.labelled(4, "versions", _versions(protocol, marks))
    for seen in protocol.suites:
        _suites(sheet, seen)
    _groups(sheet, protocol)
    sheet.labelled(4, "options", _options(protocol))
    for position, negotiated in enumerate(negotiations(endpoint)):
        sheet.labelled(4, "clients" if position == 0 else "", _negotiated(negotiated))


def _in_one_line(protocol: Protocol, marks: Marks) -> str:
    accepted = [version_name(seen.version) for seen in protocol.versions if seen.outcome == "accepted"]
    suites = {code for seen in protocol.suites for code in seen.suites}
    groups = [group for seen in protocol.groups[:1] for group in seen.groups[:3]]
    h2 = protocol.feature(protocols.H2)
    parts = [", ".join(accepted), _count(len(suites)), ", ".join(map(group_name, groups))]
    parts += ["h2"] if h2 is not None and h2.seen == Seen(True) else []
    return f" {marks.dot} ".join(part for part in parts if part)


def _versions(protocol: Protocol, marks: Marks) -> str:
    words = {"accepted": marks.holds, "refused": "no", "unknown": marks.unknown}
    shown = [f"{words[seen.outcome]} {version_name(seen.version)}" for seen in protocol.versions]
    return "   ".join(shown)


def _strength(suite: CipherSuite) -> str:
    if weakness(suite):
        return "weak"
    if not suite.forward_secrecy:
        return "no forward secrecy"
    return "AEAD" if suite.is_aead else "CBC"


_ORDERS = {
    "server": "the server's order",
    "server, in part": "the server's order, as far as learnt",
    "client": "the client decides",
    "mixed": "partly the client decides",
    "one": "",
    "not known": "order not known",
}


def _suites(sheet: Sheet, seen: SuitesSeen) -> None:
    order = _ORDERS.get(seen.order, seen.order)
    remark = ", ".join(part for part in (_count(len(seen.suites)), order, seen.unfinished) if part)
    sheet.labelled(4, version_name(seen.version), remark)
    for strength in _STRENGTHS:
        names = [
            suite_name(code).removeprefix("TLS_")
            for code in seen.suites
            if code in table() and _strength(table()[code]) == strength
        ]
        if names:
            more = f" and {len(names) - _SHOWN_SUITES} more" if len(names) > _SHOWN_SUITES else ""
            style = STYLES[Level.EXPOSES] if strength == "weak" else ""
            words = f"{strength}: {', '.join(names[:_SHOWN_SUITES])}{more}"
            sheet.labelled(6, "", words, style, label_width=7)


def _count(suites: int) -> str:
    return "1 suite" if suites == 1 else f"{suites} suites"


def _groups(sheet: Sheet, protocol: Protocol) -> None:
    for position, seen in enumerate(protocol.groups):
        names = ", ".join(map(group_name, seen.groups)) or "none"
        order = _ORDERS.get(seen.order, "")
        words = f"{version_name(seen.version)}: {names}" + (f" ({order})" if order else "")
        sheet.labelled(4, "groups" if position == 0 else "", words)
    match protocol.finite_field:
        case Seen(value=field) if field is not None:
            known = well_known_prime(field.prime_sha256) or "a prime of its own"
            sheet.labelled(4, "", f"finite field of {field.bits} bits, {known}")


def _options(protocol: Protocol) -> str:
    shown = []
    for feature in protocol.features:
        if isinstance(feature.seen, Seen):
            shown.append(feature.name if feature.seen.value else f"no {feature.name}")
        else:
            shown.append(f"{feature.name}: not known")
    return ", ".join(shown)


def _negotiated(negotiated: Negotiated) -> str:
    if negotiated.version is None:
        return f"{negotiated.client}: {'nothing in common' if negotiated.is_known else 'not known'}"
    if not negotiated.is_known or negotiated.suite is None:
        return f"{negotiated.client}: {version_name(negotiated.version)}, the rest is not known"
    name = suite_name(negotiated.suite).removeprefix("TLS_")
    group = f", {group_name(negotiated.group)}" if negotiated.group is not None else ""
    exchange = "" if group or negotiated.version == Version.TLS_1_3 else ", static key exchange"
    return f"{negotiated.client}: {version_name(negotiated.version)}, {name}{group}{exchange}"
