"""What opening an encrypted key would cost, read before anything is computed.

A file may ask for two thousand million rounds or for gigabytes of memory (PBKDF2 and PKCS #12: RFC 8018, RFC 7292;
scrypt: RFC 7914), and what a library has begun cannot be stopped.
"""

from collections.abc import Iterator

from pewter.octets import DecodeError

from . import der
from .der import DerReader

MAX_ROUNDS = 5_000_000
"""Of all derivations of a file together; programs write some ten thousand to a million."""

MAX_MEMORY = 256 << 20
MAX_ELEMENTS = 20_000
MAX_DEPTH = 24

_SCRYPT = "1.3.6.1.4.1.11591.4.11"
_PKCS_5 = "1.2.840.113549.1.5."
_PKCS_12 = "1.2.840.113549.1.12.1."


def why_too_costly(octets: bytes) -> str:
    """Why the keys in a DER structure are not opened, in words; empty where they may be."""
    rounds = 0
    for count, memory in _derivations(octets):
        rounds += count
        if memory > MAX_MEMORY:
            return f"its key derivation asks for {_shown(memory >> 20)} MiB of memory; {MAX_MEMORY >> 20} MiB are given"
        if rounds > MAX_ROUNDS:
            return f"its key derivation asks for {_shown(rounds)} rounds; {MAX_ROUNDS:,} are given"
    return ""


def _shown(number: int) -> str:
    most = 10**12
    return f"{number:,}" if number <= most else f"more than {most:,}"


def _derivations(octets: bytes) -> Iterator[tuple[int, int]]:
    """Rounds and octets of memory of each derivation; what is encrypted itself is not looked into."""
    waiting, seen = [(octets, 0)], 0
    while waiting:
        content, depth = waiting.pop()
        try:
            elements = list(_elements(content, MAX_ELEMENTS - seen))
        except DecodeError:
            continue
        seen += len(elements)
        yield from _derivation(elements)
        if depth < MAX_DEPTH:
            nested = (each.content for each in elements if each.tag & 0x20 or each.tag in {der.OCTET_STRING, 0x80})
            waiting += ((each, depth + 1) for each in nested if len(each) > 4)


def _elements(octets: bytes, most: int) -> Iterator[der.Element]:
    reader = DerReader(octets, "encrypted key")
    while reader and most > 0:
        yield reader.next()
        most -= 1


def _derivation(elements: list[der.Element]) -> Iterator[tuple[int, int]]:
    """An algorithm with its parameters behind it, or the MacData of a PKCS #12 file."""
    if len(elements) >= 2 and elements[0].tag == der.OBJECT_IDENTIFIER:
        oid = der.read_oid(elements[0].content, "algorithm")
        numbers = _numbers(elements[1].content) if elements[1].tag == der.SEQUENCE else []
        if oid == _SCRYPT and len(numbers) >= 3:
            cost, block, parallel = numbers[:3]
            yield cost * block * parallel // 64, 128 * cost * block + 128 * block * parallel
        elif numbers and oid.startswith((_PKCS_5, _PKCS_12)):
            yield numbers[0], 0
    elif len(elements) == 3 and [each.tag for each in elements] == [der.SEQUENCE, der.OCTET_STRING, der.INTEGER]:
        yield int.from_bytes(elements[2].content, "big"), 0


def _numbers(octets: bytes) -> list[int]:
    try:
        return [int.from_bytes(each.content, "big") for each in _elements(octets, 8) if each.tag == der.INTEGER]
    except DecodeError:
        return []
