"""Which places have ever answered: a place that is silent is known as such after one first try.

A server that takes connections and says nothing, or that drops what it is sent, would cost a whole deadline for every
hello.  So until anything was heard from a place, all that is asked of it shares one short deadline, which begins with
the first connection to it; once something is heard, each exchange has the time that it would have had.

A request over plain http is another matter: whoever took the connection may be working on the answer.  It has all its
time where anything was heard from its address, at whatever port; where nothing was, it is one more silent place.

What this machine is late itself, since it has more to do than it can, is no silence of a peer's: the short deadline is
put off by as much, and at most doubled.
"""

import asyncio
import contextlib
from collections.abc import AsyncIterator

from .routes import Destination

FIRST_SECONDS = 8.0
"""Three retransmissions of a SYN (RFC 6298 section 2) are over by then, and a busy machine has had its turn."""

Socket = tuple[str, int]


class Lag:
    """How many seconds an event loop was late, of those in which anybody waited."""

    TICK_SECONDS = 0.5

    def __init__(self) -> None:
        self.seconds = 0.0
        self._waiting = 0
        self._ticking: asyncio.TimerHandle | None = None

    def __enter__(self) -> "Lag":
        self._waiting += 1
        if self._ticking is None:
            self._tick_later()
        return self

    def __exit__(self, *_: object) -> None:
        self._waiting -= 1
        if not self._waiting and self._ticking is not None:
            self._ticking.cancel()
            self._ticking = None

    def _tick_later(self) -> None:
        loop = asyncio.get_running_loop()
        due = loop.time() + self.TICK_SECONDS

        def tick() -> None:
            self.seconds += loop.time() - due
            self._tick_later()

        self._ticking = loop.call_at(due, tick)


class Liveness:
    """What one look has heard, by the place to which connections are really made."""

    def __init__(self, first_seconds: float = FIRST_SECONDS, lag: Lag | None = None) -> None:
        self._first_seconds = first_seconds
        self._lag = lag if lag is not None else Lag()
        self._begun: dict[Socket, float] = {}
        self._taken: set[Socket] = set()
        """Places that took a connection."""

        self._heard: set[Socket] = set()
        """Places from which something came, if only that they refuse."""

        self._answered: set[Socket] = set()
        """Places that gave a whole answer, of TLS or HTTP."""

        self._alive: set[str] = set()
        """Addresses from which something came."""

        self._silent: set[Socket] = set()
        self._waiting: dict[Socket | str, dict[asyncio.Timeout, float | None]] = {}
        """What waits for a place, or for any at an address, and until when once something is heard."""

    def taken(self, destination: Destination) -> None:
        """A connection came about."""
        self._taken.add(_place(destination))

    def heard(self, destination: Destination) -> None:
        """Something came from there: all that waits may wait as long as it wishes."""
        place = _place(destination)
        if place not in self._heard:
            self._taken.add(place)
            self._heard.add(place)
            self._silent.discard(place)
            self._alive.add(destination.address)
            for waiting in (place, destination.address):
                for timeout, until in self._waiting.pop(waiting, {}).items():
                    timeout.reschedule(until)

    def stays_silent(self, destination: Destination) -> None:
        """A whole request was not answered: where nothing else ever was, the rest need not be tried."""
        if _place(destination) not in self._heard:
            self._silent.add(_place(destination))

    def answered(self, destination: Destination) -> None:
        """A whole answer came: what breaks off there may be asked again."""
        self._answered.add(_place(destination))

    def has_answered(self, destination: Destination) -> bool:
        return _place(destination) in self._answered

    def takes_connections(self, destination: Destination) -> bool:
        return _place(destination) in self._taken

    def seconds(self, destination: Destination, wished: float, *, is_plain: bool = False) -> float:
        """How long a place is waited for, or a request over plain http: for words about it."""
        answers = is_plain and self.takes_connections(destination) and destination.address in self._alive
        return wished if answers or _place(destination) in self._heard else min(wished, self._first_seconds)

    @contextlib.asynccontextmanager
    async def exchange(
        self, destination: Destination, seconds: float, *, connection_only: bool = False
    ) -> AsyncIterator[None]:
        """One exchange with a place, or only the coming about of a connection.

        TimeoutError once its time is over, and at once where the place is silent.
        """
        place, now = _place(destination), asyncio.get_running_loop().time()
        if place in self._silent:
            raise TimeoutError
        until = now + seconds
        known = self._taken if connection_only else self._heard
        if place in known:
            async with asyncio.timeout_at(until):
                yield
            return
        first = min(until, self._begun.setdefault(place, now) + self._first_seconds)
        try:
            async with self._waiting_for(place, first, until):
                yield
        except TimeoutError:
            if place not in known:
                self._silent.add(place)
            raise

    @contextlib.asynccontextmanager
    async def answer(self, destination: Destination) -> AsyncIterator[None]:
        """The wait for the answer to a request, on a connection that came about: the caller sets the last deadline."""
        if destination.address in self._alive:
            yield
            return
        first = asyncio.get_running_loop().time() + self._first_seconds
        async with self._waiting_for(destination.address, first, None):
            yield

    @contextlib.asynccontextmanager
    async def _waiting_for(self, what: Socket | str, first: float, until: float | None) -> AsyncIterator[None]:
        timeout = asyncio.timeout(None)
        ending = asyncio.get_running_loop().call_at(first, self._end, what, timeout, first, self._lag.seconds)
        try:
            with self._lag:
                async with timeout:
                    self._waiting.setdefault(what, {})[timeout] = until
                    yield
        finally:
            ending.cancel()
            self._waiting.get(what, {}).pop(timeout, None)

    def _end(self, what: Socket | str, timeout: asyncio.Timeout, first: float, late: float) -> None:
        """End a wait, unless something was heard, or this machine has been late since it began."""
        waiting, loop = self._waiting.get(what, {}), asyncio.get_running_loop()
        if timeout not in waiting:
            return
        put_off, until = first + min(self._lag.seconds - late, self._first_seconds), waiting[timeout]
        put_off = put_off if until is None else min(put_off, until)
        if put_off > loop.time():
            loop.call_at(put_off, self._end, what, timeout, first, late)
        else:
            timeout.reschedule(loop.time())


def _place(destination: Destination) -> Socket:
    return destination.connect_address, destination.connect_port
