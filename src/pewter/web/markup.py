"""HTML as a stream of tags (HTML section 13.2.5), in one pass and without a tree.
A tree is what a hostile page makes expensive: formatting elements that are never closed are made again in each
paragraph, and well-made parsers take minutes for a megabyte of attributes.  What a review asks of a page needs tags
in their order, the text of a few elements, and whether they are shown, which the readers of these tags keep in mind.
"""

import html.entities
import re
from collections.abc import Iterator

import msgspec

MAX_TAGS = 100_000
MAX_ATTRIBUTES = 256
"""Of one tag; further ones are passed over."""

_TAG_NAME = re.compile(r"[A-Za-z][^\t\n\f\r />]*+")
_SKIPPED = re.compile(r"[\t\n\f\r /]*+")
_ATTRIBUTE_NAME = re.compile(r"=?[^\t\n\f\r />=]*+")
_EQUALS = re.compile(r"[\t\n\f\r ]*+=[\t\n\f\r ]*+")
_UNQUOTED = re.compile(r"[^\t\n\f\r >]*+")
_COMMENT_END = re.compile(r"--!?>")
_REFERENCE = re.compile(r"&(?:#[0-9]++;?|#[xX][0-9A-Fa-f]++;?|[A-Za-z][A-Za-z0-9]{0,31}+;?)(=?)")
_LONGEST_NUMBER = 9
"""Digits beyond which a reference is to no character, leading zeros aside."""

_IN_SCRIPT = re.compile(r"<!--|-->|<(/?)script(?=[\t\n\f\r />])", re.IGNORECASE)
_ASCII_LOWER = {letter: letter + 32 for letter in range(0x41, 0x5B)} | {0: 0xFFFD}

_RAW_TEXT = frozenset({"script", "style", "xmp", "iframe", "noembed", "noframes", "noscript"})
"""Elements whose content is no markup; ``noscript`` among them, since browsers have scripting on."""

_ESCAPABLE_TEXT = frozenset({"title", "textarea"})
_FOREIGN = frozenset({"svg", "math"})


class StartTag(msgspec.Struct, frozen=True):
    """One start tag."""

    name: str
    """In lower case."""

    attributes: dict[str, str]
    """Names in lower case; of a repeated one the first counts."""

    content: str = ""
    """Of an element whose content is text; else empty."""

    is_foreign: bool = False
    """It stands within ``svg`` or ``math``."""

    def get(self, name: str) -> str:
        """An attribute's value; empty where it is missing."""
        return self.attributes.get(name, "")


class EndTag(msgspec.Struct, frozen=True):
    """One end tag."""

    name: str


def read_markup(text: str) -> Iterator[StartTag | EndTag]:
    """The tags of a page in their order, at most MAX_TAGS; what stands in ``template`` is left out.

    Time is linear in the text, whatever it is: every step goes on from where the last one ended.
    """
    templates = foreign = 0
    for tag, is_closed in _tags(text):
        if isinstance(tag, EndTag):
            if tag.name == "template":
                templates = max(templates - 1, 0)
                continue
            foreign -= tag.name in _FOREIGN and foreign > 0
        elif tag.name == "template" and not tag.is_foreign:
            templates += 1
            continue
        elif tag.name in _FOREIGN and not is_closed:
            foreign += 1
        if not templates:
            yield tag


def read_tags(text: str) -> Iterator[StartTag | EndTag]:
    """All tags in their order, those within ``template`` among them."""
    return (tag for tag, _ in _tags(text))


def _tags(text: str) -> Iterator[tuple[StartTag | EndTag, bool]]:
    """Each tag, and whether it closes itself."""
    position, foreign, count = 0, 0, 0
    while count < MAX_TAGS:
        position = text.find("<", position)
        if position < 0:
            return
        following = text[position + 1 : position + 2]
        if foreign and text.startswith("<![CDATA[", position):
            position = after(text, "]]>", position)
            continue
        if following == "!" and text.startswith("<!--", position):
            position = _after_comment(text, position + 4)
            continue
        is_end = following == "/"
        name = _TAG_NAME.match(text, position + 1 + is_end)
        if name is None:
            # "</ x>", "<!x>" and "<?x>" are comments up to the next ">"; any other "<" is text.
            position = after(text, ">", position) if is_end or following in {"!", "?"} else position + 1
            continue
        attributes, position, is_closed = read_attributes(text, name.end())
        if position < 0:
            return  # the page ends within the tag: browsers drop it
        count += 1
        title = _named(name[0])
        attributes = {
            each: unescape(value, in_attribute=True).replace("\0", "\ufffd") for each, value in attributes.items()
        }
        if is_end:
            foreign -= title in _FOREIGN and foreign > 0
            yield EndTag(title), False
            continue
        if title in _FOREIGN and not is_closed:
            foreign += 1
        content = ""
        if title == "plaintext" and not foreign:
            return
        if (title in _RAW_TEXT or title in _ESCAPABLE_TEXT) and not foreign:
            end = _text_end(text, title, position)
            content, position = text[position:end], end
            content = unescape(content) if title in _ESCAPABLE_TEXT else content
        yield StartTag(title, attributes, content, foreign > 0 and title not in _FOREIGN), is_closed


def _named(text: str) -> str:
    """A name as it counts: letters of ASCII alone are made small, and NUL is no character."""
    return text.translate(_ASCII_LOWER)


def after(text: str, mark: str, position: int) -> int:
    """Behind a mark, or the end of the text."""
    found = text.find(mark, position)
    return found + len(mark) if found >= 0 else len(text)


def _after_comment(text: str, position: int) -> int:
    """``<!-->`` and ``<!--->`` are whole comments."""
    if text.startswith((">", "->"), position):
        return text.index(">", position) + 1
    end = _COMMENT_END.search(text, position)
    return end.end() if end is not None else len(text)


def _text_end(text: str, name: str, position: int) -> int:
    """Where the end tag of an element with text begins."""
    if name == "script":
        return _script_end(text, position)
    end = _END_TAGS[name].search(text, position)
    return end.start() if end is not None else len(text)


def _script_end(text: str, position: int) -> int:
    """Within ``<!--`` a script may hold a script, whose end is not its own (section 13.2.5.20 and what follows it)."""
    is_escaped = is_twice = False
    while (match := _IN_SCRIPT.search(text, position)) is not None:
        position = match.end()
        if match[0] == "<!--":
            is_escaped = True
            position -= 2  # "<!-->" ends at once
        elif match[0] == "-->":
            is_escaped = is_twice = False
        elif match[1] and not is_twice:
            return match.start()
        else:
            is_twice = is_escaped and not match[1]
    return len(text)


_END_TAGS = {name: re.compile(rf"</{name}(?=[\t\n\f\r />])", re.IGNORECASE) for name in _RAW_TEXT | _ESCAPABLE_TEXT}


def read_attributes(text: str, position: int) -> tuple[dict[str, str], int, bool]:
    """Attributes as written, the position after the tag's ``>`` (-1 where there is none), and a last slash."""
    attributes: dict[str, str] = {}
    while True:
        skipped = _SKIPPED.match(text, position)
        assert skipped is not None
        position = skipped.end()
        if position >= len(text):
            return attributes, -1, False
        if text[position] == ">":
            return attributes, position + 1, skipped[0].endswith("/")
        name = _ATTRIBUTE_NAME.match(text, position)
        assert name is not None
        position = name.end()
        value = ""
        if (equals := _EQUALS.match(text, position)) is not None:
            position = equals.end()
            quote = text[position : position + 1]
            if quote in {'"', "'"}:
                end = text.find(quote, position + 1)
                if end < 0:
                    return attributes, -1, False
                value, position = text[position + 1 : end], end + 1
            else:
                unquoted = _UNQUOTED.match(text, position)
                assert unquoted is not None
                value, position = unquoted[0], unquoted.end()
        if len(attributes) < MAX_ATTRIBUTES:
            attributes.setdefault(_named(name[0]), value)


def unescape(text: str, *, in_attribute: bool = False) -> str:
    """Character references (HTML section 13.2.5.72): ``a&amp;b`` becomes ``a&b``.

    In an attribute a name without its semicolon stays where ``=`` or a letter follows: ``?a=1&copy=2``, ``&noti;``.
    """
    if "&" not in text:
        return text

    def character(match: re.Match[str]) -> str:
        reference = match[0].removesuffix("=")
        if reference[1] == "#":
            digits = reference[2:].rstrip(";").lstrip("xX0")
            return ("\ufffd" if len(digits) > _LONGEST_NUMBER else html.unescape(reference)) + match[1]
        name = reference[1:]
        if in_attribute and (name not in html.entities.html5 or (match[1] and not name.endswith(";"))):
            return match[0]
        return html.unescape(reference) + match[1]

    return _REFERENCE.sub(character, text)
