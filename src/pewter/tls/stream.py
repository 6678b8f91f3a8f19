"""From the octets of a stream to what a server said: what both clients share.

Records are cut, opened where there are keys, and handshake messages put together; what it means is for the client.
"""

import msgspec

from pewter.octets import DecodeError, Reader

from .codepoints import ContentType
from .records import MessageReader, Record, RecordReader, is_tls
from .schedule import RecordProtection

_OPENING = 64
"""Octets of the beginning of a stream that are kept to be shown."""


class Message(msgspec.Struct, frozen=True):
    """One handshake message."""

    type: int
    body: bytes


class AlertSent(msgspec.Struct, frozen=True):
    """One alert (RFC 8446 section 6)."""

    level: int
    description: int


class Other(msgspec.Struct, frozen=True):
    """A record of any other content type."""

    type: int


class Stream:
    """One server's side of a connection."""

    def __init__(self) -> None:
        self.opening = b""
        self.protection: RecordProtection | None = None
        """Keys under which records are opened; None before there are any."""

        self._records = RecordReader()
        self._messages = MessageReader()

    @property
    def is_tls(self) -> bool:
        """Whether it begins as TLS does; so far as it has begun."""
        return is_tls(self.opening)

    @property
    def pending_record(self) -> int:
        """Octets of a record that is not whole yet."""
        return self._records.pending

    @property
    def pending_message(self) -> int:
        """Octets of a message that is not whole yet."""
        return self._messages.pending

    def feed(self, octets: bytes) -> None:
        if len(self.opening) < _OPENING:
            self.opening += octets[: _OPENING - len(self.opening)]
        self._records.feed(octets)

    def next(self) -> Message | AlertSent | Other | None:
        """What came next, or None until more octets come.  Raises DecodeError for what TLS does not allow."""
        while True:
            if (message := self._messages.next()) is not None:
                return Message(*message)
            record = self._records.next()
            if record is None:
                return None
            content_type, content = self._opened(record)
            if content_type == ContentType.HANDSHAKE:
                self._messages.feed(content)
            elif content_type == ContentType.ALERT:
                reader = Reader(content, "alert")
                return AlertSent(reader.uint(1), reader.uint(1))
            else:
                return Other(content_type)

    def _opened(self, record: Record) -> tuple[int, bytes]:
        """Content type and content, without the protection of a record that has one."""
        if self.protection is None:
            return record.type, record.fragment
        if record.type == ContentType.APPLICATION_DATA:
            return self.protection.open(record.header, record.fragment)
        if record.type == ContentType.HANDSHAKE:
            raise DecodeError("record", 0, "an unprotected handshake record after the keys changed")
        return record.type, record.fragment
