"""The protocol picture, whole."""

import msgspec

from pewter.evidence import (
    Feature,
    FiniteField,
    GroupsSeen,
    Order,
    Protocol,
    Seen,
    SuitesSeen,
    Unseen,
    VersionOutcome,
    VersionSeen,
    protocols,
)
from pewter.judge.review import make_review
from pewter.report.protocol import render_protocols
from pewter.report.sheet import ASCII, UNICODE, Sheet
from support.cases import case, endpoint, handshake, name
from support.certificates import HOST

OTHER = "tickets.marram-ferries.example"
GOOD = Protocol(
    (
        VersionSeen(0x0304, VersionOutcome.ACCEPTED),
        VersionSeen(0x0303, VersionOutcome.ACCEPTED),
        VersionSeen(0x0302, VersionOutcome.REFUSED, "closed"),
    ),
    (SuitesSeen(0x0304, (0x1302, 0x1301), Order.SERVER, 13), SuitesSeen(0x0303, (0xC02B,), Order.ONE, 390)),
    groups=(GroupsSeen(0x0304, (0x11EC, 0x001D), Order.SERVER, 21), GroupsSeen(0x0303, (0x001D,), Order.ONE, 25)),
    features=(Feature(protocols.H2, Seen(True)),),
    connections=60,
)
OLD = Protocol(
    (
        VersionSeen(0x0304, VersionOutcome.REFUSED),
        VersionSeen(0x0303, VersionOutcome.UNKNOWN, "late"),
        VersionSeen(0x0301, VersionOutcome.ACCEPTED),
    ),
    (SuitesSeen(0x0301, (0xC013, 0x002F, 0x0005), Order.CLIENT, 173, "the server stopped answering"),),
    groups=(GroupsSeen(0x0301, (0x0017,), Order.ONE, 25),),
    finite_field=Seen(FiniteField(1024, "x")),
    features=(Feature(protocols.H2, Unseen("late")), Feature(protocols.COMPRESSION, Seen(False))),
    connections=80,
    slowed_down=True,
)


def picture(of: dict[str, Protocol], marks=UNICODE) -> str:
    endpoints = [msgspec.structs.replace(endpoint(handshake(), host=host), protocol=each) for host, each in of.items()]
    looked = case(names=[name(host) for host in of], endpoints=endpoints)
    sheet = Sheet(100, marks)
    render_protocols(sheet, make_review(looked).results.protocols)
    return sheet.text.plain


def test_equal_endpoints_are_one_and_a_good_one_takes_two_lines():
    assert picture({HOST: GOOD, OTHER: GOOD}) == (
        "\nProtocol  as each address speaks it\n"
        f"  ✓ {HOST}, {OTHER}  120 connections\n"
        "    TLS 1.3, TLS 1.2 · 3 suites · X25519MLKEM768, X25519 · h2\n"
    )


def test_the_whole_picture_of_an_old_server():
    assert picture({HOST: OLD}, ASCII) == (
        "\nProtocol  as each address speaks it\n"
        f"  E {HOST}  80 connections, slowed down\n"
        "    versions  no TLS 1.3   ? TLS 1.2   + TLS 1.0\n"
        "    TLS 1.0   3 suites, the client decides, the server stopped answering\n"
        "              CBC: ECDHE_RSA_WITH_AES_128_CBC_SHA\n"
        "              no forward secrecy: RSA_WITH_AES_128_CBC_SHA\n"
        "              weak: RSA_WITH_RC4_128_SHA\n"
        "    groups    TLS 1.0: P-256\n"
        "              finite field of 1024 bits, a prime of its own\n"
        "    options   h2: not known, no compression\n"
        "    clients   current browser: not known\n"
        "              old phone (TLS 1.2 at most): TLS 1.0, ECDHE_RSA_WITH_AES_128_CBC_SHA, P-256\n"
        "              post-quantum only: nothing in common\n"
    )
