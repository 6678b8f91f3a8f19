"""Letting a search of :mod:`pewter.tls` ask over sockets."""

import functools
from collections.abc import Generator
from typing import Any, TypeVar

from pewter.evidence import Ended, Handshake, HowEnded, NoConnection, Probe, Unseen
from pewter.tls.ssl2 import Ssl2Trial
from pewter.tls.steps import Ask, AskSsl2, Exchange, Finish, Finished, Step, Together
from pewter.tls.trial import Refused

from .asking import Asker
from .slots import Priority
from .together import together

TICKET_SECONDS = 1.5
TRIES = 4
"""Of what is asked for its own sake, and not in doubt, where the connection is ended without a word."""

R = TypeVar("R")


async def drive_search(search: Generator[Step, Any, R], asker: Asker, priority: Priority | None = None) -> R:
    """Let a search ask until it is through; what it returns.  ``priority``: of all its hellos."""
    answer: Any = None
    while True:
        try:
            step = search.send(answer)
        except StopIteration as end:
            found: R = end.value
            return found
        answer = await _take(step, asker, priority)


async def _take(step: Step, asker: Asker, priority: Priority | None) -> Any:
    match step:
        case Together(searches=searches):
            await together(*map(functools.partial(drive_search, asker=asker, priority=priority), searches))
            return None
        case Ask(offer=offer):
            return await asker.ask(offer, as_it_is=step.as_it_is, priority=priority or _priority(step))
        case Exchange(offer=offer):
            return await asker.exchange(offer, priority or _priority(step))
        case Finish():
            return await _finish(step, asker)
        case AskSsl2():
            return await _ask_ssl2(asker)


def _priority(step: Ask | Exchange) -> Priority:
    return Priority.OPTION if step.is_option else Priority.SEARCH


async def _finish(step: Finish, asker: Asker) -> Finished:
    for _ in range(TRIES):
        conversation = asker.conversation(step.offer)
        failure = await asker.drive(conversation, TICKET_SECONDS + 1, Priority.OPTION)
        answer = conversation.answer
        if not isinstance(answer, Ended) or answer.how not in {HowEnded.CLOSED, HowEnded.RESET}:
            break
    if conversation.finished and isinstance(answer, Handshake):
        asker.certificates.update(conversation.certificates)
    why_not = failure.detail if isinstance(failure, NoConnection) else ""
    probe = Probe(conversation.offer, answer) if answer is not None else None
    return Finished(probe, conversation.finished, conversation.tickets, why_not)


async def _ask_ssl2(asker: Asker) -> object:
    """Ending the connection is how most servers refuse: where connections fail now and then, once is not enough."""
    answer: object = Unseen("not asked")
    for _ in range(TRIES):
        trial = Ssl2Trial(asker.network.random(16))
        answer = await asker.drive(trial, priority=Priority.OPTION) or trial.answer
        if not asker.steadiness.is_uneven or not isinstance(answer, Refused) or answer.is_alert:
            break
    return answer
