"""The look at one front end: what :mod:`pewter.tls.protocol` wishes to ask, asked over sockets."""

import asyncio
from typing import Any

import msgspec

from pewter.evidence import Handshake, NoConnection, Probe, Protocol
from pewter.pki import Certificate, read_certificate
from pewter.tls.codepoints import Group, group_name
from pewter.tls.protocol import ProtocolSearch
from pewter.tls.search import VersionSearch
from pewter.tls.ssl2 import Ssl2Trial
from pewter.tls.steps import Ask, AskSsl2, Exchange, Finish, Finished, Search, Step, Together

from .asking import Asker
from .slots import Priority
from .together import together

TICKET_SECONDS = 1.5
_CURVES = {group_name(each): int(each) for each in Group}


class FrontEndLook:
    """One front end's look; :meth:`run` fills :attr:`protocol`, which holds what is known at any time."""

    def __init__(self, asker: Asker, probes: tuple[Probe, ...]) -> None:
        self.asker = asker
        self.probes = probes
        """The first hellos and their answers."""

        self.search = ProtocolSearch(asker.name, probes, self._key_curve())
        self.is_through = asyncio.Event()

    @property
    def searches(self) -> dict[int, VersionSearch]:
        return self.search.searches

    @property
    def more_probes(self) -> list[Probe]:
        return self.search.options.of_other_keys

    @property
    def further_probes(self) -> list[Probe]:
        """Whole handshakes for other ends: a staple may be in them."""
        return self.search.options.finished

    @property
    def nameless(self) -> list[Probe]:
        return self.search.options.nameless

    @property
    def protocol(self) -> Protocol:
        asker = self.asker
        return msgspec.structs.replace(
            self.search.protocol, tries=asker.tries, connections=asker.connections, slowed_down=asker.is_slowed_down
        )

    async def run(self) -> None:
        await self._drive(self.search.run())

    async def _drive(self, search: Search) -> None:
        """Let a search ask until it is through."""
        answer: Any = None
        while True:
            try:
                step = search.send(answer)
            except StopIteration:
                return
            answer = await self._take(step)

    async def _take(self, step: Step) -> Any:
        match step:
            case Together(searches=searches):
                await together(*map(self._drive, searches))
                return None
            case Ask(offer=offer):
                return await self.asker.ask(offer, as_it_is=step.as_it_is, priority=_priority(step))
            case Exchange(offer=offer):
                return await self.asker.exchange(offer, _priority(step))
            case Finish():
                return await self._finish(step)
            case AskSsl2():
                trial = Ssl2Trial(self.asker.network.random(16))
                return await self.asker.drive(trial, priority=Priority.OPTION) or trial.answer

    async def _finish(self, step: Finish) -> Finished:
        conversation = self.asker.conversation(step.offer)
        failure = await self.asker.drive(conversation, TICKET_SECONDS + 1, Priority.OPTION)
        if conversation.finished and isinstance(conversation.answer, Handshake):
            self.asker.certificates.update(conversation.certificates)
        why_not = failure.detail if isinstance(failure, NoConnection) else ""
        answer = conversation.answer
        probe = Probe(conversation.offer, answer) if answer is not None else None
        return Finished(probe, conversation.finished, conversation.tickets, why_not)

    def _key_curve(self) -> int | None:
        """Of the ECDSA key that was shown, where it was one and no RSA key was."""
        leaves = {probe.answer.chain[0] for probe in self.probes if isinstance(probe.answer, Handshake)}
        known = self.asker.certificates
        read = [read_certificate(known[leaf]) for leaf in leaves if leaf in known]
        curves = {_CURVES.get(each.key.curve) for each in read if isinstance(each, Certificate)}
        return curves.pop() if len(curves) == 1 else None


def _priority(step: Ask | Exchange) -> Priority:
    return Priority.OPTION if step.is_option else Priority.SEARCH
