"""What is known of a served certificate's life."""

import datetime

from pewter.expectations import Expectations
from pewter.phrases import days
from pewter.pki import Certificate, Life, life_of, longest_life

from .chains import Chain, HasChains
from .revocation import is_public


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
