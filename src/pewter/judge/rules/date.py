"""Is the certificate in date, and does renewal work?"""

import datetime
from collections.abc import Iterator

from pewter.evidence import Step
from pewter.facts.case import Case
from pewter.facts.chains import Chain, HasChains, told_apart
from pewter.facts.lives import excess_of_life, expiring_margin, is_expiring, is_renewal_overdue
from pewter.facts.policies_in_force import policy_in_force
from pewter.facts.revocation import is_public
from pewter.judge.nature import OF_CERTIFICATES, OF_SERVED_CERTIFICATES
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.phrases import ago, days, until
from pewter.pki import LONGEST_LIVES, Certificate, Life, covers, life_of, longest_life
from pewter.places import of_file, of_name

from .walks import unknown


def _leaves(case: HasChains) -> Iterator[tuple[Chain, Certificate, Life]]:
    for chain, leaf in case.chains.leaves():
        yield chain, leaf, life_of(leaf)


def _span(life: Life, at: datetime.datetime) -> str:
    """What is left; a certificate without an end (RFC 5280 section 4.1.2.5) has no days to count."""
    if life.is_endless:
        return "without an end"
    return f"{until(life.left(at))} left of {days(life.length.days)}; ends {life.not_after:%Y-%m-%d %H:%M} UTC"


@rule("date/expired", level=Level.BREAKS, sources=("RFC 5280 section 4.1.2.5",), nature=OF_CERTIFICATES)
def expired(case: HasChains) -> Iterator[RuleOutcome]:
    """A certificate past notAfter stops every visitor."""
    for chain, leaf, life in _leaves(case):
        if life.is_over(case.at):
            seen = f"ended {life.not_after:%Y-%m-%d %H:%M} UTC, {ago(case.at - life.not_after)}"
            detail = _other_certificate(case, chain)
            yield Gap(chain.where, seen, "a certificate in date", cause=leaf.sha256, detail=detail)
        else:
            yield Holds(chain.where, f"until {life.not_after:%Y-%m-%d}")
    yield from unknown(case.chains.unseen)


def _other_certificate(case: HasChains, chain: Chain) -> str:
    """Where the same name is served with a certificate in date: then it is only to be copied or loaded."""
    for other, _, life in _leaves(case):
        if other.host == chain.host and not life.is_over(case.at):
            return f"It is replaced already at {other.where}: valid until {life.not_after:%Y-%m-%d}"
    return ""


@rule("date/not-yet-valid", level=Level.BREAKS, sources=("RFC 5280 section 4.1.2.5",), nature=OF_CERTIFICATES)
def not_yet_valid(case: HasChains) -> Iterator[RuleOutcome]:
    """A certificate before notBefore stops every visitor."""
    for chain, leaf, life in _leaves(case):
        if life.is_ahead(case.at):
            seen = f"begins {life.not_before:%Y-%m-%d %H:%M} UTC"
            yield Gap(chain.where, seen, "a certificate in date", cause=leaf.sha256)
        else:
            yield Holds(chain.where, f"since {life.not_before:%Y-%m-%d}")
    yield from unknown(case.chains.unseen)


def _coming_lives(case: HasChains, chain: Chain, life: Life) -> str:
    """What is ahead of whoever renews a public certificate by hand: a long life is a sign of that."""
    if life.length < _BY_HAND or not is_public(case, chain):
        return ""
    steps = sorted(LONGEST_LIVES)
    ahead = [f"{days(limit)} from {since:%Y-%m-%d}" for since, limit in steps if since > case.at.date()]
    return f"Public certificates may live ever shorter: {', '.join(ahead)}. Renew by a program" if ahead else ""


_BY_HAND = datetime.timedelta(days=100)


@rule(
    "date/expiring",
    level=Level.EXPOSES,
    sources=("Pewter's baseline: expiring_fraction, expiring_days",),
    nature=OF_CERTIFICATES,
)
def expiring(case: HasChains) -> Iterator[RuleOutcome]:
    """The last part of a certificate's life is for emergencies."""
    for chain, leaf, life in _leaves(case):
        if is_expiring(life, case.at, case.expect):
            margin = days(expiring_margin(life, case.expect).days)
            expected = f"renewed at least {margin} before"
            detail = _coming_lives(case, chain, life)
            yield Gap(chain.where, _span(life, case.at), expected, cause=leaf.sha256, by=life.not_after, detail=detail)
        elif not life.is_over(case.at):
            left = "without an end" if life.is_endless else f"{until(life.left(case.at))} left"
            yield Holds(chain.where, left)
    yield from unknown(case.chains.unseen)


@rule(
    "date/renewal-overdue",
    level=Level.WEAKENS,
    sources=("Pewter's baseline: renewal_point, renewal_grace",),
    nature=OF_CERTIFICATES,
)
def renewal_overdue(case: HasChains) -> Iterator[RuleOutcome]:
    """Automatic renewal comes at two thirds of a life: much later, it has failed.  date/expiring hides it."""
    for chain, leaf, life in _leaves(case):
        if life.is_over(case.at) or is_expiring(life, case.at, case.expect):
            continue
        point = life.point(case.expect.renewal_point)
        if is_renewal_overdue(life, case.at, case.expect):
            seen, detail = _span(life, case.at), _coming_lives(case, chain, life)
            yield Gap(chain.where, seen, f"renewed about {point:%Y-%m-%d}", cause=leaf.sha256, detail=detail)
        elif life.is_endless:
            yield Holds(chain.where, "without an end")
        elif point < case.at:
            yield Holds(chain.where, f"renewal was due about {point:%Y-%m-%d}, and is within its grace")
        else:
            yield Holds(chain.where, f"renewal is due about {point:%Y-%m-%d}")
    yield from unknown(case.chains.unseen)


@rule("date/too-long", level=Level.BREAKS, sources=("Baseline Requirements section 6.3.2",), nature=OF_CERTIFICATES)
def too_long(case: HasChains) -> Iterator[RuleOutcome]:
    """Browsers refuse a publicly trusted certificate that lives longer than was allowed on its day of issue."""
    for chain, leaf, life in _leaves(case):
        longest, excess = longest_life(leaf.not_before), excess_of_life(case, chain)
        if longest is None or excess is None:
            continue
        if excess:
            yield Gap(chain.where, excess, f"at most {days(longest.days)} for that day of issue", cause=leaf.sha256)
        else:
            yield Holds(chain.where, f"{life.length.days} of {longest.days} days allowed")


@rule("date/not-loaded", level=Level.EXPOSES, sources=("the given certificate files",), nature=OF_SERVED_CERTIFICATES)
def not_loaded(case: HasChains) -> Iterator[RuleOutcome]:
    """A renewed file on disk is of no use until the server has loaded it."""
    for chain, leaf, _ in _leaves(case):
        ours = [each for each in case.chains.given_certificates if covers(each, chain.host)]
        newer = [each for each in ours if each.not_before > leaf.not_before]
        if newer:
            newest = max(newer, key=lambda each: each.not_before)
            seen = f"served: {told_apart(leaf)}; the given file: {told_apart(newest)}"
            cause = f"{leaf.sha256} {newest.sha256}"
            yield Gap(chain.where, seen, "the newer certificate", cause=cause, by=leaf.not_after)
        elif any(each.sha256 == leaf.sha256 for each in ours):
            yield Holds(chain.where, "the given file is served")
        elif ours:
            newest = max(ours, key=lambda each: each.not_before)
            seen = f"the given file is not served: {told_apart(newest)}; served: {told_apart(leaf)}"
            yield Gap(chain.where, seen, "the certificate of the given file", cause=leaf.sha256, level=Level.NOTE)
    names = [chain.host for chain in case.chains]
    for each in case.chains.given_certificates:
        if not each.extensions.is_ca and names and not any(covers(each, name) for name in names):
            yield Unknown(of_file("given file"), f"{each.title} covers no name that was reached")


@rule(
    "date/left-behind",
    level=Level.WEAKENS,
    sources=("Pewter's baseline: every server of a name is renewed",),
    nature=OF_SERVED_CERTIFICATES,
)
def left_behind(case: Case) -> Iterator[RuleOutcome]:
    """One of several servers still has the old certificate; date/expired speaks once that has ended."""
    for name in sorted(case.site_names):
        served = [(chain, leaf, life) for chain, leaf, life in _leaves(case) if chain.host == name]
        endpoints = {chain.where.address: chain for chain, _, _ in served}
        if len(endpoints) < 2:
            continue
        newest = max((leaf for _, leaf, _ in served), key=lambda each: each.not_before)
        behind = [
            (chain, leaf, life)
            for chain, leaf, life in served
            if leaf.not_before < newest.not_before
            and leaf.key.kind == newest.key.kind
            and not any(
                other.sha256 == newest.sha256
                for there, other, _ in served
                if there.where.address == chain.where.address
            )
        ]
        for chain, leaf, life in behind:
            if not life.is_over(case.at):
                seen = f"here: {told_apart(leaf)}; elsewhere: {told_apart(newest)}"
                yield Gap(chain.where, seen, "the newest certificate at every address", cause=leaf.sha256)
        if not behind:
            yield Holds(of_name(name), f"the same certificate at {len(endpoints)} addresses")


@rule("date/hsts-locks-out", level=Level.EXPOSES, sources=("RFC 6797 section 12.1",), nature=OF_SERVED_CERTIFICATES)
def hsts_locks_out(case: Case) -> Iterator[RuleOutcome]:
    """With HSTS in force an expired certificate leaves visitors no way past the warning."""
    for chain, leaf, life in _leaves(case):
        policy, holder = policy_in_force(case, chain.host)
        if policy is None:
            continue
        if life.is_over(case.at) or is_expiring(life, case.at, case.expect):
            verb = "ended" if life.is_over(case.at) else "ends"
            end = f"{verb} {life.not_after:%Y-%m-%d %H:%M} UTC"
            seen = f"{end}, and HSTS of {holder} is in force (max-age={policy.max_age})"
            yield Gap(chain.where, seen, "renewed well before the end", cause=leaf.sha256, by=life.not_after)
        else:
            yield Holds(chain.where, f"locks nobody out before {life.not_after:%Y-%m-%d}")
    yield from unknown(case.chains.unseen)


STEPS: tuple[Step, ...] = (Step.SIBLINGS, Step.WAYS_IN, Step.CERTIFICATES, Step.VERSIONS, Step.ISSUERS)
"""What has to be asked for its rules."""

RULES = (expired, not_yet_valid, expiring, renewal_overdue, too_long, not_loaded, left_behind, hsts_locks_out)
