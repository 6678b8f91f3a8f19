"""The area protocol, and endpoints that differ in it."""

import msgspec

from pewter.evidence import (
    Alert,
    Ended,
    Endpoint,
    Feature,
    FiniteField,
    GroupsSeen,
    HowEnded,
    HowFailed,
    NoConnection,
    Offer,
    Order,
    Probe,
    Proof,
    Protocol,
    Seen,
    SuitesSeen,
    Unseen,
    VersionOutcome,
    VersionSeen,
    protocols,
)
from pewter.expectations import Expectations, Terms
from pewter.facts.case import Case
from pewter.facts.clients import CLIENTS, Negotiated, negotiations
from pewter.judge.rules import chain, protocol, protocol_suites, reach
from pewter.lab.authority import issue_server
from pewter.tls.suites import strength_of
from pewter.tls.suites import table as suite_table
from support.cases import case, endpoint, fingerprint, handshake, name, outcomes, stored, table
from support.certificates import FAR_OFF, HOST, LONG_AGO, intermediate, key

TLS13, TLS12, TLS11, TLS10, SSL3, SSL2 = 0x0304, 0x0303, 0x0302, 0x0301, 0x0300, 0x0002
AEAD = (0xC02B, 0xC02F, 0xC030)
X25519, P256, HYBRID = 0x001D, 0x0017, 0x11EC
REFUSES, NOT_REACHED = Alert(2, 70), Unseen("not reached")
CLOSED, RESET = Ended(HowEnded.CLOSED, "the server closed the connection"), Ended(HowEnded.RESET, "reset")
REFUSED = NoConnection(HowFailed.REFUSED, "the connection was refused")
FROM_TLS_1_1 = Terms(Expectations(minimum_protocol="TLS 1.1"))
NOBODY = issue_server(["nobody.invalid"], intermediate(), LONG_AGO, FAR_OFF, key=key("other"))
OTHER = issue_server(["other.example"], intermediate(), LONG_AGO, FAR_OFF, key=key("other"))


def versions(*accepted: int, unknown: int | None = None) -> tuple[VersionSeen, ...]:
    return tuple(
        VersionSeen(each, VersionOutcome.ACCEPTED)
        if each in accepted
        else VersionSeen(each, VersionOutcome.UNKNOWN, "late")
        if each == unknown
        else VersionSeen(each, VersionOutcome.REFUSED, "alert protocol_version", 70, is_of_version=True)
        for each in (TLS13, TLS12, TLS11, TLS10, SSL3, SSL2)
    )


def spoken(
    *suites: int, version: int = TLS12, order: Order = Order.SERVER, unfinished: str = "", **others: object
) -> Protocol:
    seen = (SuitesSeen(version, suites, order, 390, unfinished),)
    return Protocol(versions(TLS13, version), seen, **others)  # type: ignore[arg-type]


def looked(of: Protocol | None, nameless: tuple[Probe, ...] = ()) -> Case:
    return case(
        endpoints=[msgspec.structs.replace(endpoint(handshake()), protocol=of, nameless=nameless)],
        certificates=stored(OTHER, NOBODY),
    )


def suites(*offered: int, **others: object) -> Case:
    return looked(spoken(*offered, **others))  # type: ignore[arg-type]


def answering(*answers, terms: Terms = Terms()) -> Case:  # noqa: B008
    return case(endpoints=[endpoint(*answers)], terms=terms)


def old(version: int):
    return handshake(version=version)


def field(seen) -> Case:
    return suites(*AEAD, finite_field=seen)


def groups(*offered: int, unfinished: str = "") -> Case:
    return suites(*AEAD, groups=(GroupsSeen(TLS13, offered, Order.SERVER, 21, unfinished),))


def option(feature: str, good: bool) -> dict[str, Case]:
    seen = {"holds": Seen(good), "gap": Seen(not good), "unknown": Unseen("late")}
    found = {f"{feature} {title}": suites(*AEAD, features=(Feature(feature, each),)) for title, each in seen.items()}
    return found | {f"{feature} not-asked": suites(*AEAD)}


def nameless(answer) -> Case:
    return looked(None, (Probe(Offer((TLS13,)), answer),))


def two(one: Protocol, other: Protocol) -> Case:
    at = (("192.0.2.10", one), ("192.0.2.11", other))
    endpoints = [msgspec.structs.replace(endpoint(handshake(), address=where), protocol=of) for where, of in at]
    return case(names=[name(HOST, "192.0.2.10", "192.0.2.11")], endpoints=endpoints)


SAME = spoken(*AEAD, groups=(GroupsSeen(TLS13, (X25519,), Order.ONE, 21),))
BOTH = (handshake(), old(TLS12))

CASES = {
    protocol.obsolete: {
        "gap": answering(*BOTH, old(TLS11), old(TLS10)),
        "holds": answering(*BOTH, REFUSES, CLOSED),
        "unknown": answering(*BOTH, REFUSES, NOT_REACHED),
        "refused-connection-is-no-refused-version": answering(*BOTH, REFUSES, REFUSED),
        "no-hello-was-accepted": answering(REFUSED, REFUSED, RESET, RESET),
        "minimum-is-an-expectation": answering(*BOTH, old(TLS11), old(TLS10), terms=FROM_TLS_1_1),
        "search-holds": looked(Protocol(versions(TLS13, TLS12))),
        "search-ssl-2": looked(Protocol(versions(TLS12, SSL2))),
        "search-ssl-3": looked(Protocol(versions(TLS12, SSL3))),
        "search-unknown": looked(Protocol(versions(TLS12, unknown=SSL3))),
    },
    (protocol.too_old_only, protocol.no_tls13): {
        "modern": answering(handshake()),
        "1.2": answering(old(TLS12), old(TLS12)),
        "1.0-only": answering(REFUSES, REFUSES, REFUSES, old(TLS10)),
        "unknown": answering(NOT_REACHED),
        "1.3-not-asked": answering(NOT_REACHED, old(TLS12)),
    },
    protocol.key_not_proven: {proof.value: answering(handshake(proof=proof)) for proof in Proof},
    protocol_suites.weak_suites: {
        "3DES": suites(*AEAD, 0x000A),
        "RC4": suites(0x0005, 0x0004),
        "NULL": suites(0x0002),
        "anonymous": suites(0x00A6),
        "export": suites(0x0003),
        "DES": suites(0x0009),
    },
    (protocol_suites.weak_suites, protocol_suites.no_forward_secrecy): {
        "holds": suites(*AEAD),
        "unknown": suites(*AEAD, unfinished="late"),
        "not-looked": looked(None),
    },
    protocol_suites.no_forward_secrecy: {
        "among-others": suites(*AEAD, 0x009C),
        "nothing-else": suites(0x009C, 0x002F),
        "every-way": suites(*AEAD, 0x00A0, 0xC02D, 0x00A8, 0x00AC),
    },
    protocol_suites.cbc_only: {
        "gap": suites(0xC013, 0x002F),
        "one-is-enough": suites(0xC013, 0xC02F),
        "unknown": suites(0xC013, unfinished="late"),
    },
    protocol_suites.weak_dh: {
        "none": field(Seen(None)),
        "holds-at-the-limit": field(Seen(FiniteField(2048, "x"))),
        "small": field(Seen(FiniteField(2047, "x"))),
        "1024": field(Seen(FiniteField(1024, "x"))),
        "broken": field(Seen(FiniteField(1023, "x"))),
        "unknown": field(Unseen("late")),
    },
    protocol_suites.client_decides: {
        "unequal": suites(0xC02F, 0x002F, order=Order.CLIENT),
        "of-one-strength": suites(0xC02F, 0xC030, order=Order.CLIENT),
        "server": suites(0xC02F, 0x002F, order=Order.SERVER),
        "one": suites(0xC02F, order=Order.ONE),
    },
    protocol_suites.no_hybrid_group: {
        "hybrid": groups(HYBRID, X25519),
        "none": groups(X25519, P256),
        "unknown": groups(X25519, unfinished="late"),
    },
    protocol_suites.renegotiation: option(protocols.SECURE_RENEGOTIATION, True),
    protocol_suites.compression: option(protocols.COMPRESSION, False),
    protocol_suites.no_extended_secret: option(protocols.EXTENDED_MASTER_SECRET, True),
    protocol_suites.no_fallback_guard: option(protocols.FALLBACK_GUARD, True),
    protocol_suites.no_h2: option(protocols.H2, True),
    protocol_suites.early_data: option(protocols.EARLY_DATA, False),
    protocol_suites.intolerant: option(protocols.GREASE_TOLERANCE, True)
    | option(protocols.LARGE_HELLO_TOLERANCE, True),
    chain.default_differs: {
        "the-same": nameless(handshake()),
        "another": nameless(handshake(OTHER, intermediate())),
        "of-nobody": nameless(handshake(NOBODY)),
        "refused": nameless(Alert(2, 112)),
        "unknown": nameless(NoConnection(HowFailed.TIMED_OUT, "late")),
        "not-asked": looked(None),
    },
    protocol.repeated_extension: {
        "each-once": answering(msgspec.structs.replace(handshake(), extensions=(43, 51, 16))),
        "twice": answering(msgspec.structs.replace(handshake(), extensions=(65281, 65281, 23, 23, 0x6A6A))),
        "three-times-in-the-second": answering(
            handshake(), msgspec.structs.replace(handshake(version=0x0303), extensions=(16, 16, 16))
        ),
        "none": answering(handshake()),
        "no-handshake": answering(Alert(2, 40)),
    },
    reach.unlike_addresses: {
        "alike": two(SAME, SAME),
        "suites": two(SAME, spoken(*AEAD, 0x002F)),
        "versions": two(SAME, msgspec.structs.replace(SAME, versions=versions(TLS13, TLS12, TLS10))),
        "unfinished": two(SAME, spoken(*AEAD, 0x002F, unfinished="late")),
    },
}


@table(CASES)
def test_rule(told, rule, looked):
    told(outcomes(rule, looked))


def test_no_suite_of_the_recommended_ones_is_weak():
    """RFC 9325 section 4.2, and those of TLS 1.3."""
    recommended = (0xC02B, 0xC02C, 0xC02F, 0xC030, 0x1301, 0x1302, 0x1303)
    assert {strength_of(suite_table()[code]) for code in recommended} == {"AEAD"}


# Clients


def spoken_by(protocol_seen: Protocol) -> tuple[Negotiated, ...]:
    return negotiations(Endpoint(HOST, "192.0.2.10", 443, protocol=protocol_seen))


def test_what_visitors_programs_negotiate():
    both = Protocol(
        versions(TLS13, TLS12),
        (SuitesSeen(TLS13, (0x1302, 0x1301), Order.SERVER, 13), SuitesSeen(TLS12, (0xC030, 0xC02F), Order.CLIENT, 390)),
        groups=(
            GroupsSeen(TLS13, (X25519, HYBRID), Order.CLIENT, 21),
            GroupsSeen(TLS12, (X25519, P256), Order.SERVER, 25),
        ),
    )
    browser, phone, quantum = (each.title for each in CLIENTS)
    assert spoken_by(both) == (
        Negotiated(browser, TLS13, 0x1302, HYBRID),
        Negotiated(phone, TLS12, 0xC02F, P256),
        Negotiated(quantum, TLS13, 0x1302, HYBRID),
    )


def test_visitors_that_have_nothing_in_common_with_a_server():
    old = Protocol(versions(TLS10), (SuitesSeen(TLS10, (0x002F,), Order.ONE, 173),))
    browser, phone, quantum = (each.title for each in CLIENTS)
    assert spoken_by(old) == (Negotiated(browser), Negotiated(phone, TLS10, 0x002F), Negotiated(quantum))
    unknown = Protocol(versions(TLS12, unknown=TLS13), (SuitesSeen(TLS12, (), Order.NOT_KNOWN, 390, "late"),))
    assert [each.is_known for each in spoken_by(unknown)] == [False, False, False]


def test_the_certificate_without_a_name_is_told_by_its_fingerprint():
    (gap,) = outcomes(chain.default_differs, nameless(handshake(OTHER, intermediate())))
    assert gap.seen.endswith(f"(SHA-256 {fingerprint(OTHER)[:8]})")
