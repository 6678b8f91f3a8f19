"""Labels of names as text."""

import re

_PLAIN = re.compile(rb"[A-Za-z0-9_*-]+")
_ESCAPED = frozenset(b'"().;\\@$')


def label_text(label: bytes) -> str:
    """Presentation form (RFC 1035 section 5.1, RFC 4343 section 2.1), in lower case: names are compared by it."""
    if _PLAIN.fullmatch(label):
        return label.decode("ascii").lower()
    return "".join(
        f"\\{chr(octet)}" if octet in _ESCAPED else chr(octet) if 0x20 < octet < 0x7F else f"\\{octet:03d}"
        for octet in label
    ).lower()
