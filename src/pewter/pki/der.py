"""A reader for DER (ITU-T X.690), as far as certificates need it.

Pewter reads certificates itself, since what a well-made library refuses to parse is just what a
review has to describe.
"""

import datetime
import functools
import re

import msgspec

from pewter.octets import DecodeError, Reader

BOOLEAN = 0x01
INTEGER = 0x02
BIT_STRING = 0x03
OCTET_STRING = 0x04
NULL = 0x05
OBJECT_IDENTIFIER = 0x06
UTC_TIME = 0x17
GENERALIZED_TIME = 0x18
SEQUENCE = 0x30
SET = 0x31

_UTC_TIME = re.compile(rb"[0-9]{12}Z")
_GENERALIZED_TIME = re.compile(rb"[0-9]{14}Z")


class Element(msgspec.Struct, frozen=True):
    """One tag, length and value."""

    tag: int
    content: bytes
    octets: bytes
    """The element as a whole, header included."""


class DerReader(Reader):
    """Takes the elements of a constructed value apart; true while octets are left."""

    @property
    def tag(self) -> int | None:
        """The tag of the next element, or None at the end."""
        return self._octets[self._position] if self else None

    def next(self, expected: int | None = None) -> Element:
        """The next element; DecodeError where it has another tag, or reaches past the end."""
        start = self._position
        if len(self._octets) - start < 2:
            raise self.error(f"2 octets expected, {len(self._octets) - start} left")
        tag = self._octets[start]
        if expected is not None and tag != expected:
            raise self.error(f"tag 0x{expected:02x} expected, 0x{tag:02x} found")
        if tag & 0x1F == 0x1F:
            raise self.error("a tag number above 30")
        length, self._position = read_length(self._octets, start + 1, self._start)
        content = self.take(length)
        return Element(tag, content, self._octets[start : self._position])

    def optional(self, tag: int) -> Element | None:
        """The next element if it has this tag."""
        return self.next() if self.tag == tag else None

    def nested(self, tag: int, structure: str) -> "DerReader":
        """A reader for the content of the next element."""
        content = self.next(tag).content
        return DerReader(content, structure, self.offset - len(content))


def read_length(octets: bytes, position: int, start: int = 0) -> tuple[int, int]:
    """A definite length at ``position`` (X.690 section 8.1.3), and where the content begins; ``start`` is where the
    octets stand in the whole that is read."""
    if position >= len(octets):
        raise DecodeError("length", start + position, "1 octet expected, 0 left")
    first = octets[position]
    if first < 0x80:
        return first, position + 1
    count = first & 0x7F
    end = position + 1 + count
    if count == 0 or count > 4 or end > len(octets):
        raise DecodeError("length", start + position, f"length octet 0x{first:02x}")
    return int.from_bytes(octets[position + 1 : end], "big"), end


def build(tag: int, content: bytes) -> bytes:
    """One element."""
    length = len(content)
    if length < 0x80:
        return bytes((tag, length)) + content
    size = (length.bit_length() + 7) // 8
    return bytes((tag, 0x80 | size)) + length.to_bytes(size, "big") + content


def build_integer(value: int) -> bytes:
    """An INTEGER in its shortest form."""
    return build(INTEGER, value.to_bytes((value + (value < 0)).bit_length() // 8 + 1, "big", signed=True))


@functools.lru_cache(maxsize=4096)  # a few dozen identifiers stand in every certificate
def read_oid(content: bytes, structure: str) -> str:
    """Dotted text of an OBJECT IDENTIFIER's content: ``2.5.29.17``."""
    if not content or content[-1] & 0x80 or len(content) > 64:
        raise DecodeError(structure, 0, "no object identifier")
    arcs: list[int] = []
    value = 0
    for octet in content:
        value = value << 7 | octet & 0x7F
        if not octet & 0x80:
            arcs.append(value)
            value = 0
    first = min(arcs[0] // 40, 2)
    return ".".join(str(arc) for arc in (first, arcs[0] - 40 * first, *arcs[1:]))


def read_integer(content: bytes, structure: str) -> int:
    """A two's complement INTEGER."""
    if not content:
        raise DecodeError(structure, 0, "an INTEGER without octets")
    return int.from_bytes(content, "big", signed=True)


def read_count(content: bytes, structure: str) -> int:
    """A small INTEGER that counts something, such as pathLenConstraint; DecodeError for a negative or huge one."""
    count = read_integer(content, structure)
    if not 0 <= count < 1 << 31:
        raise DecodeError(structure, 0, "a negative or huge count")
    return count


def read_bits(content: bytes, structure: str) -> tuple[int, bytes]:
    """Count of unused bits and octets of a BIT STRING."""
    if not content or content[0] > 7:
        raise DecodeError(structure, 0, "no BIT STRING")
    return content[0], content[1:]


def read_time(element: Element, structure: str) -> datetime.datetime:
    """UTCTime or GeneralizedTime as RFC 5280 section 4.1.2.5 allows them: with seconds and ``Z``, no fraction."""
    if element.tag == UTC_TIME and _UTC_TIME.fullmatch(element.content):
        digits = element.content[:-1].decode("ascii")
        digits = ("19" if digits[:2] >= "50" else "20") + digits
    elif element.tag == GENERALIZED_TIME and _GENERALIZED_TIME.fullmatch(element.content):
        digits = element.content[:-1].decode("ascii")
    else:
        raise DecodeError(structure, 0, "no time with seconds and Z")
    try:
        month, day, hour, minute, second = (int(digits[start : start + 2]) for start in range(4, 14, 2))
        naive = datetime.datetime(int(digits[:4]), month, day, hour, minute, second)
    except ValueError as exc:
        raise DecodeError(structure, 0, f"no such time: {digits}") from exc
    return naive.replace(tzinfo=datetime.UTC)
