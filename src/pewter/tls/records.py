"""The record layer (RFC 8446 section 5.1, RFC 5246 section 6.2)."""

import msgspec

from pewter.octets import DecodeError, vector

from .codepoints import ContentType, Version

MAX_PLAINTEXT = 1 << 14
MAX_CIPHERTEXT = MAX_PLAINTEXT + 256
MAX_MESSAGE = 1 << 18
"""Octets of one handshake message; RFC 8446 allows 2^24 - 1, no honest server comes near."""


MAX_RECORDS = 1000
"""Of one exchange, empty ones and warnings among them; a chain of 100 KB takes 200 of the shortest that there are."""


class Record(msgspec.Struct, frozen=True):
    """One record as it came."""

    type: int
    version: int
    fragment: bytes

    @property
    def header(self) -> bytes:
        """The five octets before the fragment: the additional data of a protected record."""
        return build_record_header(self.type, self.version, len(self.fragment))


def build_record_header(record_type: int, version: int, length: int) -> bytes:
    return bytes((record_type,)) + version.to_bytes(2, "big") + length.to_bytes(2, "big")


def build_record(record_type: int, version: int, fragment: bytes) -> bytes:
    """One record; ``fragment`` must fit into it."""
    return bytes((record_type,)) + version.to_bytes(2, "big") + vector(fragment, 2)


def build_opening(message: bytes, offered_versions: tuple[int, ...]) -> bytes:
    """A ClientHello message as records, split where it is longer than one.

    The record version of a first hello is 0x0301 at most: old servers refuse more (RFC 8446 section 5.1).
    """
    version = min(int(Version.TLS_1_0), *offered_versions)
    pieces = (message[start : start + MAX_PLAINTEXT] for start in range(0, len(message), MAX_PLAINTEXT))
    return b"".join(build_record(ContentType.HANDSHAKE, version, piece) for piece in pieces)


def is_tls(opening: bytes | bytearray) -> bool:
    """Whether the first octets of a stream can begin a TLS record; judges as few as one octet."""
    return opening[:1] in (b"\x14", b"\x15", b"\x16", b"\x17") and opening[1:2] in (b"", b"\x03")


class RecordReader:
    """Cuts a stream into records."""

    def __init__(self) -> None:
        self._pending = bytearray()
        self._taken = 0

    @property
    def pending(self) -> int:
        """Octets of a record that is not whole yet."""
        return len(self._pending)

    def feed(self, octets: bytes) -> None:
        self._pending += octets

    def next(self) -> Record | None:
        """The next whole record, or None until more octets come.

        Raises DecodeError for a record longer than TLS allows, before it is waited for.
        """
        if len(self._pending) < 5:
            return None
        record_type = self._pending[0]
        length = int.from_bytes(self._pending[3:5], "big")
        limit = MAX_CIPHERTEXT if record_type == ContentType.APPLICATION_DATA else MAX_PLAINTEXT
        if length > limit:
            raise DecodeError("record", 3, f"a record of {length} octets; TLS allows {limit}")
        if not is_tls(self._pending):
            raise DecodeError("record", 0, f"no TLS record type and version: {bytes(self._pending[:2]).hex(' ')}")
        if len(self._pending) < 5 + length:
            return None
        self._taken += 1
        if self._taken > MAX_RECORDS:
            raise DecodeError("record", 0, f"more than {MAX_RECORDS} records")
        version = int.from_bytes(self._pending[1:3], "big")
        record = Record(record_type, version, bytes(self._pending[5 : 5 + length]))
        del self._pending[: 5 + length]
        return record


class MessageReader:
    """Puts handshake messages together: they may span records, and several may share one."""

    def __init__(self) -> None:
        self._pending = bytearray()

    @property
    def pending(self) -> int:
        """Octets of a message that is not whole yet."""
        return len(self._pending)

    def feed(self, fragment: bytes) -> None:
        self._pending += fragment

    def next(self) -> tuple[int, bytes] | None:
        """Type and body of the next whole message, or None until more comes."""
        if len(self._pending) < 4:
            return None
        length = int.from_bytes(self._pending[1:4], "big")
        if length > MAX_MESSAGE:
            raise DecodeError("handshake message", 1, f"a message of {length:,} octets; browsers stop at about 100 KB")
        if len(self._pending) < 4 + length:
            return None
        message = self._pending[0], bytes(self._pending[4 : 4 + length])
        del self._pending[: 4 + length]
        return message
