"""From a case to judged outcomes."""

import datetime
import time
from collections.abc import Callable, Iterator, Sequence
from typing import Any, Protocol

from pewter.evidence import Fault
from pewter.expectations import AcceptedGap, Terms
from pewter.levels import Level
from pewter.places import Place, the_site

from .outcomes import Accepted, Gap, Judged, Outcome, RuleOutcome, Unknown
from .rule import Rule

INTERRUPTED = "interrupted before it was judged"
MAX_SECONDS = 60.0
"""For all rules of a review: a site that is made to be judged for ever leaves the rest unknown."""

LATE = f"not judged: the rules before it took more than {MAX_SECONDS:g} s"


class HasTerms(Protocol):
    """What the judge itself looks at in a case."""

    @property
    def terms(self) -> Terms: ...

    @property
    def at(self) -> datetime.datetime: ...

    def why_not_of_site(self, where: Place) -> str:
        """Why what was seen at a place says nothing of the site; empty where it does."""


def judge(
    case: HasTerms, rules: Sequence[Rule[Any]], failed: Callable[[Fault | KeyboardInterrupt], None] | None = None
) -> tuple[Judged, ...]:
    """Every outcome of every rule, in the order of the rules.

    A fault of ours in one rule costs the rest of that rule: it is told to ``failed``, and unknown in the review.
    An interruption from the keyboard leaves the rules that follow unknown, and is told in the same way.
    """
    found: list[Judged] = []
    interrupted, begun = False, time.monotonic()
    for rule in rules:
        reason = INTERRUPTED if interrupted else LATE if time.monotonic() - begun > MAX_SECONDS else ""
        try:
            if not reason:
                found += (_judge_one(case, rule, outcome) for outcome in rule.outcomes(case))
        except KeyboardInterrupt as exc:
            if failed is None:
                raise
            interrupted, reason = True, INTERRUPTED
            failed(exc)
        except Exception as exc:
            if failed is None:
                raise
            failed(Fault.of(rule.name, exc))
            reason = Fault.REASON
        if reason:
            found.append(Judged(rule.name, rule.level, Unknown(the_site(rule.name), reason)))
    return tuple(found)


def _judge_one(case: HasTerms, rule: Rule[Any], outcome: RuleOutcome) -> Judged:
    if not (isinstance(outcome, Unknown) or rule.nature.matter.is_of_names):
        reason = case.why_not_of_site(outcome.where)
        if reason:
            return Judged(rule.name, rule.level, Unknown(outcome.where, reason))
    if not isinstance(outcome, Gap):
        return Judged(rule.name, rule.level, outcome)
    wished = case.terms.levels.get(rule.name)
    level = Level(wished) if wished is not None else outcome.level or rule.level
    return Judged(rule.name, level, _accepted(case, rule, outcome) or outcome)


def _accepted(case: HasTerms, rule: Rule[Any], gap: Gap) -> Outcome | None:
    for accept in _acceptances(case, rule):
        if accept.where.lower() in {gap.where.text, gap.where.host, gap.where.key}:
            return Accepted(gap, accept.because, accept.until)
    return None


def _acceptances(case: HasTerms, rule: Rule[Any]) -> Iterator[AcceptedGap]:
    """Those of the rule that are not past their day: after it the gap counts again."""
    return (each for each in case.terms.accept if each.gap == rule.name and case.at.date() <= each.until)
