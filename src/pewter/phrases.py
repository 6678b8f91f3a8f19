"""Pieces of English that several parts need."""

from collections.abc import Iterable


def all_of(texts: Iterable[object]) -> str:
    """``A, B and C``; at least one."""
    *others, last = map(str, texts)
    return f"{', '.join(others)} and {last}" if others else last
