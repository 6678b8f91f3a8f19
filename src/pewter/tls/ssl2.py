"""SSL 2.0's own hello, far enough to see whether a server still speaks it (RFC 6101 appendix E; RFC 6176 forbids it).

The protocol shares nothing with its successors: lengths of two or three octets in place of records,
cipher kinds of three octets, and no extensions.
"""

from dataclasses import dataclass, field

import msgspec

from pewter.evidence import HowEnded
from pewter.octets import DecodeError, Reader

from .codepoints import Version
from .trial import Refusal, Refused

_CLIENT_HELLO, _SERVER_HELLO, _ERROR = 1, 4, 0
_MAX_HELLO = 1 << 15

CIPHER_KINDS = {
    0x010080: "RC4_128_WITH_MD5",
    0x020080: "RC4_128_EXPORT40_WITH_MD5",
    0x030080: "RC2_128_CBC_WITH_MD5",
    0x040080: "RC2_128_CBC_EXPORT40_WITH_MD5",
    0x050080: "IDEA_128_CBC_WITH_MD5",
    0x060040: "DES_64_CBC_WITH_MD5",
    0x0700C0: "DES_192_EDE3_CBC_WITH_MD5",
}


class Ssl2Hello(msgspec.Struct, frozen=True):
    """A server's SSL 2.0 hello."""

    ciphers: tuple[int, ...]
    """Cipher kinds that both sides have; a server may speak the protocol and have none."""

    certificate: bytes


def build_ssl2_hello(challenge: bytes) -> bytes:
    """A CLIENT-HELLO with every cipher kind; ``challenge`` holds 16 octets."""
    kinds = b"".join(kind.to_bytes(3, "big") for kind in CIPHER_KINDS)
    body = bytes((_CLIENT_HELLO,)) + int(Version.SSL_2_0).to_bytes(2, "big")
    body += len(kinds).to_bytes(2, "big") + b"\x00\x00" + len(challenge).to_bytes(2, "big") + kinds + challenge
    return (0x8000 | len(body)).to_bytes(2, "big") + body


def build_ssl2_server_hello(certificate: bytes, ciphers: tuple[int, ...]) -> bytes:
    """A SERVER-HELLO as the lab sends it."""
    kinds = b"".join(kind.to_bytes(3, "big") for kind in ciphers)
    body = bytes((_SERVER_HELLO, 0, 1)) + int(Version.SSL_2_0).to_bytes(2, "big")
    body += b"".join(len(part).to_bytes(2, "big") for part in (certificate, kinds, bytes(16)))
    body += certificate + kinds + bytes(16)
    return (0x8000 | len(body)).to_bytes(2, "big") + body


def read_ssl2_server_hello(body: bytes) -> Ssl2Hello:
    """Read a message without its length; DecodeError for anything but a SERVER-HELLO of SSL 2.0."""
    reader = Reader(body, "SERVER-HELLO")
    if reader.uint(1) != _SERVER_HELLO:
        raise DecodeError("SERVER-HELLO", 0, f"message type {body[0]}")
    reader.take(2)
    if reader.uint(2) != Version.SSL_2_0:
        raise DecodeError("SERVER-HELLO", 3, "another version than SSL 2.0")
    certificate_length, kinds_length, id_length = reader.uint(2), reader.uint(2), reader.uint(2)
    certificate, kinds = reader.take(certificate_length), reader.take(kinds_length)
    reader.take(id_length)
    reader.end()
    whole = kinds[: len(kinds) // 3 * 3]
    return Ssl2Hello(
        tuple(int.from_bytes(whole[start : start + 3], "big") for start in range(0, len(whole), 3)), certificate
    )


@dataclass
class Ssl2Trial:
    """A sans-I/O client for one SSL 2.0 hello, driven like a Conversation."""

    challenge: bytes
    answer: Ssl2Hello | Refused | None = None
    _pending: bytearray = field(default_factory=bytearray)

    def start(self) -> bytes:
        return build_ssl2_hello(self.challenge[:16])

    def receive(self, octets: bytes) -> bytes:
        if self.answer is not None:
            return b""
        self._pending += octets
        if len(self._pending) < 3:
            return b""
        first = self._pending[0]
        if first in (0x14, 0x15, 0x16) and self._pending[1] == 3:
            self.answer = Refused(Refusal.ALERT, "answered in a later version")
            return b""
        # A header of two octets has its highest bit set; one of three says how much padding follows.
        header = 2 if first & 0x80 else 3
        length = int.from_bytes(self._pending[:2], "big") & (0x7FFF if header == 2 else 0x3FFF)
        if length > _MAX_HELLO or length == 0:
            self.answer = Refused(Refusal.GARBLED, f"a message of {length} octets")
        elif len(self._pending) >= header + length:
            body = bytes(self._pending[header : header + length])
            try:
                self.answer = read_ssl2_server_hello(body)
            except DecodeError as exc:
                self.answer = Refused(Refusal.ALERT if body[:1] == bytes((_ERROR,)) else Refusal.GARBLED, str(exc))
        elif not first & 0x80 and len(self._pending) > 8:
            self.answer = Refused(Refusal.GARBLED, f"no SSL 2.0: {bytes(self._pending[:8]).hex(' ')}")
        return b""

    def peer_ended(self, how: HowEnded, detail: str) -> None:
        if self.answer is None:
            self.answer = Refused(Refusal.of(how), detail)
