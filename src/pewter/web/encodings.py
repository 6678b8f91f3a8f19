"""Which encoding a page is in, as browsers find it (HTML section 13.2.3)."""

import re
from collections.abc import Iterator, Mapping

import webencodings

PRESCANNED = 1024
"""Octets of a page that are looked through for its own word (section 13.2.3.2)."""

_SPACE = b"\t\n\f\r "
_FIELD = re.compile(r";[\t\r\n ]*charset=(\"[^\"]{0,100}\"?|[^;\t\r\n ]{0,100})", re.IGNORECASE)
_COMMENT_END = re.compile(rb"-->")
_META = re.compile(rb"<meta[\t\n\f\r /]", re.IGNORECASE)
_TAG = re.compile(rb"</?[a-zA-Z][^\t\n\f\r >]*+")
_SKIPPED = re.compile(rb"[\t\n\f\r /]*+")
_NAME = re.compile(rb"=?[^\t\n\f\r />=]*+")
_EQUALS = re.compile(rb"[\t\n\f\r ]*+=[\t\n\f\r ]*+")
_UNQUOTED = re.compile(rb"[^\t\n\f\r >]*+")
_IN_CONTENT = re.compile(
    r"charset[\t\n\f\r ]*+=[\t\n\f\r ]*+(\"[^\"]*\"|'[^']*'|[^\t\n\f\r ;\"'][^\t\n\f\r ;]*+|(?=[\"']))", re.IGNORECASE
)
_XML = re.compile(
    rb"<\?xml[^>]{0,900}?[\t\n\f\r ]encoding[\t\n\f\r ]{0,99}=[\t\n\f\r ]{0,99}"
    rb"(?:\"([^\"\x00-\x20]*)\"|'([^'\x00-\x20]*)')"
)
_UTF_16 = {"utf-16le", "utf-16be"}


def encoding_of(octets: bytes, content_type: str = "") -> webencodings.Encoding | None:
    """By the field's charset, or by what the page says itself in its first octets; a byte order mark goes before both.

    Labels are those of the WHATWG Encoding standard alone: one that it does not know counts for nothing.
    """
    return _of_field(content_type) or prescan(octets)


def _of_field(content_type: str) -> webencodings.Encoding | None:
    match = _FIELD.search(content_type[:1000])
    return webencodings.lookup(match[1].strip('"')) if match is not None else None


def prescan(octets: bytes) -> webencodings.Encoding | None:
    """The encoding that a page names in its first octets; None where it names none that is known."""
    head = octets[:PRESCANNED]
    for mark, label in ((b"<\0?\0x\0", "utf-16le"), (b"\0<\0?\0x", "utf-16be")):
        if head.startswith(mark):
            return webencodings.lookup(label)
    for attributes in _metas(head):
        encoding = encoding_in_meta(attributes)
        if encoding is not None:
            return encoding
    xml = _XML.match(head)
    named = webencodings.lookup((xml[1] or xml[2] or b"").decode("latin-1")) if xml is not None else None
    return _as_read(named) if named is not None else None


def encoding_in_meta(attributes: Mapping[str, str]) -> webencodings.Encoding | None:
    """Of a meta element; None where it names none that is known."""
    label = attributes.get("charset")
    if label is None and attributes.get("http-equiv", "").lower() == "content-type":
        match = _IN_CONTENT.search(attributes.get("content", ""))
        label = match[1].strip("\"'") if match is not None else None
    encoding = webencodings.lookup(label) if label else None
    return _as_read(encoding) if encoding is not None else None


def _as_read(encoding: webencodings.Encoding) -> webencodings.Encoding:
    """A page that can be read so far is in no UTF-16."""
    if encoding.name in _UTF_16:
        return webencodings.UTF8
    return webencodings.lookup("windows-1252") if encoding.name == "x-user-defined" else encoding


def _metas(head: bytes) -> Iterator[dict[str, str]]:
    """The attributes of meta elements, in their order; comments and other tags are passed over."""
    position = 0
    while (position := head.find(b"<", position)) >= 0:
        if head.startswith(b"<!--", position):
            end = _COMMENT_END.search(head, position + 2)
            position = end.end() if end is not None else len(head)
        elif _META.match(head, position):
            attributes, position = _attributes(head, position + 5)
            yield {name.decode("latin-1"): value.decode("latin-1") for name, value in attributes.items()}
        elif (tag := _TAG.match(head, position)) is not None:
            _, position = _attributes(head, tag.end())
        elif head[position + 1 : position + 2] in {b"!", b"/", b"?"}:
            end_at = head.find(b">", position)
            position = end_at + 1 if end_at >= 0 else len(head)
        else:
            position += 1


def _attributes(head: bytes, position: int) -> tuple[dict[bytes, bytes], int]:
    """Of a tag, each once, and the position of its end; none of a tag that does not end within the octets."""
    found: dict[bytes, bytes] = {}
    while True:
        skipped = _SKIPPED.match(head, position)
        assert skipped is not None
        position = skipped.end()
        if position >= len(head):
            return {}, len(head)
        if head[position : position + 1] == b">":
            return found, position + 1
        name = _NAME.match(head, position)
        assert name is not None
        position, value = name.end(), b""
        if (equals := _EQUALS.match(head, position)) is not None:
            position = equals.end()
            quote = head[position : position + 1]
            if quote in {b'"', b"'"}:
                end = head.find(quote, position + 1)
                if end < 0:
                    return {}, len(head)
                value, position = head[position + 1 : end], end + 1
            else:
                unquoted = _UNQUOTED.match(head, position)
                assert unquoted is not None
                value, position = unquoted[0], unquoted.end()
        found.setdefault(name[0].lower(), value)
