"""The protocol look against servers with faults: old versions, intolerance, strain, and octets that are no TLS."""

import socket
import threading
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.evidence import HowEnded, Offer, Order, Seen, protocols
from pewter.octets import DecodeError
from pewter.tls.codepoints import ContentType, ExtensionType, HandshakeType
from pewter.tls.hellos import (
    Extension,
    ServerHello,
    build_message,
    build_server_hello,
    read_client_hello,
    read_offered_versions,
)
from pewter.tls.messages import build_certificate
from pewter.tls.records import MessageReader, RecordReader, build_record
from pewter.tls.ssl2 import Ssl2Hello, Ssl2Trial, build_ssl2_hello, build_ssl2_server_hello, read_ssl2_server_hello
from pewter.tls.trial import Picked, Refusal, Refused, Trial
from support.certificates import intermediate, leaf
from support.looks import PEER, at_ports, take
from support.peers import peer

RANDOM = bytes(range(64))
CHAIN = tuple(each.der for each in (leaf(PEER), intermediate()))


def read_hello(connection: socket.socket):
    """The ClientHello, or None for what is no record (SSL 2.0)."""
    opening = b""
    records, messages = RecordReader(), MessageReader()
    while octets := connection.recv(1 << 16):
        opening += octets
        if opening[0] & 0x80:
            return None
        records.feed(octets)
        while (record := records.next()) is not None:
            messages.feed(record.fragment)
        message = messages.next()
        if message is not None:
            return read_client_hello(message[1])
    return None


def answer(connection: socket.socket, version: int, suite: int) -> None:
    """ServerHello and certificates of a static-RSA exchange, as far as a probe goes."""
    flight = (
        build_server_hello(ServerHello(version, bytes(32), b"", suite, 0, ())),
        build_message(HandshakeType.CERTIFICATE, build_certificate(CHAIN)),
        build_message(HandshakeType.SERVER_HELLO_DONE, b""),
    )
    connection.sendall(b"".join(build_record(ContentType.HANDSHAKE, version, each) for each in flight))
    connection.recv(1)


def alert(connection: socket.socket, description: int, version: int = 0x0303) -> None:
    connection.sendall(build_record(ContentType.ALERT, version, bytes((2, description))))


SUITES = (0x002F, 0x0035, 0x000A)


def speaks(
    *versions: int, suites=SUITES, refuse=lambda hello, connection: False, by=lambda connection: alert(connection, 40)
):
    """A server of these versions up to TLS 1.2 with an order of its own; ``refuse`` says what it stumbles over."""

    def script(connection: socket.socket) -> None:
        hello = read_hello(connection)
        if hello is None:
            if 0x0002 in versions:
                connection.sendall(build_ssl2_server_hello(CHAIN[0], (0x010080, 0x0700C0)))
            return
        if refuse(hello, connection):
            by(connection)
            return
        common = [version for version in read_offered_versions(hello) if version in versions]
        chosen = [suite for suite in suites if suite in hello.cipher_suites]
        if not common:
            alert(connection, 70)
        elif not chosen:
            by(connection)
        else:
            answer(connection, max(common), chosen[0])

    return script


def looked_at(script, **more):
    with peer(script, 2000) as port:
        evidence = take(PEER, routes=at_ports(port), protocol=True, **{"whole": 40, "step": 3, **more})
    protocol = evidence.endpoints[0].protocol
    assert protocol is not None
    return protocol


def outcomes(protocol) -> dict[int, str]:
    return {seen.version: seen.outcome.value for seen in protocol.versions}


def test_every_old_version_and_its_suites():
    protocol = looked_at(speaks(0x0002, 0x0300, 0x0301, 0x0302, 0x0303))
    assert outcomes(protocol) == {
        0x0304: "refused",
        0x0303: "accepted",
        0x0302: "accepted",
        0x0301: "accepted",
        0x0300: "accepted",
        0x0002: "accepted",
    }
    assert {seen.version: (seen.suites, seen.order) for seen in protocol.suites} == dict.fromkeys(
        (0x0303, 0x0302, 0x0301, 0x0300), (SUITES, Order.SERVER)
    )


def test_a_server_of_ssl_3_alone_is_found_by_its_second_hello():
    protocol = looked_at(speaks(0x0300))
    assert outcomes(protocol)[0x0300] == "accepted"
    assert protocol.suites_in(0x0300).suites == SUITES


def test_a_server_of_ssl_2_alone():
    protocol = looked_at(speaks(0x0002))
    assert outcomes(protocol)[0x0002] == "accepted"
    assert protocol.suites == ()


def closes(connection: socket.socket) -> None:
    pass


def resets(connection: socket.socket) -> None:
    connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\x01\0\0\0\0\0\0\0")


@pytest.mark.parametrize("by", [closes, resets], ids=["closes", "resets"])
def test_refusing_by_ending_the_connection_is_told_from_strain(by):
    protocol = looked_at(speaks(0x0303, 0x0302, by=by))
    assert protocol.suites_in(0x0303).suites == SUITES
    assert [seen.unfinished for seen in protocol.suites] == ["", ""]
    assert not protocol.slowed_down


def has(extension: int):
    return lambda hello, connection: hello.extension(extension) is not None


@pytest.mark.parametrize(
    ("refuse", "feature", "expected"),
    [
        pytest.param(has(0x3A3A), protocols.GREASE_TOLERANCE, Seen(False), id="grease"),
        pytest.param(has(ExtensionType.PADDING), protocols.LARGE_HELLO_TOLERANCE, Seen(False), id="large"),
        pytest.param(lambda hello, connection: False, protocols.LARGE_HELLO_TOLERANCE, Seen(True), id="tolerant"),
        pytest.param(lambda hello, connection: 0x5600 in hello.cipher_suites, protocols.FALLBACK_GUARD, Seen(True), id="guard"),
        pytest.param(lambda hello, connection: False, protocols.FALLBACK_GUARD, Seen(False), id="no-guard"),
    ],
)  # fmt: skip
def test_tolerance_and_the_fallback_guard(refuse, feature, expected):
    protocol = looked_at(speaks(0x0303, 0x0302, refuse=refuse))
    assert protocol.feature(feature).seen == expected


def test_a_server_that_needs_a_short_list_of_suites():
    """It closes on the first hello for TLS 1.2 and takes the second, of another shape."""
    protocol = looked_at(speaks(0x0303, refuse=lambda hello, connection: len(hello.cipher_suites) > 20, by=closes))
    assert outcomes(protocol)[0x0303] == "accepted"


class Strained:
    """Takes a few connections, refuses for a while, and takes connections again."""

    def __init__(self, after: int, seconds: float) -> None:
        self.script = speaks(0x0303)
        self.after, self.seconds = after, seconds
        self.taken = 0
        self.until = 0.0
        self.lock = threading.Lock()

    def __call__(self, connection: socket.socket) -> None:
        with self.lock:
            self.taken += 1
            if self.taken == self.after:
                self.until = time.monotonic() + self.seconds
            refuses = time.monotonic() < self.until
        if refuses:
            resets(connection)
        else:
            self.script(connection)


def test_a_server_under_strain_is_waited_for_and_nothing_is_called_refused_for_it():
    protocol = looked_at(Strained(after=10, seconds=1.0))
    assert protocol.suites_in(0x0303).suites == SUITES
    assert protocol.suites_in(0x0303).unfinished == ""
    assert protocol.slowed_down


def test_a_server_that_stays_away_leaves_the_rest_unknown():
    protocol = looked_at(Strained(after=10, seconds=60.0))
    seen = protocol.suites_in(0x0303)
    assert seen.unfinished.startswith("the server stopped answering after")
    assert all(isinstance(feature.seen, Seen) is False or feature.seen.value for feature in protocol.features)


def test_the_deadline_leaves_what_was_found():
    def slowly(connection: socket.socket) -> None:
        time.sleep(0.3)
        speaks(0x0303)(connection)

    protocol = looked_at(slowly, whole=2.0)
    assert (
        protocol.suites_in(0x0303) is None
        or protocol.suites_in(0x0303).unfinished
        or protocol.suites_in(0x0303).suites == SUITES
    )


# One hello


OFFER = Offer((0x0303,), PEER, (0xC02F, 0x002F))


def trial(octets: bytes, *, offer: Offer = OFFER, ended: HowEnded = HowEnded.CLOSED, **more):
    client = Trial(offer, RANDOM, **more)
    client.start()
    for start in range(0, len(octets), 7):
        client.receive(octets[start : start + 7])
    client.peer_ended(ended, "over")
    return client.answer


def server_hello(version: int = 0x0303, suite: int = 0x002F, **more) -> bytes:
    return build_record(
        22, version, build_server_hello(ServerHello(version, bytes(32), b"", suite, 0, **{"extensions": (), **more}))
    )


@pytest.mark.parametrize(
    ("octets", "ended", "expected"),
    [
        pytest.param(server_hello(), HowEnded.CLOSED, Picked(0x0303, 0x002F), id="picked"),
        pytest.param(server_hello(suite=0x0035), HowEnded.CLOSED, Refused(Refusal.GARBLED, "ServerHello, octet 0: chose TLS_RSA_WITH_AES_256_CBC_SHA, which was not offered"), id="not-offered"),
        pytest.param(server_hello(0x0302), HowEnded.CLOSED, Refused(Refusal.OTHER_VERSION, "answered with TLS 1.1"), id="other-version"),
        pytest.param(build_record(21, 0x0303, b"\x02\x28"), HowEnded.CLOSED, Refused(Refusal.ALERT, alert=40), id="alert"),
        pytest.param(build_record(21, 0x0303, b"\x01\x70") + server_hello(), HowEnded.CLOSED, Picked(0x0303, 0x002F), id="warning-first"),
        pytest.param(build_record(21, 0x0303, b"\x01\x00"), HowEnded.CLOSED, Refused(Refusal.CLOSED, "the server said close_notify"), id="close-notify"),
        pytest.param(build_record(21, 0x0303, b"\x02"), HowEnded.CLOSED, Refused(Refusal.GARBLED, "alert, octet 1: 1 octets expected, 0 left"), id="half-an-alert"),
        pytest.param(b"", HowEnded.CLOSED, Refused(Refusal.CLOSED, "over"), id="closed"),
        pytest.param(b"", HowEnded.SILENT, Refused(Refusal.SILENT, "over"), id="silent"),
        pytest.param(server_hello()[:20], HowEnded.RESET, Refused(Refusal.RESET, "over"), id="reset-in-the-middle"),
        pytest.param(b"HTTP/1.1 400 Bad Request", HowEnded.CLOSED, Refused(Refusal.GARBLED, "no TLS: 48 54 54 50 2f 31 2e"), id="http"),
        pytest.param(b"\x16\x03\x03\xff\xff", HowEnded.CLOSED, Refused(Refusal.GARBLED, "record, octet 3: a record of 65535 octets; TLS allows 16384"), id="oversized"),
        pytest.param(build_record(22, 0x0303, b"") * 3 + server_hello(), HowEnded.CLOSED, Picked(0x0303, 0x002F), id="empty-records-first"),
        pytest.param(b"".join(build_record(22, 0x0303, server_hello()[5:][n : n + 1]) for n in range(len(server_hello()) - 5)), HowEnded.CLOSED, Picked(0x0303, 0x002F), id="one-octet-a-record"),
        pytest.param(build_record(23, 0x0303, b"x"), HowEnded.CLOSED, Refused(Refusal.GARBLED, "record, octet 0: content type 23 in place of ServerHello"), id="application-data"),
    ],
)  # fmt: skip
def test_one_hello(octets, ended, expected):
    assert trial(octets, ended=ended) == expected


def test_a_malformed_extension_before_the_end_is_an_answer():
    """It raised from peer_ended, and ended the whole look at the endpoint."""
    hello = server_hello(suite=0xC02F, extensions=(Extension(ExtensionType.ALPN, b"\xff"),))
    answer = trial(hello, to_key_exchange=True)
    assert isinstance(answer, Refused)
    assert answer.how == "garbled"


@given(st.binary(max_size=200), st.booleans())
def test_any_octets_end_in_an_answer(octets, framed):
    octets = build_record(22, 0x0303, octets) if framed else octets
    assert isinstance(trial(octets), Picked | Refused)
    assert trial(octets, offer=Offer((0x0304,), PEER, shares=()), to_key_exchange=True) is not None
    assert ssl2(octets) is not None


# SSL 2.0 (RFC 6101 appendix E)


def test_the_ssl_2_hello_is_of_the_form_laid_down():
    hello = build_ssl2_hello(bytes(16))
    assert hello[:5] == b"\x80\x2e\x01\x00\x02"
    assert len(hello) == 2 + 0x2E


def ssl2(octets: bytes):
    client = Ssl2Trial(bytes(16))
    client.start()
    for start in range(0, len(octets), 3):
        client.receive(octets[start : start + 3])
    client.peer_ended(HowEnded.CLOSED, "over")
    return client.answer


def test_answers_to_an_ssl_2_hello():
    assert ssl2(build_ssl2_server_hello(b"cert", (0x010080,))) == Ssl2Hello((0x010080,), b"cert")
    assert ssl2(build_ssl2_server_hello(b"", ())) == Ssl2Hello((), b"")
    assert ssl2(build_record(21, 0x0303, b"\x02\x46")) == Refused(Refusal.ALERT, "answered in a later version")
    assert ssl2(b"") == Refused(Refusal.CLOSED, "over")
    assert ssl2(b"HTTP/1.1 400").how == "garbled"
    assert ssl2(b"\x80\x03\x00\x00\x01").how == "alert"
    with pytest.raises(DecodeError):
        read_ssl2_server_hello(b"\x04\x00\x01\x03\x00")
