"""URLs in CSS: ``url()``, ``@import`` and fonts (CSS Syntax, CSS Fonts)."""

import re
from collections.abc import Iterator

from pewter.evidence import Use

_COMMENT = re.compile(r"/\*.*?(?:\*/|\Z)", re.DOTALL)
_AT_FONT_FACE = re.compile(r"@font-face\s*\{[^}]*\}?", re.IGNORECASE)
_IMPORT = re.compile(r"""@import\s+(?:url\(\s*)?["']?([^"')\s;]+)""", re.IGNORECASE)
_URL = re.compile(
    r"""url\(\s{0,20}+(?:"([^"]{0,5000}+)"|'([^']{0,5000}+)'|([^)("'\s]{0,5000}+))\s{0,20}+\)""", re.IGNORECASE
)


def urls_in_style(text: str) -> Iterator[tuple[str, Use, str]]:
    """Each URL as written, what it is for, and where it stands; comments are passed over."""
    text = _COMMENT.sub(" ", text)
    for match in _IMPORT.finditer(text):
        yield match[1], Use.STYLE, "@import"
    text = _IMPORT.sub(" ", text)
    for block in _AT_FONT_FACE.finditer(text):
        for match in _URL.finditer(block[0]):
            yield _value(match), Use.FONT, "@font-face"
    for match in _URL.finditer(_AT_FONT_FACE.sub(" ", text)):
        yield _value(match), Use.IMAGE, "url() in a style"


def _value(match: re.Match[str]) -> str:
    return match[1] or match[2] or match[3] or ""
