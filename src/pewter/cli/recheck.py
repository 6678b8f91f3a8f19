"""``pewter recheck``: the same look again, and waiting until what was open is closed."""

import datetime
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from pewter.errors import NotReviewedError
from pewter.evidence import Evidence, Plan, Step
from pewter.gather.board import Given
from pewter.judge.comparison import Change, GapChange, GapKey, compare, gap_keys, key_of
from pewter.judge.facts.case import Case
from pewter.judge.results import was_reviewed
from pewter.judge.review import Review, make_review
from pewter.judge.spreading import spreading
from pewter.phrases import counted, moment
from pewter.plan.again import awaited_gaps, given_again, plan_for, read_pause, read_wait
from pewter.plan.files import check_writable
from pewter.plan.saved_reviews import read_saved
from pewter.plan.texts import read_level
from pewter.report.changes import render_changes
from pewter.report.formats import check_format, render

from .ending import INTERRUPTED, exit_status, write_files
from .looking import take_look
from .output import output_marks, output_width, print_octets, print_report, print_text
from .progress import show_progress
from .saved import Output
from .saying import say

MAX_NAMED = 3
"""Awaited gaps that a line names before it counts the rest."""

Look = Callable[[Plan, Given], Evidence]


@dataclass(frozen=True)
class RecheckCommand:
    """The options as typed."""

    review: Path
    wait: str | None = None
    every: str | None = None
    rules: tuple[str, ...] = ()
    wheres: tuple[str, ...] = ()
    output: Output = field(default_factory=Output)


@dataclass(frozen=True)
class Clock:
    """Time, as a waiting program has it."""

    now: Callable[[], datetime.datetime] = lambda: datetime.datetime.now(datetime.UTC)
    sleep: Callable[[float], None] = time.sleep


def run_recheck(command: RecheckCommand, look: Look | None = None, clock: Clock = Clock()) -> int:
    """Look again, show what changed, and go on until the awaited gaps are closed where that is wished.

    0 where they are, or where no gap at the level is left; 1 else, also where one could not be seen this time.
    Raises NotReviewedError where nothing at all was seen.
    """
    old = read_saved(command.review)
    for file in command.output.write:
        check_format(file)
        check_writable(file)
    until = clock.now() + read_wait(command.wait) if command.wait is not None else None
    pause = read_pause(command.every)
    fail_on = read_level(command.output.fail_on or old.terms.fail_on)
    awaited = awaited_gaps(old, command.rules, command.wheres, fail_on)
    if until is not None and not awaited:
        say(f"no gap at {fail_on.value} or above was open, so nothing is waited for; --fail-on note waits for all")
        until = None
    chosen = sorted({key.rule for key in awaited}) if command.rules or command.wheres or until is not None else []
    plan, given = plan_for(old, chosen), given_again(old)
    new = _again(old, plan, given, look or _look)
    if until is not None:
        new = _wait(_Waiting(old, plan, given, awaited, until, pause, look or _look, clock), new)
    write_files(command.output.write, new)
    before = _narrowed(old, plan.only if chosen else ())
    comparison = compare(before, new)
    if command.output.json:
        print_octets(render(new, ".json"))
    else:
        print_text(render_changes(comparison, output_width(), output_marks()))
        say(f"{new.evidence.connections} connections, of {old.evidence.connections} in the review that was kept")
        others = len(gap_keys(old)) - len(gap_keys(before))
        if others:
            say(f"{counted(others, 'other gap')} of that review: not asked about")
        if command.output.full:
            print_report(new, full=True)
    if new.evidence.interrupted:
        return INTERRUPTED
    if _saw_nothing(new.evidence):
        raise NotReviewedError(f"Nothing of {new.evidence.plan.first} was seen this time, so nothing is closed.")
    if until is not None or command.rules or command.wheres:
        return 1 if _still_open(old, awaited, new) else 0
    status = exit_status(new, fail_on)
    if status == 0 and comparison.in_doubt(fail_on):
        say(f"not every gap at {fail_on.value} or above could be seen to be closed")
        return 1
    return status


def _saw_nothing(evidence: Evidence) -> bool:
    """Whether nothing answered: of a look at names alone, no server; of all others, the site."""
    if {Step.WAYS_IN, Step.CERTIFICATES} & set(evidence.plan.steps):
        return not was_reviewed(evidence)
    return all(question.reply is None for question in evidence.dns.questions)


def _look(plan: Plan, given: Given) -> Evidence:
    with show_progress() as progress:
        return take_look(plan, given, progress)


def _again(old: Review, plan: Plan, given: Given, look: Look) -> Review:
    evidence = look(plan, given)
    return make_review(Case(evidence, old.terms, evidence.begun, given.stores, earlier=old.evidence.dns))


def _narrowed(old: Review, rules: Sequence[str]) -> Review:
    """The old review without what was not asked again."""
    if not rules:
        return old
    kept = tuple(each for each in old.results.rules if each.rule in rules)
    return msgspec.structs.replace(old, results=msgspec.structs.replace(old.results, rules=kept))


@dataclass(frozen=True)
class _Waiting:
    """What a waiting recheck goes by."""

    old: Review
    plan: Plan
    given: Given
    awaited: frozenset[GapKey]
    until: datetime.datetime
    pause: datetime.timedelta
    look: Look
    clock: Clock


def _wait(waiting: _Waiting, new: Review) -> Review:
    """Look again and again, with one line for each change and what is still awaited."""
    before = _narrowed(waiting.old, waiting.plan.only)
    told: dict[GapKey, Change] = {}
    said = ""
    while True:
        for change in compare(before, new).gaps:
            key = key_of(change.rule, change.where, change.about)
            if key in waiting.awaited and change.change is not told.get(key, Change.STAYED):
                say(f"{moment(new.evidence.begun)} {change.change.value}: {_named(change)}: {change.after}")
            told[key] = change.change
        left = _still_open(waiting.old, waiting.awaited, new)
        if not left or new.evidence.interrupted or waiting.clock.now() + waiting.pause > waiting.until:
            if left and not new.evidence.interrupted:
                say("the wait is over, and not all is closed")
            return new
        words = _awaited_words(waiting, left, new)
        if words != said:
            said = words
            say(f"{moment(new.evidence.begun)} {words}")
        try:
            waiting.clock.sleep(waiting.pause.total_seconds())
        except KeyboardInterrupt:
            return msgspec.structs.replace(new, evidence=msgspec.structs.replace(new.evidence, interrupted=True))
        new = _again(waiting.old, waiting.plan, waiting.given, waiting.look)


def _awaited_words(waiting: _Waiting, left: dict[GapKey, tuple[str, str]], new: Review) -> str:
    """How many gaps, the first of them, and which servers and copies are still behind."""
    shown = [f"{what}: {seen}" if len(left) == 1 else what for what, seen in list(left.values())[:MAX_NAMED]]
    more = f" and {len(left) - MAX_NAMED} more" if len(left) > MAX_NAMED else ""
    old, at = waiting.old, new.evidence.begun
    behind = spreading(Case(new.evidence, old.terms, at, waiting.given.stores, earlier=old.evidence.dns))
    return "; ".join((f"still awaited, {len(left)}: {', '.join(shown)}{more}", *behind))


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
