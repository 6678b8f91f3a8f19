"""Saved reviews, read from files."""

from pathlib import Path

from pewter.judge.review import Review, read_review

from .files import read_bounded

MAX_REVIEW = 200 << 20
"""Octets of a saved review."""


def read_saved(path: Path) -> Review:
    """A saved review; FileError for anything else."""
    return read_review(read_bounded(path, MAX_REVIEW, "saved review"), str(path))
