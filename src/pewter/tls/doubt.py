"""When the end of a connection is an answer, and when it is weather.

A server that ends a connection in place of an answer may refuse the hello, or let connections fail now and then,
whatever stands in them.  So the hello is sent again, in turn with one that this server takes (the control), until the
difference is sure.  The turns come in an order without a period: a balancer that lets every second connection fail
hits both alike.

No sockets: whoever asks says what came of each turn.
"""

import enum
import itertools
from collections.abc import Iterator
from dataclasses import dataclass

ODDS = 1 / 10_000
"""That we accept of calling a hello refused which a server with failing connections would have taken."""

SURE = 7
"""Ends of a hello, each beside a control that was answered, by which a server is known to refuse so.

Where connections fail by chance, at whatever rate, that comes about once in 16,384 times at most: the rate and what it
leaves, multiplied, make a quarter at most.
"""

ENOUGH = 3
"""Ends, where nothing is at hand to compare with."""

ENOUGH_SILENCE = 2
"""Likewise, where nothing came: each takes a whole deadline."""

MOST = 24
"""Times that one hello is sent."""


class Turn(enum.Enum):
    """What is sent next."""

    HELLO = "hello"
    CONTROL = "control"


def turns() -> Iterator[Turn]:
    """Those after a first hello, by the sequence of Thue and Morse: in none of its parts does anything come thrice."""
    for number in itertools.count(1):
        yield Turn.CONTROL if number.bit_count() % 2 else Turn.HELLO


@dataclass
class Steadiness:
    """How many of the hellos that a server takes are answered.

    Ends that are met while there is more than one connection at a time may be strain and are not counted: what was
    taken meanwhile is forgotten as soon as there is one at a time.
    """

    taken: int = 0
    lost: int = 0
    _is_one_by_one: bool = False

    @property
    def is_uneven(self) -> bool:
        return bool(self.taken and self.lost)

    def took(self, *, one_by_one: bool) -> None:
        """A hello was answered."""
        self._count_anew(one_by_one=one_by_one)
        self.taken += 1

    def lose(self, count: int = 1) -> None:
        """Hellos that are taken met an end, one connection at a time."""
        self._count_anew(one_by_one=True)
        self.lost += count

    def _count_anew(self, *, one_by_one: bool) -> None:
        if one_by_one and not self._is_one_by_one:
            self.taken = 0
            self._is_one_by_one = True

    def ends_needed(self) -> int | None:
        """Ends in a row that a hello which is taken meets at most once in as many times as :data:`ODDS` says.

        The rate is not known but by what was counted: of all rates alike, each counts as much as it explains of that
        (Laplace's rule of succession, for a run of ends).  None where no number up to :data:`MOST` is enough.
        """
        odds = 1.0
        for more in range(MOST):
            odds *= (self.lost + 1 + more) / (self.lost + self.taken + 2 + more)
            if odds <= ODDS:
                return more + 1
        return None
