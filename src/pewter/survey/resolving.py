"""Names of sites, looked up before they are handed out: what leads to one place goes to one worker."""

import asyncio
from collections.abc import AsyncIterator, Callable, Iterable

from pewter.evidence import Lookup, Name, Plan, Step, is_ip_address
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

AT_ONCE = 64
"""Sites whose names are being looked up."""


class Resolver:
    """Looks up every name of a site, and its sibling's."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        self._with_siblings = Step.SIBLINGS in settings.steps
        self._shared = Shared(Pool(8), SharedAnswers(), settings.first_seconds)

    async def resolve(self, key: str, targets: str) -> tuple[Task, tuple[Known, ...]]:
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
        known = tuple(
            Known(question.name, question.type, reply)
            for question in seen.questions
            if question.reply is not None
            for reply in [seen.replies[question.reply]]
        )
        return Task(key, targets, frozenset(places | {network_of(place) for place in places})), known


def _places(names: Iterable[str], lookups: Iterable[tuple[Lookup, ...]]) -> Iterable[str]:
    for name, found in zip(names, lookups, strict=True):
        if is_ip_address(name):
            yield name
        yield from Name(name, lookups=found).addresses


async def resolved(
    resolver: Resolver, sites: Iterable[tuple[str, str]], has_room: Callable[[], bool]
) -> AsyncIterator[tuple[Task, tuple[Known, ...]]]:
    """The sites in their order as far as their answers come, never far ahead of what is asked for."""
    waiting: set[asyncio.Task[tuple[Task, tuple[Known, ...]]]] = set()
    source = iter(sites)
    is_over = False
    try:
        while True:
            while not is_over and len(waiting) < AT_ONCE and has_room():
                site = next(source, None)
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
            for each in ended:
                yield each.result()
    finally:
        for each in waiting:
            each.cancel()
