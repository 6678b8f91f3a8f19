"""What a rule returns, and what the judge makes of it."""

import datetime
import enum

import msgspec


class Level(enum.Enum):
    """How bad a gap is, worst first."""

    BREAKS = "breaks"
    """Visitors are stopped or warned."""

    EXPOSES = "exposes"
    """Traffic or cookies can be read or changed."""

    WEAKENS = "weakens"
    """A defence is missing."""

    NOTE = "note"

    @property
    def rank(self) -> int:
        """0 for the worst."""
        return list(Level).index(self)


class Gap(msgspec.Struct, frozen=True, tag="gap"):
    """Something is wrong at one place."""

    where: str
    """A name, ``name at address``, or a URL."""

    seen: str
    expected: str
    cause: str = ""
    """Gaps of one rule with the same cause are one entry of a report; empty: ``seen`` is the cause."""

    level: Level | None = None
    """Where it departs from the rule's own."""

    detail: str = ""
    """What helps to mend just this one: the address of a missing certificate, the nearest name."""

    mend: str = ""
    """In place of the rule's own words, where they do not fit this one."""

    parts: tuple[str, ...] = ()
    """What was seen, piece by piece, where ``seen`` is a list."""

    host: str = ""
    """At which it is to be mended, where that is not the host of ``where``."""


class Holds(msgspec.Struct, frozen=True, tag="holds"):
    """It was looked at and is as expected."""

    where: str
    seen: str


class Unknown(msgspec.Struct, frozen=True, tag="unknown"):
    """It could not be observed."""

    where: str
    reason: str


class Accepted(msgspec.Struct, frozen=True, tag="accepted"):
    """A gap that the site's owner accepts."""

    gap: Gap
    because: str
    until: datetime.date

    @property
    def where(self) -> str:
        return self.gap.where


RuleOutcome = Gap | Holds | Unknown
Outcome = Gap | Holds | Unknown | Accepted


class Judged(msgspec.Struct, frozen=True):
    """One outcome with all that a reader needs to understand and act on it."""

    rule: str
    level: Level
    """Of the gap; of the rule where it is none."""

    outcome: Outcome
    title: str = ""
    why: str = ""
    mend: str = ""
    server: str = ""
    """The software for which ``configuration`` is: ``nginx``; empty where it is not known."""

    configuration: str = ""
    check: str = ""
    """How to see that it is mended."""


def host_of_place(where: str) -> str:
    """The host name in a place: of ``https://x.example/y``, ``x.example at 192.0.2.7`` or ``x.example``."""
    if "://" in where:
        where = where.partition("://")[2].partition("/")[0]
    return where.partition(" at ")[0].partition(":")[0]
