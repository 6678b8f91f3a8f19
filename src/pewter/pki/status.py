"""What came of asking whether a certificate is revoked, by whichever way."""

import datetime
import enum

import msgspec

CLOCK_SKEW = datetime.timedelta(minutes=5)
"""Responders answer with the present second as thisUpdate, by a clock of their own, and after the look began."""


class StatusKind(enum.Enum):
    """The outcome, in the words of a report."""

    GOOD = "good"
    REVOKED = "revoked"
    UNKNOWN = "unknown to the responder"
    NOT_SUCCESSFUL = "no answer in substance"
    FOREIGN = "for another certificate"
    BAD_SIGNATURE = "badly signed"
    NOT_AUTHORIZED = "signed by nobody who may"
    STALE = "out of date"
    AHEAD = "not valid yet"
    MALFORMED = "unreadable"
    OUT_OF_SCOPE = "not about this certificate"
    UNCHECKED = "not checkable"

    @property
    def is_answer(self) -> bool:
        """Whether a client may rely on it."""
        return self in {StatusKind.GOOD, StatusKind.REVOKED}


SLACK = datetime.timedelta(days=1)
"""By which Firefox takes a staple before thisUpdate, or after nextUpdate."""


class StatusVerdict(msgspec.Struct, frozen=True):
    """One answer, judged."""

    kind: StatusKind
    detail: str
    until: datetime.datetime | None = None
    """nextUpdate."""

    is_off_by_less_than_a_day: bool = False
    """Of one that is out of date or not valid yet."""


REASONS = {
    0: "unspecified",
    1: "keyCompromise",
    2: "cACompromise",
    3: "affiliationChanged",
    4: "superseded",
    5: "cessationOfOperation",
    6: "certificateHold",
    8: "removeFromCRL",
    9: "privilegeWithdrawn",
    10: "aACompromise",
}
"""CRLReason (RFC 5280 section 5.3.1)."""


def revoked_words(at: datetime.datetime, reason: int | None) -> str:
    """``revoked on 2026-11-02, keyCompromise``."""
    words = f"revoked on {at:%Y-%m-%d}"
    return f"{words}, {REASONS.get(reason, f'reason {reason}')}" if reason is not None else words


def out_of_date(
    this_update: datetime.datetime, next_update: datetime.datetime | None, at: datetime.datetime
) -> StatusVerdict | None:
    """A verdict where ``at`` lies outside of the answer's time (RFC 6960 section 4.2.2.1, RFC 5280 section 5.1.2.5)."""
    soon = this_update - at <= SLACK
    if at + CLOCK_SKEW < this_update:
        return StatusVerdict(StatusKind.AHEAD, f"valid from {this_update:%Y-%m-%d %H:%M} UTC only", next_update, soon)
    if next_update is not None and at >= next_update:
        just = at - next_update <= SLACK
        return StatusVerdict(StatusKind.STALE, f"ran out {next_update:%Y-%m-%d %H:%M} UTC", next_update, just)
    return None
