"""Is the certificate in date, and does renewal work?"""

import datetime
from collections.abc import Iterator

from pewter.pki import Certificate, Life, life_of

from .case import Case, ServedChain
from .expectations import Expectations
from .outcomes import Gap, Holds, Level, RuleOutcome
from .policies import policy_in_force
from .rules import rule


def _leaves(case: Case) -> Iterator[tuple[ServedChain, Certificate, Life]]:
    for chain in case.chains:
        if isinstance(chain.leaf, Certificate):
            yield chain, chain.leaf, life_of(chain.leaf)


def days(count: int) -> str:
    """``1 day``, ``12 days``."""
    return f"{count} day" + ("" if count == 1 else "s")


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
    return life.passed(at) > expect.renewal_point + expect.renewal_grace


def _span(life: Life, at: datetime.datetime) -> str:
    return f"{days(life.days_left(at))} left of {life.length.days}; ends {life.not_after:%Y-%m-%d %H:%M} UTC"


@rule("date/expired", level=Level.BREAKS, sources=("RFC 5280 section 4.1.2.5",))
def expired(case: Case) -> Iterator[RuleOutcome]:
    """A certificate past notAfter stops every visitor."""
    for chain, leaf, life in _leaves(case):
        if life.is_over(case.at):
            ago = days((case.at - life.not_after).days)
            seen = f"ended {life.not_after:%Y-%m-%d %H:%M} UTC, {ago} ago"
            detail = _other_certificate(case, chain)
            yield Gap(chain.where, seen, "a certificate in date", cause=leaf.sha256, detail=detail)
        else:
            yield Holds(chain.where, f"until {life.not_after:%Y-%m-%d}")
    yield from case.without_chain()


def _other_certificate(case: Case, chain: ServedChain) -> str:
    """Where the same name is served with a certificate in date: then it is only to be copied or loaded."""
    for other, _, life in _leaves(case):
        if other.endpoint.name == chain.endpoint.name and not life.is_over(case.at):
            return f"It is replaced already at {other.where}: valid until {life.not_after:%Y-%m-%d}"
    return ""


@rule("date/not-yet-valid", level=Level.BREAKS, sources=("RFC 5280 section 4.1.2.5",))
def not_yet_valid(case: Case) -> Iterator[RuleOutcome]:
    """A certificate before notBefore stops every visitor."""
    for chain, leaf, life in _leaves(case):
        if life.is_ahead(case.at):
            seen = f"begins {life.not_before:%Y-%m-%d %H:%M} UTC"
            yield Gap(chain.where, seen, "a certificate in date", cause=leaf.sha256)
        else:
            yield Holds(chain.where, f"since {life.not_before:%Y-%m-%d}")
    yield from case.without_chain()


@rule("date/expiring", level=Level.EXPOSES, sources=("Pewter's baseline: expiring_fraction, expiring_days",))
def expiring(case: Case) -> Iterator[RuleOutcome]:
    """The last part of a certificate's life is for emergencies."""
    for chain, leaf, life in _leaves(case):
        if is_expiring(life, case.at, case.expect):
            margin = days(expiring_margin(life, case.expect).days)
            yield Gap(chain.where, _span(life, case.at), f"renewed at least {margin} before", cause=leaf.sha256)
        elif not life.is_over(case.at):
            yield Holds(chain.where, f"{days(life.days_left(case.at))} left")
    yield from case.without_chain()


@rule("date/renewal-overdue", level=Level.WEAKENS, sources=("Pewter's baseline: renewal_point, renewal_grace",))
def renewal_overdue(case: Case) -> Iterator[RuleOutcome]:
    """Automatic renewal comes at two thirds of a life: much later, it has failed.  date/expiring hides it."""
    for chain, leaf, life in _leaves(case):
        if life.is_over(case.at) or is_expiring(life, case.at, case.expect):
            continue
        point = life.point(case.expect.renewal_point)
        if is_renewal_overdue(life, case.at, case.expect):
            seen = _span(life, case.at)
            yield Gap(chain.where, seen, f"renewed about {point:%Y-%m-%d}", cause=leaf.sha256)
        else:
            yield Holds(chain.where, f"renewal is due about {point:%Y-%m-%d}")
    yield from case.without_chain()


@rule("date/hsts-locks-out", level=Level.EXPOSES, sources=("RFC 6797 section 12.1",))
def hsts_locks_out(case: Case) -> Iterator[RuleOutcome]:
    """With HSTS in force an expired certificate leaves visitors no way past the warning."""
    for chain, leaf, life in _leaves(case):
        policy, holder = policy_in_force(case, chain.endpoint.name)
        if policy is None:
            continue
        if life.is_over(case.at) or is_expiring(life, case.at, case.expect):
            verb = "ended" if life.is_over(case.at) else "ends"
            end = f"{verb} {life.not_after:%Y-%m-%d %H:%M} UTC"
            seen = f"{end}, and HSTS of {holder} is in force (max-age={policy.max_age})"
            yield Gap(chain.where, seen, "renewed well before the end", cause=leaf.sha256)
        else:
            yield Holds(chain.where, f"locks nobody out before {life.not_after:%Y-%m-%d}")
    yield from case.without_chain()


RULES = (expired, not_yet_valid, expiring, renewal_overdue, hsts_locks_out)
