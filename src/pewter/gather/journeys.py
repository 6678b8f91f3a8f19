"""Following one way in, hop by hop, from a clean slate."""

import asyncio
import contextlib
import itertools
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field

import msgspec

from pewter.evidence import LANDED, Hop, Journey, Landed, Page, StopCause, Stopped, Tries, Unseen, WayIn
from pewter.web.cookies import CookieJar
from pewter.web.redirects import NoRedirect, next_url
from pewter.web.refresh import moves_of
from pewter.web.urls import InvalidUrl, Url, read_url

from .exchanges import Answered, Connection, Failed
from .network import Network
from .routes import Destination
from .slots import Priority

MAX_HOPS = 20
"""Redirects that current browsers follow before they give up."""


MAX_KEPT_BODY = 1 << 16
"""Octets of a page that is kept for journeys that come to it later; a longer one is asked for again."""

MAX_TRIES, MAX_TRIES_WHERE_ANSWERED = 3, 10
MAX_TRIES_IN_SILENCE = 3
"""Where something was answered: each takes a whole deadline."""

"""Of one request that breaks off without a word; at a place that answers others: of a thousand that meet a server of
which every second connection fails, one is given up."""

_EXPECTED_ERRORS = frozenset({404, 410})
"""What a page that does not exist should answer with."""


@dataclass
class JourneyContext:
    """What a journey needs from the look that it is part of."""

    network: Network
    step_seconds: float
    destinations: Callable[[Url], Awaitable[tuple[Destination, ...] | Unseen]] = field(init=False)
    """Where a URL's host is reached, or why it is nowhere."""

    why_not_contact: Callable[[Url, Destination], str | None] = field(init=False)
    met: Callable[[Url, Destination, Answered], None] = field(init=False)
    """Called for each answer."""

    keep_page: Callable[[Url, Answered], Awaitable[Page | None]] = field(init=False)
    """Called for an answer that is shown as a page: reads and keeps it."""

    moved: Callable[["OngoingJourney", Url], None] = field(init=False)
    """Called where a page moves its visitors on by itself."""

    answers: dict[object, asyncio.Future[Answered | Failed | None]] = field(default_factory=dict)
    """What was asked in this look, or is being asked; None where that said nothing."""


@dataclass
class OngoingJourney:
    """One journey under way; what it has seen so far can be taken at any time."""

    start: Url
    context: JourneyContext
    reason: WayIn = WayIn.TYPED
    by_address: str | None = None
    """The one address at which the first host is visited; None for a visitor's own choice."""

    as_browser: bool = False
    """Asks as a browser does, not under Pewter's name."""

    jar: CookieJar = field(default_factory=CookieJar)
    hops: list[Hop] = field(default_factory=list)
    tries: list[Tries] = field(default_factory=list)
    end: Landed | Stopped | Unseen | None = None
    """None until the journey has ended."""

    looks_like: str = ""
    """Of a link that was found: ``login``."""

    asked_again: bool = False
    answered_otherwise: str = ""

    @property
    def priority(self) -> Priority:
        """What a visitor types goes first."""
        return Priority.ASIDE if self.reason is WayIn.ABSENT else Priority.JOURNEY

    def seen_so_far(self, why_unseen: str) -> Journey:
        """What was seen so far; a journey that has not ended is Unseen for that reason."""
        end = self.end if self.end is not None else Unseen(why_unseen)
        return Journey(
            str(self.start),
            tuple(self.hops),
            end,
            self.reason,
            self.by_address,
            self.looks_like,
            tuple(self.tries),
            self.asked_again,
            self.answered_otherwise,
        )

    async def follow(self) -> None:
        """Go on to the end; whatever happens is kept in :attr:`hops` and :attr:`end`.

        Where that is an error, or may hang on who asks, a browser's request goes its own way: what visitors meet.
        """
        jar = self.jar.copy()
        await self._follow()
        if self.as_browser or not self._may_hang_on_who_asks():
            return
        other = OngoingJourney(self.start, self.context, self.reason, self.by_address, as_browser=True, jar=jar)
        await other._follow()
        self.asked_again = True
        if other._course() != self._course() and other.hops:
            last = self.hops[-1]
            self.answered_otherwise = f"{last.status} at {last.url}"
            self.hops, self.end, self.jar = other.hops, other.end, other.jar
            self.tries += other.tries

    def _may_hang_on_who_asks(self) -> bool:
        """An error, or a redirect to another path; or an answer that says so itself (Vary)."""
        if not isinstance(self.end, Landed | Stopped) or not self.hops:
            return False
        if any("user-agent" in value.lower() for hop in self.hops for value in hop.values("Vary")):
            return True
        if self.reason is WayIn.ABSENT:
            return self.hops[-1].status not in _EXPECTED_ERRORS and self.hops[-1].status >= 400
        paths = {read_url(hop.url).path for hop in self.hops}
        return self.hops[-1].status >= 400 or (self.reason is WayIn.TYPED and len(paths) > 1)

    def _course(self) -> tuple[object, ...]:
        """What makes two journeys alike: statuses, addresses and policies."""
        return tuple((hop.url, hop.status, hop.values("Strict-Transport-Security")) for hop in self.hops)

    async def _follow(self) -> None:
        seen: set[tuple[str, str | None]] = set()
        url = self.start
        connection: _Held | None = None
        try:
            while True:
                state = (str(url), self.jar.field_for(url))
                if state in seen:
                    self.end = Stopped(str(url), StopCause.LOOP, "it comes round again")
                    return
                if len(self.hops) > MAX_HOPS:
                    self.end = Stopped(str(url), StopCause.TOO_MANY_HOPS, f"more than {MAX_HOPS} redirects")
                    return
                seen.add(state)
                outcome, connection = await self._exchange(url, state[1], connection)
                if isinstance(outcome, Failed):
                    self.end = (
                        Unseen(outcome.detail)
                        if outcome.cause is None
                        else Stopped(str(url), outcome.cause, outcome.detail)
                    )
                    return
                self.hops.append(outcome.hop)
                size, threads = sum(map(len, outcome.set_cookie)), self.context.network.threads
                await threads.off_the_loop(size, self.jar.take, outcome.set_cookie, url, outcome.hop.at)
                locations = outcome.hop.values("Location")
                try:
                    following = next_url(outcome.hop.status, locations, url)
                except InvalidUrl as exc:
                    detail = f"the Location cannot be followed: {exc}"
                    self.end = Stopped(str(url), StopCause.BAD_LOCATION, detail, locations[0][:300])
                    return
                if not isinstance(following, Url):
                    assert following is NoRedirect
                    await self._land(url, outcome)
                    return
                url = following
        finally:
            if connection is not None:
                await connection.close()

    async def _land(self, url: Url, outcome: Answered) -> None:
        page = await self.context.keep_page(url, outcome) if outcome.body else None
        if page is not None:
            self.hops[-1] = msgspec.structs.replace(outcome.hop, page=page.sha256)
        self.end = LANDED
        for move in moves_of(outcome.hop.values("Refresh"), page, url):
            if move.certain and move.url != str(url):
                self.context.moved(self, read_url(move.url))
                return

    async def _exchange(
        self, url: Url, cookie: str | None, held: "_Held | None"
    ) -> tuple[Answered | Failed, "_Held | None"]:
        if held is not None and held.connection.origin == url.origin:
            destination = held.connection.destination
            outcome, held = await self._ask(url, cookie, destination, held)
            if isinstance(outcome, Answered):
                return outcome, held
            # An idle connection that the server closed in the meantime says nothing: ask again on a new one.
        if held is not None:
            await held.close()
        return await self._exchange_anew(url, cookie)

    async def _exchange_anew(self, url: Url, cookie: str | None) -> tuple[Answered | Failed, "_Held | None"]:
        """Try the addresses of the host in turn, as browsers do, until one takes the connection."""
        destinations = await self.context.destinations(url)
        if isinstance(destinations, Unseen):
            return Failed(StopCause.NO_ADDRESS, destinations.reason), None
        if self.by_address is not None and url.host == self.start.host:
            same = tuple(each for each in destinations if each.address == self.by_address)
            destinations = same or destinations
        failures: list[Failed] = []
        for destination in destinations:
            refusal = self.context.why_not_contact(url, destination)
            if refusal is not None:
                failures.append(Failed(StopCause.NOT_CONTACTED, f"not contacted: {refusal}"))
                continue
            outcome, held = await self._ask(url, cookie, destination)
            if isinstance(outcome, Answered):
                return outcome, held
            failures.append(outcome)
            if outcome.cause not in {None, StopCause.NO_CONNECTION}:
                break
        return _most_telling(failures), None

    async def _ask(
        self, url: Url, cookie: str | None, destination: Destination, held: "_Held | None" = None
    ) -> tuple[Answered | Failed, "_Held | None"]:
        """The answer to a request, asked once in a look: another journey may have it already, or be waiting for it."""
        answers = self.context.answers
        key = (str(url), cookie, destination, self.as_browser)
        if (asked := answers.get(key)) is not None:
            if held is not None:
                await held.close()  # whoever is asking may be waiting for its slot
            if (known := await asyncio.shield(asked)) is not None:
                return known, None
            return await self._try(url, cookie, destination)
        answer = answers[key] = asyncio.get_running_loop().create_future()
        is_new, outcome = held is None, None
        try:
            work = self._try(url, cookie, destination) if held is None else self._go_on(held, url, cookie, destination)
            outcome, held = await work
            return outcome, held
        finally:
            if not isinstance(outcome, Answered) or len(outcome.body) > MAX_KEPT_BODY:
                del answers[key]
            # An idle connection that was closed says nothing: whoever waits asks again.
            answer.set_result(outcome if is_new or isinstance(outcome, Answered) else None)

    async def _go_on(
        self, held: "_Held", url: Url, cookie: str | None, destination: Destination
    ) -> tuple[Answered | Failed, "_Held | None"]:
        """Ask over the connection that the journey has."""
        outcome = await held.connection.get_in_time(url, cookie, as_browser=self.as_browser)
        if not isinstance(outcome, Answered):
            await held.close()
            return outcome, None
        self.context.met(url, destination, outcome)
        return outcome, await _keep_or_close(held, outcome)

    async def _try(
        self, url: Url, cookie: str | None, destination: Destination
    ) -> tuple[Answered | Failed, "_Held | None"]:
        """Ask one address; again where it breaks off without a word, as an unsteady server does now and then."""
        for made in itertools.count(1):
            held = await _Held.open(url.origin, destination, self.context, self.priority)
            try:
                outcome = await held.connection.get_in_time(url, cookie, as_browser=self.as_browser)
                if isinstance(outcome, Answered):
                    if made > 1:
                        self.tries.append(Tries(str(url), made, 1))
                    self.context.met(url, destination, outcome)
                    return outcome, await _keep_or_close(held, outcome)
            except BaseException:  # the deadline: the slot may be one that other looks wait for
                await held.close()
                raise
            await held.close()
            answers = self.context.network.liveness.has_answered(destination)
            if outcome.is_silent:
                most = MAX_TRIES_IN_SILENCE if answers else 1
            else:
                most = (MAX_TRIES_WHERE_ANSWERED if answers else MAX_TRIES) if outcome.may_pass else 1
            if made >= most:
                return outcome, None
        raise AssertionError("the tries do not end")


def _most_telling(failures: list[Failed]) -> Failed:
    """What the site did, before what this machine could not do."""
    return next((failure for failure in failures if failure.cause is not None), failures[0])


class _Held:
    """A connection and the slot that it holds."""

    def __init__(self, connection: Connection, slot: contextlib.AbstractAsyncContextManager[None]) -> None:
        self.connection = connection
        self._slot = slot

    @classmethod
    async def open(cls, origin: str, destination: Destination, context: JourneyContext, priority: Priority) -> "_Held":
        slot = context.network.slots.connection(destination.address, priority)
        await slot.__aenter__()
        return cls(Connection(origin, destination, context.network, context.step_seconds), slot)

    async def close(self) -> None:
        try:
            await self.connection.close()
        finally:
            await self._slot.__aexit__(None, None, None)


async def _keep_or_close(held: _Held, outcome: Answered) -> _Held | None:
    if outcome.reusable:
        return held
    await held.close()
    return None
