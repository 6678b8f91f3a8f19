"""What ends, out of several reviews of a site: of each name the newest review that saw its certificate tells.

A newer look that saw nothing of it takes nothing away: it is said beside it.
"""

import datetime
from collections.abc import Iterator
from operator import itemgetter

import msgspec

from pewter.evidence import Way
from pewter.facts.case import Case
from pewter.phrases import counted
from pewter.pki import Certificate

from .endings import Ending, EndingKind, endings_of
from .review import Review, case_of


class _Seen(msgspec.Struct, frozen=True):
    """Of one review, what decides which endings of older ones still count."""

    begun: datetime.datetime
    source: str
    names: frozenset[str]
    """Under review."""

    certificates: frozenset[str]
    """Names whose certificate was seen."""

    zones: frozenset[str]
    """Whose signatures were asked for and answered."""

    endings: tuple[Ending, ...]

    @property
    def lacks(self) -> frozenset[str]:
        return self.names - self.certificates


class LastSeen:
    """Reviews of one site, taken up in any order; of all but the newest only what may still count is kept."""

    def __init__(self) -> None:
        self._newest: _Seen | None = None
        self._told: dict[tuple[EndingKind, str, str], tuple[_Seen, Ending]] = {}

    def add(self, review: Review, source: str) -> None:
        seen = _seen_in(review, source)
        if self._newest is None or seen.begun > self._newest.begun:
            self._newest = seen
        for ending in seen.endings:
            key = (ending.kind, ending.where, ending.words if ending.kind is EndingKind.INTERMEDIATE else "")
            told = self._told.get(key)
            if told is None or seen.begun > told[0].begun or (told[0] is seen and ending.at < told[1].at):
                self._told[key] = seen, ending

    def endings(self) -> Iterator[Ending]:
        newest = self._newest
        if newest is None:
            return
        yield from newest.endings
        for seen, ending in self._told.values():
            if seen is not newest and _counts(newest, seen, ending):
                words = f"{ending.words}; seen last on {seen.begun:%Y-%m-%d}"
                yield msgspec.structs.replace(ending, words=words)

    def notes(self) -> Iterator[str]:
        """A sentence for a newer look that did not see what an older one tells."""
        newest = self._newest
        if newest is None:
            return
        older = {
            ending.where: seen
            for seen, ending in self._told.values()
            if seen is not newest and ending.kind is EndingKind.CERTIFICATE and _counts(newest, seen, ending)
        }
        for name, seen in sorted(older.items(), key=itemgetter(0)):
            days = (newest.begun - seen.begun).days
            age = f"{counted(days, 'day')} older" if days else "of the same day"
            yield (
                f"{name}: the look of {newest.begun:%Y-%m-%d %H:%M} UTC ({newest.source}) did not see its certificate; "
                f"told by {seen.source}, {age}"
            )


def _counts(newest: _Seen, older: _Seen, ending: Ending) -> bool:
    """Whether the newest review leaves open what an older one saw to end."""
    match ending.kind:
        case EndingKind.CERTIFICATE | EndingKind.RENEWAL:
            return ending.where in newest.lacks
        case EndingKind.INTERMEDIATE:
            return any(ending.words.endswith(f" of {name}") for name in newest.lacks & older.certificates)
        case EndingKind.SIGNATURES:
            return ending.where not in newest.zones
        case EndingKind.ACCEPTED:
            return not newest.certificates


def _seen_in(review: Review, source: str) -> _Seen:
    case = case_of(review)
    return _Seen(
        review.evidence.begun,
        source,
        frozenset(case.site_names) | {target.host for target in review.evidence.plan.targets},
        frozenset(chain.host for chain in case.chains if isinstance(chain.leaf, Certificate)),
        frozenset(_zones_answered(case)),
        tuple(endings_of(review, source, case)),
    )


def _zones_answered(case: Case) -> Iterator[str]:
    answers = case.answers
    for number, _ in enumerate(answers.seen.servers):
        for question, _ in answers.replies_of(number):
            if question.way is Way.SIGNED and question.type == "SOA":
                yield question.name
