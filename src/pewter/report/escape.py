"""What a server sent is hostile until it has passed here: one place for the terminal."""

import re

_UNSAFE = re.compile(r"[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb]")


def terminal_safe(text: str) -> str:
    """``text`` with control and direction characters written out: ESC becomes ``\\x1b``."""
    return _UNSAFE.sub(_written_out, text)


def _written_out(match: re.Match[str]) -> str:
    code = ord(match[0])
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"
