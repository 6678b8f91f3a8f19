"""A certificate's life, in fractions (RFC 5280 section 4.1.2.5)."""

import datetime

import msgspec

from .certificates import Certificate

ONE_SECOND = datetime.timedelta(seconds=1)


class Life(msgspec.Struct, frozen=True):
    """From notBefore to notAfter, both ends included."""

    not_before: datetime.datetime
    not_after: datetime.datetime

    @property
    def length(self) -> datetime.timedelta:
        """notAfter - notBefore + 1 second; zero where they stand the wrong way round."""
        return max(self.not_after - self.not_before + ONE_SECOND, datetime.timedelta())

    @property
    def is_endless(self) -> bool:
        """99991231235959Z stands for no well-defined end (RFC 5280 section 4.1.2.5)."""
        return self.not_after.year == 9999

    def is_over(self, at: datetime.datetime) -> bool:
        return at > self.not_after

    def is_ahead(self, at: datetime.datetime) -> bool:
        return at < self.not_before

    def left(self, at: datetime.datetime) -> datetime.timedelta:
        """What remains; negative once it is over."""
        return self.not_after - at

    def days_left(self, at: datetime.datetime) -> int:
        """Whole days that remain, rounded down; negative once it is over."""
        return self.left(at).days

    def passed(self, at: datetime.datetime) -> float:
        """The fraction that has passed, 0.0 to 1.0."""
        if not self.length:
            return 1.0
        return min(max((at - self.not_before) / self.length, 0.0), 1.0)

    def point(self, fraction: float) -> datetime.datetime:
        """When this fraction will have passed."""
        return self.not_before + self.length * fraction


LONGEST_LIVES = (
    (datetime.date(2029, 3, 15), 47),
    (datetime.date(2027, 3, 15), 100),
    (datetime.date(2026, 3, 15), 200),
    (datetime.date(2020, 9, 1), 398),
    (datetime.date(2018, 3, 1), 825),
)
"""Days that a publicly trusted server's certificate may live, by the first day of issue for which it holds
(CA/Browser Forum Baseline Requirements section 6.3.2)."""


def longest_life(not_before: datetime.datetime) -> datetime.timedelta | None:
    """What was allowed on the day of issue; None before there was such a limit in days."""
    day = not_before.date()
    return next((datetime.timedelta(days=days) for since, days in LONGEST_LIVES if day >= since), None)


def life_of(certificate: Certificate) -> Life:
    return Life(certificate.not_before, certificate.not_after)
