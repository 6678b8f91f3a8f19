"""One hello of a search: only what the server picks is wanted, and nothing is finished.

Many such hellos are sent to learn what a server accepts, so each ends as soon as the answer is there: at
ServerHello, or for the parameters of a key exchange before TLS 1.3 at ServerKeyExchange.
"""

import enum
from dataclasses import dataclass, field

import msgspec

from pewter.evidence import HowEnded, Offer
from pewter.octets import DecodeError, Reader

from .codepoints import AlertDescription, ExtensionType, HandshakeType, Version, alert_name, version_name
from .hellos import ServerHello, build_client_hello, read_server_hello
from .messages import ServerKeyExchange, read_alpn, read_server_key_exchange
from .offers import EMPTY_RENEGOTIATION_INFO_SCSV, make_hello
from .records import build_opening
from .shares import make_share
from .stream import AlertSent, Message, Other, Stream
from .suites import suite_name, table

_FATAL = 2


class Picked(msgspec.Struct, frozen=True):
    """The server agreed."""

    version: int
    suite: int
    group: int | None = None
    """Of key_share or HelloRetryRequest in TLS 1.3, of ServerKeyExchange before."""

    hello_retry: bool = False
    extensions: tuple[int, ...] = ()
    compression: int = 0
    alpn: str | None = None
    prime: bytes = b""
    """Of a finite-field exchange, without leading zeros."""

    scheme: int | None = None


class Refusal(enum.Enum):
    """How a server would not."""

    ALERT = "alert"
    CLOSED = "closed"
    RESET = "reset"
    SILENT = "no answer"
    OTHER_VERSION = "other version"
    GARBLED = "garbled"

    @classmethod
    def of(cls, ended: HowEnded) -> "Refusal":
        return cls.SILENT if ended is HowEnded.SILENT else cls(ended.value)


class Refused(msgspec.Struct, frozen=True):
    """The server would not, and said so by an alert, or by ending the connection."""

    kind: Refusal
    detail: str = ""
    alert: int | None = None
    """Its description (RFC 8446 section 6)."""

    @property
    def how(self) -> str:
        """``alert handshake_failure``, ``closed``, ``other version``."""
        return f"alert {alert_name(self.alert)}" if self.alert is not None else self.kind.value

    @property
    def is_alert(self) -> bool:
        """It was said in octets, and not by an end alone."""
        return self.kind in {Refusal.ALERT, Refusal.OTHER_VERSION, Refusal.GARBLED}

    @property
    def is_of_version(self) -> bool:
        """It speaks of the version alone."""
        return self.kind is Refusal.OTHER_VERSION or self.alert == AlertDescription.PROTOCOL_VERSION


Outcome = Picked | Refused


@dataclass
class Trial:
    """A sans-I/O client for one hello of a search, driven like a Conversation."""

    offer: Offer
    random: bytes
    """64 octets."""

    to_key_exchange: bool = False
    """Before TLS 1.3, read on to ServerKeyExchange."""

    answer: Outcome | None = None
    _stream: Stream = field(default_factory=Stream)
    _hello: ServerHello | None = None
    _alpn: str | None = None
    _offered: tuple[int, ...] = ()

    def start(self) -> bytes:
        shares = tuple(make_share(group) for group in self.offer.shares or ())
        hello = make_hello(self.offer, self.random[:32], self.random[32:64], shares)
        self._offered = hello.cipher_suites
        message = build_client_hello(hello)
        return build_opening(message, self.offer.versions)

    def receive(self, octets: bytes) -> bytes:
        """Take what the peer sent; nothing is ever sent back."""
        if self.answer is not None or not octets:
            return b""
        stream = self._stream
        stream.feed(octets)
        if not stream.is_tls:
            self.answer = Refused(Refusal.GARBLED, f"no TLS: {stream.opening[:8].hex(' ')}")
            return b""
        try:
            while self.answer is None and (said := stream.next()) is not None:
                self._take(said)
        except DecodeError as exc:
            if self._hello is not None:
                self._conclude(None)  # what it chose is known, whatever it garbled afterwards
            else:
                self.answer = Refused(Refusal.GARBLED, str(exc))
        return b""

    def peer_ended(self, how: HowEnded, detail: str) -> None:
        if self.answer is None:
            if self._hello is not None:
                self._conclude(None)
            else:
                self.answer = Refused(Refusal.of(how), detail)

    def _take(self, said: Message | AlertSent | Other) -> None:
        match said:
            case AlertSent(level=level, description=description):
                if level == _FATAL or description == 0:
                    self._take_alert(description)
            case Message(type=message_type, body=body):
                self._take_message(message_type, body)
            case Other(type=content_type) if self._hello is None:
                raise DecodeError("record", 0, f"content type {content_type} in place of ServerHello")

    def _take_alert(self, description: int) -> None:
        if self._hello is not None:
            self._conclude(None)
        elif description == 0:
            self.answer = Refused(Refusal.CLOSED, "the server said close_notify")
        else:
            self.answer = Refused(Refusal.ALERT, alert=description)

    def _take_message(self, message_type: int, body: bytes) -> None:
        if self._hello is None:
            if message_type != HandshakeType.SERVER_HELLO:
                raise DecodeError("handshake", 0, f"message type {message_type} in place of ServerHello")
            self._take_server_hello(read_server_hello(body))
        elif message_type == HandshakeType.SERVER_KEY_EXCHANGE:
            suite = table().get(self._hello.cipher_suite)
            elliptic = suite is not None and suite.key_exchange == "ECDHE"
            signed = suite is None or suite.authentication != "none"
            self._conclude(read_server_key_exchange(body, self._hello.version, elliptic=elliptic, signed=signed))
        elif message_type == HandshakeType.SERVER_HELLO_DONE:
            self._conclude(None)

    def _take_server_hello(self, hello: ServerHello) -> None:
        if hello.version not in self.offer.versions:
            self.answer = Refused(Refusal.OTHER_VERSION, f"answered with {version_name(hello.version)}")
            return
        if hello.cipher_suite not in self._offered or hello.cipher_suite == EMPTY_RENEGOTIATION_INFO_SCSV:
            raise DecodeError("ServerHello", 0, f"chose {suite_name(hello.cipher_suite)}, which was not offered")
        self._alpn = read_alpn(hello.extension(ExtensionType.ALPN))
        self._hello = hello
        suite = table().get(hello.cipher_suite)
        ephemeral = suite is not None and suite.key_exchange in {"ECDHE", "DHE"}
        if hello.version == Version.TLS_1_3 or not (self.to_key_exchange and ephemeral):
            self._conclude(None)

    def _conclude(self, exchange: ServerKeyExchange | None) -> None:
        hello = self._hello
        assert hello is not None
        group = exchange.group if exchange is not None else None
        if hello.version == Version.TLS_1_3:
            share = hello.extension(ExtensionType.KEY_SHARE)
            group = Reader(share, "key_share").uint(2) if share is not None else None
        self.answer = Picked(
            version=hello.version,
            suite=hello.cipher_suite,
            group=group,
            hello_retry=hello.is_hello_retry,
            extensions=tuple(each.type for each in hello.extensions),
            compression=hello.compression_method,
            alpn=self._alpn,
            prime=exchange.prime if exchange is not None else b"",
            scheme=exchange.scheme if exchange is not None else None,
        )
