"""Which encoding a page is in, as browsers find it (HTML section 13.2.3)."""

import re
from collections.abc import Iterator, Mapping

import webencodings

from .markup import after, read_attributes

PRESCANNED = 1024
"""Octets of a page that are looked through for its own word (section 13.2.3.2)."""

_SPACE = b"\t\n\f\r "
_FIELD = re.compile(r";[\t\r\n ]*charset=(\"[^\"]{0,100}\"?|[^;\t\r\n ]{0,100})", re.IGNORECASE)
_META = re.compile(r"<meta[\t\n\f\r /]", re.IGNORECASE)
_TAG = re.compile(r"</?[a-zA-Z][^\t\n\f\r >]*+")
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
    for attributes in _metas(head.decode("latin-1")):
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


def _metas(head: str) -> Iterator[dict[str, str]]:
    """The attributes of meta elements, in their order; comments and other tags are passed over."""
    position = 0
    while (position := head.find("<", position)) >= 0:
        if head.startswith("<!--", position):
            position = after(head, "-->", position + 2)
        elif _META.match(head, position) or _TAG.match(head, position):
            is_meta = _META.match(head, position) is not None
            tag = _TAG.match(head, position)
            assert tag is not None
            attributes, end, _ = read_attributes(head, position + len("<meta") if is_meta else tag.end())
            if end < 0:
                return
            position = end
            if is_meta:
                yield attributes
        elif head[position + 1 : position + 2] in {"!", "/", "?"}:
            position = after(head, ">", position)
        else:
            position += 1
