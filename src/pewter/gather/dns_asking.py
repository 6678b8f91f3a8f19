"""Questions to name servers over our own sockets: each once in a look, to few at a time, and none without a bound."""

import asyncio
import collections
import contextlib
import errno
import math
import time
import weakref
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import msgspec

from pewter.evidence import AskedServer, DnsSeen, Question, Reply, Unanswered, Way
from pewter.names.messages import build_query, read_reply
from pewter.octets import DecodeError
from pewter.web.suffixes import registrable_domain

from .routes import Destination
from .slots import BudgetSpent, Priority, Slots
from .threads import Threads
from .together import Errands

TRY_SECONDS = 2.0
TRIES = 2
RESEND_SECONDS = 0.7
"""After which the same datagram is sent once more, within a try: where each tenth is lost, six in a row hardly are."""

DIRECT_SECONDS = 8.0
"""For all questions to authoritative servers together."""

MAX_QUESTIONS = 300
"""Of one look."""

MAX_OF_ANOTHERS = 60
"""About names of one registrable domain that is not the site's: what a site names is no reason to burden others."""

UNDER_WAY = 4
"""To one server at a time."""

MAX_STRAY = 64
"""Datagrams that are no answer to the question, of one try; after them the try is over."""

ON_THE_LOOP = 1 << 12
"""Octets of an answer that are read without going to a thread."""

_NO_ROUTE = frozenset({errno.ENETUNREACH, errno.EHOSTUNREACH, errno.EADDRNOTAVAIL, errno.EAFNOSUPPORT})
_ASK_PLAINLY = frozenset({"FORMERR", "NOTIMP", "BADVERS"})


@dataclass
class _Server:
    """One that is asked."""

    addresses: Sequence[tuple[str, int]]
    """Several only of the machine's own resolvers: they stand in for each other."""

    turns: asyncio.Semaphore
    heard: bool = False
    silent: bool = False
    """Two tries came to nothing, and nothing was ever heard."""


ANSWERS_LAST_SECONDS = 30.0
MAX_ANSWERS = 600


class Pace:
    """How long servers take of late (RFC 6298 section 2): what is merely waiting there is not sent again and again."""

    def __init__(self) -> None:
        self._smoothed: dict[tuple[str, int], float] = {}

    def took(self, there: tuple[str, int], seconds: float) -> None:
        known = self._smoothed.pop(there, seconds)
        self._smoothed[there] = known + (seconds - known) / 8
        while len(self._smoothed) > MAX_ANSWERS:
            del self._smoothed[next(iter(self._smoothed))]

    def seconds(self, there: tuple[str, int]) -> float:
        return self._smoothed.get(there, 0.0)


class SharedAnswers:
    """What looks of one survey share: answers of the last half minute, and the turns of each server.

    A question that is asked again on purpose is never answered out of it.
    """

    def __init__(self, under_way: int = UNDER_WAY) -> None:
        self._under_way = under_way
        self.pace = Pace()
        # Who waits, holds a turn or may ask for one keeps it alive; nobody else does, so that they do not add up.
        self._turns: weakref.WeakValueDictionary[tuple[str, int], asyncio.Semaphore] = weakref.WeakValueDictionary()
        self._known: dict[tuple[tuple[str, int], str, str, Way], tuple[float, Reply]] = {}

    def turns(self, there: tuple[str, int]) -> asyncio.Semaphore:
        """Of one server: the same for all that hold it, however many servers there are."""
        turns = self._turns.get(there)
        if turns is None:
            turns = self._turns[there] = asyncio.Semaphore(self._under_way)
        return turns

    def keep(self, there: tuple[str, int], name: str, kind: str, way: Way, reply: Reply) -> None:
        if way is not Way.AGAIN:
            key = (there, name, kind, way)
            now = time.monotonic()
            self._known.pop(key, None)
            self._known[key] = (now + ANSWERS_LAST_SECONDS, reply)
            # They stand in the order in which they end.
            while (oldest := next(iter(self._known))) != key and (
                self._known[oldest][0] < now or len(self._known) > MAX_ANSWERS
            ):
                del self._known[oldest]

    def find(self, there: tuple[str, int], name: str, kind: str, way: Way) -> Reply | None:
        until, reply = self._known.get((there, name, kind, way), (0.0, None))
        return reply if time.monotonic() < until else None


@dataclass
class Asker:
    """All questions of one look."""

    slots: Slots
    random: Callable[[int], bytes]
    under_way: int = UNDER_WAY
    shared: SharedAnswers | None = None
    threads: Threads = field(default_factory=Threads)
    errands: Errands = field(default_factory=Errands)
    """Questions under way: several may wait for one of them."""

    servers: list[AskedServer] = field(default_factory=list)
    _asked: list[_Server] = field(default_factory=list)
    _questions: list[Question] = field(default_factory=list)
    _replies: dict[Reply, int] = field(default_factory=dict)
    _tasks: dict[tuple[int, str, str, Way], asyncio.Task[Reply | Unanswered]] = field(default_factory=dict)
    _sent: int = 0
    not_asked: dict[str, None] = field(default_factory=dict)
    no_ipv6: bool = False
    hosts_file: tuple[tuple[str, str], ...] = ()
    own_domains: frozenset[str] | None = None
    """Registrable domains of the site; None where it is not known whose names are asked for."""

    deadline: float | None = None
    """Of direct questions; on the loop's clock."""

    _of_anothers: collections.Counter[str] = field(default_factory=collections.Counter)

    def add_resolver(self, addresses: Sequence[tuple[str, int]]) -> int:
        """A resolver, or several that stand in for each other."""
        self.servers.append(AskedServer(*addresses[0], is_resolver=True))
        self._asked.append(_Server(addresses, asyncio.Semaphore(1000)))
        return len(self.servers) - 1

    def add_server(self, destination: Destination, name: str) -> int:
        """An authoritative server by its address; the same number for the same address and port."""
        for number, server in enumerate(self.servers):
            if not server.is_resolver and (server.address, server.reached_at) == (
                destination.address,
                destination.reached_at,
            ):
                names = tuple(dict.fromkeys((*server.names, name)))
                self.servers[number] = msgspec.structs.replace(server, names=names)
                return number
        reached_at = destination.reached_at
        self.servers.append(AskedServer(destination.address, destination.port, False, reached_at, (name,)))
        there = (destination.connect_address, destination.connect_port)
        turns = self.shared.turns(there) if self.shared is not None else asyncio.Semaphore(self.under_way)
        self._asked.append(_Server((there,), turns))
        return len(self.servers) - 1

    def teach(self, server: int, name: str, kind: str, way: Way, reply: Reply) -> None:
        """An answer that this server gave a moment ago, to whoever shares with this look."""
        if self.shared is not None:
            self.shared.keep(self._asked[server].addresses[0], name, kind, way, reply)

    def revive(self, server: int) -> None:
        """A silent server is asked once more."""
        self._asked[server].silent = False

    def seen(self) -> DnsSeen:
        """What came of it so far."""
        return DnsSeen(
            tuple(self.servers),
            tuple(self._replies),
            tuple(self._questions),
            tuple(self.not_asked),
            no_ipv6=self.no_ipv6,
            hosts_file=self.hosts_file,
        )

    async def ask(
        self, server: int, name: str, record_type: str, way: Way, seconds: float | None = None
    ) -> Reply | Unanswered:
        """One question; the same one is asked once, but for those that are asked again on purpose.

        ``seconds``: tries go on until then, whatever was asked before: where the site is; else there are two.
        """
        if way is Way.AGAIN:
            return await self._ask(server, name, record_type, way, seconds)
        key = (server, name, record_type, way)
        if key not in self._tasks:
            self._tasks[key] = self.errands.begin(self._ask(server, name, record_type, way, seconds))
        return await asyncio.shield(self._tasks[key])

    async def _ask(
        self, server: int, name: str, record_type: str, way: Way, seconds: float | None
    ) -> Reply | Unanswered:
        async with self._asked[server].turns:
            begun = time.monotonic()
            answer = await self._answer(server, name, record_type, way, seconds)
        self._note(server, name, record_type, way, begun, answer)
        if isinstance(answer, Reply):
            if answer.is_truncated and not way.is_over_tcp:
                over_tcp = Way.SIGNED_TCP if way is Way.SIGNED else Way.TCP
                return await self.ask(server, name, record_type, over_tcp)
            if answer.rcode in _ASK_PLAINLY and way in {Way.DIRECT, Way.RANDOM}:
                return await self.ask(server, name, record_type, Way.PLAIN)
        elif answer is Unanswered.SILENT and way is Way.DIRECT and self._asked[server].heard:
            # Datagrams may be lost on the way: of a server that answers, TCP is asked too.
            return await self.ask(server, name, record_type, Way.TCP)
        return answer

    def _note(self, server: int, name: str, kind: str, way: Way, begun: float, answer: Reply | Unanswered) -> None:
        took = round((time.monotonic() - begun) * 1000)
        if isinstance(answer, Unanswered):
            self._questions.append(Question(server, name, kind, way, took, None, answer))
        else:
            number = self._replies.setdefault(answer, len(self._replies))
            self._questions.append(Question(server, name, kind, way, took, number))

    async def _answer(self, number: int, name: str, kind: str, way: Way, seconds: float | None) -> Reply | Unanswered:
        server = self._asked[number]
        known = self._shared_answer(server, name, kind, way)
        if known is not None:
            return known
        if self._is_anothers_and_enough(name):
            return Unanswered.TOO_MANY
        is_resolver = self.servers[number].is_resolver
        loop = asyncio.get_running_loop()
        if not is_resolver and self.deadline is None:
            self.deadline = loop.time() + DIRECT_SECONDS
        until = loop.time() + seconds if seconds is not None else None
        why = Unanswered.SILENT
        tries = 0
        while tries < TRIES * len(server.addresses) or (until is not None and loop.time() < until):
            if server.silent and not is_resolver and not way.is_over_tcp:
                return Unanswered.SILENT
            if self._sent >= MAX_QUESTIONS and until is None:
                self.not_asked[f"more than {MAX_QUESTIONS} questions to name servers"] = None
                return Unanswered.TOO_MANY
            there = server.addresses[tries % len(server.addresses)]
            left = min(
                max(TRY_SECONDS, 4 * self._usual_seconds(there)),
                until - loop.time() if until is not None else math.inf,
                self.deadline - loop.time() if not is_resolver and self.deadline is not None else math.inf,
            )
            if left <= 0:
                return why if tries else Unanswered.LATE
            self._sent += until is None
            asked_at = loop.time()
            answer = await self._try(there, name, kind, way, left, recursion=is_resolver)
            tries += 1
            if isinstance(answer, Reply):
                server.heard, server.silent = True, False
                if self.shared is not None:
                    self.shared.pace.took(there, loop.time() - asked_at)
                    self.shared.keep(there, name, kind, way, answer)
                return answer
            why = answer
            if why is not Unanswered.SILENT and len(server.addresses) == 1:
                return why  # refused at once, or no way there
        if not server.heard and why is Unanswered.SILENT:
            server.silent = True
        return why

    def _is_anothers_and_enough(self, name: str) -> bool:
        """Counts a question about a name; whether there were enough about its domain."""
        domain = registrable_domain(name) or name
        if self.own_domains is None or domain in self.own_domains:
            return False
        self._of_anothers[domain] += 1
        if self._of_anothers[domain] <= MAX_OF_ANOTHERS:
            return False
        self.not_asked[f"more than {MAX_OF_ANOTHERS} questions about names of {domain}"] = None
        return True

    def _usual_seconds(self, there: tuple[str, int]) -> float:
        """For an answer from there, as looks that share with this one know it; 0 where none does."""
        return self.shared.pace.seconds(there) if self.shared is not None else 0.0

    def _shared_answer(self, server: _Server, name: str, kind: str, way: Way) -> Reply | None:
        if self.shared is None:
            return None
        found = (self.shared.find(there, name, kind, way) for there in server.addresses)
        return next((each for each in found if each is not None), None)

    async def _try(
        self, there: tuple[str, int], name: str, kind: str, way: Way, seconds: float, *, recursion: bool
    ) -> Reply | Unanswered:
        number = int.from_bytes(self.random(2), "big")
        try:
            query = build_query(
                name,
                kind,
                number,
                recursion=recursion,
                unchecked=way is Way.CHECKING_DISABLED,
                edns=way not in {Way.PLAIN, Way.TCP},
                signed=way in {Way.SIGNED, Way.SIGNED_TCP},
            )
        except DecodeError:
            return Unanswered.NO_NAME
        try:
            async with asyncio.timeout(seconds):
                if way.is_over_tcp:
                    return await self._over_tcp(there, query, number, name, kind)
                async with self.slots.pool.in_all or contextlib.nullcontext():
                    return await self._over_udp(there, query, number, name, kind)
        except TimeoutError:
            return Unanswered.SILENT
        except BudgetSpent:
            return Unanswered.TOO_MANY
        except OSError as exc:
            if exc.errno in _NO_ROUTE and ":" in there[0]:
                self.no_ipv6 = True
                return Unanswered.NO_IPV6
            return Unanswered.REFUSES if isinstance(exc, ConnectionError) else Unanswered.NO_WAY

    async def _over_tcp(
        self, there: tuple[str, int], query: bytes, number: int, name: str, kind: str
    ) -> Reply | Unanswered:
        async with self.slots.connection(there[0], Priority.ASIDE):
            reader, writer = await asyncio.open_connection(*there)
            try:
                writer.write(len(query).to_bytes(2, "big") + query)
                length = int.from_bytes(await reader.readexactly(2), "big")
                octets = await reader.readexactly(length)
            except asyncio.IncompleteReadError:
                return Unanswered.CLOSES
            finally:
                writer.transport.abort()
        reply = await self._read(octets, number, name, kind)
        return reply or Unanswered.GARBLED

    async def _over_udp(
        self, there: tuple[str, int], query: bytes, number: int, name: str, kind: str
    ) -> Reply | Unanswered:
        """The first datagram that answers the question; others are passed over (RFC 5452 section 9.1)."""
        transport, protocol = await asyncio.get_running_loop().create_datagram_endpoint(_Datagrams, remote_addr=there)
        try:
            transport.sendto(query)
            resend = max(RESEND_SECONDS, 2 * self._usual_seconds(there))
            for _ in range(MAX_STRAY):
                octets = await self._next(transport, protocol, query, resend)
                if isinstance(octets, Exception):
                    raise octets
                reply = await self._read(octets, number, name, kind)
                if reply is not None:
                    return reply
            return Unanswered.STRAY
        finally:
            transport.close()

    async def _next(
        self, transport: asyncio.DatagramTransport, protocol: "_Datagrams", query: bytes, resend: float
    ) -> bytes | Exception:
        """The next datagram; the question is sent again until one comes."""
        while True:
            try:
                async with asyncio.timeout(resend):
                    return await protocol.come.get()
            except TimeoutError:
                transport.sendto(query)

    async def _read(self, octets: bytes, number: int, name: str, kind: str) -> Reply | None:
        if len(octets) <= ON_THE_LOOP:
            return read_reply(octets, number, name, kind)
        return await self.threads.run(read_reply, octets, number, name, kind)


class _Datagrams(asyncio.DatagramProtocol):
    """What comes to one socket, from the one address that it is connected to."""

    def __init__(self) -> None:
        self.come: asyncio.Queue[bytes | Exception] = asyncio.Queue(MAX_STRAY)

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        with contextlib.suppress(asyncio.QueueFull):
            self.come.put_nowait(data)

    def error_received(self, exc: Exception) -> None:
        with contextlib.suppress(asyncio.QueueFull):
            self.come.put_nowait(exc)
