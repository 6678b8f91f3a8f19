"""Pieces of English that several parts need."""

import datetime
from collections.abc import Iterable, Sequence


def all_of(texts: Iterable[object]) -> str:
    """``A, B and C``; at least one."""
    *others, last = map(str, texts)
    return f"{', '.join(others)} and {last}" if others else last


def plural(count: int, noun: str, ending: str = "s") -> str:
    """``day`` of one, ``days`` of any other number."""
    return noun + ("" if count == 1 else ending)


def counted(count: int, noun: str, ending: str = "s") -> str:
    """``1 day``, ``12 days``."""
    return f"{count} {plural(count, noun, ending)}"


def and_more(count: int, shown: int, of: str = "") -> str:
    """`` and 3 more``, `` and 3 more gaps``, of so many of which the first are shown; empty where all are."""
    return f" and {count - shown:,} more{f' {of}' if of else ''}" if count > shown else ""


def some(texts: Sequence[object], most: int) -> str:
    """``A, B and 3 more``."""
    return ", ".join(map(str, texts[:most])) + and_more(len(texts), most)


def shortened(texts: Sequence[str], most: int) -> tuple[str, ...]:
    """``A``, ``B``, ``and 3 more``: piece by piece."""
    more = and_more(len(texts), most).strip()
    return (*texts[:most], *([more] if more else ()))


def days(count: int) -> str:
    """``1 day``, ``12 days``."""
    return counted(count, "day")


def ago(passed: datetime.timedelta) -> str:
    """``3 days ago``, ``5 hours ago``, ``a minute ago``."""
    return f"{_span(passed)} ago"


def until(left: datetime.timedelta) -> str:
    """``9 days``, ``5 hours``; as :func:`ago` for what is over."""
    return ago(-left) if left < datetime.timedelta() else _span(left)


_UNITS = ((86400, "day"), (3600, "hour"), (60, "minute"))


def whole(seconds: int, of_seconds: str = " s") -> str:
    """``2 hours``, ``90 s``: in the largest unit of which it is a whole number."""
    for size, unit in _UNITS:
        if seconds >= size and seconds % size == 0:
            return counted(seconds // size, unit)
    return f"{seconds}{of_seconds}"


def about(seconds: float) -> str:
    """``40 s``, ``12 min``, ``2.5 h``: of something that is only estimated."""
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"


def _span(span: datetime.timedelta) -> str:
    if span >= datetime.timedelta(days=1):
        return days(span.days)
    hours, minutes = span.seconds // 3600, span.seconds // 60
    return counted(hours, "hour") if hours else counted(max(minutes, 1), "minute")


def moment(at: datetime.datetime) -> str:
    """``2026-12-01 08:14:03 UTC``: with its day, since what is waited for may be days ahead."""
    return f"{at:%Y-%m-%d %H:%M:%S} UTC"
