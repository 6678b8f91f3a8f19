"""Does everybody get the same, right answer?  HTTPS records (RFC 9460), and what they promise."""

from collections.abc import Iterator, Sequence

from pewter.evidence import Alert, Endpoint, Handshake, NoConnection, NotTls, Service, Unseen
from pewter.facts.browsers import Prediction
from pewter.facts.case import Case
from pewter.facts.legs import why_not_valid
from pewter.facts.naming import (
    Naming,
    Zone,
    addresses_at,
    addresses_of,
    chain_of,
    naming,
    resolved_addresses,
)
from pewter.facts.visits import Visit, predict_visits
from pewter.judge.nature import OF_NAMES, GoesBy
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import Rule, rule
from pewter.levels import Level
from pewter.names.addresses import why_not_public
from pewter.names.answers import is_at_or_below
from pewter.names.https_records import AliasEnd, Followed, HttpsRecord, follow
from pewter.places import HTTPS, of_name, socket_text
from pewter.tls import alert_name
from pewter.web.urls import https_origin, read_url


def _records(case: Case) -> Iterator[tuple[Naming, str, Followed]]:
    """Of each name that has some."""
    found = naming(case)
    for name in found.names:
        followed = follow(found.answers, name)
        if followed is not None:
            yield found, name, followed


@rule(
    "dns/https-record-unreadable",
    level=Level.WEAKENS,
    sources=("RFC 9460 section 2.2", "RFC 9460 section 2.4.1"),
    nature=OF_NAMES,
)
def https_record_unreadable(case: Case) -> Iterator[RuleOutcome]:
    """One malformed record voids the whole set; an alias beside services makes these ignored."""
    for _, name, followed in _records(case):
        found = followed.first
        if found.problem:
            yield Gap(of_name(name), found.problem, "records that clients can read")
        else:
            shown = f"alias to {found.alias}" if found.alias else "; ".join(map(str, found.services))
            yield Holds(of_name(name), shown or "no record that we can use")


@rule(
    "dns/https-record-contradicts",
    level=Level.WEAKENS,
    sources=("RFC 9460 section 7",),
    nature=OF_NAMES.but(goes_by=frozenset({GoesBy.SERVED})),
)
def https_record_contradicts(case: Case) -> Iterator[RuleOutcome]:
    """What the record promises has to be served: protocols, port, addresses, and a certificate for the name."""
    for found, name, followed in _records(case):
        for record in followed.services:
            wrong, unknown = _contradictions(case, found, name, record, followed.target_of(record))
            if wrong:
                seen = f"{record}: {'; '.join(wrong)}"
                yield Gap(of_name(name), seen, "a record that says what is served")
            elif unknown:
                yield Unknown(of_name(name), f"{record}: {unknown[0]}")
            else:
                yield Holds(of_name(name), str(record))


def _contradictions(
    case: Case, found: Naming, name: str, record: HttpsRecord, target: str
) -> tuple[list[str], list[str]]:
    port = record.port or HTTPS
    endpoints = [each for each in case.endpoints_of(name) if each.port == port] if target == name else []
    place = name, target, port
    services = [each for each in case.evidence.services if (each.name, each.target, each.port) == place]
    if not record.goes_over_tcp:
        wrong, unknown = list[str](), list[str]()
    elif endpoints:
        wrong, unknown = _at_its_own(record, endpoints)
    else:
        wrong, unknown = _elsewhere(case, record, services) if services else ([], [_unseen(target, record)])
    if "h3" in record.alpn and not wrong:
        unknown.append("h3 needs QUIC, which was not tried")
    if record.has_ech and not wrong:
        unknown.append("ECH was not tried")
    zone = found.zone_of(name)
    known = resolved_addresses(case, target) | (addresses_of(found.answers, target) or frozenset())
    known |= addresses_at(found.answers, zone.good, target) if zone is not None else frozenset()
    stale = [hint for hint in record.hints if hint not in known]
    if stale and known and _may_turn(found, zone, target):
        unknown.append(f"the hint {', '.join(stale)} is none of the addresses of just now, which may take turns")
    elif stale and known:
        wrong.append(f"the hint {', '.join(stale)} is no address of {target}")
    return wrong, unknown


def _at_its_own(record: HttpsRecord, endpoints: Sequence[Endpoint]) -> tuple[list[str], list[str]]:
    """Where the record leads to the name itself: other rules speak of the certificates there."""
    if all(isinstance(probe.answer, NoConnection) for each in endpoints for probe in each.probes):
        return [f"port {endpoints[0].port} is closed"], []
    return _h2(record, [handshake.alpn for each in endpoints for handshake in each.handshakes])


def _h2(record: HttpsRecord, chosen: Sequence[str | None]) -> tuple[list[str], list[str]]:
    """As far as handshakes show."""
    if "h2" not in record.alpn or "h2" in chosen:
        return [], []
    return (["it promises h2, which the server does not choose"], []) if chosen else ([], [_H2_UNSEEN])


_H2_UNSEEN = "whether the server speaks h2 was not seen"


def _unseen(target: str, record: HttpsRecord) -> str:
    return f"{target}{f' at port {record.port}' if record.port is not None else ''} was not looked at"


def _elsewhere(case: Case, record: HttpsRecord, services: Sequence[Service]) -> tuple[list[str], list[str]]:
    """Where it leads to another name or port: the certificate there has to be for the name (section 9)."""
    wrong: dict[str, list[str]] = {}
    unknown: dict[str, None] = {}
    chosen: list[str | None] = []
    for each in services:
        match each.probe.answer:
            case Unseen(reason=reason):
                unknown[reason] = None
                continue
            case NoConnection(detail=detail):
                against = f" is closed ({detail})"
            case Handshake() as answer:
                chosen.append(answer.alpn)
                why = why_not_valid(case, each.name, answer)
                against = f": {why}" if why else ""
            case Alert(description=description):
                against = f" refuses the hello (alert {alert_name(description)})"
            case NotTls():
                against = " does not speak TLS"
            case _:
                against = " ends the connection in place of an answer"
        if against:
            wrong.setdefault(against, []).append(socket_text(each.address, each.port))
    more, unseen = _h2(record, chosen) if chosen or not wrong else ([], [])
    said = [f"{', '.join(sockets)}{against}" for against, sockets in wrong.items()]
    return [*said, *more], [*unknown, *(unseen if not unknown else ())]


def _may_turn(found: Naming, zone: Zone | None, target: str) -> bool:
    """Whether the addresses of a name come from another zone, of which only one answer of the resolver was seen."""
    chain = chain_of(found.answers, target)
    end = target if isinstance(chain, Unseen) else chain.last
    return zone is None or not is_at_or_below(end, zone.apex)


def _home(case: Case, name: str, scheme: str) -> tuple[Visit, ...]:
    return tuple(
        visit
        for visit in predict_visits(case)
        for start in [read_url(visit.start)]
        if (start.scheme, start.host, start.path) == (scheme, name, "/")
    )


@rule(
    "dns/https-record-locks-out",
    level=Level.BREAKS,
    sources=("RFC 9460 section 9.5",),
    nature=OF_NAMES.but(goes_by=frozenset({GoesBy.SERVED})),
)
def https_record_locks_out(case: Case) -> Iterator[RuleOutcome]:
    """An HTTPS record turns http visits into https ones: where https does not work, nobody gets in."""
    for _, name, followed in _records(case):
        if followed.first.problem and not followed.first.alias:
            continue
        visits = _home(case, name, "https")
        known = [visit for visit in visits if visit.meets is not Prediction.UNKNOWN]
        if not known:
            yield Unknown(of_name(name), f"what a visitor of {https_origin(name)} meets is not known")
        elif all(_is_shut_out(visit) for visit in known):
            seen = f"an HTTPS record, and {https_origin(name)}: {known[0].meets.value}"
            yield Gap(of_name(name), seen, "https that works")
        else:
            yield Holds(of_name(name), "https works")


def _is_shut_out(visit: Visit) -> bool:
    return not visit.meets.shows_page and visit.meets not in {
        Prediction.ERROR_PAGE,
        Prediction.IN_SOME,
        Prediction.UNENCRYPTED,
        Prediction.CIRCLES,
    }


@rule(
    "dns/https-record-dead-end",
    level=Level.WEAKENS,
    sources=("RFC 9460 section 2.4.2", "RFC 9460 section 3"),
    nature=OF_NAMES,
)
def https_record_dead_end(case: Case) -> Iterator[RuleOutcome]:
    """The target of a record has to have addresses; beside an alias the name needs its own, for other clients."""
    for found, name, followed in _records(case):
        if said := _bad_end(followed):
            yield Gap(of_name(name), said, "a target with addresses, or no record")
            continue
        if followed.end is AliasEnd.UNKNOWN:
            yield Unknown(of_name(name), f"the HTTPS records of {followed.last}: {followed.why}")
            continue
        ends = [*map(followed.target_of, followed.services)] or [followed.last]
        for target in dict.fromkeys(each for each in ends if each != name):
            known = addresses_of(found.answers, target)
            if known is None:
                yield Unknown(of_name(name), f"{target} could not be looked up")
            elif not known:
                yield Gap(of_name(name), f"its target {target} has no address", "a target with addresses")
            elif (kinds := _off_the_internet(known)) and not _off_the_internet(resolved_addresses(case, name)):
                yield Gap(of_name(name), f"its target {target} is at {kinds}", "a target with public addresses")
            elif followed.first.alias and not resolved_addresses(case, name):
                seen = f"{name} has an HTTPS alias to {target} and no address of its own"
                yield Gap(of_name(name), seen, "A and AAAA beside it, for clients that do not ask for HTTPS")
            else:
                yield Holds(of_name(name), f"{target} has addresses")


def _bad_end(followed: Followed) -> str:
    """What is wrong with aliases that lead to no name; clients go on as if there were no record."""
    ways = " → ".join(followed.owners)
    match followed.end:
        case AliasEnd.NO_SUCH_SERVICE:
            by_way = f" (by way of {ways})" if len(followed.owners) > 1 else ""
            return f'its alias leads to "."{by_way}, which says that there is no such service'
        case AliasEnd.CIRCLE:
            return "its alias leads to itself" if len(followed.owners) == 2 else f"its aliases come round: {ways}"
        case AliasEnd.TOO_LONG:
            return f"more than {len(followed.owners) - 2} aliases in a row: {ways}"
    return ""


def _off_the_internet(addresses: frozenset[str]) -> str:
    """Where none is public, the kind of each."""
    kinds = [f"{each}, which is {why}" for each in sorted(addresses) if (why := why_not_public(each))]
    return "; ".join(kinds) if kinds and len(kinds) == len(addresses) else ""


RULES: tuple[Rule[Case], ...] = (
    https_record_contradicts,
    https_record_locks_out,
    https_record_unreadable,
    https_record_dead_end,
)
