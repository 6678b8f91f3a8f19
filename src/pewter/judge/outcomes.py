"""What a rule returns, and what the judge makes of it."""

import datetime

import msgspec

from pewter.levels import Level
from pewter.places import Place


class Gap(msgspec.Struct, frozen=True, tag="gap", omit_defaults=True):
    """Something is wrong at one place."""

    where: Place

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

    about: str = ""
    """Which of several at one place: a suite, a certificate; by a key that a renewal does not change."""

    check_url: str = ""
    """Where the check asks, where the place is no URL."""

    by: datetime.datetime | None = None
    """From when on it stops visitors, where that is known."""


class Holds(msgspec.Struct, frozen=True, tag="holds", omit_defaults=True):
    """It was looked at and is as expected."""

    where: Place
    seen: str


class Unknown(msgspec.Struct, frozen=True, tag="unknown", omit_defaults=True):
    """It could not be observed."""

    where: Place
    reason: str


class Accepted(msgspec.Struct, frozen=True, tag="accepted", omit_defaults=True):
    """A gap that the site's owner accepts."""

    gap: Gap
    because: str
    until: datetime.date

    @property
    def where(self) -> Place:
        return self.gap.where


RuleOutcome = Gap | Holds | Unknown
Outcome = Gap | Holds | Unknown | Accepted


class Judged(msgspec.Struct, frozen=True):
    """One outcome of one rule; the rule's words stand once in the results."""

    rule: str
    level: Level
    """Of the gap; of the rule where it is none."""

    outcome: Outcome
