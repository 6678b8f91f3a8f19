"""Checks of one thing made into checks of a whole case, and facts that could not be seen into outcomes."""

import functools
from collections.abc import Callable, Iterable, Iterator
from typing import TypeVarTuple, Unpack

from pewter.facts.case import Case
from pewter.facts.unseen import UnseenAt
from pewter.judge.outcomes import RuleOutcome, Unknown

Ts = TypeVarTuple("Ts")


def unknown(unseen: Iterable[UnseenAt]) -> Iterator[Unknown]:
    """An outcome for each."""
    return (Unknown(each.where, each.reason) for each in unseen)


def over(
    walk: Callable[[Case], Iterator[tuple[*Ts] | UnseenAt]],
) -> Callable[[Callable[[Case, Unpack[Ts]], Iterator[RuleOutcome]]], Callable[[Case], Iterator[RuleOutcome]]]:
    """Make a check of a whole case out of one of each thing in it; what cannot be told of is unknown."""

    def make(check: Callable[[Case, Unpack[Ts]], Iterator[RuleOutcome]]) -> Callable[[Case], Iterator[RuleOutcome]]:
        @functools.wraps(check)
        def whole(case: Case) -> Iterator[RuleOutcome]:
            for each in walk(case):
                if isinstance(each, UnseenAt):
                    yield Unknown(each.where, each.reason)
                else:
                    yield from check(case, *each)

        return whole

    return make
