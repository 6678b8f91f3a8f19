"""The same look again: what a saved review asked, and with whose trust."""

import datetime
from collections.abc import Sequence

import msgspec

from pewter.errors import UsageError
from pewter.evidence import Plan
from pewter.expectations import read_duration
from pewter.gather.board import Given
from pewter.judge.comparison import GapKey, gap_keys
from pewter.judge.nature import Matter
from pewter.judge.review import Review
from pewter.judge.rules import SITE_RULES, near, steps_for
from pewter.levels import Level
from pewter.pki import Certificate, read_certificate

from .root_stores import own_stores

SHORTEST_PAUSE = datetime.timedelta(seconds=30)
DEFAULT_PAUSE = datetime.timedelta(minutes=1)
LONGEST_WAIT = datetime.timedelta(days=30)


def given_again(review: Review) -> Given:
    """What the reviewer's own files held: it stands in the evidence."""
    evidence = review.evidence
    stored = {each.sha256: each.der for each in evidence.certificates}
    trust = (read_certificate(stored[each]) for each in evidence.given_trust if each in stored)
    return Given(
        stores=own_stores(),
        trust=tuple(each for each in trust if isinstance(each, Certificate)),
        trusts_given_only=evidence.trusts_given_only,
        certificates=tuple(stored[each] for each in evidence.given_certificates if each in stored),
        logs=evidence.given_logs,
    )


def plan_for(review: Review, rules: Sequence[str]) -> Plan:
    """The plan again; where rules are chosen, only the steps that they need."""
    plan = review.evidence.plan
    if not rules:
        return plan
    # While a change of the zone is waited for, it is told how far it has spread.
    waits_for_names = any(rule.name in rules and rule.nature.matter.is_of_names for rule in SITE_RULES)
    spreading = Matter.SPREADING if waits_for_names else None
    chosen = [rule for rule in SITE_RULES if rule.name in rules or rule.nature.matter is spreading]
    steps = tuple(each for each in steps_for(chosen) if each in plan.steps)
    return msgspec.structs.replace(plan, only=tuple(rule.name for rule in chosen), skip=(), steps=steps)


def awaited_gaps(review: Review, rules: Sequence[str], wheres: Sequence[str], fail_on: Level) -> frozenset[GapKey]:
    """The open gaps that are waited for: those chosen, else those at a level or above.

    UsageError where what was chosen names none.
    """
    known = {rule.name for rule in SITE_RULES}
    for rule in rules:
        if rule not in known:
            raise UsageError(f"--rule {rule!r} is no rule.{near(rule, known)} 'pewter rules' lists them.")
    found = {
        key
        for key, (level, gap) in gap_keys(review).items()
        if (not rules or key.rule in rules)
        and (not wheres or {gap.where.text, gap.where.host, gap.where.key} & set(wheres))
        and (rules or wheres or level.rank <= fail_on.rank)
    }
    if not found and (rules or wheres):
        raise UsageError("No open gap of the review is of these rules and places: there is nothing to wait for.")
    return frozenset(found)


def read_pause(text: str | None) -> datetime.timedelta:
    """``--every``; UsageError for what is none, or too short to be polite."""
    pause = read_duration(text) if text is not None else DEFAULT_PAUSE
    if pause is None or pause < SHORTEST_PAUSE:
        raise UsageError(f'--every {text!r}: write it as "5 minutes"; at least 30 seconds, to be polite.')
    return pause


def read_wait(text: str) -> datetime.timedelta:
    """``--wait``; UsageError for what is none."""
    wait = read_duration(text)
    if wait is None or not datetime.timedelta() < wait <= LONGEST_WAIT:
        raise UsageError(f'--wait {text!r}: write it as "2 days"; more than 0 and at most 30 days.')
    return wait
