"""When the end of a connection is an answer, and when it is weather.

A server that ends a connection in place of an answer may refuse the hello, or let connections fail now and then,
whatever stands in them.  So the hello is sent again, in turn with one that this server takes (the control), until the
difference is sure.  The turns come in an order without a period: a balancer that lets every second connection fail
hits both alike.

No sockets: whoever asks says what came of each turn.
"""

import enum
import itertools
import math
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
"""Ends, where a server is known to refuse by ending the connection, or where nothing is at hand to compare with."""

SURE_SILENCE, ENOUGH_SILENCE = 3, 2
"""Likewise, where nothing came: each takes a whole deadline, and chance has a smaller share in silence."""

MOST = 16
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
    """How many of the hellos that a server takes are answered."""

    taken: int = 0
    lost: int = 0

    @property
    def is_uneven(self) -> bool:
        return bool(self.taken and self.lost)

    def ends_needed(self) -> int | None:
        """Ends in a row that a hello which is taken meets at most once in as many times as :data:`ODDS` says.

        None where connections fail so often that no number of ends tells anything.
        """
        rate = (self.lost + 1) / (self.lost + self.taken + 2)  # Laplace's rule of succession
        needed = math.ceil(math.log(ODDS) / math.log(rate))
        return needed if needed <= MOST else None
