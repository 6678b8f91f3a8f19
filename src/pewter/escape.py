"""What others sent is hostile until it has passed here: the one function behind everything that is printed."""

import re
import unicodedata

MAX_MARKS = 2
"""Combining marks on one character that are shown; a flood of them covers the lines above and below."""

_NOT_SHOWN = re.compile(
    "[\u034f\u115f\u1160\u17b4\u17b5\u2800\u3164\uffa0\ufe00-\ufe0f\u180b-\u180f\U000e0100-\U000e01ef]"
)
"""Printable by their category, and yet blank: fillers, and selectors of variants."""


def escaped(text: str) -> str:
    """``text`` as one harmless line: whatever does not show as itself is written out, ESC as ``\\x1b``.

    That is every control, format, private, unassigned and lone surrogate code point, line and paragraph ends, every
    blank but U+0020 (Unicode, general category), fillers, variation selectors, and marks beyond :data:`MAX_MARKS`.
    """
    if text.isascii() and text.isprintable():
        return text
    pieces: list[str] = []
    marks = 0
    for character in text:
        marks = marks + 1 if unicodedata.category(character) in {"Mn", "Me"} else 0
        is_shown = character.isprintable() and not _NOT_SHOWN.match(character) and marks <= MAX_MARKS
        pieces.append(character if is_shown else _written_out(character))
    return "".join(pieces)


def sealed(text: str) -> str:
    """Lines of ours, in each of which only what shows as itself is left: the last thing that happens to a text.

    Whatever came here without passing :func:`escaped` is made harmless; what did is as it was.
    """
    if text.isascii() and text.replace("\n", "").isprintable():
        return text
    return "\n".join(f"{escaped(line[:-1])}\r" if line.endswith("\r") else escaped(line) for line in text.split("\n"))


def json_escaped(octets: bytes) -> bytes:
    """JSON of the same meaning in which no character stands that a terminal obeys (RFC 8259 section 7)."""
    if octets.isascii() and b"\x7f" not in octets:
        return octets
    return _BEYOND_ASCII.sub(_in_json, octets.decode("utf-8")).encode("utf-8")


_BEYOND_ASCII = re.compile("[^\0-\x7e]")


def _in_json(match: re.Match[str]) -> str:
    character = match[0]
    if escaped(character) == character:
        return character
    units = character.encode("utf-16-be")
    return "".join(f"\\u{units[at : at + 2].hex()}" for at in range(0, len(units), 2))


def _written_out(character: str) -> str:
    code = ord(character)
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
