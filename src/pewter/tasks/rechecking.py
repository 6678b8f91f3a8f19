"""The same look again, and waiting until what was open is closed."""

import datetime
from collections.abc import Sequence
from pathlib import Path

import msgspec

from pewter.errors import NotReviewedError, UsageError
from pewter.evidence import Evidence, Plan, Step
from pewter.facts.case import Case
from pewter.gather.board import Given
from pewter.judge.comparison import Change, Comparison, GapChange, GapKey, compare, gap_keys, key_of
from pewter.judge.results import was_reviewed
from pewter.judge.review import Review, make_review
from pewter.judge.spreading import spreading
from pewter.levels import Level
from pewter.phrases import moment, some
from pewter.plan.again import awaited_gaps, given_again, plan_for, read_pause, read_wait
from pewter.plan.own_mark import decided_by, marked, named
from pewter.plan.saved_reviews import read_saved
from pewter.plan.texts import read_level

from .surroundings import Alone, Surroundings

MAX_NAMED = 3
"""Awaited gaps that a line names before it counts the rest."""


class RecheckRequest(msgspec.Struct, frozen=True):
    """Which review, which of its gaps, and how long they are waited for."""

    review: Path
    wait: str | None = None
    every: str | None = None
    rules: tuple[str, ...] = ()
    wheres: tuple[str, ...] = ()
    fail_on: str | None = None
    as_in_file: bool = False
    """Routes, resolvers, origins, roots and private addresses of a review that another made are used as they stand."""


class Rechecked(msgspec.Struct, frozen=True):
    """What came of it."""

    old: Review
    """Without what was not asked again."""

    new: Review
    comparison: Comparison
    fail_on: Level
    others: int
    """Gaps of the old review that were not asked about."""

    still_open: int | None
    """Of the gaps that were chosen or waited for, those that are open or could not be seen to be closed; None where
    none was chosen."""

    def check(self) -> None:
        """Raises NotReviewedError where nothing at all was seen: then nothing is closed."""
        if saw_nothing(self.new.evidence):
            raise NotReviewedError(
                f"Nothing of {self.new.evidence.plan.first} was seen this time, so nothing is closed."
            )


def recheck(request: RecheckRequest, around: Surroundings | None = None) -> Rechecked:
    """Look again, and go on until the awaited gaps are closed where that is wished.

    Raises UsageError or FileError for what cannot be asked.
    """
    around = around or Alone()
    old = read_saved(request.review)
    until = around.now() + read_wait(request.wait) if request.wait is not None else None
    pause = read_pause(request.every)
    fail_on = read_level(request.fail_on or old.terms.fail_on)
    awaited = awaited_gaps(old, request.rules, request.wheres, fail_on)
    if until is not None and not awaited:
        around.say(
            f"no gap at {fail_on.value} or above was open, so nothing is waited for; --fail-on note waits for all"
        )
        until = None
    are_chosen = bool(request.rules or request.wheres or until is not None)
    chosen = sorted({key.rule for key in awaited}) if are_chosen else []
    is_trusted = _is_trusted(old, request, around)
    plan, given = plan_for(old, chosen), given_again(old)
    if not is_trusted:
        plan = msgspec.structs.replace(plan, names_are_listed=True)
    new = _again(old, plan, given, around)
    if until is not None:
        new = _wait(_Waiting(old, plan, given, awaited, until, pause, around), new)
    if is_trusted:
        new = marked(new)
    before = _narrowed(old, plan.only if chosen else ())
    return Rechecked(
        before,
        new,
        compare(before, new),
        fail_on,
        len(gap_keys(old)) - len(gap_keys(before)),
        len(_still_open(old, awaited, new)) if are_chosen else None,
    )


def _is_trusted(old: Review, request: RecheckRequest, around: Surroundings) -> bool:
    """Whether what the file says of addresses and trust is the user's word.  UsageError where that is missing."""
    if old.mark:
        return True
    decided = decided_by(old.evidence)
    if decided and not request.as_in_file:
        raise UsageError(
            f"{request.review} was not made here by you, and names {named(decided)}. With --as-in-file they are used "
            "as it has them; without, only public addresses of its names could be, and that would be another look."
        )
    if decided:
        around.say(f"as in {request.review}: {named(decided)}")
    return request.as_in_file


def saw_nothing(evidence: Evidence) -> bool:
    """Whether nothing answered: of a look at names alone, no server; of all others, the site."""
    if {Step.WAYS_IN, Step.CERTIFICATES} & set(evidence.plan.steps):
        return not was_reviewed(evidence)
    return all(question.reply is None for question in evidence.dns.questions)


def _again(old: Review, plan: Plan, given: Given, around: Surroundings) -> Review:
    evidence = around.look(plan, given)
    return make_review(Case(evidence, old.terms, evidence.begun, given.stores, earlier=old.evidence.dns))


def _narrowed(old: Review, rules: Sequence[str]) -> Review:
    """The old review without what was not asked again."""
    if not rules:
        return old
    kept = tuple(each for each in old.results.rules if each.rule in rules)
    return msgspec.structs.replace(old, results=msgspec.structs.replace(old.results, rules=kept))


class _Waiting(msgspec.Struct, frozen=True):
    """What a waiting recheck goes by."""

    old: Review
    plan: Plan
    given: Given
    awaited: frozenset[GapKey]
    until: datetime.datetime
    pause: datetime.timedelta
    around: Surroundings


def _wait(waiting: _Waiting, new: Review) -> Review:
    """Look again and again, with one line for each change and what is still awaited."""
    before = _narrowed(waiting.old, waiting.plan.only)
    told: dict[GapKey, Change] = {}
    said = ""
    while True:
        for change in compare(before, new).gaps:
            key = key_of(change.rule, change.where, change.about)
            if key in waiting.awaited and change.change is not told.get(key, Change.STAYED):
                waiting.around.say(
                    f"{moment(new.evidence.begun)} {change.change.value}: {_named(change)}: {change.after}"
                )
            told[key] = change.change
        left = _still_open(waiting.old, waiting.awaited, new)
        if not left or new.evidence.interrupted or waiting.around.now() + waiting.pause > waiting.until:
            if left and not new.evidence.interrupted:
                waiting.around.say("the wait is over, and not all is closed")
            return new
        words = _awaited_words(waiting, left, new)
        if words != said:
            said = words
            waiting.around.say(f"{moment(new.evidence.begun)} {words}")
        try:
            waiting.around.wait(waiting.pause.total_seconds())
        except KeyboardInterrupt:
            return msgspec.structs.replace(new, evidence=msgspec.structs.replace(new.evidence, interrupted=True))
        new = _again(waiting.old, waiting.plan, waiting.given, waiting.around)


def _awaited_words(waiting: _Waiting, left: dict[GapKey, tuple[str, str]], new: Review) -> str:
    """How many gaps, the first of them, and which servers and copies are still behind."""
    shown = some([f"{what}: {seen}" if len(left) == 1 else what for what, seen in left.values()], MAX_NAMED)
    old, at = waiting.old, new.evidence.begun
    behind = spreading(Case(new.evidence, old.terms, at, waiting.given.stores, earlier=old.evidence.dns))
    return "; ".join((f"still awaited, {len(left)}: {shown}", *behind))


def _still_open(old: Review, awaited: frozenset[GapKey], new: Review) -> dict[GapKey, tuple[str, str]]:
    """The awaited gaps that are open, or of which it could not be seen that they are closed; what each is, and why."""
    return {
        key: (_named(each), each.after)
        for each in compare(old, new).gaps
        for key in [key_of(each.rule, each.where, each.about)]
        if key in awaited and not each.change.is_over
    }


def _named(change: GapChange) -> str:
    about = f" ({change.about})" if change.about else ""
    return f"{change.title} at {change.where.text}{about} ({change.rule})"
