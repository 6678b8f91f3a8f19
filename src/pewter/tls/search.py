"""What to ask next to learn which suites and groups a server accepts, and its order: no sockets.

A search is a generator: it yields an :class:`Ask`, with an offer, and is sent what came of it; where it yields a
:class:`Together`, several searches may go on side by side.  Whoever drives it needs to know nothing more.

A server that is offered a set picks one of it.  Each pick says two things: that the suite is accepted, and that the
server puts it before every other one of the set that it accepts.  So a set is asked for again without what was picked,
until it is refused: a chain of as many hellos as there are suites, and one.  Sets are cut up so that no chain is long,
and one hello is asked about a suite and a group at once.  The order is total where the server has one, so it is known
once each two neighbours of a guessed order were held against each other; a chain tells most of them, and all pairs of
one guess are asked at once.
"""

import itertools
from collections import Counter
from collections.abc import Callable, Generator, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import msgspec

from pewter.evidence import Offer, Order, Unseen

from .candidates import (
    EVERY_TLS_1_3_GROUP,
    OLD_CURVES,
    TLS_1_3_GROUPS,
    suites_for,
    usual_group_order,
    usual_order,
    usual_suites,
)
from .codepoints import AlertDescription, Version
from .offers import GROUPS
from .steps import Answer, Ask, Search, Step, Together
from .suites import table
from .trial import Picked, Refused


class Picks:
    """Everything that a server picked from one kind of sets.

    What it costs grows with the square of what was found: a server may accept everything, and never twice alike.
    """

    def __init__(self) -> None:
        self._found: dict[int, None] = {}
        self._behind: dict[int, set[int]] = {}
        """What each went before at one time or another."""

        self._picks: list[tuple[tuple[int, ...], int]] = []

    def know(self, accepted: int) -> None:
        """It is accepted, and nothing is known of its place."""
        self._found.setdefault(accepted)

    def note(self, offered: Sequence[int], picked: int) -> None:
        """It was picked out of a set that held it."""
        self._found.setdefault(picked)
        self._behind.setdefault(picked, set()).update(offered)
        self._picks.append((tuple(offered), picked))

    @property
    def follows_the_client(self) -> bool:
        """Whether each pick was the first of what was offered that is accepted at all."""
        return all(
            picked == next((each for each in offered if each in self._found), picked) for offered, picked in self._picks
        )

    @property
    def found(self) -> tuple[int, ...]:
        """Accepted ones, in the order in which they were found."""
        return tuple(self._found)

    @property
    def has_any(self) -> bool:
        return bool(self._found)

    @property
    def first(self) -> int:
        """The first that was found."""
        return next(iter(self._found))

    def has(self, accepted: int) -> bool:
        return accepted in self._found

    def puts_first(self, one: int, other: int) -> bool:
        """Whether a pick showed that ``one`` goes before ``other``."""
        return other in self._behind.get(one, ())

    @property
    def has_contradiction(self) -> bool:
        """Whether one went before another at one time, and behind it at another."""
        return any(
            self.puts_first(one, other) and self.puts_first(other, one)
            for one, other in itertools.combinations(self.found, 2)
        )

    def guess(self, usual: Callable[[int], tuple[int, ...]] | None = None) -> tuple[int, ...]:
        """The found ones in the best order known: what was shown, else the usual, else what was found first."""
        left = dict.fromkeys(sorted(self.found, key=usual) if usual is not None else self.found)
        behind = {one: (others & left.keys()) - {one} for one, others in self._behind.items()}
        before = Counter(itertools.chain.from_iterable(behind.values()))
        order = []
        while left:
            # Where none is free, a circle shows a server without one order.
            chosen = next((each for each in left if not before[each]), next(iter(left)))
            del left[chosen]
            order.append(chosen)
            before.subtract(behind.get(chosen, ()))
        return tuple(order)

    def open_pairs(self, order: Sequence[int]) -> tuple[tuple[int, int], ...]:
        """Neighbours of an order that were not held against each other yet."""
        return tuple(
            (one, other)
            for one, other in itertools.pairwise(order)
            if not self.puts_first(one, other) and not self.puts_first(other, one)
        )


# The search


CHAIN = 4
"""Picks after which what is left of a set is cut in two: no chain gets long."""

LARGE = 30
"""A set with more left is cut in two after fewer picks: sooner where the server accepts MANY already."""

MANY = 8

FEW = 12
"""Suites of a hello where a server took none with more."""

LIKE_EACH_OTHER = 4
"""A set of groups with so few left after its first pick is cut in two at once: mostly a server has all of them."""

MAX_ORDER_ROUNDS = 8
MAX_SUITE_PAIRS = 8
MAX_PAIRS_OF_OLDER = 2
"""Pairs of suites that are held against each other in the newest version before TLS 1.3, and in older ones: of a
hundred suites only the first matter, and a server has one order for all versions."""

MAX_GROUP_PAIRS = 1
"""Pairs of groups that are held against each other: of their order only the first matter."""


@dataclass
class VersionSearch:
    """The suites and groups of one version at one endpoint: :meth:`find`, then :meth:`settle`."""

    name: str | None
    version: int
    with_groups: bool = True
    takes_many: bool = False
    """The server is new enough to read a hello with every suite there is: its refusal is a refusal of them all."""

    key_curve: int | None = None
    """Of the server's ECDSA key: before TLS 1.3 that key is of use only where a hello names its curve
    (RFC 8422 section 5.1)."""

    picks: Picks = field(default_factory=Picks)
    """Of suites."""

    groups: Picks = field(default_factory=Picks)
    order: Order = Order.NOT_KNOWN
    group_order: Order = Order.NOT_KNOWN
    unfinished: str = "not reached before the deadline"
    """Why the search broke off; empty once it is through."""

    with_options: Answer | None = None
    """What came of the one hello that carried options: rich and compression, or values that nobody knows."""

    needs_shares: bool = False
    """The server cannot do with an empty key_share."""

    primes: list[bytes] = field(default_factory=list)
    """Of finite-field exchanges."""

    is_found: bool = False
    """All that is accepted was found; its order may still be open."""

    _unseen: list[str] = field(default_factory=list)
    _has_optioned: bool = False
    _asked_without_curve: bool = False
    _does_without_curve: bool = False
    """The server puts the curve of its key before others, and takes them without it."""

    @property
    def is_tls_1_3(self) -> bool:
        return self.version == Version.TLS_1_3

    @property
    def asked(self) -> int:
        """How many suites are asked for."""
        return sum(map(len, suites_for(self.version)))

    @property
    def asked_groups(self) -> int:
        return sum(map(len, self._group_parts))

    @property
    def _group_parts(self) -> tuple[tuple[int, ...], ...]:
        parts = TLS_1_3_GROUPS if self.is_tls_1_3 else OLD_CURVES
        return tuple(tuple(map(int, part)) for part in parts)

    @property
    def suites(self) -> tuple[int, ...]:
        """Accepted ones, in the best order known."""
        return self.picks.guess(self._usual)

    @property
    def accepted_groups(self) -> tuple[int, ...]:
        return self.groups.guess(usual_group_order)

    @property
    def _usual(self) -> Callable[[int], tuple[int, ...]]:
        return usual_order(self.picks.first if self.picks.has_any else 0)

    def find(self) -> Search:
        """All that is accepted."""
        main, usual, *rest = suites_for(self.version)
        likely, *other_groups = self._group_parts
        carriers = [each for each in main if self._is_carrier(each)]
        # Suites for the other kind of key: many servers have but one.
        others = [each for each in main if each not in carriers and table()[each].key_exchange == "ECDHE"]
        apart = [each for each in main if each not in carriers and each not in others]
        # The longest chains first: what asks has but a few connections at a time.
        searches = [self._find(left) for left in map(self._left, ([*others, *usual], apart)) if left]
        searches += self._further_groups(other_groups[::-1])
        searches += self._main(carriers, likely)
        if rest:
            searches.append(self._find_rest(list(map(self._left, rest))))
        yield Together(tuple(searches))
        if self.is_tls_1_3 and not self.picks.has_any and not self._unseen:
            self.needs_shares = True
            yield from self._find(main)
        if not self.is_tls_1_3 and not self.picks.has_any and not self._unseen:
            few = [(*main, *usual)[start : start + FEW] for start in range(0, len(main) + len(usual), FEW)]
            yield Together(tuple(map(self._find, few)))
        if not self.picks.has_any and not self._unseen:
            self._unseen.append("the server takes none of the hellos that ask for its suites")
        self.is_found = not self._unseen

    def _is_carrier(self, suite: int) -> bool:
        """Whether a suite can go into a hello that asks for groups too: one for a key that the server has."""
        if self.is_tls_1_3:
            return True
        shown = table()[self.picks.first].authentication if self.picks.has_any else ""
        kind = "ECDSA" if shown == "ECDSA" and self.key_curve is not None else "RSA"
        return table()[suite].key_exchange == "ECDHE" and table()[suite].authentication == kind

    def _left(self, suites: Sequence[int]) -> list[int]:
        return [each for each in suites if not self.picks.has(each)]

    def _left_groups(self, groups: Sequence[int]) -> list[int]:
        return [each for each in groups if not self.groups.has(each)] if self.with_groups else []

    def _main(self, suites: Sequence[int], groups: Sequence[int]) -> Iterator[Search]:
        """What nearly every server has some of: suites and groups in one hello."""
        left, left_groups = self._left(suites), self._left_groups(groups)
        cut = (len(left_groups) + 1) // 2 if self.is_tls_1_3 else min(len(left_groups), max(len(left), 2))
        yield self._both(left, left_groups[:cut])
        if left_groups[cut:]:
            yield self._find_groups(left_groups[cut:])

    def _find_rest(self, parts: Sequence[Sequence[int]]) -> Search:
        """Suites that hardly any server has, all in one hello; in parts where it is too much for the server."""
        offer = self.offer(list(itertools.chain(*parts)), None)
        answer = yield Ask(offer)
        match answer:
            case Refused(alert=alert) if self.takes_many or alert == AlertDescription.HANDSHAKE_FAILURE:
                return
            case Picked():
                self._noted(offer, answer, of_suites=True)
        yield Together(tuple(self._find(left) for left in map(self._left, parts) if left))

    def _further_groups(self, parts: Sequence[Sequence[int]]) -> Iterator[Search]:
        for left in map(self._left_groups, parts):
            if left:
                yield self._find_groups(left)

    # Chains

    def _both(self, suites: Sequence[int], groups: Sequence[int]) -> Search:
        """One hello for a suite and a group.  Refused, it says only that one of the sets holds nothing more."""
        left, left_groups = list(suites), list(groups)
        while left and left_groups:
            picked = yield from self._pick(left, left_groups)
            if picked is None:
                break
            left.remove(picked.suite)
            if picked.group in left_groups:
                left_groups.remove(picked.group)
            else:
                break
        searches = [self._find(left)] if left else []
        searches += [self._find_groups(left_groups)] if left_groups else []
        if searches:
            yield Together(tuple(searches))

    def _find(self, suites: Sequence[int]) -> Search:
        left = list(suites)
        for taken in range(CHAIN):
            picked = (yield from self._pick(left, None)) if left else None
            if picked is None:
                return
            left.remove(picked.suite)
            if len(left) > LARGE and taken >= (1 if len(self.picks.found) > MANY else 2):
                break
        yield from _cut(left, self._find)

    def _find_groups(self, groups: Sequence[int]) -> Search:
        left = list(groups)
        for _ in range(2):
            picked = (yield from self._pick(None, left)) if left else None
            if picked is None or picked.group not in left:
                return
            left.remove(picked.group)
            if 2 < len(left) <= LIKE_EACH_OTHER:
                break
        yield from _cut(left, self._find_groups)

    # One hello

    def _pick(
        self, suites: Sequence[int] | None, groups: Sequence[int] | None
    ) -> Generator[Ask | Together, Answer | None, Picked | None]:
        """What the server picks of these; None where it refuses, or where that could not be learnt."""
        offer = self.offer(suites, groups)
        if suites is not None and groups is not None and not self._has_optioned:
            self._has_optioned = True
            options = ("grease", "large") if self.is_tls_1_3 else ("rich", "compression")
            self.with_options = yield Ask(msgspec.structs.replace(offer, options=options))
            answer = self.with_options if isinstance(self.with_options, Picked) else (yield Ask(offer))
        else:
            answer = yield Ask(offer)
        picked = self._noted(offer, answer, of_suites=suites is not None)
        if picked is not None and suites is None and groups is not None and self._hides(picked, groups, offer):
            self._asked_without_curve = self._does_without_curve = True
            offer = self.offer(None, groups)
            picked = self._noted(offer, (yield Ask(offer)), of_suites=False)
            self._does_without_curve = picked is not None
        return picked if picked is None or suites is None or picked.suite in suites else None

    def _hides(self, picked: Picked, groups: Sequence[int], offer: Offer) -> bool:
        """Whether the server put the curve of its key, which was named beside these groups, before them.

        Once it was asked without that one, only a key that needs none makes it worth while to ask again.
        """
        if picked.group in groups or tuple(groups) == offer.groups:
            return False
        return not self._asked_without_curve or not self._names_curve(None, groups)

    def _names_curve(self, suites: Sequence[int] | None, groups: Sequence[int]) -> bool:
        """Whether a hello for these groups has to name the curve of the key beside them."""
        if self.is_tls_1_3 or self.key_curve is None or self.key_curve in groups:
            return False
        if suites is None and self._does_without_curve:
            return False
        return not any(table()[each].authentication == "RSA" for each in suites or self.picks.found)

    def offer(self, suites: Sequence[int] | None, groups: Sequence[int] | None) -> Offer:
        """A hello for some of the suites and groups; None for all that can be had with the other."""
        if self.is_tls_1_3:
            shares = (0x001D, 0x0017) if self.needs_shares else ()
            offered = tuple(groups) if groups is not None else None if self.needs_shares else EVERY_TLS_1_3_GROUP
            main = suites if suites is not None else suites_for(self.version)[0]
            return Offer((self.version,), self.name, tuple(main), offered, shares)
        if groups is not None and self.key_curve is not None and self._names_curve(suites, groups):
            groups = (*groups, self.key_curve)
        if suites is None:
            suites = [each for each in usual_suites(self.version) if table()[each].key_exchange == "ECDHE"]
        return Offer((self.version,), self.name, tuple(suites), tuple(groups) if groups is not None else None)

    def _noted(self, offer: Offer, answer: Answer | None, *, of_suites: bool) -> Picked | None:
        """Keep what an answer tells.

        A hello for groups alone says nothing of the order of suites: which of them can be used depends on its groups.
        """
        if isinstance(answer, Unseen):
            self._unseen.append(answer.reason)
        if not isinstance(answer, Picked):
            return None
        if answer.prime:
            self.primes.append(answer.prime)
        if answer.group is not None and self.with_groups:
            offered = offer.groups or tuple(map(int, GROUPS))
            if self.needs_shares or answer.group not in offered:
                self.groups.know(answer.group)  # it had shares: no word on the server's order
            else:
                self.groups.note(offered, answer.group)
        if of_suites and offer.suites is not None and answer.suite in offer.suites:
            self.picks.note(offer.suites, answer.suite)
        return answer

    # Order

    def settle(self) -> Search:
        """The order of what was found."""
        older = MAX_SUITE_PAIRS if self.with_groups else MAX_PAIRS_OF_OLDER
        suites = _Ordering(self.picks, self._usual, older)
        groups = _Ordering(self.groups, usual_group_order, MAX_GROUP_PAIRS if self.is_tls_1_3 else 0)
        suite_pairs, group_pairs = suites.opening(), groups.opening() if self.with_groups else []
        work: list[Search] = []
        if suite_pairs and group_pairs and self._fit(suite_pairs[0], group_pairs[0]):
            work.append(self._hold_both(suite_pairs.pop(0), group_pairs.pop(0)))
        work += itertools.starmap(self._hold_suites, suite_pairs)
        work += itertools.starmap(self._hold_groups, group_pairs)
        if work:
            yield Together(tuple(work))
        yield Together((self._conclude_suites(suites), self._conclude_groups(groups)))
        self.unfinished = self._unseen[0] if self._unseen else ""

    def _fit(self, suites: tuple[int, int], groups: tuple[int, int]) -> bool:
        """Whether the server can choose freely among these suites with these groups."""
        if self.is_tls_1_3:
            return True
        facts = [table()[each] for each in suites]
        is_elliptic = all(each.key_exchange == "ECDHE" for each in facts)
        return is_elliptic and (self.key_curve in groups or len({each.authentication for each in facts}) == 1)

    def _hold_both(self, suites: tuple[int, int], groups: tuple[int, int]) -> Search:
        """Two suites and two groups against each other in one hello; each by itself where it is refused."""
        picked = yield from self._pick(suites, groups)
        if picked is None:
            yield from self._hold_suites(*suites)
        if picked is None or picked.group not in groups:
            yield from self._hold_groups(*groups)

    def _hold_suites(self, one: int, other: int) -> Search:
        yield from self._pick((one, other), None)

    def _hold_groups(self, one: int, other: int) -> Search:
        yield from self._pick(None, (one, other))

    def _conclude_suites(self, ordering: "_Ordering") -> Search:
        self.order = yield from ordering.conclude(self._hold_suites)

    def _conclude_groups(self, ordering: "_Ordering") -> Search:
        if self.with_groups:
            self.group_order = yield from ordering.conclude(self._hold_groups)


def _cut(left: Sequence[int], find: Callable[[Sequence[int]], Search]) -> Search:
    half = (len(left) + 1) // 2
    parts = tuple(find(part) for part in (left[:half], left[half:]) if part)
    if parts:
        yield Together(parts)


@dataclass
class _Ordering:
    """The order of what was found: neighbours of the guessed one are held against each other until it is known, or no
    pair is left to spend."""

    picks: Picks
    usual: Callable[[int], tuple[int, ...]]
    pairs_left: int
    _first: tuple[int, int] | None = None

    def opening(self) -> list[tuple[int, int]]:
        """Pairs that are all asked at once, the first one the one that decides.

        They are turned round: a server that follows the client must not confirm the guess.
        """
        found = self.picks.guess(self.usual)
        if len(found) < 2:
            return []
        # Some servers choose by themselves, but let a client have ChaCha20 that puts it first: no word on the rest.
        plain = [each for each in found if not _is_chacha(each)]
        one, other = (plain if len(plain) > 1 else found)[:2]
        self._first = (one, other)
        pairs = self.picks.open_pairs(found)[: self.pairs_left]
        self.pairs_left -= len(pairs)
        chacha = [pair for pair in itertools.pairwise(found) if _is_chacha(pair[0]) > _is_chacha(pair[1])]
        return list(dict.fromkeys((second, first) for first, second in (self._first, *pairs, *chacha)))

    def conclude(self, hold: Callable[[int, int], Search]) -> Generator[Step, Any, Order]:
        """The order, once the opening pairs were asked."""
        picks = self.picks
        if self._first is None:
            return Order.ONE if picks.has_any else Order.NOT_KNOWN
        first, second = self._first
        if not picks.puts_first(first, second):
            if not picks.puts_first(second, first):
                return Order.NOT_KNOWN
            yield from hold(first, second)
        if picks.puts_first(first, second) and picks.puts_first(second, first):
            return Order.CLIENT if picks.follows_the_client else Order.MIXED
        for _ in range(MAX_ORDER_ROUNDS):
            pairs = picks.open_pairs(picks.guess(self.usual))[: self.pairs_left]
            if not pairs:
                break
            self.pairs_left -= len(pairs)
            yield Together(tuple(hold(other, one) for one, other in pairs))
        if picks.has_contradiction:
            return Order.MIXED
        return Order.SERVER if not picks.open_pairs(picks.guess(self.usual)) else Order.SERVER_IN_PART


def _is_chacha(code: int) -> bool:
    suite = table().get(code)
    return suite is not None and suite.cipher.startswith("CHACHA20")
