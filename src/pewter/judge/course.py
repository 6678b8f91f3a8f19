"""The course of one site: of several reviews of it, when each gap opened and closed, and what changed with it.

A gap is held against the last look that saw it, so that looks which could not see it change nothing.
"""

import datetime
from collections.abc import Iterable, Iterator

import msgspec

from pewter.levels import Level
from pewter.places import Place

from .changed_facts import FactChange
from .comparison import Change, GapChange, GapKey, changes_by_key, compare, gap_keys
from .review import Review


class Spell(msgspec.Struct, frozen=True, omit_defaults=True):
    """One time for which a gap was open."""

    rule: str
    title: str
    level: Level
    where: Place
    first_seen: datetime.datetime
    last_seen: datetime.datetime
    about: str = ""
    not_before: datetime.datetime | None = None
    """The look before the first that saw it; None where that was the first of all."""

    ended: datetime.datetime | None = None
    """The look that saw it no more; None while it is open."""

    end: Change | None = None
    """What became of it then."""

    unseen: tuple[datetime.datetime, ...] = ()
    """Looks since that could not see it."""

    seen: str = ""
    """At the last time."""

    @property
    def is_open(self) -> bool:
        return self.ended is None

    def days(self, now: datetime.datetime) -> tuple[int, int | None]:
        """For how many whole days it was open: at least, and at most; None where its begin was not seen."""
        until = self.ended or now
        least = (self.last_seen if self.ended is not None else until) - self.first_seen
        most = until - self.not_before if self.not_before is not None else None
        return least.days, None if most is None else -(-most // datetime.timedelta(days=1))


class LookTaken(msgspec.Struct, frozen=True, omit_defaults=True):
    """One look of the course."""

    begun: datetime.datetime
    source: str
    """The file that tells of it."""

    gaps: dict[str, int]
    """Those that it saw, by level."""

    was_reviewed: bool = True
    """It saw anything of the site."""

    opened: int = 0
    ended: int = 0
    unseen: int = 0
    """Gaps that were open before and could not be seen."""

    facts: tuple[FactChange, ...] = ()
    """What changed beside gaps since the look before."""

    remark: str = ""
    """Where it is partial, or saw nothing at all."""


class Course(msgspec.Struct, frozen=True):
    """All looks at one site."""

    site: str
    looks: tuple[LookTaken, ...]
    """The oldest first."""

    spells: tuple[Spell, ...]
    """Those that are open first, the worst first, the oldest first."""

    def __repr__(self) -> str:
        return f"<Course of {self.site}, {len(self.looks)} looks: {len(self.still)} open, {len(self.over)} ended>"

    @property
    def still(self) -> tuple[Spell, ...]:
        """Those that are open."""
        return tuple(each for each in self.spells if each.is_open)

    @property
    def over(self) -> tuple[Spell, ...]:
        """Those that ended, however they did."""
        return tuple(each for each in self.spells if not each.is_open)

    @property
    def last(self) -> datetime.datetime:
        return self.looks[-1].begun


def course_of(reviews: Iterable[tuple[str, Review]]) -> Course:
    """Of at least one review, each with the name of its file."""
    ordered = sorted(reviews, key=lambda each: each[1].evidence.begun)
    open_now: dict[GapKey, tuple[Spell, Review]] = {}
    over: list[Spell] = []
    looks: list[LookTaken] = []
    before: Review | None = None
    for source, review in ordered:
        begun = review.evidence.begun
        ended = unseen = 0
        found = dict(_gaps(review))
        for key, became in _what_became(open_now, review):
            spell, _ = open_now[key]
            if key in found:
                open_now[key] = msgspec.structs.replace(spell, last_seen=begun, seen=found[key].seen), review
            elif became is None or became.change is Change.UNSEEN:
                unseen += 1
                open_now[key] = msgspec.structs.replace(spell, unseen=(*spell.unseen, begun)), open_now[key][1]
            else:
                ended += 1
                over.append(msgspec.structs.replace(spell, ended=begun, end=became.change))
                del open_now[key]
        new = [key for key in found if key not in open_now]
        for key in new:
            spell = found[key]
            since = before.evidence.begun if before is not None else None
            open_now[key] = msgspec.structs.replace(spell, not_before=since), review
        facts = compare(before, review).facts if before is not None else ()
        opened = len(new) if before is not None else 0
        counts, reviewed = _by_level(found.values()), review.results.was_reviewed
        looks.append(LookTaken(begun, source, counts, reviewed, opened, ended, unseen, facts, _remark(review)))
        before = review
    assert before is not None
    spells = sorted(
        [*over, *(spell for spell, _ in open_now.values())],
        key=lambda each: (not each.is_open, each.level.rank, each.first_seen, each.rule),
    )
    return Course(before.evidence.plan.first, tuple(looks), tuple(spells))


def _gaps(review: Review) -> Iterator[tuple[GapKey, Spell]]:
    begun, titles = review.evidence.begun, review.results.titles
    for key, (level, gap) in gap_keys(review).items():
        title = titles.get(key.rule, key.rule)
        yield key, Spell(key.rule, title, level, gap.where, begun, begun, gap.about, seen=gap.seen)


def _what_became(open_now: dict[GapKey, tuple[Spell, Review]], review: Review) -> list[tuple[GapKey, GapChange | None]]:
    """Of each open gap, held against the look that saw it last."""
    against: dict[int, tuple[Review, list[GapKey]]] = {}
    for key, (_, last) in open_now.items():
        against.setdefault(id(last), (last, []))[1].append(key)
    became = []
    for last, keys in against.values():
        changes = changes_by_key(last, review)
        became += [(key, changes.get(key)) for key in keys]
    return became


def _by_level(spells: Iterable[Spell]) -> dict[str, int]:
    counts = {level.value: 0 for level in Level}
    for each in spells:
        counts[each.level.value] += 1
    return counts


def _remark(review: Review) -> str:
    plan, results = review.evidence.plan, review.results
    parts = [f"only {', '.join(plan.only)}"] if plan.only else []
    if plan.skip:
        parts.append(f"without {', '.join(plan.skip)}")
    if review.evidence.interrupted:
        parts.append("interrupted")
    if not results.was_reviewed:
        parts.append(f"nothing was reviewed: {results.why_not}")
    return "; ".join(parts)
