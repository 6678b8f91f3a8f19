"""One exchange with a server, from our hello to its certificates; octets in, octets out.

The course (RFC 8446 section 2, RFC 5246 section 7.3):

    hello sent --ServerHello 1.2 or below--> certificates in the clear --ServerHelloDone--> done
        |
        +--ServerHello 1.3--> EncryptedExtensions, Certificate, CertificateVerify under handshake keys --> done
        |
        +--HelloRetryRequest--> second hello with the share that was asked for, once

Whatever goes wrong on the way ends in a value of evidence, never in an exception: the peer's
mistakes are what a review is about.
"""

import hashlib
from collections.abc import Callable

from pewter.evidence import Alert, Ended, Handshake, HowEnded, NotTls, Offer, Proof
from pewter.octets import DecodeError, Reader

from .codepoints import (
    AlertDescription,
    ContentType,
    ExtensionType,
    Group,
    HandshakeType,
    Version,
    alert_name,
    version_name,
)
from .hellos import ServerHello, build_client_hello, build_message, read_extensions, read_server_hello
from .messages import (
    CertificateMessage,
    read_alpn,
    read_certificate,
    read_certificate_1_3,
    read_certificate_status,
    read_certificate_verify,
    read_server_key_exchange,
)
from .offers import FIRST_SHARES, GROUPS, make_hello
from .proof import certificate_verify_content, verify_proof
from .records import build_opening, build_record
from .schedule import (
    RecordProtection,
    client_handshake_traffic_secret,
    digest,
    finished_value,
    message_hash,
    server_application_traffic_secret,
    server_handshake_traffic_secret,
    suite_hash,
)
from .shares import COMPUTED_GROUPS, KeyShare, make_share
from .stream import AlertSent, Message, Other, Stream
from .suites import suite_name, table

_FATAL = 2

ConversationAnswer = Handshake | Alert | Ended | NotTls


class Conversation:
    """A sans-I/O TLS client for one hello.

    Send what :meth:`start` and :meth:`receive` return, until :attr:`answer` is set; where the stream
    ends first, say so with :meth:`peer_ended`.  ``random`` is 64 octets: the hello's random and session id.
    """

    def __init__(
        self,
        offer: Offer,
        random: bytes,
        share_maker: Callable[[int], KeyShare] = make_share,
        *,
        finish: bool = False,
    ) -> None:
        self.offer = offer
        self.answer: ConversationAnswer | None = None
        self.certificates: dict[str, bytes] = {}
        """DER octets by fingerprint, of every certificate that came."""

        self._random = random
        self._share_maker = share_maker
        with_tls_1_3 = Version.TLS_1_3 in offer.versions
        wanted = offer.shares if offer.shares is not None else tuple(map(int, FIRST_SHARES))
        self._shares = {group: share_maker(group) for group in wanted} if with_tls_1_3 else {}
        self.tickets: tuple[int, ...] = ()
        """max_early_data_size of each session ticket; only where the handshake is to be finished."""

        self.finished = False
        self._finish = finish
        self._secret = b""
        self._hellos = b""
        self._hello = make_hello(offer, random[:32], random[32:64], tuple(self._shares.values()))
        self._transcript = build_client_hello(self._hello)
        self._stream = Stream()
        self._server_hello: ServerHello | None = None
        self._retried = False
        self._message: CertificateMessage | None = None
        self._certificate_octets = 0
        self._wants_client_certificate = False
        self._staple: bytes | None = None
        self._timestamps: bytes | None = None
        self._proof = Proof.NOT_GIVEN
        self._scheme: int | None = None
        self._group: int | None = None
        self._alpn: str | None = None
        self._extensions: tuple[int, ...] = ()

    def start(self) -> bytes:
        """The octets that open the exchange."""
        return build_opening(self._transcript, self.offer.versions)

    def receive(self, octets: bytes) -> bytes:
        """Take what the peer sent; returns what is to be sent back, which is mostly nothing."""
        if self.answer is not None or not octets:
            return b""
        stream = self._stream
        stream.feed(octets)
        if not stream.is_tls and self._server_hello is None:
            self.answer = NotTls(stream.opening)
            return b""
        reply = b""
        try:
            while self.answer is None and (said := stream.next()) is not None:
                reply += self._take(said)
        except DecodeError as exc:
            self._end(HowEnded.GARBLED, str(exc))
        return reply

    def peer_ended(self, how: HowEnded, detail: str) -> None:
        """The stream ended: ``how`` is ``closed``, ``reset`` or ``silent``."""
        if self.answer is None:
            if self._stream.pending_record:
                detail += f", in the middle of a record ({self._stream.pending_record} octets of it had come)"
            self._end(how, detail)

    def _end(self, how: HowEnded, detail: str) -> None:
        """Break off; where the certificates had come already, they are the answer all the same."""
        if self._message is not None and self._server_hello is not None:
            self._conclude()
        else:
            self.answer = Ended(how, detail)

    def _take(self, said: Message | AlertSent | Other) -> bytes:
        match said:
            case Message(type=message_type, body=body):
                return self._take_message(message_type, body)
            case AlertSent(level=level, description=description):
                self._take_alert(level, description)
            case Other(type=ContentType.CHANGE_CIPHER_SPEC):
                pass  # middlebox compatibility (RFC 8446 appendix D.4)
            case Other(type=ContentType.APPLICATION_DATA) if self._stream.protection is None:
                raise DecodeError("record", 0, "application data before any keys")
            case Other(type=ContentType.APPLICATION_DATA) if self.finished:
                self._conclude()  # the server speaks first, as in HTTP/2: the handshake is over for certain
            case Other(type=content_type):
                raise DecodeError("record", 0, f"content type {content_type} within the handshake")
        return b""

    def _take_alert(self, level: int, description: int) -> None:
        if description == AlertDescription.CLOSE_NOTIFY:
            self._end(HowEnded.CLOSED, "the server said close_notify")
        elif level == _FATAL or self._stream.protection is not None:
            if self._message is not None:
                self._end(HowEnded.CLOSED, f"alert {alert_name(description)}")
            else:
                self.answer = Alert(level, description)
        # Any other is a warning, as unrecognized_name: it must not stop a TLS 1.2 client (RFC 6066 section 3).

    def _take_message(self, message_type: int, body: bytes) -> bytes:
        raw = build_message(message_type, body)
        if self._server_hello is None:
            if message_type != HandshakeType.SERVER_HELLO:
                raise DecodeError("handshake", 0, f"message type {message_type} in place of ServerHello")
            return self._take_server_hello(read_server_hello(body), raw)
        if self._stream.protection is not None:
            if message_type == HandshakeType.FINISHED and self._finish and self._message is not None:
                return self._take_finished(body, raw)
            self._take_protected(message_type, body)
        else:
            self._take_clear(message_type, body)
        self._transcript += raw
        return b""

    def _take_server_hello(self, hello: ServerHello, raw: bytes) -> bytes:
        version = hello.version
        if version not in self.offer.versions:
            # A hello without supported_versions allows every version below it (RFC 8446 section 4.2.1),
            # so this conforms there; it is no answer to what was asked, though.
            self.answer = Ended(
                HowEnded.OTHER_VERSION, f"answered with {version_name(version)}, which was not asked for"
            )
            return b""
        if hello.cipher_suite not in self._hello.cipher_suites:
            raise DecodeError("ServerHello", 0, f"chose {suite_name(hello.cipher_suite)}, which was not offered")
        self._extensions = tuple(extension.type for extension in hello.extensions)
        if version == Version.TLS_1_3:
            if hello.cipher_suite >> 8 != 0x13:
                raise DecodeError("ServerHello", 0, f"{suite_name(hello.cipher_suite)} is no TLS 1.3 suite")
            if hello.is_hello_retry:
                return self._retry(hello, raw)
            self._change_keys(hello, raw)
        elif hello.cipher_suite >> 8 == 0x13:
            raise DecodeError("ServerHello", 0, f"{suite_name(hello.cipher_suite)} is a TLS 1.3 suite")
        self._alpn = read_alpn(hello.extension(ExtensionType.ALPN)) or self._alpn
        self._timestamps = hello.extension(ExtensionType.SIGNED_CERTIFICATE_TIMESTAMP) or None
        self._server_hello = hello
        self._transcript += raw if self._stream.protection is None else b""
        return b""

    def _retry(self, hello: ServerHello, raw: bytes) -> bytes:
        if self._retried:
            raise DecodeError("HelloRetryRequest", 0, "a second one in one exchange")
        wanted = hello.extension(ExtensionType.KEY_SHARE)
        cookie = hello.extension(ExtensionType.COOKIE)
        if wanted is None and cookie is None:
            raise DecodeError("HelloRetryRequest", 0, "it asks for no change")
        if wanted is not None:
            reader = Reader(wanted, "key_share")
            group = reader.uint(2)
            reader.end()
            offered = self.offer.groups if self.offer.groups is not None else GROUPS
            if group in self._shares or group not in COMPUTED_GROUPS.intersection(offered):
                raise DecodeError("HelloRetryRequest", 0, f"asks for group 0x{group:04X}, which it may not")
            self._shares = {group: self._share_maker(Group(group))}
        self._retried = True
        algorithm = suite_hash(hello.cipher_suite)
        second = make_hello(
            self.offer,
            self._random[:32],
            self._random[32:64],
            tuple(self._shares.values()),
            Reader(cookie, "cookie").vector(2) if cookie is not None else None,
        )
        message = build_client_hello(second)
        self._transcript = message_hash(algorithm, self._transcript) + raw + message
        return build_opening(message, self.offer.versions)

    def _change_keys(self, hello: ServerHello, raw: bytes) -> None:
        reader = Reader(hello.extension(ExtensionType.KEY_SHARE) or b"", "key_share")
        group, peer = reader.uint(2), reader.vector(2)
        reader.end()
        if group not in self._shares:
            raise DecodeError("ServerHello", 0, f"a key share of group 0x{group:04X}, which was not offered")
        if self._stream.pending_message:
            raise DecodeError("ServerHello", 0, "more octets in its record, across a change of keys")
        self._group = group
        self._transcript += raw
        self._secret, self._hellos = self._shares[group].agree(peer), self._transcript
        secret = server_handshake_traffic_secret(suite_hash(hello.cipher_suite), self._secret, self._hellos)
        self._stream.protection = RecordProtection(hello.cipher_suite, secret)

    def _take_finished(self, body: bytes, raw: bytes) -> bytes:
        """Answer the server's Finished with ours, and go on to read under the application keys."""
        assert self._server_hello is not None
        suite = self._server_hello.cipher_suite
        algorithm = suite_hash(suite)
        expected = finished_value(
            algorithm, server_handshake_traffic_secret(algorithm, self._secret, self._hellos), self._transcript
        )
        if body != expected:
            raise DecodeError("Finished", 0, "it does not fit the handshake")
        self._transcript += raw
        client_secret = client_handshake_traffic_secret(algorithm, self._secret, self._hellos)
        value = finished_value(algorithm, client_secret, self._transcript)
        message = build_message(HandshakeType.FINISHED, value)
        ours = RecordProtection(suite, client_secret)
        application = server_application_traffic_secret(algorithm, self._secret, self._transcript)
        self._stream.protection = RecordProtection(suite, application)
        self.finished = True
        change = build_record(ContentType.CHANGE_CIPHER_SPEC, Version.TLS_1_2, b"\x01")
        return change + ours.seal(ContentType.HANDSHAKE, message)

    def _take_ticket(self, body: bytes) -> None:
        """NewSessionTicket (RFC 8446 section 4.6.1): its early_data says how much may be sent without a round trip."""
        reader = Reader(body, "NewSessionTicket")
        reader.take(8)
        reader.vector(1)
        reader.vector(2)
        extensions = read_extensions(reader.vector(2))
        early = next((each.body for each in extensions if each.type == ExtensionType.EARLY_DATA), b"")
        self.tickets = (*self.tickets, int.from_bytes(early[:4], "big"))
        self._conclude()

    def _take_protected(self, message_type: int, body: bytes) -> None:
        """Messages of TLS 1.3 after ServerHello."""
        assert self._server_hello is not None
        match message_type:
            case HandshakeType.ENCRYPTED_EXTENSIONS:
                extensions = read_extensions(Reader(body, "EncryptedExtensions").vector(2))
                self._extensions += tuple(extension.type for extension in extensions)
                for extension in extensions:
                    if extension.type == ExtensionType.ALPN:
                        self._alpn = read_alpn(extension.body)
            case HandshakeType.CERTIFICATE_REQUEST:
                self._wants_client_certificate = True  # it sends its own all the same
            case HandshakeType.CERTIFICATE:
                self._keep(read_certificate_1_3(body), len(body))
            case HandshakeType.CERTIFICATE_VERIFY if self._message is not None:
                self._scheme, signature = read_certificate_verify(body)
                hashed = digest(suite_hash(self._server_hello.cipher_suite), self._transcript)
                content = certificate_verify_content(hashed)
                self._proof = verify_proof(self._message.chain[0], self._scheme, signature, content)
                if not self._finish:
                    self._conclude()
            case HandshakeType.NEW_SESSION_TICKET if self.finished:
                self._take_ticket(body)
            case _:
                raise DecodeError("handshake", 0, f"message type {message_type} out of turn")

    def _take_clear(self, message_type: int, body: bytes) -> None:
        """Messages of TLS 1.2 and below after ServerHello."""
        assert self._server_hello is not None
        match message_type:
            case HandshakeType.CERTIFICATE:
                self._keep(read_certificate(body), len(body))
            case HandshakeType.CERTIFICATE_STATUS:
                self._staple = read_certificate_status(body)
            case HandshakeType.SERVER_KEY_EXCHANGE if self._message is not None:
                suite = table()[self._server_hello.cipher_suite]
                exchange = read_server_key_exchange(
                    body, self._server_hello.version, elliptic=suite.key_exchange == "ECDHE"
                )
                self._group, self._scheme = exchange.group, exchange.scheme
                content = self._hello.random + self._server_hello.random + exchange.params
                self._proof = verify_proof(self._message.chain[0], exchange.scheme, exchange.signature, content)
            case HandshakeType.CERTIFICATE_REQUEST:
                self._wants_client_certificate = True
            case HandshakeType.SERVER_HELLO_DONE if self._message is not None:
                self._conclude()
            case _:
                raise DecodeError("handshake", 0, f"message type {message_type} out of turn")

    def _keep(self, message: CertificateMessage, octets: int) -> None:
        if self._message is not None:
            raise DecodeError("Certificate", 0, "a second one in one exchange")
        if not message.chain:
            raise DecodeError("Certificate", 0, "a list without any certificate")
        self._message, self._certificate_octets = message, octets
        self._staple = message.staple
        self._timestamps = message.signed_timestamps or self._timestamps
        self.certificates = {fingerprint(der): der for der in message.chain}

    def _conclude(self) -> None:
        assert self._server_hello is not None
        assert self._message is not None
        self.answer = Handshake(
            version=self._server_hello.version,
            cipher_suite=self._server_hello.cipher_suite,
            chain=tuple(fingerprint(der) for der in self._message.chain),
            group=self._group,
            alpn=self._alpn,
            staple=self._staple,
            signed_timestamps=self._timestamps,
            signature_scheme=self._scheme,
            proof=self._proof,
            hello_retry=self._retried,
            extensions=self._extensions,
            certificate_octets=self._certificate_octets,
            wants_client_certificate=self._wants_client_certificate,
        )


def fingerprint(der: bytes) -> str:
    """SHA-256 of the DER octets as 64 hexadecimal digits, by which evidence refers to a certificate."""
    return hashlib.sha256(der).hexdigest()
