"""How many connections are open at once."""

import asyncio
import contextlib
import heapq
from collections import Counter
from collections.abc import AsyncIterator
from enum import IntEnum


class Priority(IntEnum):
    """Who goes first when an address has no slot left: a review takes as long as its longest chain of waits."""

    JOURNEY = 0
    HANDSHAKE = 1
    ASIDE = 2
    """What no visitor waits for: pages that do not exist, hosts that are nobody's, style sheets."""

    SEARCH = 3
    OPTION = 4
    """One question by itself, on which no other waits."""


class BudgetSpent(Exception):
    """A look has made all the connections that it may make."""


class Slots:
    """At most ``limit`` connections to one address at a time, a count of all, and an end to them."""

    def __init__(self, limit: int, most: int = 6000) -> None:
        self._limit = limit
        self._most = most
        self._slowed: set[str] = set()
        self._open: Counter[str] = Counter()
        self._waiting: dict[str, list[tuple[int, int, asyncio.Future[None]]]] = {}
        self._turns = 0
        self._granted = 0
        """Made, or waiting for their turn."""

        self.made = 0

    @contextlib.asynccontextmanager
    async def connection(self, address: str, priority: Priority) -> AsyncIterator[None]:
        """Hold a slot for one connection to ``address``.  Raises BudgetSpent."""
        if self._granted >= self._most:
            raise BudgetSpent(f"not reached within {self._most} connections, the most of one review")
        self._granted += 1
        await self._acquire(address, priority)
        self.made += 1
        try:
            yield
        finally:
            self._release(address)

    def slow_down(self, address: str) -> None:
        """From now on one connection at a time: the server began to refuse more."""
        self._slowed.add(address)

    def is_slow(self, address: str) -> bool:
        return address in self._slowed

    def _limit_of(self, address: str) -> int:
        return 1 if address in self._slowed else self._limit

    async def _acquire(self, address: str, priority: Priority) -> None:
        if priority is Priority.OPTION:
            await asyncio.sleep(0)  # what begins in this turn of the loop goes first
        if self._open[address] < self._limit_of(address):
            self._open[address] += 1
            return
        turn: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        queue = self._waiting.setdefault(address, [])
        self._turns += 1
        heapq.heappush(queue, (priority, self._turns, turn))
        try:
            await turn
        except asyncio.CancelledError:
            if turn.done() and not turn.cancelled():
                self._release(address)  # the slot was handed over in the same moment
            raise

    def _release(self, address: str) -> None:
        queue = self._waiting.get(address, [])
        while queue and self._open[address] <= self._limit_of(address):
            turn = heapq.heappop(queue)[2]
            if not turn.done():
                turn.set_result(None)  # the slot passes on; the count stays
                return
        self._open[address] -= 1
