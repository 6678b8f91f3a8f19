"""Reading and writing octets with declared lengths (RFC 8446 section 3)."""

import struct


class DecodeError(Exception):
    """Octets that cannot be read on.  ``DecodeError("extensions", 4, "40 octets, 2 left")``."""

    def __init__(self, structure: str, offset: int, problem: str) -> None:
        self.structure = structure
        self.offset = offset
        self.problem = problem
        super().__init__(f"{structure}, octet {offset}: {problem}")


class Reader:
    """Takes a structure apart from front to back; true while octets are left."""

    def __init__(self, octets: bytes, structure: str, start: int = 0) -> None:
        self._octets = octets
        self._structure = structure
        self._position = 0
        self._start = start
        """Where these octets stand in the whole that is read: errors tell the place there."""

    def __bool__(self) -> bool:
        return self._position < len(self._octets)

    @property
    def offset(self) -> int:
        """Of the next octet, from the beginning of the whole."""
        return self._start + self._position

    def error(self, problem: str) -> DecodeError:
        """What is wrong with what comes next."""
        return DecodeError(self._structure, self.offset, problem)

    def take(self, count: int) -> bytes:
        """The next ``count`` octets; DecodeError where fewer are left."""
        left = len(self._octets) - self._position
        if count > left:
            raise self.error(f"{count} octets expected, {left} left")
        self._position += count
        return self._octets[self._position - count : self._position]

    def uint(self, size: int) -> int:
        """An unsigned integer of ``size`` octets, most significant first."""
        return int.from_bytes(self.take(size), "big")

    def vector(self, length_size: int) -> bytes:
        """A vector with a length of ``length_size`` octets before it."""
        return self.take(self.uint(length_size))

    def nested(self, length_size: int, structure: str) -> "Reader":
        """A reader for the next vector, cut out by its declared length first."""
        count = self.uint(length_size)
        start = self.offset
        return Reader(self.take(count), structure, start)

    def rest(self) -> bytes:
        return self.take(len(self._octets) - self._position)

    def end(self) -> None:
        """DecodeError where octets are left over."""
        if self:
            left = len(self._octets) - self._position
            raise self.error(f"end expected, {left} octets left")


def vector(octets: bytes, length_size: int) -> bytes:
    """``octets`` with their length before them."""
    return len(octets).to_bytes(length_size, "big") + octets


def uint16s(values: tuple[int, ...]) -> bytes:
    """Code points of two octets each, one after the other."""
    return struct.pack(f"!{len(values)}H", *values)


def read_uint16s(octets: bytes, structure: str) -> tuple[int, ...]:
    """The inverse of :func:`uint16s`; DecodeError on an odd length."""
    if len(octets) % 2:
        raise DecodeError(structure, len(octets) - 1, "2 octets expected, 1 left")
    return struct.unpack(f"!{len(octets) // 2}H", octets)
