"""Asking one front end many times, so that each answer can be relied on.

A server that ends connections can mean three things: it refuses what was asked, it cannot read the hello, or it has
had enough of us.  Only the first is a finding.  So what ends without an alert is asked again, and a hello that worked
before is sent as a control: where that fails too, the server is under strain, and the look slows down to one connection
at a time and waits.
"""

import asyncio
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Generic, TypeVar

import msgspec

from pewter.evidence import Ended, Handshake, HelloAnswer, HowEnded, NoConnection, Offer, Probe, Tries, Unseen
from pewter.tls import Conversation
from pewter.tls.doubt import ENOUGH, ENOUGH_SILENCE, MOST, SURE, Steadiness, Turn, turns
from pewter.tls.ssl2 import Ssl2Trial
from pewter.tls.trial import Picked, Refusal, Refused, Trial

from .hellos import drive
from .network import Network
from .routes import Destination
from .slots import Priority

UNSTEADY = "its connections fail too often for an end to tell anything"

PAUSES_SECONDS = (0.5, 1.5, 3.0)
"""Before each further attempt at a server that refuses connections."""

TRIAL_SECONDS = 5.0
LEAST_PATIENCE_SECONDS, PATIENCE = 1.5, 20
"""What is sent again is waited for so many times as long as the slowest that was taken, and so long at least."""

MAX_CONNECTIONS = 400
"""Of one look at a front end: more than a server with every suite of the table in four versions asks for."""


A = TypeVar("A")


@dataclass(frozen=True)
class _Said(Generic[A]):
    """What came of one hello."""

    failure: NoConnection | Unseen | None
    answer: A | None
    """None with a failure alone."""

    ended: bool
    """The connection was ended, or nothing came, in place of an answer."""

    taken: bool
    """The server agreed."""

    is_silent: bool
    """Nothing came: it took a whole deadline."""


_Send = Callable[[float | None], Awaitable[_Said[A]]]
"""One hello, waited for so many seconds, or a whole deadline."""


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

    pad_to: int = 0
    """Octets to which every hello is padded, since the server ends smaller ones."""

    certificates: dict[str, bytes] = field(default_factory=dict)
    """What came with whole exchanges."""

    connections: int = 0
    steadiness: Steadiness = field(default_factory=Steadiness)
    """What came of hellos that are taken, since there is one connection at a time."""

    _doubt: asyncio.Lock = field(default_factory=asyncio.Lock)
    """One hello in doubt at a time: all that wonder wait for it."""

    _took_one_begun: float = 0.0
    """When the last hello began that was taken."""

    _ends_without_alert: bool = False
    """It was shown that this server refuses by ending the connection."""

    _slowest: float = 0.0
    """Seconds for an answer to a hello that was taken."""

    _strained: str = ""
    """Why nothing more is asked."""

    @property
    def is_slowed_down(self) -> bool:
        return self.network.slots.is_slow(self.destination.address)

    @property
    def tries(self) -> tuple[Tries, ...]:
        found = self.steadiness
        return (Tries("hellos that it takes", found.taken + found.lost, found.taken),) if found.is_uneven else ()

    async def exchange(self, offer: Offer, priority: Priority = Priority.SEARCH) -> Probe:
        """A whole exchange up to the certificates, asked again until its answer can be relied on."""
        offer = self._fitted(offer)

        async def send(seconds: float | None) -> _Said[HelloAnswer]:
            conversation = Conversation(offer, self.network.random(64))
            failure = await self.drive(conversation, seconds, priority)
            self.certificates.update(conversation.certificates)
            answer = conversation.answer
            ended = isinstance(answer, Ended) and answer.how is not HowEnded.GARBLED
            is_silent = isinstance(answer, Ended) and answer.how is HowEnded.SILENT
            return _Said(failure, answer, ended, isinstance(answer, Handshake), is_silent)

        return Probe(offer, await self._reliably(send))

    def conversation(self, offer: Offer) -> Conversation:
        """A whole handshake, to be driven to its end."""
        return Conversation(self._fitted(offer), self.network.random(64), finish=True)

    def _fitted(self, offer: Offer) -> Offer:
        """Without what the server is known to mind."""
        return msgspec.structs.replace(
            offer, without=(*offer.without, *self.minds), pad_to=max(offer.pad_to, self.pad_to)
        )

    async def ask(
        self, offer: Offer, *, as_it_is: bool = False, priority: Priority = Priority.SEARCH
    ) -> Picked | Refused | Unseen:
        """One hello, asked again until its answer can be relied on.

        Before TLS 1.3 it is read on to the parameters of the key exchange.
        """
        offer = offer if as_it_is else self._fitted(offer)

        async def send(seconds: float | None) -> _Said[Picked | Refused]:
            trial = Trial(offer, self.network.random(64), to_key_exchange=True)
            failure = await self.drive(trial, min(seconds or TRIAL_SECONDS, TRIAL_SECONDS), priority)
            answer = trial.answer
            ended = isinstance(answer, Refused) and not answer.is_alert
            is_silent = isinstance(answer, Refused) and answer.kind is Refusal.SILENT
            return _Said(failure, answer, ended, isinstance(answer, Picked), is_silent)

        return await self._reliably(send, is_experiment=as_it_is)

    @property
    def _patience(self) -> float | None:
        """Seconds for what is sent again, or was shown to be refused in silence; None for a whole deadline."""
        if self.worked is None or not self._slowest:
            return None
        return max(LEAST_PATIENCE_SECONDS, PATIENCE * self._slowest)

    async def _reliably(self, send: _Send[A], *, is_experiment: bool = False) -> "A | Unseen":
        """Ask until the answer can be relied on.  A server that answers nothing any more is waited for, and left.

        ``is_experiment``: at a server that is known to refuse in silence one silence is enough, since each costs much;
        a cause is named by what was taken.
        """
        detail, waited = "", 0
        for _ in range(MOST):
            if self._strained:
                return Unseen(self._strained)
            begun = time.monotonic()
            said = await send(self._patience if self._ends_without_alert else None)
            if isinstance(said.failure, Unseen):
                return said.failure
            if said.failure is None and not said.ended:
                assert said.answer is not None
                if said.taken:
                    self._took(begun)
                return said.answer
            is_refusal = is_experiment and said.is_silent and self._ends_without_alert and not self.steadiness.is_uneven
            if is_refusal and said.failure is None:
                assert said.answer is not None
                return said.answer
            if said.failure is None:
                found = await self._in_doubt(said, send)
                if found is not None:
                    return found
            detail = said.failure.detail if said.failure is not None else "the server ended every connection"
            self.network.slots.slow_down(self.destination.address)
            if self._took_one_begun >= begun:  # others are answered meanwhile: it is not away
                self._lost()
                continue
            if waited == len(PAUSES_SECONDS):
                break
            await asyncio.sleep(PAUSES_SECONDS[waited])
            waited += 1
        if self.steadiness.is_uneven:
            return Unseen(UNSTEADY)
        self._strained = f"the server stopped answering after {self.connections} connections ({detail})"
        return Unseen(self._strained)

    async def _in_doubt(self, first: "_Said[A]", send: _Send[A]) -> "A | Unseen | None":
        """What a hello gets that met an end: an answer, or that end where it is sure; None for a server under strain.

        What is seen while there is more than one connection at a time may be that strain, and counts for nothing.
        """
        assert first.answer is not None
        last, ends, controls, missed = first.answer, 1, 0, 0
        was_slow = self.is_slowed_down
        enough = ENOUGH_SILENCE if first.is_silent else ENOUGH
        async with self._doubt:
            for turn in turns():
                if turn is Turn.CONTROL:
                    if self.worked is None or (self._ends_without_alert and self.steadiness.ends_needed()):
                        continue
                    if await self._works_still():
                        controls += 1
                    elif not self.is_slowed_down:
                        return None  # it may be too much at a time: once more, one by one
                    else:
                        missed += 1
                    if missed >= enough and not controls:
                        return None
                    continue
                sent = time.monotonic()
                said = await send(self._patience)
                if said.failure is not None:
                    return said.failure if isinstance(said.failure, Unseen) else None
                assert said.answer is not None
                if not said.ended:
                    self.network.slots.slow_down(self.destination.address)
                    if said.taken and was_slow:
                        self._took(sent)
                        self._lost(ends)
                    return said.answer
                last, ends = said.answer, ends + 1
                if self.steadiness.is_uneven or self._ends_without_alert:
                    needed = self.steadiness.ends_needed()
                    if needed is not None and ends >= needed:
                        return last
                    if ends >= MOST:
                        return Unseen(UNSTEADY) if self.steadiness.is_uneven else last
                elif self.worked is None:
                    if ends >= enough:
                        return last
                elif ends >= SURE and controls >= SURE:
                    self._ends_without_alert = True
                    return last
        raise AssertionError("the turns do not end")

    def _took(self, begun: float) -> None:
        self._took_one_begun = max(self._took_one_begun, begun)
        self.steadiness.took(one_by_one=self.is_slowed_down)

    def _lost(self, count: int = 1) -> None:
        if self.is_slowed_down:
            self.steadiness.lose(count)

    async def _works_still(self) -> bool:
        """The control: a hello that this server took before."""
        assert self.worked is not None
        begun = time.monotonic()
        conversation = Conversation(self.worked, self.network.random(64))
        works = await self.drive(conversation, self._patience) is None and isinstance(conversation.answer, Handshake)
        if works:
            self._took(begun)
        else:
            self._lost()
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
            seconds, begun = min(seconds or self.step_seconds, self.step_seconds), time.monotonic()
            failure = await drive(client, self.destination, self.network.liveness, seconds)
            if isinstance(client.answer, Picked | Handshake):
                self._slowest = max(self._slowest, time.monotonic() - begun)
            return failure
