"""What is asked for in a search, and what picks say of an order."""

import itertools
import time
from dataclasses import dataclass

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.evidence import Offer, Order
from pewter.tls.candidates import OLD_CURVES, TLS_1_3_GROUPS, suites_for, usual_group_order, usual_order
from pewter.tls.offers import GROUPS
from pewter.tls.search import Picks, VersionSearch
from pewter.tls.steps import Together
from pewter.tls.suites import table
from pewter.tls.trial import Picked, Refusal, Refused


@pytest.mark.parametrize(
    ("version", "count"), [(0x0304, 13), (0x0303, 390), (0x0302, 173), (0x0301, 173), (0x0300, 173)]
)
def test_every_suite_is_asked_for_once(version, count):
    asked = list(itertools.chain(*suites_for(version)))
    assert len(asked) == len(set(asked)) == count
    assert all(len(part) <= 150 for part in suites_for(version))
    assert 0x00FF not in asked
    assert all(table()[code].is_tls_1_3 == (version == 0x0304) for code in asked)


def test_groups_are_asked_for_once():
    for parts in (TLS_1_3_GROUPS, OLD_CURVES):
        asked = list(itertools.chain(*parts))
        assert len(asked) == len(set(asked))


HANDSHAKE_FAILURE = Refused(Refusal.ALERT, alert=40)


@dataclass
class Server:
    """Answers offers as a server with these suites and groups does."""

    suites: tuple[int, ...]
    """In its order."""

    groups: tuple[int, ...] = (0x001D, 0x0017)
    order: Order = Order.SERVER
    refusal: Refused = HANDSHAKE_FAILURE
    minds: frozenset[str] = frozenset()
    """Options at which it ends a hello."""

    needs_shares: bool = False
    curve: int | None = None
    """Of its ECDSA key, which is of no use where a hello does not name it."""

    longest: int = 1000
    """Suites in one hello, above which it closes."""

    asked: int = 0

    def answer(self, offer: Offer) -> Picked | Refused:
        self.asked += 1
        suites = offer.suites or ()
        if self.minds & set(offer.options) or len(suites) > self.longest or (self.needs_shares and not offer.shares):
            return Refused(Refusal.CLOSED)
        named = offer.groups if offer.groups is not None else tuple(map(int, GROUPS))
        groups = self._choose(named, self.groups)
        elliptic = offer.versions[0] == 0x0304
        usable = [each for each in self.suites if groups or not (elliptic or table()[each].key_exchange == "ECDHE")]
        if self.curve is not None and self.curve not in named:
            usable = [each for each in usable if table()[each].authentication != "ECDSA"]
        suite = next(iter(self._choose(suites, usable)), None)
        if suite is None:
            return self.refusal
        has_group = elliptic or table()[suite].key_exchange == "ECDHE"
        prime = b"\x80" * 128 if table()[suite].key_exchange == "DHE" else b""
        return Picked(offer.versions[0], suite, groups[0] if has_group else None, prime=prime)

    def _choose(self, offered, accepted) -> list[int]:
        if self.order is Order.CLIENT:
            return [each for each in offered if each in accepted]
        if self.order is Order.MIXED and offered and offered[0] == 0xCCA8 and 0xCCA8 in accepted:
            return [0xCCA8]
        return [each for each in accepted if each in offered]


def drive(search, server: Server) -> int:
    """Run a search to its end; how many hellos deep it is."""
    depth, answer = 0, None
    while True:
        try:
            step = search.send(answer)
        except StopIteration:
            return depth
        answer = None
        if isinstance(step, Together):
            depth += max(drive(each, server) for each in step.searches)
        else:
            answer, depth = server.answer(step.offer), depth + 1


MODERN_SUITES = (0xC02B, 0xC02F, 0xC02C, 0xC030, 0xCCA9, 0xCCA8)
OF_ECDSA = (0xC02B, 0xC02C, 0xCCA9)
WIDE = tuple(
    each.code for each in table().values() if not each.is_tls_1_3 and each.authentication == "RSA" and each.bits >= 112
)
ALL_GROUPS = (0x001D, 0x0017, 0x001E, 0x0019, 0x0018)
GROUPS_1_3 = (0x11EC, *ALL_GROUPS)


@pytest.mark.parametrize(
    ("version", "server", "order", "most", "deepest"),
    [
        pytest.param(0x0304, Server((0x1302, 0x1303, 0x1301), GROUPS_1_3), Order.SERVER, 11, 4, id="modern-1.3"),
        pytest.param(0x0304, Server((0x1301,), (0x0017,)), Order.ONE, 8, 3, id="one-suite-one-group"),
        pytest.param(0x0304, Server((0x1301, 0x1302), ALL_GROUPS, Order.CLIENT), Order.CLIENT, 12, 5, id="client-1.3"),
        pytest.param(0x0304, Server((0x1302, 0x1301), needs_shares=True), Order.SERVER, 12, 7, id="needs-shares"),
        pytest.param(0x0303, Server(MODERN_SUITES, ALL_GROUPS), Order.SERVER, 18, 5, id="modern-1.2"),
        pytest.param(0x0303, Server(MODERN_SUITES[1:2], ALL_GROUPS), Order.ONE, 11, 5, id="one-suite-1.2"),
        pytest.param(0x0303, Server((), ()), Order.NOT_KNOWN, 17, 4, id="nothing"),
        pytest.param(0x0303, Server(MODERN_SUITES, order=Order.CLIENT), Order.CLIENT, 20, 6, id="client-1.2"),
        pytest.param(0x0303, Server(MODERN_SUITES, order=Order.MIXED), Order.MIXED, 19, 6, id="chacha-first"),
        pytest.param(0x0303, Server(WIDE, ALL_GROUPS), Order.SERVER_IN_PART, 154, 18, id="wide-open"),
        pytest.param(0x0303, Server(WIDE[::-1], ALL_GROUPS), Order.SERVER_IN_PART, 154, 18, id="odd-order"),
        pytest.param(0x0303, Server(MODERN_SUITES, longest=150), Order.SERVER, 21, 5, id="closes-on-many-suites"),
        pytest.param(0x0303, Server(MODERN_SUITES, minds=frozenset({"rich"})), Order.SERVER, 20, 6, id="minds-options"),
        pytest.param(0x0303, Server(OF_ECDSA, ALL_GROUPS, Order.CLIENT, curve=0x0017), Order.CLIENT, 13, 5, id="key-on-a-curve"),
        pytest.param(0x0303, Server(MODERN_SUITES, ALL_GROUPS, curve=0x0018), Order.SERVER, 22, 5, id="both-keys"),
        pytest.param(0x0301, Server((0xC013, 0x0035, 0x000A), (0x0017,), refusal=Refused(Refusal.CLOSED)), Order.SERVER, 14, 4, id="old"),
    ],
)  # fmt: skip
def test_what_a_server_accepts_is_found(version, server, order, most, deepest):
    server.asked = 0
    search = VersionSearch("x.example", version, key_curve=server.curve)
    for first in server.suites[:1] if server.curve is not None else ():
        search.picks.note(OF_ECDSA + MODERN_SUITES, first)  # as the first hellos told
    deep = drive(search.find(), server) + drive(search.settle(), server)
    print(f"{server.asked} hellos for {len(search.suites) + len(search.accepted_groups)}, {deep} deep")
    known = set(itertools.chain(*suites_for(version)))
    assert set(search.suites) == set(server.suites) & known
    unfinished = "" if server.suites else "the server takes none of the hellos that ask for its suites"
    assert (search.order, search.unfinished) == (order, unfinished)
    if order is Order.SERVER:
        assert search.suites == tuple(each for each in server.suites if each in known)
    if server.suites and not server.needs_shares:
        assert set(search.accepted_groups) == set(server.groups)
    assert (server.asked <= most, deep <= deepest) == (True, True)


@given(st.permutations(range(8)), st.randoms())
def test_neighbours_held_against_each_other_give_any_servers_order(order, chance):
    """A server with this order is asked as the look asks; the order is found within a few rounds."""
    picks = Picks()

    def pick(offered):
        picked = min(offered, key=order.index)
        picks.note(offered, picked)

    for code in order:
        pick([code, *chance.sample(order, 3)])
    for code in order:
        pick([code])
    for _ in range(40):
        pairs = picks.open_pairs(picks.guess())
        if not pairs:
            break
        for pair in pairs:
            pick(pair)
    assert list(picks.guess()) == list(order)


def test_the_usual_order_follows_what_the_server_likes_best():
    suites = (0x009C, 0xC013, 0xCCA8, 0xC02F, 0xC030, 0x0002)
    assert sorted(suites, key=usual_order(0xC02F)) == [0xC02F, 0xC030, 0xCCA8, 0xC013, 0x009C, 0x0002]
    assert sorted(suites, key=usual_order(0xC030)) == [0xC030, 0xCCA8, 0xC02F, 0xC013, 0x009C, 0x0002]
    assert sorted((0x0100, 0x001D, 0x11EC, 0x9999), key=usual_group_order) == [0x11EC, 0x001D, 0x0100, 0x9999]


def test_contradictory_picks_end():
    """A server that picks by chance has no order; a guess comes back all the same."""
    picks = Picks()
    for offered, picked in (((1, 2), 1), ((1, 2), 2), ((2, 3), 2), ((3, 1), 3)):
        picks.note(offered, picked)
    assert set(picks.guess()) == {1, 2, 3}
    assert picks.has_contradiction
    assert not Picks().has_contradiction


def test_a_server_that_takes_the_first_of_everything_costs_its_share_of_work():
    """It accepts every suite, in any order: the work grows with the square of their number, not its fourth power."""
    suites = list(itertools.chain(*suites_for(0x0303)))
    picks = Picks()
    for start in range(len(suites)):
        picks.note(suites[start:] + suites[:start], suites[start])
    begun = time.process_time()
    assert len(picks.guess(usual_order(suites[0]))) == 390
    assert picks.has_contradiction
    assert time.process_time() - begun < 2
