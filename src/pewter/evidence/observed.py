"""Seen is not the same as absent."""

from typing import Generic, TypeVar

import msgspec

T = TypeVar("T")


class Seen(msgspec.Struct, Generic[T], frozen=True, tag="seen"):
    """The exchange took place; ``value`` is what it showed, which may be nothing."""

    value: T


class Unseen(msgspec.Struct, frozen=True, tag="unseen"):
    """It did not: nothing may be concluded.  ``"not reached before the deadline of 60 s"``."""

    reason: str
