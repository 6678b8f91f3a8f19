"""Seen is not the same as absent."""

from typing import Generic, TypeVar

import msgspec

T = TypeVar("T")


class Seen(msgspec.Struct, Generic[T], frozen=True, tag="seen"):
    """The exchange took place; ``value`` is what it showed, which may be nothing."""

    value: T


class Tries(msgspec.Struct, frozen=True):
    """The same question asked several times, since it was not answered at first."""

    what: str
    """A URL, or the hello in words."""

    made: int
    answered: int


class Unseen(msgspec.Struct, frozen=True, tag="unseen"):
    """It did not: nothing may be concluded.  ``"not reached before the deadline of 60 s"``."""

    reason: str
