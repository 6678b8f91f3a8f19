"""How many ends tell that a hello is refused."""

import random

import pytest

from pewter.tls.doubt import MOST, ODDS, Steadiness


@pytest.mark.parametrize(
    ("taken", "lost", "ends"),
    [
        pytest.param(2, 0, None, id="two taken tell nothing yet"),
        pytest.param(7, 0, 8, id="seven"),
        pytest.param(30, 0, 4, id="thirty"),
        pytest.param(100, 0, 3, id="hundred"),
        pytest.param(5, 1, 15, id="one of six lost"),
        pytest.param(40, 20, 10, id="every third"),
        pytest.param(8, 8, 23, id="every second, early"),
        pytest.param(60, 60, 15, id="every second, late"),
        pytest.param(4, 12, None, id="three of four"),
    ],
)
def test_ends_needed(taken, lost, ends):
    assert Steadiness(taken, lost).ends_needed() == ends


def test_the_odds_hold_whatever_the_rate_is():
    """A hello that is taken, where hellos fail at a rate that nobody knows: it is seldom called refused."""
    chance = random.Random(7)
    false = 0.0
    rounds = 20_000
    for _ in range(rounds):
        rate = chance.random()
        lost = sum(chance.random() < rate for _ in range(20))
        needed = Steadiness(20 - lost, lost).ends_needed()
        false += rate**needed if needed is not None and needed <= MOST else 0
    assert false / rounds <= ODDS


def test_what_was_taken_side_by_side_is_forgotten():
    found = Steadiness()
    for _ in range(50):
        found.took(one_by_one=False)
    found.lose()
    assert (found.taken, found.lost, found.is_uneven) == (0, 1, False)
    found.took(one_by_one=True)
    assert (found.taken, found.lost, found.is_uneven) == (1, 1, True)
