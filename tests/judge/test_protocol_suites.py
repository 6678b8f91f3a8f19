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
from pewter.judge.outcomes import Gap, Holds, Level, Unknown
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


def looked(of: Protocol | None, nameless: tuple[Probe, ...] = ()) -> Case:
    return case(endpoints=[msgspec.structs.replace(endpoint(handshake()), protocol=of, nameless=nameless)])


def kinds(rule, of: Protocol | None) -> list[type]:
    return [type(outcome) for outcome in outcomes(rule, looked(of))]


@pytest.mark.parametrize(
    ("seen", "expected"),
    [
        pytest.param(versions(TLS13, TLS12), [Holds] * 4, id="holds"),
        pytest.param(versions(TLS12, SSL2), [Gap, Holds, Holds, Holds], id="ssl-2"),
        pytest.param(versions(TLS12, SSL3), [Holds, Gap, Holds, Holds], id="ssl-3"),
        pytest.param(versions(TLS12, unknown=SSL3), [Holds, Unknown, Holds, Holds], id="unknown"),
    ],
)
def test_obsolete_versions_of_a_search(seen, expected):
    assert kinds(protocol.obsolete, Protocol(seen)) == expected


@pytest.mark.parametrize(
    ("suites", "why"),
    [
        ((*AEAD, 0x000A), "3DES, blocks of 64 bits: TLS_RSA_WITH_3DES_EDE_CBC_SHA"),
        ((0x0005, 0x0004), "RC4: TLS_RSA_WITH_RC4_128_SHA, TLS_RSA_WITH_RC4_128_MD5"),
        ((0x0002,), "no encryption: TLS_RSA_WITH_NULL_SHA"),
        ((0x00A6,), "nobody proves who the server is: TLS_DH_anon_WITH_AES_128_GCM_SHA256"),
        ((0x0003,), "export-grade key: TLS_RSA_EXPORT_WITH_RC4_40_MD5"),
        ((0x0009,), "key of 56 bits: TLS_RSA_WITH_DES_CBC_SHA"),
    ],
)
def test_weak_suites(suites, why):
    (gap,) = outcomes(protocol_suites.weak_suites, looked(spoken(*suites)))
    assert gap.seen == why


def test_no_suite_of_the_recommended_ones_is_weak():
    recommended = [suite for suite in table().values() if suite.by_rfc_9325.startswith("RECOMMENDED")]
    assert len(recommended) >= 4
    assert not any(protocol_suites.weakness(suite) for suite in recommended)


@pytest.mark.parametrize("rule", [protocol_suites.weak_suites, protocol_suites.no_forward_secrecy])
def test_suites_that_hold_or_are_not_known(rule):
    assert kinds(rule, spoken(*AEAD)) == [Holds]
    assert kinds(rule, spoken(*AEAD, unfinished="late")) == [Unknown]
    assert kinds(rule, None) == []


@pytest.mark.parametrize(
    ("suites", "level"),
    [((*AEAD, 0x009C), None), ((0x009C, 0x002F), Level.EXPOSES)],
    ids=["among-others", "nothing-else"],
)
def test_no_forward_secrecy(suites, level):
    (gap,) = outcomes(protocol_suites.no_forward_secrecy, looked(spoken(*suites)))
    assert gap.level is level
    assert "TLS_RSA_WITH_AES_128_GCM_SHA256" in gap.seen


@pytest.mark.parametrize(
    ("of", "expected"),
    [
        pytest.param(spoken(0xC013, 0x002F), [Gap], id="gap"),
        pytest.param(spoken(0xC013, 0xC02F), [Holds], id="one-is-enough"),
        pytest.param(spoken(0xC013, unfinished="late"), [Unknown], id="unknown"),
    ],
)
def test_cbc_only(of, expected):
    assert kinds(protocol_suites.cbc_only, of) == expected


@pytest.mark.parametrize(
    ("field", "expected", "level"),
    [
        pytest.param(Seen(None), Holds, None, id="none"),
        pytest.param(Seen(FiniteField(2048, "x")), Holds, None, id="holds-at-the-limit"),
        pytest.param(Seen(FiniteField(2047, "x")), Gap, None, id="small"),
        pytest.param(Seen(FiniteField(1024, "x")), Gap, None, id="1024"),
        pytest.param(Seen(FiniteField(1023, "x")), Gap, Level.EXPOSES, id="broken"),
        pytest.param(Unseen("late"), Unknown, None, id="unknown"),
    ],
)
def test_weak_dh(field, expected, level):
    (outcome,) = outcomes(protocol_suites.weak_dh, looked(spoken(*AEAD, finite_field=field)))
    assert type(outcome) is expected
    assert getattr(outcome, "level", None) is level


@pytest.mark.parametrize(
    ("suites", "order", "expected"),
    [
        pytest.param((0xC02F, 0x002F), "client", [Gap], id="unequal"),
        pytest.param((0xC02F, 0xC030), "client", [Holds], id="of-one-strength"),
        pytest.param((0xC02F, 0x002F), "server", [Holds], id="server"),
        pytest.param((0xC02F,), "one", [], id="one"),
    ],
)
def test_client_decides(suites, order, expected):
    assert kinds(protocol_suites.client_decides, spoken(*suites, order=order)) == expected


@pytest.mark.parametrize(
    ("groups", "unfinished", "expected"),
    [((HYBRID, X25519), "", [Holds]), ((X25519, P256), "", [Gap]), ((X25519,), "late", [Unknown])],
    ids=["hybrid", "none", "unknown"],
)
def test_no_hybrid_group(groups, unfinished, expected):
    of = spoken(*AEAD, groups=(GroupsSeen(TLS13, groups, "server", 21, unfinished),))
    assert kinds(protocol_suites.no_hybrid_group, of) == expected


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
def test_options(rule, feature, good):
    def with_(seen):
        return spoken(*AEAD, features=(Feature(feature, seen),))

    assert kinds(rule, with_(Seen(good))) == [Holds]
    assert kinds(rule, with_(Seen(not good))) == [Gap]
    assert kinds(rule, with_(Unseen("late"))) == [Unknown]
    assert kinds(rule, spoken(*AEAD)) == []


# The default certificate, and endpoints side by side

OTHER = issue_server(["other.example"], intermediate(), LONG_AGO, FAR_OFF, key=key("other"))


@pytest.mark.parametrize(
    ("answer", "expected"),
    [
        pytest.param(handshake(), [Holds], id="the-same"),
        pytest.param(handshake(OTHER, intermediate()), [Gap], id="another"),
        pytest.param(Alert(2, 112), [Holds], id="refused"),
        pytest.param(NoConnection("timed out", "late"), [Unknown], id="unknown"),
    ],
)
def test_default_differs(answer, expected):
    found = case(
        endpoints=[msgspec.structs.replace(endpoint(handshake()), nameless=(Probe(Offer((TLS13,)), answer),))],
        certificates=stored(OTHER),
    )
    assert [type(outcome) for outcome in outcomes(chain.default_differs, found)] == expected
    assert outcomes(chain.default_differs, case(endpoints=[endpoint(handshake())])) == []


def two(one: Protocol, other: Protocol) -> Case:
    at = (("192.0.2.10", one), ("192.0.2.11", other))
    endpoints = [msgspec.structs.replace(endpoint(handshake(), address=where), protocol=of) for where, of in at]
    return case(names=[name(HOST, "192.0.2.10", "192.0.2.11")], endpoints=endpoints)


def test_addresses_that_differ_in_suites_groups_or_versions():
    same = spoken(*AEAD, groups=(GroupsSeen(TLS13, (X25519,), "one", 21),))
    assert [type(each) for each in outcomes(reach.unlike_addresses, two(same, same))] == [Holds]
    (gap,) = outcomes(reach.unlike_addresses, two(same, spoken(*AEAD, 0x002F)))
    assert gap.seen == "differ: suites (192.0.2.10: no other than the rest; 192.0.2.11: RSA_WITH_AES_128_CBC_SHA)"
    (gap,) = outcomes(
        reach.unlike_addresses, two(same, msgspec.structs.replace(same, versions=versions(TLS13, TLS12, TLS10)))
    )
    assert "versions" in gap.seen
    unfinished = spoken(*AEAD, 0x002F, unfinished="late")
    assert [type(each) for each in outcomes(reach.unlike_addresses, two(same, unfinished))] == [Holds]


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
