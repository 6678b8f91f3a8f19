"""The head of an HTTP/1 answer as browsers read it (RFC 9112), sloppy ones included.

What does not conform and is accepted all the same is noted: such an answer works in browsers, and not in every
program.  The head comes back in conforming form as well, so that a strict reader of bodies can go on from there.
"""

import re

import msgspec

from pewter.octets import DecodeError

MAX_HEAD = 1 << 18
"""Octets, as browsers have it."""

MAX_FIELDS = 5000
MAX_LENGTHS = 9
_SLOP = 4
"""Octets before the status line that browsers pass over."""

_STATUS_LINE = re.compile(rb"(?i:http)/([0-9])\.([0-9])[ \t]{1,20}+([0-9]{3})(?:[ \t](.*))?\Z", re.DOTALL)
_NARROW_STATUS = re.compile(rb"[^ \t]++ [^ \t]++(?: |\Z)")
_LOOSE_STATUS = re.compile(rb"(?i:http)(?:/([0-9.]{0,9}+))?[^ ]{0,20}+[ \t]{0,20}+([0-9]{3})?")
_TOKEN = re.compile(rb"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
_END = re.compile(rb"\r?\n\r?\n")
_CONTENT_LENGTH = re.compile(rb"[0-9]{1,18}")


class NoAnswer(DecodeError):
    """The connection ended before anything came."""

    def __init__(self) -> None:
        super().__init__("answer", 0, "closed without an answer")


class Head(msgspec.Struct, frozen=True):
    """Status and fields of one answer."""

    status: int
    fields: tuple[tuple[str, str], ...]
    """In the order sent, repeats kept, octets as ISO 8859-1."""

    oddities: tuple[str, ...]
    """What does not conform, in words."""

    framing: bytes
    """A conforming head with the fields that say how long the body is; empty for an answer without any head."""

    def values(self, field_name: str) -> tuple[str, ...]:
        """The values of every field line of that name, in order; most are told apart by their length alone."""
        wanted, length = field_name.lower(), len(field_name)
        return tuple(value for name, value in self.fields if len(name) == length and name.lower() == wanted)


def find_head(octets: bytes | bytearray, *, ended: bool, since: int = 0, is_secure: bool = False) -> int | None:
    """Where the head ends in what has come so far; 0 for an answer without one, None where more has to come.

    ``since`` is how much had come before: it is not searched again.  ``is_secure``: over TLS browsers put up with less.

    DecodeError for what browsers refuse: a head that is too long, or an end before anything came.
    """
    if not octets:
        if ended:
            raise NoAnswer
        return None
    start = octets[: _SLOP + 4].lower().find(b"http")
    if start < 0 and (len(octets) >= _SLOP + 4 or ended):
        return 0
    match = _END.search(octets, max(since - 3, 0), MAX_HEAD + 4)
    if match is not None:
        return match.end()
    if len(octets) > MAX_HEAD:
        raise DecodeError("answer", 0, f"its header fields are longer than {MAX_HEAD >> 10} KiB")
    if ended and start >= 0 and b"\n" in octets and not is_secure:
        return len(octets)  # the connection ended within the fields: browsers take what came
    if ended:
        raise DecodeError("answer", 0, f"the connection ended after {len(octets)} octets of a head")
    return None


def read_head(octets: bytes) -> Head:
    """Read a head that :func:`find_head` has cut out; DecodeError where browsers refuse it."""
    if not octets:
        return Head(200, (), ("no status line and no fields at all (HTTP/0.9)",), b"")
    oddities: dict[str, None] = {}
    start = octets[: _SLOP + 4].lower().find(b"http")
    if start > 0:
        oddities["octets before the status line"] = None
    if b"\n" in octets.replace(b"\r\n", b""):
        oddities["lines that end in LF alone"] = None
    lines = [line.removesuffix(b"\r") for line in octets[max(start, 0) :].split(b"\n")]
    minor, status = _read_status_line(lines[0], oddities)
    fields = _read_fields(lines[1:], oddities)
    if any("\0" in value for _, value in fields):
        raise DecodeError("answer", 0, "a NUL octet stands in a header field")
    if b"\0" in octets:
        oddities[NUL_IN_HEAD] = None
    if not fields:
        oddities["no fields"] = None
    return Head(status, fields, tuple(oddities), _framing(minor, status, fields, oddities))


def _read_status_line(line: bytes, oddities: dict[str, None]) -> tuple[int, int]:
    match = _STATUS_LINE.match(line)
    shown = line[:60].decode("latin-1")
    if match is not None and match[1] == b"1":
        if not line.startswith(b"HTTP/"):
            oddities[f"a status line in small letters: {shown!r}"] = None
        if not _NARROW_STATUS.match(line):
            oddities[f"a status line with more than one space: {shown!r}"] = None
        if match[4] is None:
            oddities[f"a status line without the space after the status: {shown!r}"] = None
        return min(int(match[2]), 1), max(int(match[3]), 100)
    loose = _LOOSE_STATUS.match(line)
    status = int(loose[2]) if loose is not None and loose[2] else 200
    oddities[f"an odd status line: {shown!r}"] = None
    return 1 if loose is not None and loose[1] == b"1.1" else 0, max(status, 100)


NUL_IN_HEAD = "a NUL octet outside of the values"
"""Chromium refuses such an answer; Firefox takes it."""


def blank_before_colon(name: str) -> str:
    """What is noted of a field whose name has a blank behind it: browsers differ in what they make of it."""
    return f"a blank before the colon of {name}"


def _read_fields(lines: list[bytes], oddities: dict[str, None]) -> tuple[tuple[str, str], ...]:
    found: list[tuple[bytes, bytearray]] = []
    for line in lines:
        if not line:
            continue
        if line[:1] in b" \t" and found:
            oddities["a folded field"] = None
            found[-1][1].extend(b" " + line.strip(b" \t"))
            continue
        name, colon, value = line.partition(b":")
        bare = name.rstrip(b" \t")
        if not colon or not _TOKEN.fullmatch(bare):
            oddities["a line that is no field"] = None  # never quoted: it may be half a cookie
            continue
        if bare != name:
            oddities[blank_before_colon(bare[:40].decode("latin-1"))] = None
        if len(found) < MAX_FIELDS:
            found.append((bare, bytearray(value.strip(b" \t"))))
    return tuple((name.decode("latin-1"), value.decode("latin-1")) for name, value in found)


def _framing(minor: int, status: int, fields: tuple[tuple[str, str], ...], oddities: dict[str, None]) -> bytes:
    """As browsers read lengths: one that is no number is passed over, two that differ are an error."""
    lines = [f"HTTP/1.{minor} {status} ".encode("ascii")]
    codings = [value.strip().lower() for name, value in fields if name.lower() == "transfer-encoding"]
    told = [value for name, value in fields if name.lower() == "content-length"]
    lengths = {each.strip().encode("latin-1") for value in told for each in value.split(",", MAX_LENGTHS)}
    if len(told) > 1 or any("," in value for value in told):
        oddities["Content-Length more than once"] = None
    if minor and any(coding.endswith("chunked") for coding in codings):
        lines.append(b"Transfer-Encoding: chunked")
        if told:
            oddities["Content-Length beside Transfer-Encoding"] = None
    else:
        numbers = {int(length) for length in lengths if _CONTENT_LENGTH.fullmatch(length)}
        if len(numbers) > 1:
            raise DecodeError("answer", 0, "two values of Content-Length that differ")
        lines += [b"Content-Length: %d" % number for number in numbers]
    if any("close" in value.lower() for name, value in fields if name.lower() == "connection"):
        lines.append(b"Connection: close")
    return b"\r\n".join(lines) + b"\r\n\r\n"
