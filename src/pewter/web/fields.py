"""What field readers share."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class IgnoredField:
    """A field that user agents drop, and why, in words for the report."""

    reason: str
