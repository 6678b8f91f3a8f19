"""Whole exchanges without sockets: against the ssl module's server, and against octets made by hand."""

import ssl

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pewter.evidence import Alert, Ended, Handshake, HowEnded, NotTls, Offer, Proof
from pewter.lab.authority import DAY, Issued, issue_server
from pewter.lab.old_tls import alert_protocol_version, answer_in_old_version
from pewter.lab.web_server import server_context
from pewter.tls.codepoints import ExtensionType
from pewter.tls.conversation import Conversation, fingerprint
from pewter.tls.hellos import HELLO_RETRY_RANDOM, Extension, ServerHello, build_message, build_server_hello
from pewter.tls.messages import build_certificate
from pewter.tls.records import build_record
from support.certificates import HOST, NOW, intermediate, key

RANDOM = bytes(range(64))
MODERN, TLS_1_2 = (0x0304, 0x0303), (0x0303,)


def issued(kind: str) -> Issued:
    return issue_server([HOST], intermediate(), NOW - DAY, NOW + DAY, key=key(f"server {kind}", kind))


def converse(conversation: Conversation, context: ssl.SSLContext, step: int = 1 << 16) -> None:
    """Carry octets between a conversation and the ssl module, at most ``step`` at a time towards us."""
    incoming, outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
    server = context.wrap_bio(incoming, outgoing, server_side=True)
    incoming.write(conversation.start())
    for _ in range(20_000):
        if conversation.answer is not None:
            return
        try:
            server.do_handshake()
        except ssl.SSLWantReadError:
            pass
        except ssl.SSLError:
            incoming.write_eof()
        octets = outgoing.read(step)
        incoming.write(conversation.receive(octets)) if octets else conversation.peer_ended(HowEnded.CLOSED, "end")
    raise AssertionError("the conversation does not end")


@pytest.mark.parametrize("versions", [MODERN, TLS_1_2], ids=["TLS 1.3", "TLS 1.2"])
@pytest.mark.parametrize("kind", ["RSA 2048", "P-256", "P-384", "Ed25519", "Ed448"])
@pytest.mark.parametrize("step", [1, 1 << 16], ids=["one-octet-at-a-time", "whole-flights"])
def test_against_the_ssl_module(versions, kind, step):
    server = issued(kind)
    conversation = Conversation(Offer(versions, HOST), RANDOM)
    converse(conversation, server_context((server, intermediate())), step)
    answer = conversation.answer
    assert isinstance(answer, Handshake)
    assert (answer.version, answer.proof) == (versions[0], Proof.VERIFIED)
    assert answer.chain == (fingerprint(server.der), fingerprint(intermediate().der))
    assert conversation.certificates[answer.chain[0]] == server.der


def test_alpn():
    context = server_context((issued("P-256"),))
    modern, plain = Conversation(Offer(MODERN, HOST), RANDOM), Conversation(Offer(TLS_1_2, HOST), RANDOM)
    converse(modern, context)
    converse(plain, context)
    assert modern.answer.alpn == "http/1.1"
    assert plain.answer.alpn is None


def test_retry_for_another_group():
    context = server_context((issued("P-256"),))
    context.set_ecdh_curve("secp384r1")
    conversation = Conversation(Offer(MODERN, HOST), RANDOM)
    converse(conversation, context)
    assert (conversation.answer.hello_retry, conversation.answer.group) == (True, 0x0018)
    assert conversation.answer.proof is Proof.VERIFIED


def test_certificate_request_does_not_stop_us():
    context = server_context((issued("P-256"),))
    context.verify_mode = ssl.CERT_REQUIRED
    for versions in (MODERN, TLS_1_2):
        conversation = Conversation(Offer(versions, HOST), RANDOM)
        converse(conversation, context)
        assert isinstance(conversation.answer, Handshake)


@pytest.mark.parametrize("version", [0x0301, 0x0302])
def test_old_versions_from_the_lab_s_responder(version):
    chain = (issued("RSA 2048").der, intermediate().der)
    conversation = Conversation(Offer((version,), HOST), RANDOM)
    conversation.receive(answer_in_old_version(version, chain))
    assert isinstance(conversation.answer, Handshake)
    assert (conversation.answer.version, conversation.answer.proof) == (version, Proof.NOT_GIVEN)
    refused = Conversation(Offer((version,), HOST), RANDOM)
    refused.receive(alert_protocol_version(version))
    assert refused.answer == Alert(2, 70)


# Octets made by hand


def record(message: bytes, version: int = 0x0303) -> bytes:
    return build_record(22, version, message)


def server_hello(
    version: int = 0x0303, suite: int = 0xC02F, *extensions: Extension, random: bytes = bytes(32)
) -> bytes:
    return record(build_server_hello(ServerHello(version, random, b"", suite, 0, extensions)))


CERTIFICATE = record(build_message(11, build_certificate((intermediate().der,))))
DONE = record(build_message(14, b""))
STATIC_RSA = server_hello(suite=0x009C)
TLS_1_3_HELLO = Extension(ExtensionType.SUPPORTED_VERSIONS, b"\x03\x04")


def garbled(detail: str) -> Ended:
    return Ended(HowEnded.GARBLED, detail)


@pytest.mark.parametrize(
    ("octets", "expected"),
    [
        pytest.param(b"HTTP/1.1 400 Bad Request\r\n", NotTls(b"HTTP/1.1 400 Bad Request\r\n"), id="plain-http"),
        pytest.param(b"SSH-2.0-x" + bytes(80), NotTls((b"SSH-2.0-x" + bytes(80))[:64]), id="another-protocol"),
        pytest.param(b"\x80\x2e\x04\x00", NotTls(b"\x80\x2e\x04\x00"), id="ssl-2.0-answer"),
        pytest.param(build_record(21, 0x0303, b"\x02\x28"), Alert(2, 40), id="alert"),
        pytest.param(build_record(21, 0x0303, b"\x01\x00"), Ended(HowEnded.CLOSED, "the server said close_notify"), id="close-notify"),
        pytest.param(build_record(21, 0x0303, b"\x02"), garbled("alert, octet 1: 1 octets expected, 0 left"), id="short-alert"),
        pytest.param(b"\x16\x03\x03\x40\x01", garbled("record, octet 3: a record of 16385 octets; TLS allows 16384"), id="record-of-16-kib-and-1"),
        pytest.param(STATIC_RSA + b"\x99\x99\x99\x99\x99\x99", garbled("record, octet 3: a record of 39321 octets; TLS allows 16384"), id="garbage-after-the-hello"),
        pytest.param(STATIC_RSA + b"GET ", Ended(HowEnded.CLOSED, "end, in the middle of a record (4 octets of it had come)"), id="text-after-the-hello"),
        pytest.param(server_hello(0x0301, 0x002F), Ended(HowEnded.OTHER_VERSION, "answered with TLS 1.0, which was not asked for"), id="another-version"),
        pytest.param(server_hello(suite=0x0001), garbled("ServerHello, octet 0: chose TLS_RSA_WITH_NULL_MD5, which was not offered"), id="suite-not-offered"),
        pytest.param(server_hello(suite=0x1301), garbled("ServerHello, octet 0: TLS_AES_128_GCM_SHA256 is a TLS 1.3 suite"), id="suite-of-another-version"),
        pytest.param(server_hello(0x0303, 0x1301, TLS_1_3_HELLO, Extension(51, bytes.fromhex("11ec0001aa"))), garbled("ServerHello, octet 0: a key share of group 0x11EC, which was not offered"), id="group-not-offered"),
        pytest.param(server_hello(0x0303, 0x1301, TLS_1_3_HELLO, random=HELLO_RETRY_RANDOM), garbled("HelloRetryRequest, octet 0: it asks for no change"), id="retry-without-a-wish"),
        pytest.param(
            server_hello(0x0303, 0x1301, TLS_1_3_HELLO, Extension(51, b"\x00\x1d"), random=HELLO_RETRY_RANDOM),
            garbled("HelloRetryRequest, octet 0: asks for group 0x001D, which it may not"),
            id="retry-for-a-group-it-has",
        ),
        pytest.param(STATIC_RSA + DONE, garbled("handshake, octet 0: message type 14 out of turn"), id="no-certificate"),
        pytest.param(STATIC_RSA + record(build_message(11, build_certificate(()))), garbled("Certificate, octet 0: a list without any certificate"), id="empty-list"),
        pytest.param(record(b"\x0b\x7f\xff\xff"), garbled("handshake message, octet 1: a message of 8,388,607 octets; browsers stop at about 100 KB"), id="oversized-message"),
        pytest.param(build_record(23, 0x0303, bytes(40)), garbled("record, octet 0: application data before any keys"), id="application-data"),
        pytest.param(b"", Ended(HowEnded.CLOSED, "end"), id="closed-at-once"),
        pytest.param(STATIC_RSA[:9], Ended(HowEnded.CLOSED, "end, in the middle of a record (9 octets of it had come)"), id="cut"),
    ],
)  # fmt: skip
def test_what_goes_wrong_is_an_answer(octets, expected):
    conversation = Conversation(Offer(MODERN, HOST), RANDOM)
    conversation.receive(octets)
    conversation.peer_ended(HowEnded.CLOSED, "end")
    assert conversation.answer == expected


def test_warning_alert_does_not_stop_a_tls_1_2_exchange():
    conversation = Conversation(Offer(TLS_1_2, HOST), RANDOM)
    conversation.receive(build_record(21, 0x0303, b"\x01\x70") + STATIC_RSA + CERTIFICATE + DONE)
    assert isinstance(conversation.answer, Handshake)


def test_certificates_count_even_when_the_exchange_breaks_after_them():
    conversation = Conversation(Offer(TLS_1_2, HOST), RANDOM)
    conversation.receive(STATIC_RSA + CERTIFICATE)
    conversation.peer_ended(HowEnded.RESET, "the connection was reset")
    assert conversation.answer.chain == (fingerprint(intermediate().der),)


def test_messages_that_share_and_span_records():
    flight = b"".join(each[5:] for each in (STATIC_RSA, CERTIFICATE, DONE))
    pieces = b"".join(record(flight[start : start + 100]) for start in range(0, len(flight), 100))
    conversation = Conversation(Offer(TLS_1_2, HOST), RANDOM)
    conversation.receive(record(b"") + pieces)
    assert isinstance(conversation.answer, Handshake)


def test_certificate_that_does_not_parse_is_kept_as_it_came():
    conversation = Conversation(Offer(TLS_1_2, HOST), RANDOM)
    conversation.receive(STATIC_RSA + record(build_message(11, build_certificate((b"rubbish",)))) + DONE)
    assert conversation.certificates == {fingerprint(b"rubbish"): b"rubbish"}


def test_many_certificates_and_a_wish_for_one_are_facts():
    """Chains are bounded in octets, as browsers bound them, not in number."""
    certificates = build_message(11, build_certificate((b"x" * 1000,) * 110))
    pieces = b"".join(record(certificates[start : start + 16000]) for start in range(0, len(certificates), 16000))
    conversation = Conversation(Offer(TLS_1_2, HOST), RANDOM)
    conversation.receive(STATIC_RSA + pieces + record(build_message(13, b"")) + DONE)
    answer = conversation.answer
    assert (len(answer.chain), answer.certificate_octets, answer.wants_client_certificate) == (110, 110_333, True)


def test_stapled_response_of_tls_1_2_is_kept_unread():
    hello = server_hello(0x0303, 0x009C, Extension(5, b""))
    status = record(build_message(22, b"\x01\x00\x00\x03abc"))
    conversation = Conversation(Offer(MODERN, HOST), RANDOM)
    conversation.receive(hello + CERTIFICATE + status + DONE)
    assert conversation.answer.staple == b"abc"


@settings(max_examples=300)
@given(st.binary(max_size=400), st.sampled_from([b"", STATIC_RSA, STATIC_RSA + CERTIFICATE]))
def test_hostile_octets_end_in_an_answer(octets, opening):
    conversation = Conversation(Offer(MODERN, HOST), RANDOM)
    conversation.receive(opening + b"\x16\x03\x03" + len(octets).to_bytes(2, "big") + octets)
    conversation.receive(octets)
    conversation.peer_ended(HowEnded.CLOSED, "end")
    assert conversation.answer is not None
