"""Asking one front end many times, so that each answer can be relied on.

A server that ends connections can mean three things: it refuses what was asked, it cannot read the hello, or it has
had enough of us.  Only the first is a finding.  So what ends without an alert is asked again, and a hello that worked
before is sent as a control: where that fails too, the server is under strain, and the look slows down to one connection
at a time and waits.
"""

import asyncio
import time
from dataclasses import dataclass, field

import msgspec

from pewter.evidence import Handshake, NoConnection, Offer, Probe, Tries, Unseen
from pewter.tls import Conversation
from pewter.tls.ssl2 import Ssl2Trial
from pewter.tls.trial import Picked, Refused, Trial

from .hellos import drive
from .network import Network
from .routes import Destination
from .slots import Priority
from .together import both

PAUSES_SECONDS = (0.5, 1.5, 3.0)
"""Before each further attempt at a server that refuses connections."""

TRIAL_SECONDS = 5.0
MAX_CONNECTIONS = 400
"""Of one look at a front end: more than a server with every suite of the table in four versions asks for."""


@dataclass
class Asker:
    """Hellos to one name at one place."""

    name: str
    destination: Destination
    network: Network
    step_seconds: float
    worked: Offer | None = None
    """A hello that this server took: the control."""

    minds: tuple[int, ...] = ()
    """Extension types that are left out of every hello, since the server ends it otherwise."""

    certificates: dict[str, bytes] = field(default_factory=dict)
    """What came with whole exchanges."""

    connections: int = 0
    _controls: list[bool] = field(default_factory=list)
    """Whether each control was answered that was sent on its own, one connection at a time."""

    _doubt: asyncio.Lock = field(default_factory=asyncio.Lock)
    """One control at a time: all that wonder wait for it."""

    _took_one_begun: float = 0.0
    """When the last hello began that was taken."""

    _ends_without_alert: bool = False
    """It was shown that this server refuses by ending the connection."""

    _strained: str = ""
    """Why nothing more is asked."""

    @property
    def is_slowed_down(self) -> bool:
        return self.network.slots.is_slow(self.destination.address)

    @property
    def tries(self) -> tuple[Tries, ...]:
        made, answered = len(self._controls), sum(self._controls)
        return (Tries("the hello that worked before", made, answered),) if answered < made else ()

    async def exchange(self, offer: Offer, priority: Priority = Priority.SEARCH) -> Probe:
        """A whole exchange up to the certificates."""
        offer = self._fitted(offer)
        conversation = Conversation(offer, self.network.random(64))
        failure = await self.drive(conversation, priority=priority)
        answer = failure or conversation.answer
        assert answer is not None
        self.certificates.update(conversation.certificates)
        return Probe(offer, answer)

    def conversation(self, offer: Offer) -> Conversation:
        """A whole handshake, to be driven to its end."""
        return Conversation(self._fitted(offer), self.network.random(64), finish=True)

    def _fitted(self, offer: Offer) -> Offer:
        """Without what the server is known to mind."""
        return msgspec.structs.replace(offer, without=(*offer.without, *self.minds)) if self.minds else offer

    async def ask(
        self, offer: Offer, *, as_it_is: bool = False, priority: Priority = Priority.SEARCH
    ) -> Picked | Refused | Unseen:
        """One hello, asked again until its answer can be relied on.

        Before TLS 1.3 it is read on to the parameters of the key exchange.
        """
        offer = offer if as_it_is else self._fitted(offer)
        failure: NoConnection | Unseen | None = None
        for attempt in range(len(PAUSES_SECONDS) + 1):
            if self._strained:
                return Unseen(self._strained)
            answer, failure = await self._try(offer, priority)
            if answer is not None:
                return answer
            if isinstance(failure, Unseen):
                return failure
            self.network.slots.slow_down(self.destination.address)
            if attempt < len(PAUSES_SECONDS):
                await asyncio.sleep(PAUSES_SECONDS[attempt])
        detail = failure.detail if isinstance(failure, NoConnection) else "the server ended every connection"
        self._strained = f"the server stopped answering after {self.connections} connections ({detail})"
        return Unseen(self._strained)

    async def _try(
        self, offer: Offer, priority: Priority
    ) -> tuple[Picked | Refused | None, NoConnection | Unseen | None]:
        """An answer that can be relied on; else why none came, which may be strain."""
        begun = time.monotonic()
        answer, failure = await self._send(offer, priority)
        if isinstance(answer, Picked):
            self._took_one_begun = max(self._took_one_begun, begun)
            return answer, None
        if isinstance(answer, Refused) and (answer.is_alert or self._ends_without_alert):
            return answer, None
        if isinstance(answer, Refused):
            async with self._doubt:
                if self._ends_without_alert:
                    return answer, None  # another one has found out meanwhile
                # Does it end the connection on this hello, and not on the one that it took before?
                sent = self._send(offer, priority)
                if self._took_one_begun >= begun:
                    works, (answer, failure) = True, await sent  # another hello, begun later, was taken
                else:
                    works, (answer, failure) = await both(self._works_still(), sent)
                if works and isinstance(answer, Refused):
                    self._ends_without_alert = True
                if isinstance(answer, Picked) or (works and answer is not None):
                    return answer, None
        return None, failure

    async def _send(
        self, offer: Offer, priority: Priority
    ) -> tuple[Picked | Refused | None, NoConnection | Unseen | None]:
        trial = Trial(offer, self.network.random(64), to_key_exchange=True)
        failure = await self.drive(trial, TRIAL_SECONDS, priority)
        return (None, failure) if failure is not None else (trial.answer, None)

    async def _works_still(self) -> bool:
        """The control: a hello that this server took before."""
        if self.worked is None:
            return True  # nothing ever worked: the endings are all that this server says
        is_slow = self.is_slowed_down
        conversation = Conversation(self.worked, self.network.random(64))
        works = await self.drive(conversation) is None and isinstance(conversation.answer, Handshake)
        if is_slow:
            self._controls.append(works)
        return works

    async def drive(
        self,
        client: Conversation | Trial | Ssl2Trial,
        seconds: float | None = None,
        priority: Priority = Priority.SEARCH,
    ) -> NoConnection | Unseen | None:
        if self.connections >= MAX_CONNECTIONS:
            return Unseen(f"more than {MAX_CONNECTIONS} connections would have been needed")
        async with self.network.slots.connection(self.destination.address, priority):
            self.connections += 1
            seconds = min(seconds or self.step_seconds, self.step_seconds)
            return await drive(client, self.destination, self.network.liveness, seconds)
