"""What a reader takes away: the verdict in one sentence, and what to do first.

The verdict says what the worst gaps do and to whom, not which level they have.  What to do first is an order of all
gaps that break or expose: what stops visitors now, what will at a known hour, then https without a warning, redirects,
HSTS, and what is left.  What only follows from another gap stands with it: who mends the cause mends both.
"""

import datetime
from collections.abc import Collection, Mapping, Sequence

import msgspec

from pewter.levels import Level
from pewter.phrases import all_of, plural, shortened, until
from pewter.web.sites import short_name

from .mending import step_of
from .nature import Safety
from .rule import Does, Rule

MAX_STEPS = 5
MAX_ITEMS = 3
"""Of a kind of gap that the verdict names before it counts the rest."""

MAX_HOSTS = 2
"""That are named before they are counted."""


class FirstStep(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing to do."""

    what: str
    """``Serve the missing intermediate at freight``."""

    gaps: tuple[int, ...]
    """By their numbers, the cause before what follows from it."""

    by: datetime.datetime | None = None
    """From when on visitors are stopped, where that is known."""


class Worded(msgspec.Struct, frozen=True):
    """What is known of one entry of a report here."""

    number: int
    rule: Rule[object]
    level: Level
    hosts: tuple[str, ...]
    by: datetime.datetime | None = None
    """The earliest moment from which it stops visitors."""


class Told(msgspec.Struct, frozen=True):
    """Of which names is told, and how."""

    names: tuple[str, ...]
    """Under review."""

    domain: str
    """Under which all are; empty where there is none."""

    canonical: str
    """The host on which visitors should land."""

    closed: frozenset[str]
    """Hosts of which no way in opens as it should."""

    at: datetime.datetime

    def where(self, hosts: Sequence[str]) -> str:
        """`` at freight``; empty where there is but one name."""
        if not hosts or (len(self.names) == 1 and hosts[0] == self.names[0]):
            return ""
        shown = [short_name(host, self.domain) for host in hosts]
        return f" at {all_of(shown)}" if len(shown) <= MAX_HOSTS else f" at {len(shown)} hosts"

    def whose(self, hosts: Collection[str]) -> str:
        """`` of 2 of 9 names``; empty where there is but one name."""
        ours = [name for name in self.names if name in hosts]
        if len(self.names) == 1 or not ours:
            return ""
        if len(ours) == len(self.names):
            return f" of all {len(ours)} names" if len(ours) > MAX_HOSTS else " of both names"
        if len(ours) == 1:
            return f" of {short_name(ours[0], self.domain)}"
        return f" of {len(ours)} of {len(self.names)} names"


# What to do first


_AREA_ORDER = ("dns", "reach", "protocol", "chain", "name", "date", "redirect", "hsts", "page", "cookie", "bundle")
"""Causes before what they hide."""

_NOW, _SOON, _ELSE = range(3)


def first_steps(entries: Sequence[Worded], told: Told) -> tuple[tuple[FirstStep, ...], tuple[int, ...]]:
    """The first things to do, and the numbers of the gaps that break or expose and come after them."""
    serious = [each for each in entries if each.level in {Level.BREAKS, Level.EXPOSES}]
    causes = {each.number: _cause_of(each, serious) for each in serious}
    together: dict[int, list[Worded]] = {}
    for each in serious:
        together.setdefault(_root(each, causes).number, []).append(each)
    ranked = []
    for root, found in together.items():
        cause = next(each for each in found if each.number == root)
        follows = [each for each in found if each is not cause]
        ranked.append((_rank(cause, follows, told), _step(cause, follows, told)))
    steps = [step for _, step in sorted(ranked, key=lambda each: each[0])]
    shown, rest = steps[:MAX_STEPS], steps[MAX_STEPS:]
    return tuple(shown), tuple(sorted(number for step in rest for number in step.gaps))


def _root(entry: Worded, causes: Mapping[int, Worded | None]) -> Worded:
    """The first cause; of causes that follow from each other the one that was come to last."""
    met = {entry.number}
    while (cause := causes[entry.number]) is not None and cause.number not in met:
        met.add(cause.number)
        entry = cause
    return entry


def _cause_of(entry: Worded, entries: Sequence[Worded]) -> Worded | None:
    """The gap of which this one is what follows: it has to be at every host of it."""
    for prefix in entry.rule.words.follows:
        for other in entries:
            fits = other.rule.name == prefix or (prefix.endswith("/") and other.rule.name.startswith(prefix))
            is_bad = not prefix.endswith("/") or other.level is Level.BREAKS
            if fits and is_bad and other is not entry and set(entry.hosts) <= set(other.hosts):
                return other
    return None


def _rank(entry: Worded, follows: Sequence[Worded], told: Told) -> tuple[object, ...]:
    together = (entry, *follows)
    level = min(each.level.rank for each in together)
    ends = [each.by for each in together if each.by is not None and each.by > told.at]
    is_now = level == Level.BREAKS.rank
    tier = _NOW if is_now else _SOON if ends else _ELSE
    step = step_of(entry.rule, entry.level)
    area = _AREA_ORDER.index(entry.rule.area)
    stops = entry.rule.words.does is Does.STOPS or any(each.rule.words.does is Does.STOPS for each in follows)
    return (
        tier,
        min(ends).timestamp() if tier == _SOON else 0.0,
        not stops if is_now else step if step is not None else _LAST_STEP,
        entry.rule.nature.safety is not Safety.LEADS_BACK and step == _REDIRECTS,
        is_now and not told.closed & set(entry.hosts),
        area,
        told.canonical not in entry.hosts,
        entry.number,
    )


_REDIRECTS, _LAST_STEP = 1, 9
"""Of :func:`step_of`; what leads back from https has to go before anybody is led there."""


def _step(entry: Worded, follows: Sequence[Worded], told: Told) -> FirstStep:
    ends = [each.by for each in (entry, *follows) if each.by is not None and each.by > told.at]
    words = f"{entry.rule.words.do}{told.where(entry.hosts)}"
    return FirstStep(words, (entry.number, *sorted(each.number for each in follows)), min(ends, default=None))


def step_words(step: FirstStep, at: datetime.datetime) -> str:
    """``Renew the certificate at staff before 2026-12-13 03:29 UTC, in 12 days (gap 4)``."""
    return f"{step.what}{when_words(step, at)} ({gaps_in_words(step.gaps)})"


def when_words(step: FirstStep, at: datetime.datetime) -> str:
    """`` before 2026-12-13 03:29 UTC, in 12 days``; empty where no hour is known."""
    return f" before {step.by:%Y-%m-%d %H:%M} UTC, in {until(step.by - at)}" if step.by is not None else ""


def gaps_in_words(numbers: Sequence[int]) -> str:
    """``gap 4``, ``gaps 4 and 7``."""
    return f"{plural(len(numbers), 'gap')} {all_of(sorted(numbers))}"


# The verdict


_SENTENCES = {
    Does.STOPS: "Visitors{whose} are stopped or warned: {items}.",
    Does.STOPS_BELOW: "HSTS{whose} locks visitors out of hosts below: {items}.",
    Does.SPOILS: "Visitors{whose} find parts that do not work: {items}.",
    Does.ENDS: "Visitors{whose} will be stopped {when}: {items}.",
    Does.SOME: "Visitors{whose} are let in without a warning by some programs only: {items}.",
    Does.READ: "What visitors{whose} send and get can be read or changed on the way: {items}.",
    Does.IMPOSTOR: "Others can stand in for the site: {items}.",
    Does.COOKIES: "Cookies{whose} can be read or used by others: {items}.",
    Does.WEAK_TLS: "Connections{whose} may use encryption that can be broken: {items}.",
    Does.INSIDE: "Inner workings{whose} are shown to anybody: {items}.",
    Does.RENEWAL: "The next certificate{whose} will be refused: {items}.",
}
"""By what gaps do; of one level, in this order."""

_TO_MEND = "To be mended first{whose}: {items}."
NOTHING_SEEN = "The site could not be reviewed: nothing of it answered."


def verdict(entries: Sequence[Worded], told: Told, *, arrive: bool, has_unknown: bool, is_partial: bool) -> str:
    """One sentence.

    ``arrive``: every way in that was looked at opens without a warning; ``is_partial``: only some areas were asked.
    """
    if not entries:
        if arrive and not has_unknown and not is_partial:
            return "No gap found: visitors arrive safely."
        return "No gap found in what was asked." if is_partial else "No gap found in what could be seen."
    worst = min((each.level for each in entries), key=lambda level: level.rank)
    of_level = [each for each in entries if each.level is worst]
    if worst in {Level.BREAKS, Level.EXPOSES}:
        return _of_the_worst(of_level, told)
    for_some = [each for each in of_level if each.rule.words.does is Does.SOME]
    if for_some:
        return _sentence(_SENTENCES[Does.SOME], for_some, told)
    if worst is Level.NOTE:
        return "Visitors arrive safely; there are notes." if arrive else "Nothing but notes in what was seen."
    head = "Visitors arrive safely" if arrive else "Nothing that breaks or exposes was seen"
    return f"{head}; missing or weak: {_items(of_level, told)}."


def _of_the_worst(entries: Sequence[Worded], told: Told) -> str:
    kinds = list(_SENTENCES)
    first = min(
        (each.rule.words.does for each in entries),
        key=lambda does: kinds.index(does) if does in _SENTENCES else len(kinds),
    )
    of_kind = [each for each in entries if each.rule.words.does is first]
    return _sentence(_SENTENCES.get(first, _TO_MEND), of_kind, told)


def _sentence(form: str, entries: Sequence[Worded], told: Told) -> str:
    hosts = {host for each in entries for host in each.hosts}
    ends = [each.by for each in entries if each.by is not None and each.by > told.at]
    when = f"in {until(min(ends) - told.at)}" if ends else "soon"
    whose = told.whose(hosts)
    is_named = len(hosts) == 1 and bool(whose) and "{whose}" in form
    return form.format(whose=whose, items=_items(entries, told, with_hosts=not is_named), when=when)


def _items(entries: Sequence[Worded], told: Told, *, with_hosts: bool = True) -> str:
    """Kinds of gaps with their hosts, the first of them: ``certificate expired at timetable; circle at staff``.

    Not ``with_hosts``: the one host of all of them is named already.
    """
    of_kind: dict[str, dict[str, None]] = {}
    for each in sorted(entries, key=lambda each: _rank(each, (), told)):
        of_kind.setdefault(each.rule.words.short, {}).update(dict.fromkeys(each.hosts))
    items = [short + (told.where(list(hosts)) if with_hosts else "") for short, hosts in of_kind.items()]
    return "; ".join(shortened(items, MAX_ITEMS))


def hosts_of_entries(names: Sequence[str], found: Mapping[str, None]) -> tuple[str, ...]:
    """Hosts in the order of the look, others behind them."""
    order = {name: position for position, name in enumerate(names)}
    return tuple(sorted(filter(None, found), key=lambda host: (order.get(host, len(order)), host)))
