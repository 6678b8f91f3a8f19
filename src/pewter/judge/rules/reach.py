"""Can it be reached?"""

import enum
from collections.abc import Iterator, Sequence

from pewter.evidence import (
    Alert,
    Ended,
    Endpoint,
    Handshake,
    HowEnded,
    Name,
    NoConnection,
    NotTls,
    Protocol,
    Seen,
    Step,
    StopCause,
    Stopped,
    Tries,
    Unseen,
)
from pewter.facts.browsers import Browser, demands_certificate, takes_hello_of
from pewter.facts.case import Case, accepted_versions, why_no_handshake
from pewter.facts.denials import why_denied
from pewter.facts.legs import LegState, OriginLeg, origin_legs
from pewter.judge.nature import OF_PLACES, GoesBy, Matter, Safety
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.phrases import some
from pewter.places import Place, of_name
from pewter.tls import alert_name, suite_name, version_name
from pewter.tls.codepoints import group_name
from pewter.web.urls import place_of_host

_SHOWN_SUITES = 4


@rule(
    "reach/no-address",
    level=Level.BREAKS,
    sources=("RFC 1035 section 3.4.1", "RFC 3596 section 2.1"),
    nature=OF_PLACES.but(matter=Matter.NAMES),
)
def no_address(case: Case) -> Iterator[RuleOutcome]:
    """A name without A and AAAA records leads nowhere."""
    for name in case.evidence.names:
        if name.addresses:
            yield Holds(of_name(name.name), ", ".join(name.addresses))
            continue
        unseen = [lookup.answer.reason for lookup in name.lookups if isinstance(lookup.answer, Unseen)]
        if unseen:
            yield Unknown(of_name(name.name), unseen[0])
        else:
            level = None if name.declared else Level.NOTE
            if words := why_denied(case, name.name):
                yield Unknown(of_name(name.name), words)  # nothing is to be added: dns/still-cached tells it
            else:
                yield Gap(of_name(name.name), _answers(name), "an A or AAAA record", level=level)


def _answers(name: Name) -> str:
    said = [
        f"{lookup.record_type}: {lookup.answer.value.rcode}"
        + (f" (alias of {lookup.answer.value.aliases[-1]})" if lookup.answer.value.aliases else "")
        for lookup in name.lookups
        if isinstance(lookup.answer, Seen)
    ]
    return "; ".join(said) + ", no address"


class _State(enum.Enum):
    """The best that any hello to an endpoint met."""

    ANSWERS = enum.auto()
    NOT_TLS = enum.auto()
    REFUSES = enum.auto()
    CLOSED = enum.auto()
    UNSEEN = enum.auto()


def _state(endpoint: Endpoint) -> _State:
    answers = [probe.answer for probe in endpoint.probes]
    if any(isinstance(answer, Handshake) for answer in answers):
        return _State.ANSWERS
    if any(isinstance(answer, NotTls) for answer in answers):
        return _State.NOT_TLS
    spoken = {HowEnded.GARBLED, HowEnded.OTHER_VERSION}
    if any(isinstance(answer, Alert) or (isinstance(answer, Ended) and answer.how in spoken) for answer in answers):
        return _State.REFUSES
    if any(isinstance(answer, NoConnection | Ended) for answer in answers):
        return _State.CLOSED
    return _State.UNSEEN


@rule("reach/closed", level=Level.BREAKS, sources=("RFC 9110 section 4.2.2",), nature=OF_PLACES.but(safety=Safety.SHUT))
def closed(case: Case) -> Iterator[RuleOutcome]:
    """The https port has to take connections; where only some addresses do, reach/some-addresses speaks."""
    for endpoint in case.endpoints:
        where, state = case.place(endpoint), _state(endpoint)
        if state is _State.UNSEEN:
            yield Unknown(where, why_no_handshake(endpoint))
        elif state is _State.CLOSED:
            if not any(_state(each) is _State.ANSWERS for each in case.endpoints_of(endpoint.name)):
                seen = f"port {endpoint.port}: {why_no_handshake(endpoint)}"
                yield Gap(where, seen, "a TLS handshake", cause=f"closed at {endpoint.name}")
        else:
            yield Holds(where, f"port {endpoint.port} answers")


@rule("reach/not-tls", level=Level.BREAKS, sources=("RFC 8446 section 5.1",), nature=OF_PLACES.but(safety=Safety.SHUT))
def not_tls(case: Case) -> Iterator[RuleOutcome]:
    """The https port has to speak TLS."""
    for endpoint in case.endpoints:
        where, state = case.place(endpoint), _state(endpoint)
        if state is _State.NOT_TLS:
            yield Gap(where, f"port {endpoint.port}: {_opening(endpoint)}", "a TLS handshake")
        elif state in {_State.ANSWERS, _State.REFUSES}:
            yield Holds(where, "TLS")
        elif state is _State.UNSEEN:
            yield Unknown(where, why_no_handshake(endpoint))


def _opening(endpoint: Endpoint) -> str:
    for probe in endpoint.probes:
        if isinstance(probe.answer, NotTls):
            opening = probe.answer.opening
            if opening.startswith(b"HTTP/"):
                return "plain HTTP: " + opening.partition(b"\n")[0].decode("latin-1").strip()
            return f"no TLS record, but {quote_octets(opening)}"
    return "no TLS"


def quote_octets(octets: bytes) -> str:
    """``"SSH-2.0-OpenSSH_9.2"``; octets that are no text as hexadecimal digits."""
    text = bytes(octets).rstrip(b"\r\n\0")[:40]
    if text and all(0x20 <= octet < 0x7F for octet in text):
        return f'"{text.decode("ascii")}"'
    return f"the octets {bytes(octets[:12]).hex(' ')}"


@rule(
    "reach/refuses-hello",
    level=Level.BREAKS,
    sources=("RFC 8446 section 6.2",),
    nature=OF_PLACES.but(safety=Safety.SHUT),
)
def refuses_hello(case: Case) -> Iterator[RuleOutcome]:
    """Speaking TLS is not enough: some hello has to be accepted."""
    for endpoint in case.endpoints:
        where, state = case.place(endpoint), _state(endpoint)
        if state is _State.REFUSES:
            yield Gap(where, _refusal(endpoint), "a certificate", cause=f"{endpoint.name} {_refusal(endpoint)}")
        elif state is _State.ANSWERS and (refused := _refused_request(case, endpoint)):
            seen = f"{refused}, to a program's hello; those of {' and '.join(_takes(endpoint))} are taken"
            yield Gap(where, seen, "an answer to every program", level=Level.WEAKENS, cause=f"{endpoint.name} programs")
        elif state is _State.ANSWERS:
            yield Holds(where, "a hello is accepted")


def _takes(endpoint: Endpoint) -> list[str]:
    return [each.value for each in Browser if takes_hello_of(endpoint, each)]


def _refused_request(case: Case, endpoint: Endpoint) -> str:
    """How every request to this very place ended in its handshake, where browsers would get one."""
    if not _takes(endpoint) or any(hop.address == endpoint.address for hop in case.https_answers(endpoint.name)):
        return ""
    ends = [
        journey.end
        for journey, start in case.ways_in("https")
        if (start.host, start.port) == (endpoint.name, endpoint.port) and journey.by_address in {None, endpoint.address}
    ]
    causes = {StopCause.NO_TLS, StopCause.NO_CONNECTION}
    stopped = [end for end in ends if isinstance(end, Stopped) and end.cause in causes]
    return stopped[0].detail if stopped and len(stopped) == len(ends) else ""


def _refusal(endpoint: Endpoint) -> str:
    """What came in place of a certificate, from the probe that tells most."""
    for probe in endpoint.probes:
        match probe.answer:
            case Ended(how=HowEnded.GARBLED, detail=detail):
                return f"it answers in TLS and breaks it: {detail}"
            case Alert(description=description):
                return f"alert {alert_name(description)} to every hello"
    return why_no_handshake(endpoint)


@rule(
    "reach/client-certificate",
    level=Level.BREAKS,
    sources=("RFC 8446 section 4.3.2", "RFC 5246 section 7.4.4"),
    nature=OF_PLACES,
)
def client_certificate(case: Case) -> Iterator[RuleOutcome]:
    """A server that demands a certificate of its visitors keeps all others out."""
    for name in case.resolving_names:
        asking = [each for each in case.endpoints_of(name) if demands_certificate(each)]
        if not any(each.handshakes for each in case.endpoints_of(name)):
            continue
        if not asking:
            yield Holds(of_name(name), "no client certificate is asked for")
            continue
        refused = _refused_without_certificate(case, name)
        if refused:
            seen = f"it asks for a client certificate, and without one: {refused}"
            yield Gap(of_name(name), seen, "a page without a certificate of the visitor's own", cause=name)
        else:
            yield Holds(of_name(name), "a client certificate is asked for, and visitors get in without one")


def _refused_without_certificate(case: Case, name: str) -> str:
    """How a visitor without a certificate fares at a server that asks for one; empty where a page is shown."""
    ends = [journey for journey, start in case.ways_in("https") if start.host == name]
    for journey in ends:
        if isinstance(journey.end, Stopped) and journey.end.cause in {StopCause.NO_TLS, StopCause.NO_ANSWER}:
            return journey.end.detail
        if journey.hops and journey.hops[-1].status in CERTIFICATE_STATUSES:
            page = case.page_of(journey.hops[-1])
            return f"{journey.hops[-1].status}" + (f" ({page.title})" if page is not None and page.title else "")
    return ""


CERTIFICATE_STATUSES = frozenset({400, 401, 403, 495, 496})
"""Answers to a visitor without a certificate."""


@rule(
    "reach/some-addresses",
    level=Level.BREAKS,
    sources=("RFC 8305 section 2", "RFC 1035 section 3.4.1"),
    nature=OF_PLACES,
)
def some_addresses(case: Case) -> Iterator[RuleOutcome]:
    """Every address of a name has to answer: a visitor is given any of them."""
    for name in sorted(case.site_names):
        endpoints = case.endpoints_of(name)
        states = {endpoint.address: _state(endpoint) for endpoint in endpoints}
        if len(states) < 2:
            continue
        if _State.UNSEEN in states.values():
            yield Unknown(
                of_name(name), next(why_no_handshake(each) for each in endpoints if _state(each) is _State.UNSEEN)
            )
            continue
        fine = [address for address, state in states.items() if state is _State.ANSWERS]
        if fine and len(fine) < len(states):
            silent = {each.address: why_no_handshake(each) for each in endpoints if each.address not in fine}
            words = ", ".join(f"{address} ({why})" for address, why in silent.items())
            seen = f"answer: {', '.join(fine)}; do not: {words}"
            dead = [each for each in endpoints if each.address not in fine]
            yield Gap(of_name(name), seen, "an answer at every address", detail=_race(fine, dead))
        elif fine:
            yield Holds(of_name(name), f"{len(fine)} addresses answer")


def _race(fine: Sequence[str], dead: Sequence[Endpoint]) -> str:
    """What a family that is dead as a whole costs visitors: browsers race the families (RFC 8305 section 5)."""
    wide = {":" in address for address in fine}
    lost = {":" in each.address for each in dead}
    if wide & lost or not lost:
        return ""
    takes = any(not isinstance(probe.answer, NoConnection) for each in dead for probe in each.probes)
    if takes:
        return "Connections to it come about, so that the race of the families ends there, and visitors are stopped."
    if lost == {True}:
        return "Browsers begin with IPv6 and go on to IPv4 after 250 ms; who has IPv6 alone gets nowhere."
    return "Visitors with IPv6 get in; who has IPv4 alone gets nowhere."


@rule("reach/unlike-addresses", level=Level.WEAKENS, sources=("RFC 1035 section 3.4.1",), nature=OF_PLACES)
def unlike_addresses(case: Case) -> Iterator[RuleOutcome]:
    """All addresses of a name should give the same certificate, versions, status and HSTS."""
    for name in sorted(case.site_names):
        endpoints = [each for each in case.endpoints_of(name) if each.handshakes]
        if len(endpoints) < 2:
            continue
        views = {endpoint.address: _view(case, endpoint) for endpoint in endpoints}
        differing = [
            f"{subject} ({'; '.join(f'{address}: {view[subject]}' for address, view in views.items())})"
            for subject in ("certificate", "versions", "suites", "groups", "home page")
            if len({view[subject] for view in views.values() if view[subject]}) > 1
        ]
        if differing:
            yield Gap(of_name(name), "differ: " + ", ".join(differing), "the same at every address")
        else:
            yield Holds(of_name(name), f"{len(endpoints)} addresses alike")


def _view(case: Case, endpoint: Endpoint) -> dict[str, str]:
    leaves = sorted({handshake.chain[0][:8] for handshake in endpoint.handshakes})
    versions = sorted(accepted_versions(endpoint), reverse=True)
    protocol = endpoint.protocol
    home = ""
    for journey, start in case.ways_in("https"):
        if start.host == endpoint.name and start.target == "/" and journey.by_address == endpoint.address:
            first = next(iter(journey.hops), None)
            fields = first.values("Strict-Transport-Security") if first else ()
            home = f"{first.status}, {'HSTS ' + fields[0] if fields else 'no HSTS'}" if first else ""
    return {
        "certificate": " and ".join(leaves),
        "versions": ", ".join(map(version_name, versions)),
        "suites": _own_suites(case, protocol, endpoint.name) if protocol is not None else "",
        "groups": _groups_in_words(protocol) if protocol is not None else "",
        "home page": home,
    }


def _own_suites(case: Case, protocol: Protocol, name: str) -> str:
    """The suites that not every address of the name has; empty where a search broke off, which is no difference."""
    everywhere = [each.protocol for each in case.endpoints_of(name) if each.protocol is not None]
    if any(seen.unfinished for each in everywhere for seen in each.suites):
        return ""
    common = frozenset.intersection(*map(_all_suites, everywhere))
    own = [suite_name(code).removeprefix("TLS_") for code in sorted(_all_suites(protocol) - common)]
    return some(own, _SHOWN_SUITES) or "no other than the rest"


def _all_suites(protocol: Protocol) -> frozenset[int]:
    return frozenset(code for seen in protocol.suites for code in seen.suites)


def _groups_in_words(protocol: Protocol) -> str:
    if any(seen.unfinished for seen in protocol.groups):
        return ""
    return ", ".join(sorted({group_name(group) for seen in protocol.groups for group in seen.groups}))


@rule("reach/port-80", level=Level.NOTE, sources=("RFC 6797 section 7.2",), nature=OF_PLACES.but(safety=Safety.LEADS))
def port_80(case: Case) -> Iterator[RuleOutcome]:
    """Typed addresses and old links begin with http://, so port 80 has to be there to send them on."""
    for name in sorted(case.site_names):
        ends = [
            (bool(journey.hops), journey.end)
            for journey, start in case.ways_in("http")
            if start.host == name and start.port == 80
        ]
        closed_by = [
            end.detail
            for answered, end in ends
            if not answered and isinstance(end, Stopped) and end.cause is StopCause.NO_CONNECTION
        ]
        if any(answered for answered, _ in ends):
            yield Holds(of_name(name), "port 80 answers")
        elif closed_by:
            yield Gap(of_name(name), closed_by[0], "an answer on port 80 that leads to https")
        elif ends and isinstance(ends[0][1], Unseen):
            yield Unknown(of_name(name), ends[0][1].reason)


@rule("reach/clock", level=Level.NOTE, sources=("RFC 9110 section 6.6.1",), nature=OF_PLACES)
def clock(case: Case) -> Iterator[RuleOutcome]:
    """A server whose clock is off mistakes the dates of certificates, cookies and caches."""
    from email.utils import parsedate_to_datetime  # noqa: PLC0415

    for name in sorted(case.site_names):
        for hop in case.https_answers(name)[:1]:
            values = hop.values("Date")
            try:
                said = parsedate_to_datetime(values[0]) if values else None
                off = said - hop.at if said is not None else None
            except (ValueError, TypeError):  # no date, or one without a zone
                continue
            if off is None:
                continue
            if abs(off) > case.expect.clock_tolerance:
                minutes = round(abs(off).total_seconds() / 60)
                ahead = "ahead" if off.total_seconds() > 0 else "behind"
                yield Gap(
                    of_name(name), f"Date: {values[0]}, {minutes} minutes {ahead}", "the present time", cause="clock"
                )
            else:
                yield Holds(of_name(name), "the clock is right")


@rule(
    "reach/unknown-host",
    level=Level.WEAKENS,
    sources=("RFC 9110 section 7.4",),
    nature=OF_PLACES.but(goes_by=frozenset({GoesBy.UNKNOWN_HOST, GoesBy.PAGES})),
)
def unknown_host(case: Case) -> Iterator[RuleOutcome]:
    """A server should not show the site under a host name that is not the site's."""
    homes: dict[tuple[str, str], set[str]] = {}
    for journey, start in case.ways_in():
        page = case.page_of(journey.hops[-1]) if journey.hops else None
        if start.target == "/" and page is not None:
            homes.setdefault((start.scheme, start.host), set()).update({page.sha256, page.title or page.sha256})
    for probe in case.evidence.host_probes:
        where = place_of_host(probe.scheme, probe.name)
        if isinstance(probe.answer, Unseen):
            words = probe.answer.reason
            yield Holds(where, f"refused: {words}") if probe.is_refused else Unknown(where, words)
            continue
        hop = probe.answer.value
        page = case.page_of(hop)
        own = homes.get((probe.scheme, probe.name), set())
        if hop.status == 200 and page is not None and own & {page.sha256, page.title}:
            yield Gap(
                where, f"Host: {probe.asked} is answered with the site", "421, 404 or a redirect", cause="any host"
            )
        else:
            yield Holds(where, f"{hop.status} for a host that is not the site's")


@rule("reach/unsteady", level=Level.WEAKENS, sources=("RFC 9110 section 9.2.2",), nature=OF_PLACES)
def unsteady(case: Case) -> Iterator[RuleOutcome]:
    """The same question should get the same answer each time."""
    for endpoint in case.endpoints:
        tries = [*endpoint.tries, *(endpoint.protocol.tries if endpoint.protocol is not None else ())]
        yield from _steadiness(case.place(endpoint), tries, f"unsteady at {endpoint.name}")
    for name in case.resolving_names:
        tries = [each for journey, start in case.ways_in(absent=True) if start.host == name for each in journey.tries]
        yield from _steadiness(of_name(name), tries, f"unsteady at {name}")


def _steadiness(where: Place, tries: Sequence[Tries], cause: str) -> Iterator[RuleOutcome]:
    uneven = [each for each in tries if 0 < each.answered < each.made]
    if uneven:
        seen = "; ".join(f"{each.what}: {each.answered} of {each.made} tries answered" for each in uneven[:3])
        yield Gap(where, seen, "an answer every time", cause=cause)
    else:
        yield Holds(where, "nothing had to be asked twice")


@rule("reach/asks-who", level=Level.NOTE, sources=("RFC 9110 section 10.1.5",), nature=OF_PLACES)
def asks_who(case: Case) -> Iterator[RuleOutcome]:
    """Whether an error was meant for the program that asked: then it is the browser's answer that is judged."""
    for name in case.resolving_names:
        asked = [journey for journey, start in case.ways_in(absent=True) if start.host == name and journey.asked_again]
        unlike = [journey for journey in asked if journey.answered_otherwise]
        if unlike:
            journey = unlike[0]
            last = journey.hops[-1]
            seen = f"{journey.answered_otherwise} for Pewter, {last.status} at {last.url} for a browser"
            yield Gap(of_name(name), seen, "the same answer whatever program asks", cause=name)
        elif asked:
            yield Holds(of_name(name), "a browser gets the same error")


@rule("reach/sloppy-answer", level=Level.NOTE, sources=("RFC 9112 sections 2.2, 4 and 5",), nature=OF_PLACES)
def sloppy_answer(case: Case) -> Iterator[RuleOutcome]:
    """Heads that browsers put up with, and other programs need not."""
    for name in case.resolving_names:
        hops = case.hops_of(name)
        odd = [hop for hop in hops if hop.oddities]
        if odd:
            words = dict.fromkeys(each for hop in odd for each in hop.oddities)
            seen = f"{', '.join(list(words)[:4])} (at {odd[0].url})"
            yield Gap(of_name(name), seen, "answers in the form of RFC 9112", cause=name + ", ".join(words))
        elif hops:
            yield Holds(of_name(name), "answers in due form")


@rule(
    "reach/origin",
    level=Level.EXPOSES,
    sources=("RFC 9110 section 17.1",),
    nature=OF_PLACES.but(goes_by=frozenset({GoesBy.ORIGIN})),
)
def origin(case: Case) -> Iterator[RuleOutcome]:
    """Behind an edge service the leg to the origin needs a valid certificate too."""
    for leg in origin_legs(case):
        match leg.state:
            case LegState.VALID:
                yield Holds(leg.place, "edge to origin: encrypted, with a valid certificate")
            case LegState.UNKNOWN | LegState.CLOSED:
                yield Unknown(leg.place, leg.why or "it was not looked at")
            case LegState.PLAIN | LegState.UNVALIDATED:
                seen = f"{leg.state.value}: {leg.why}{_again(leg)}"
                yield Gap(leg.place, seen, "TLS with a certificate that is valid for the name", cause=leg.place.text)


def _again(leg: OriginLeg) -> str:
    if leg.goes_round:
        return "; over plain HTTP it asks for https again, so that visitors go round in circles"
    if leg.asks_again and leg.state is LegState.PLAIN:
        return "; it asks for https again, unless the edge says that its visitor came by https"
    return ""


@rule(
    "reach/open-origin",
    level=Level.NOTE,
    sources=("RFC 9110 section 17.1",),
    nature=OF_PLACES.but(goes_by=frozenset({GoesBy.ORIGIN})),
)
def open_origin(case: Case) -> Iterator[RuleOutcome]:
    """Whether the origin answers anybody who finds its address."""
    for leg in origin_legs(case):
        if leg.is_open:
            yield Gap(leg.place, "it shows its page to anybody who asks at its address", "answers for the edge alone")
        elif leg.state in {LegState.UNKNOWN, LegState.CLOSED}:
            yield Unknown(leg.place, leg.why or "it was not looked at")
        else:
            yield Holds(leg.place, "it shows no page to others")


STEPS: tuple[Step, ...] = (
    Step.SIBLINGS,
    Step.WAYS_IN,
    Step.ABSENT,
    Step.FOUND,
    Step.HOSTS,
    Step.CERTIFICATES,
    Step.VERSIONS,
    Step.ORIGINS,
)
"""What has to be asked for its rules."""

RULES = (
    no_address,
    closed,
    not_tls,
    refuses_hello,
    client_certificate,
    some_addresses,
    unlike_addresses,
    port_80,
    unsteady,
    clock,
    unknown_host,
    asks_who,
    sloppy_answer,
    origin,
    open_origin,
)
