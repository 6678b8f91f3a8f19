"""One worker's looks: many sites under way in one event loop, each ending in a packed review and its summary."""

import asyncio
import datetime
import time
from collections import Counter

import msgspec

from pewter.evidence import Evidence, Fault, StopCause, Stopped, Target, Unseen, Way
from pewter.facts.case import Case
from pewter.gather.budget import Budget
from pewter.gather.dns_asking import SharedAnswers
from pewter.gather.look import look
from pewter.gather.network import Network, Shared
from pewter.gather.routes import Routes, read_route
from pewter.gather.scene import Silence
from pewter.gather.slots import Pool
from pewter.gather.together import together
from pewter.judge.review import make_review, write_review
from pewter.judge.summary import Summary, summary_of, summary_of_failure
from pewter.plan.texts import read_target

from .settings import Order, Settings
from .store import pack

LATE_SECONDS = 0.2
"""In one look: from there on what was not answered in time may have been asked, or read, too late."""

BUDGET = Budget(connections=3000, endpoints=100)


class Ready(msgspec.Struct, frozen=True, tag="ready"):
    """A worker has all that it needs: from here on, what fails is the site's or one look's."""


class Done(msgspec.Struct, frozen=True, tag="done"):
    """What came of one site."""

    key: str
    summary: Summary
    review: bytes | None
    """Packed; None where there is none."""

    late_seconds: float = 0.0
    """That the worker's loop was late in this time: it had more to do than it can."""

    in_doubt: bool = False
    """Something was not answered in time while the worker was late: it is no last word on the site."""


class Looker:
    """Made once in a worker, inside its loop: root stores, slots and answers are shared by all its looks."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self._given = settings.given()
        self._plan = settings.plan(())
        self._routes = Routes(tuple(map(read_route, settings.routes)))
        pool = Pool(settings.of_unowned_address, of_network=settings.of_network, in_all=settings.sockets)
        self.shared = Shared(pool, SharedAnswers(1 if settings.gentle else 4), settings.first_seconds)
        self._owned: Counter[str] = Counter()

    async def look_at(self, order: Order) -> Done:
        """Never raises for what a site does: a fault of ours costs this site alone."""
        begun, clock = datetime.datetime.now(datetime.UTC), time.monotonic()
        self._own(order.owned)
        try:
            return await self._look(order)
        except Exception as exc:
            fault = Fault.of(order.key, exc)
            why = f"a fault of Pewter's own: {fault.detail}"
            return Done(order.key, summary_of_failure(order.key, why, begun, time.monotonic() - clock), None)
        finally:
            self._disown(order.owned)

    async def _look(self, order: Order) -> Done:
        plan = msgspec.structs.replace(self._plan, targets=read_targets(order.targets))
        network = Network.for_plan(plan, BUDGET, self.shared, self._routes)
        late = self.shared.lag.seconds
        for known in order.known:
            network.names.asker.teach(0, known.name, known.kind, Way.RESOLVED, known.reply)
        evidence = await look(plan, self._given, Silence(), network, BUDGET)
        case = Case(evidence, self.settings.terms, evidence.begun, self._given.stores)
        review = make_review(case)
        late = self.shared.lag.seconds - late
        summary = summary_of(order.key, review, case)
        in_doubt = late > LATE_SECONDS and _was_cut_short(evidence)
        return Done(order.key, summary, pack(write_review(review)), late, in_doubt)

    def _own(self, addresses: tuple[str, ...]) -> None:
        for address in addresses:
            self._owned[address] += 1
            self.shared.pool.allow(address, self.settings.of_address)

    def _disown(self, addresses: tuple[str, ...]) -> None:
        for address in addresses:
            self._owned[address] -= 1
            if not self._owned[address]:
                del self._owned[address]
                self.shared.pool.allow(address, None)


def _was_cut_short(evidence: Evidence) -> bool:
    """Whether anything of a look ran out of time."""
    silent = (isinstance(each.end, Stopped) and each.end.cause is StopCause.NO_ANSWER for each in evidence.journeys)
    unseen = (isinstance(each.end, Unseen) for each in evidence.journeys)
    probes = (isinstance(probe.answer, Unseen) for each in evidence.endpoints for probe in each.probes)
    return any(silent) or any(unseen) or any(probes) or evidence.elapsed_seconds >= evidence.plan.whole_seconds


def read_targets(text: str) -> tuple[Target, ...]:
    """Of an order."""
    read = [read_target(each) for each in text.split()]
    return tuple(Target(each.host, each.port) for each in read)


async def look_at_all(settings: Settings, orders: list[Order]) -> list[Done]:
    """A batch, as many at a time as the settings say: what a worker of a cluster does."""
    looker, turns = Looker(settings), asyncio.Semaphore(settings.sites_under_way)

    async def one(order: Order) -> Done:
        async with turns:
            return await looker.look_at(order)

    return await together(*map(one, orders))
