"""What is asked for in a search, and what picks say of an order."""

import itertools
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.evidence import Order
from pewter.tls.searches import (
    OLD_CURVES,
    TLS_1_3_GROUPS,
    Picks,
    suites_for,
    tell_order,
    usual_group_order,
    usual_order,
)
from pewter.tls.suites import table


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


@pytest.mark.parametrize(
    ("forward", "backward", "expected"),
    [
        (1, 1, Order.SERVER),
        (1, 3, Order.CLIENT),
        (1, 2, Order.MIXED),
        (2, 3, Order.MIXED),
        (None, 1, Order.NOT_KNOWN),
        (1, None, Order.NOT_KNOWN),
    ],
)
def test_whose_order_counts(forward, backward, expected):
    assert tell_order([1, 2, 3], forward, backward) == expected


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
