"""How many connections are open at once."""

import asyncio
import contextlib
import heapq
import ipaddress
from collections import Counter
from collections.abc import AsyncIterator
from enum import IntEnum

from pewter.kept import kept


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


_TURNS_TO_CLOSE = 3


class Pool:
    """At most so many connections open at a time: to one address, to its network, and in all.

    One look has a pool of its own; looks of a survey share one.
    """

    def __init__(self, of_address: int, *, of_network: int | None = None, in_all: int | None = None) -> None:
        self.of_address = of_address
        self._of_network = of_network
        self._networks: dict[str, tuple[asyncio.Semaphore, int]] = {}
        """The turns of a network, and how many wait or hold one."""

        self.in_all = asyncio.Semaphore(in_all) if in_all is not None else None
        """Sockets of other kinds count in it as well."""

        self._slowed: set[str] = set()
        self._allowed: dict[str, int] = {}
        self._open: Counter[str] = Counter()
        self._waiting: dict[str, list[tuple[int, int, asyncio.Future[None]]]] = {}
        self._turns = 0

    @contextlib.asynccontextmanager
    async def connection(self, address: str, priority: Priority) -> AsyncIterator[None]:
        """Hold a slot for one connection to ``address``."""
        await self._acquire(address, priority)
        try:
            async with self._network_turn(address), self.in_all or contextlib.nullcontext():
                try:
                    yield
                finally:
                    # A transport that is closed lets its socket go in one of the next turns of the loop.
                    for _ in range(_TURNS_TO_CLOSE):
                        await asyncio.sleep(0)
        finally:
            self._release(address)

    def slow_down(self, address: str) -> None:
        """From now on one connection at a time: the server began to refuse more."""
        self._slowed.add(address)

    def is_slow(self, address: str) -> bool:
        return address in self._slowed

    def allow(self, address: str, most: int | None) -> None:
        """Another limit for this address; None for that of all."""
        if most is None:
            self._allowed.pop(address, None)
        else:
            self._allowed[address] = most

    @contextlib.asynccontextmanager
    async def _network_turn(self, address: str) -> AsyncIterator[None]:
        if self._of_network is None:
            yield
            return
        network = network_of(address)
        turns, users = self._networks.get(network) or (asyncio.Semaphore(self._of_network), 0)
        self._networks[network] = turns, users + 1
        try:
            async with turns:
                yield
        finally:
            turns, users = self._networks[network]
            self._networks[network] = turns, users - 1
            if users == 1:
                del self._networks[network]

    def _limit_of(self, address: str) -> int:
        return 1 if address in self._slowed else self._allowed.get(address, self.of_address)

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
        if not self._open[address]:
            del self._open[address]
            if not queue:
                self._waiting.pop(address, None)


class Slots:
    """The connections of one look: a count, an end to them, and the pool from which each comes."""

    def __init__(self, limit: int, most: int = 6000, pool: Pool | None = None) -> None:
        self.pool = pool or Pool(limit)
        self._most = most
        self._granted = 0
        """Made, or waiting for their turn."""

        self.made = 0

    @contextlib.asynccontextmanager
    async def connection(self, address: str, priority: Priority) -> AsyncIterator[None]:
        """Hold a slot for one connection to ``address``.  Raises BudgetSpent."""
        if self._granted >= self._most:
            raise BudgetSpent(f"not reached within {self._most} connections, the most of one review")
        self._granted += 1
        async with self.pool.connection(address, priority):
            self.made += 1
            yield

    def slow_down(self, address: str) -> None:
        """From now on one connection at a time: the server began to refuse more."""
        self.pool.slow_down(address)

    def is_slow(self, address: str) -> bool:
        return self.pool.is_slow(address)


@kept(most=1024)
def network_of(address: str) -> str:
    """The /24 or /48 that an address is in, as text for comparison."""
    try:
        read = ipaddress.ip_address(address)
    except ValueError:
        return address
    return str(ipaddress.ip_network(f"{read}/{24 if read.version == 4 else 48}", strict=False))
