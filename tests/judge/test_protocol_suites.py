"""The area protocol beyond versions, and endpoints that differ in it."""

import msgspec
import pytest

from pewter.evidence import (
    Alert,
    Endpoint,
    Feature,
    FiniteField,
    GroupsSeen,
    NoConnection,
    Offer,
    Probe,
    Protocol,
    Seen,
    SuitesSeen,
    Unseen,
    VersionSeen,
    protocols,
)
from pewter.judge import chain, protocol, protocol_suites, reach
from pewter.judge.case import Case
from pewter.judge.clients import CLIENTS, Negotiated, negotiations
from pewter.lab.authority import issue_server
from pewter.tls.suites import table
from support.cases import case, endpoint, handshake, name, outcomes, stored
from support.certificates import FAR_OFF, HOST, LONG_AGO, intermediate, key

TLS13, TLS12, TLS11, TLS10, SSL3, SSL2 = 0x0304, 0x0303, 0x0302, 0x0301, 0x0300, 0x0002
AEAD = (0xC02B, 0xC02F, 0xC030)
X25519, P256, HYBRID = 0x001D, 0x0017, 0x11EC


def versions(*accepted: int, unknown: int | None = None) -> tuple[VersionSeen, ...]:
    return tuple(
        VersionSeen(each, "accepted")
        if each in accepted
        else VersionSeen(each, "unknown", "late")
        if each == unknown
        else VersionSeen(each, "refused", "alert protocol_version")
        for each in (TLS13, TLS12, TLS11, TLS10, SSL3, SSL2)
    )


def spoken(
    *suites: int, version: int = TLS12, order: str = "server", unfinished: str = "", **others: object
) -> Protocol:
    seen = (SuitesSeen(version, suites, order, 390, unfinished),)
    return Protocol(versions(TLS13, version), seen, **others)  # type: ignore[arg-type]


def judged(rule, of: Protocol | None) -> list:
    return outcomes(rule, looked(of))


def looked(of: Protocol | None, nameless: tuple[Probe, ...] = ()) -> Case:
    return case(endpoints=[msgspec.structs.replace(endpoint(handshake()), protocol=of, nameless=nameless)])


@pytest.mark.parametrize(
    "seen",
    [
        pytest.param(versions(TLS13, TLS12), id="holds"),
        pytest.param(versions(TLS12, SSL2), id="ssl-2"),
        pytest.param(versions(TLS12, SSL3), id="ssl-3"),
        pytest.param(versions(TLS12, unknown=SSL3), id="unknown"),
    ],
)
def test_obsolete_versions_of_a_search(told, seen):
    told(judged(protocol.obsolete, Protocol(seen)))


@pytest.mark.parametrize(
    "suites",
    [
        (*AEAD, 0x000A),
        (0x0005, 0x0004),
        (0x0002,),
        (0x00A6,),
        (0x0003,),
        (0x0009,),
    ],
)
def test_weak_suites(told, suites):
    told(outcomes(protocol_suites.weak_suites, looked(spoken(*suites))))


def test_no_suite_of_the_recommended_ones_is_weak():
    recommended = [suite for suite in table().values() if suite.by_rfc_9325.startswith("RECOMMENDED")]
    assert len(recommended) >= 4
    assert not any(protocol_suites.weakness(suite) for suite in recommended)


@pytest.mark.parametrize("rule", [protocol_suites.weak_suites, protocol_suites.no_forward_secrecy])
def test_suites_that_hold_or_are_not_known(told, rule):
    told(judged(rule, spoken(*AEAD)))
    told(judged(rule, spoken(*AEAD, unfinished="late")))
    told(judged(rule, None))


@pytest.mark.parametrize(
    "suites",
    [(*AEAD, 0x009C), (0x009C, 0x002F)],
    ids=["among-others", "nothing-else"],
)
def test_no_forward_secrecy(told, suites):
    told(outcomes(protocol_suites.no_forward_secrecy, looked(spoken(*suites))))


@pytest.mark.parametrize(
    "of",
    [
        pytest.param(spoken(0xC013, 0x002F), id="gap"),
        pytest.param(spoken(0xC013, 0xC02F), id="one-is-enough"),
        pytest.param(spoken(0xC013, unfinished="late"), id="unknown"),
    ],
)
def test_cbc_only(told, of):
    told(judged(protocol_suites.cbc_only, of))


@pytest.mark.parametrize(
    "field",
    [
        pytest.param(Seen(None), id="none"),
        pytest.param(Seen(FiniteField(2048, "x")), id="holds-at-the-limit"),
        pytest.param(Seen(FiniteField(2047, "x")), id="small"),
        pytest.param(Seen(FiniteField(1024, "x")), id="1024"),
        pytest.param(Seen(FiniteField(1023, "x")), id="broken"),
        pytest.param(Unseen("late"), id="unknown"),
    ],
)
def test_weak_dh(told, field):
    told(outcomes(protocol_suites.weak_dh, looked(spoken(*AEAD, finite_field=field))))


@pytest.mark.parametrize(
    ("suites", "order"),
    [
        pytest.param((0xC02F, 0x002F), "client", id="unequal"),
        pytest.param((0xC02F, 0xC030), "client", id="of-one-strength"),
        pytest.param((0xC02F, 0x002F), "server", id="server"),
        pytest.param((0xC02F,), "one", id="one"),
    ],
)
def test_client_decides(told, suites, order):
    told(judged(protocol_suites.client_decides, spoken(*suites, order=order)))


@pytest.mark.parametrize(
    ("groups", "unfinished"),
    [((HYBRID, X25519), ""), ((X25519, P256), ""), ((X25519,), "late")],
    ids=["hybrid", "none", "unknown"],
)
def test_no_hybrid_group(told, groups, unfinished):
    of = spoken(*AEAD, groups=(GroupsSeen(TLS13, groups, "server", 21, unfinished),))
    told(judged(protocol_suites.no_hybrid_group, of))


@pytest.mark.parametrize(
    ("rule", "feature", "good"),
    [
        (protocol_suites.renegotiation, protocols.SECURE_RENEGOTIATION, True),
        (protocol_suites.compression, protocols.COMPRESSION, False),
        (protocol_suites.no_extended_secret, protocols.EXTENDED_MASTER_SECRET, True),
        (protocol_suites.no_fallback_guard, protocols.FALLBACK_GUARD, True),
        (protocol_suites.no_h2, protocols.H2, True),
        (protocol_suites.early_data, protocols.EARLY_DATA, False),
        (protocol_suites.intolerant, protocols.GREASE_TOLERANCE, True),
        (protocol_suites.intolerant, protocols.LARGE_HELLO_TOLERANCE, True),
    ],
)
def test_options(told, rule, feature, good):
    def with_(seen):
        return spoken(*AEAD, features=(Feature(feature, seen),))

    told(judged(rule, with_(Seen(good))))
    told(judged(rule, with_(Seen(not good))))
    told(judged(rule, with_(Unseen("late"))))
    told(judged(rule, spoken(*AEAD)))


# The default certificate, and endpoints side by side

OTHER = issue_server(["other.example"], intermediate(), LONG_AGO, FAR_OFF, key=key("other"))


@pytest.mark.parametrize(
    "answer",
    [
        pytest.param(handshake(), id="the-same"),
        pytest.param(handshake(OTHER, intermediate()), id="another"),
        pytest.param(Alert(2, 112), id="refused"),
        pytest.param(NoConnection("timed out", "late"), id="unknown"),
    ],
)
def test_default_differs(told, answer):
    found = case(
        endpoints=[msgspec.structs.replace(endpoint(handshake()), nameless=(Probe(Offer((TLS13,)), answer),))],
        certificates=stored(OTHER),
    )
    told(outcomes(chain.default_differs, found))
    assert outcomes(chain.default_differs, case(endpoints=[endpoint(handshake())])) == []


def two(one: Protocol, other: Protocol) -> Case:
    at = (("192.0.2.10", one), ("192.0.2.11", other))
    endpoints = [msgspec.structs.replace(endpoint(handshake(), address=where), protocol=of) for where, of in at]
    return case(names=[name(HOST, "192.0.2.10", "192.0.2.11")], endpoints=endpoints)


def test_addresses_that_differ_in_suites_groups_or_versions(told):
    same = spoken(*AEAD, groups=(GroupsSeen(TLS13, (X25519,), "one", 21),))
    told(outcomes(reach.unlike_addresses, two(same, same)))
    told(outcomes(reach.unlike_addresses, two(same, spoken(*AEAD, 0x002F))))
    told(
        outcomes(
            reach.unlike_addresses, two(same, msgspec.structs.replace(same, versions=versions(TLS13, TLS12, TLS10)))
        )
    )
    unfinished = spoken(*AEAD, 0x002F, unfinished="late")
    told(outcomes(reach.unlike_addresses, two(same, unfinished)))


# Clients


def spoken_by(protocol_seen: Protocol) -> tuple[Negotiated, ...]:
    return negotiations(Endpoint(HOST, "192.0.2.10", 443, protocol=protocol_seen))


def test_what_visitors_programs_negotiate():
    both = Protocol(
        versions(TLS13, TLS12),
        (SuitesSeen(TLS13, (0x1302, 0x1301), "server", 13), SuitesSeen(TLS12, (0xC030, 0xC02F), "client", 390)),
        groups=(GroupsSeen(TLS13, (X25519, HYBRID), "client", 21), GroupsSeen(TLS12, (X25519, P256), "server", 25)),
    )
    browser, phone, quantum = (each.title for each in CLIENTS)
    assert spoken_by(both) == (
        Negotiated(browser, TLS13, 0x1302, HYBRID),
        Negotiated(phone, TLS12, 0xC02F, P256),
        Negotiated(quantum, TLS13, 0x1302, HYBRID),
    )


def test_visitors_that_have_nothing_in_common_with_a_server():
    old = Protocol(versions(TLS10), (SuitesSeen(TLS10, (0x002F,), "one", 173),))
    browser, phone, quantum = (each.title for each in CLIENTS)
    assert spoken_by(old) == (Negotiated(browser), Negotiated(phone, TLS10, 0x002F), Negotiated(quantum))
    unknown = Protocol(versions(TLS12, unknown=TLS13), (SuitesSeen(TLS12, (), "not known", 390, "late"),))
    assert [each.is_known for each in spoken_by(unknown)] == [False, False, False]
