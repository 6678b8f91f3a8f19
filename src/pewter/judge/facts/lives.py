"""What is known of a served certificate's life."""

import datetime

from pewter.judge.expectations import Expectations
from pewter.pki import Certificate, Life, life_of, longest_life

from .chains import Chain, HasChains
from .revocation import is_public


def days(count: int) -> str:
    """``1 day``, ``12 days``."""
    return f"{count} day" + ("" if count == 1 else "s")


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
    count, unit = (hours, "hour") if hours else (max(minutes, 1), "minute")
    return f"{count} {unit}{'' if count == 1 else 's'}"


def excess_of_life(case: HasChains, chain: Chain) -> str | None:
    """By how much a publicly trusted certificate lives too long; empty for a good one, None where no limit holds."""
    if not isinstance(chain.leaf, Certificate):
        return None
    longest = longest_life(chain.leaf.not_before)
    if longest is None or not is_public(case, chain):
        return None
    length = life_of(chain.leaf).length
    if length <= longest:
        return ""
    seconds = int((length - longest).total_seconds())
    over = days(seconds // 86400) if seconds >= 86400 else f"{seconds} s"
    return f"{days(longest.days)} and {over} more; issued {chain.leaf.not_before:%Y-%m-%d}"


def expiring_margin(life: Life, expect: Expectations) -> datetime.timedelta:
    """How long before its end a certificate counts as expiring.

    A tenth of its life or 7 days, whichever is longer, but never more than a third: for a certificate
    of six days seven would be its whole life.
    """
    margin = max(life.length * expect.expiring_fraction, datetime.timedelta(days=expect.expiring_days))
    return min(margin, life.length * expect.expiring_fraction_limit)


def is_expiring(life: Life, at: datetime.datetime, expect: Expectations) -> bool:
    return not life.is_over(at) and life.left(at) < expiring_margin(life, expect)


def is_renewal_overdue(life: Life, at: datetime.datetime, expect: Expectations) -> bool:
    return life.passed(at) > expect.renewal_point + expect.renewal_grace and not life.is_endless
