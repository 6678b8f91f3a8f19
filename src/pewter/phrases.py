"""Pieces of English that several parts need."""

import datetime
from collections.abc import Iterable


def all_of(texts: Iterable[object]) -> str:
    """``A, B and C``; at least one."""
    *others, last = map(str, texts)
    return f"{', '.join(others)} and {last}" if others else last


def counted(count: int, noun: str) -> str:
    """``1 day``, ``12 days``: of a noun that takes an s."""
    return f"{count} {noun}" + ("" if count == 1 else "s")


def days(count: int) -> str:
    """``1 day``, ``12 days``."""
    return counted(count, "day")


def ago(passed: datetime.timedelta) -> str:
    """``3 days ago``, ``5 hours ago``, ``a minute ago``."""
    return f"{_span(passed)} ago"


def until(left: datetime.timedelta) -> str:
    """``9 days``, ``5 hours``; as :func:`ago` for what is over."""
    return ago(-left) if left < datetime.timedelta() else _span(left)


def _span(span: datetime.timedelta) -> str:
    if span >= datetime.timedelta(days=1):
        return days(span.days)
    hours, minutes = span.seconds // 3600, span.seconds // 60
    return counted(hours, "hour") if hours else counted(max(minutes, 1), "minute")


def moment(at: datetime.datetime) -> str:
    """``2026-12-01 08:14:03 UTC``: with its day, since what is waited for may be days ahead."""
    return f"{at:%Y-%m-%d %H:%M:%S} UTC"
