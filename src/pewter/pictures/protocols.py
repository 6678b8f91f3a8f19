"""What each endpoint speaks, as a report draws it: one picture for those that speak the same."""

from collections.abc import Iterable

import msgspec

from pewter.evidence import Endpoint, Order, Protocol, Seen, SuitesSeen, VersionOutcome, protocols
from pewter.facts.case import Case
from pewter.facts.clients import Negotiated, negotiations
from pewter.levels import Level
from pewter.places import Place
from pewter.tls import Version, suite_name, version_name
from pewter.tls.codepoints import group_name
from pewter.tls.primes import well_known_prime
from pewter.tls.suites import STRENGTHS, strength_of, table


class SuitesDrawn(msgspec.Struct, frozen=True, omit_defaults=True):
    """The suites of one version."""

    version: str
    count: int
    order: Order
    by_strength: tuple[tuple[str, tuple[str, ...]], ...]
    """``AEAD``, ``CBC``, ``no forward secrecy`` and ``weak``, each with its suites without ``TLS_``."""

    unfinished: str = ""


class GroupsDrawn(msgspec.Struct, frozen=True):
    """The groups of one version."""

    version: str
    groups: tuple[str, ...]
    order: Order


class ProtocolDrawn(msgspec.Struct, frozen=True, omit_defaults=True):
    """What some endpoints speak."""

    places: tuple[str, ...]
    """A name alone where all its addresses speak the same."""

    spot_checked: tuple[str, ...]
    """Names among them that were looked at by spot checks."""

    worst: Level | None
    """Of the gaps of the area at these places."""

    connections: int
    versions: tuple[tuple[str, VersionOutcome], ...]
    suites: tuple[SuitesDrawn, ...]
    groups: tuple[GroupsDrawn, ...]
    finite_field: str = ""
    options: tuple[str, ...] = ()
    clients: tuple[str, ...] = ()
    """What kinds of visitors' programs get."""

    has_h2: bool = False
    slowed_down: bool = False


def draw_protocols(case: Case, levels: Iterable[tuple[Place, Level]]) -> tuple[ProtocolDrawn, ...]:
    """One picture for endpoints that speak the same.  ``levels``: of the gaps of the area, by place."""
    groups: dict[object, list[Endpoint]] = {}
    for endpoint in case.endpoints:
        if endpoint.protocol is not None and endpoint.protocol.versions:
            groups.setdefault(picture_of(endpoint.protocol), []).append(endpoint)
    of_place = tuple(levels)
    return tuple(_draw(case, endpoints, of_place) for endpoints in groups.values())


def picture_of(protocol: Protocol) -> tuple[object, ...]:
    """What makes two endpoints speak the same: equal for those that a report may fold into one."""
    return (
        tuple((seen.version, seen.outcome) for seen in protocol.versions),
        tuple((seen.version, _in_order(seen), seen.order) for seen in protocol.suites),
        tuple((seen.version, frozenset(seen.groups)) for seen in protocol.groups),
        tuple((each.name, each.seen.value if isinstance(each.seen, Seen) else None) for each in protocol.features),
    )


def _in_order(seen: SuitesSeen) -> object:
    """The order counts only where the server has one."""
    return seen.suites if seen.order is Order.SERVER else frozenset(seen.suites)


def _draw(case: Case, endpoints: list[Endpoint], levels: tuple[tuple[Place, Level], ...]) -> ProtocolDrawn:
    endpoint = endpoints[0]
    protocol = endpoint.protocol
    assert protocol is not None
    here = {case.place(each) for each in endpoints}
    h2 = protocol.feature(protocols.H2)
    return ProtocolDrawn(
        places=_places(case, endpoints),
        spot_checked=tuple(dict.fromkeys(each.name for each in endpoints if case.is_spot_checked(each))),
        worst=min((level for place, level in levels if place in here), key=lambda each: each.rank, default=None),
        connections=sum(
            each.protocol.connections
            for each in endpoints
            if each.protocol is not None and not case.is_spot_checked(each)
        ),
        versions=tuple((version_name(seen.version), seen.outcome) for seen in protocol.versions),
        suites=tuple(map(_suites, protocol.suites)),
        groups=tuple(
            GroupsDrawn(version_name(seen.version), tuple(map(group_name, seen.groups)), seen.order)
            for seen in protocol.groups
        ),
        finite_field=_finite_field(protocol),
        options=tuple(_options(protocol)),
        clients=tuple(map(_in_words, negotiations(endpoint))),
        has_h2=h2 is not None and h2.seen == Seen(True),
        slowed_down=protocol.slowed_down,
    )


def _places(case: Case, endpoints: list[Endpoint]) -> tuple[str, ...]:
    found: dict[str, None] = {}
    for endpoint in endpoints:
        here = {each.address for each in endpoints if each.name == endpoint.name}
        everywhere = {each.address for each in case.endpoints_of(endpoint.name)}
        found[endpoint.name if here == everywhere else case.place(endpoint).text] = None
    return tuple(found)


def _suites(seen: SuitesSeen) -> SuitesDrawn:
    by_strength: dict[str, list[str]] = {strength: [] for strength in STRENGTHS}
    for code in seen.suites:
        if code in table():
            by_strength[strength_of(table()[code])].append(suite_name(code).removeprefix("TLS_"))
    drawn = tuple((strength, tuple(names)) for strength, names in by_strength.items() if names)
    return SuitesDrawn(version_name(seen.version), len(seen.suites), seen.order, drawn, seen.unfinished)


def _finite_field(protocol: Protocol) -> str:
    match protocol.finite_field:
        case Seen(value=field) if field is not None:
            return f"{field.bits} bits, {well_known_prime(field.prime_sha256) or 'a prime of its own'}"
    return ""


def _options(protocol: Protocol) -> Iterable[str]:
    for feature in protocol.features:
        if isinstance(feature.seen, Seen):
            yield feature.name if feature.seen.value else f"no {feature.name}"
        else:
            yield f"{feature.name}: not known"


def _in_words(negotiated: Negotiated) -> str:
    if negotiated.version is None:
        return f"{negotiated.client}: {'nothing in common' if negotiated.is_known else 'not known'}"
    if not negotiated.is_known or negotiated.suite is None:
        return f"{negotiated.client}: {version_name(negotiated.version)}, the rest is not known"
    name = suite_name(negotiated.suite).removeprefix("TLS_")
    group = f", {group_name(negotiated.group)}" if negotiated.group is not None else ""
    exchange = "" if group or negotiated.version == Version.TLS_1_3 else ", static key exchange"
    return f"{negotiated.client}: {version_name(negotiated.version)}, {name}{group}{exchange}"
