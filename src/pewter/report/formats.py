"""The table of formats: one row each, and pure functions from a review to octets."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from pewter.errors import UsageError
from pewter.judge.review import Review, write_review


@dataclass(frozen=True)
class Format:
    """One way to write a review down."""

    suffix: str
    title: str
    render: Callable[[Review], bytes]


FORMATS = (Format(".json", "JSON, to be read again", write_review),)
"""The one table of formats."""


def render(review: Review, suffix: str) -> bytes:
    """A review in the format of a suffix; the same review gives the same octets."""
    return next(each for each in FORMATS if each.suffix == suffix).render(review)


def check_format(path: Path) -> None:
    """UsageError for a file whose suffix is that of no format."""
    if path.suffix not in {each.suffix for each in FORMATS}:
        known = ", ".join(each.suffix for each in FORMATS)
        raise UsageError(f"--write {path}: the suffix says the format; it can be {known}.")
