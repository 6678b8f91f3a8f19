"""Names of sites, looked up before they are handed out: what leads to one place goes to one worker."""

import asyncio
from collections.abc import AsyncIterator, Callable, Iterable, Sequence

import msgspec

from pewter.evidence import Lookup, Name, Plan, Question, Step, Unanswered, is_ip_address
from pewter.gather.budget import Budget
from pewter.gather.dns_asking import SharedAnswers
from pewter.gather.network import Network, Shared
from pewter.gather.slots import Pool, network_of
from pewter.gather.together import together
from pewter.web.sites import sibling_of
from pewter.web.suffixes import is_apex

from .dispatch import Task
from .looking import read_targets
from .settings import STEP_SECONDS, Known, Settings

FIRST_AT_ONCE, MOST_AT_ONCE = 4, 64
SLOW_MILLISECONDS = 400
"""From there on questions wait for each other: more of them would only wait longer."""

MOST_TRIES = 6
"""At the names of one site, while the name service is slow with all."""


class Window:
    """How many sites' names are looked up at a time: as many as the name service keeps up with.

    As TCP finds out how much a path takes (RFC 5681): twice as many each time around until an answer was slow, then
    one more each time around, and half as many where one did not come.
    """

    PAUSE_SECONDS = 1.0
    """After a cut, before the next one: what was sent before it says nothing of what came after."""

    def __init__(self) -> None:
        self.size = float(FIRST_AT_ONCE)
        self._is_opening = True
        self._cut_at = -self.PAUSE_SECONDS
        self._usual = 0.0
        """Milliseconds for an answer, of late."""

    def ended(self, questions: Sequence[Question], now: float) -> bool:
        """What came of the names of one site; whether it was too much at once that something was not answered.

        A name of which nobody answers, while others are answered as fast as ever, says nothing of that.
        """
        for each in questions:
            if each.why is None:
                self._usual += (each.milliseconds - self._usual) / 8
        is_busy = self._usual > SLOW_MILLISECONDS
        silent = any(each.why in _IN_TIME_NONE for each in questions) and is_busy
        if is_busy:
            self._is_opening = False
            if (silent or self._usual > 2 * SLOW_MILLISECONDS) and now - self._cut_at >= self.PAUSE_SECONDS:
                self._cut_at, self.size = now, max(1.0, self.size / 2)
        else:
            self.size = min(float(MOST_AT_ONCE), self.size + (1 if self._is_opening else 1 / self.size))
        return silent


_IN_TIME_NONE = (Unanswered.SILENT, Unanswered.LATE, Unanswered.STRAY)


class Resolver:
    """Looks up every name of a site, and its sibling's."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        self._with_siblings = Step.SIBLINGS in settings.steps
        self._shared = Shared(Pool(8), SharedAnswers(), settings.first_seconds)
        self.window = Window()

    async def resolve(self, key: str, targets: str) -> "Resolved":
        """The places of a site, and the answers that tell them."""
        settings, hosts = self._settings, [target.host for target in read_targets(targets)]
        plan = Plan((), resolvers=settings.resolvers, step_seconds=STEP_SECONDS)
        network = Network.for_plan(plan, Budget(), self._shared)
        if self._with_siblings:
            hosts += [sibling for host in hosts if (sibling := sibling_of(host, is_apex)) is not None]
        names = list(dict.fromkeys(hosts))
        try:
            lookups = await together(*map(network.names.look_up, names))
        finally:
            await network.names.asker.errands.end()
        places = set(_places(names, lookups))
        seen = network.names.asker.seen()
        too_much = self.window.ended(seen.questions, asyncio.get_running_loop().time())
        known = tuple(
            Known(question.name, question.type, reply)
            for question in seen.questions
            if question.reply is not None
            for reply in [seen.replies[question.reply]]
        )
        task = Task(key, targets, frozenset(places | {network_of(place) for place in places}))
        return Resolved(task, known, too_much)


def _places(names: Iterable[str], lookups: Iterable[tuple[Lookup, ...]]) -> Iterable[str]:
    for name, found in zip(names, lookups, strict=True):
        if is_ip_address(name):
            yield name
        yield from Name(name, lookups=found).addresses


class Resolved(msgspec.Struct, frozen=True):
    """What came of the names of one site."""

    task: Task
    known: tuple[Known, ...]
    too_much: bool = False
    """Not all of it came, since the name service had too much to answer."""


async def resolved(
    resolver: Resolver, sites: Iterable[tuple[str, str]], has_room: Callable[[], bool]
) -> AsyncIterator[Resolved]:
    """The sites in their order as far as their answers come, never far ahead of what is asked for.

    Where it was too much at once the names are asked for again.
    """
    waiting: set[asyncio.Task[Resolved]] = set()
    tries: dict[str, int] = {}
    again: list[tuple[str, str]] = []
    source = iter(sites)
    is_over = False
    try:
        while True:
            while len(waiting) < resolver.window.size and (again or (not is_over and has_room())):
                site = again.pop() if again else next(source, None)
                if site is None:
                    is_over = True
                else:
                    waiting.add(asyncio.create_task(resolver.resolve(*site)))
            if not waiting:
                if is_over:
                    return
                await asyncio.sleep(0.02)
                continue
            ended, waiting = await asyncio.wait(waiting, timeout=0.2, return_when=asyncio.FIRST_COMPLETED)
            for found in (each.result() for each in ended):
                key = found.task.key
                tries[key] = tries.get(key, 0) + 1
                if found.too_much and tries[key] < MOST_TRIES:
                    again.insert(0, (key, found.task.targets))
                    continue
                del tries[key]
                yield found
    finally:
        for each in waiting:
            each.cancel()
