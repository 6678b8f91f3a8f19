"""Seen is not the same as absent."""

from typing import ClassVar, Generic, Self, TypeVar

import msgspec

T = TypeVar("T")


class Seen(msgspec.Struct, Generic[T], frozen=True, tag="seen", omit_defaults=True):
    """The exchange took place; ``value`` is what it showed, which may be nothing."""

    value: T


class Tries(msgspec.Struct, frozen=True, omit_defaults=True):
    """The same question asked several times, since it was not answered at first."""

    what: str
    """A URL, or the hello in words."""

    made: int
    answered: int


class Unseen(msgspec.Struct, frozen=True, tag="unseen", omit_defaults=True):
    """It did not: nothing may be concluded.  ``"not reached before the deadline of 60 s"``."""

    reason: str


class Fault(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something that Pewter itself did wrong: it says nothing of the site."""

    what: str
    """Where in the look, or which rule."""

    detail: str

    REASON: ClassVar[str] = "Pewter failed here; please report it"
    """Why what it cost is unknown."""

    @classmethod
    def of(cls, what: str, exc: Exception) -> Self:
        """With as much of the exception as a report has use for."""
        return cls(what, f"{type(exc).__name__}: {exc}"[:300])
