"""What field readers share."""

import msgspec


class IgnoredField(msgspec.Struct, frozen=True):
    """A field that user agents drop, and why, in words for the report."""

    reason: str
