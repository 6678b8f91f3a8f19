"""Saved reviews, read from files."""

from pathlib import Path

from pewter.judge.review import Review, read_review

from .files import read_bounded
from .own_mark import is_signed

MAX_REVIEW = 16 << 20
"""Octets of a saved review: the largest of many names and long recordings has a third of it."""


def read_saved(path: Path) -> Review:
    """A saved review; FileError for anything else."""
    octets = read_bounded(path, MAX_REVIEW, "saved review")
    return read_review(octets, str(path), is_own=is_signed(octets))
