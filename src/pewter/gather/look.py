"""One look at one site: which steps are taken, within which deadline, and what is kept of it.

The longest chain of waits decides how long a look takes, so nothing waits that need not:

    name --> way in, hop by hop ------------------------------------> journeys
          -> three hellos to each address --> issuers that were not sent --> endpoints, certificates
                                          --> suites, groups and options of each front end

Names do not wait for each other, nor journeys for handshakes.  Where an address has no slot left,
journeys go first, since they are the longest chains.  Each module of ``steps`` asks one kind of question; a step
that the plan does not name is not taken.
"""

import asyncio
import contextlib
import datetime
import functools
import time
from collections.abc import Iterator

from pewter.evidence import Evidence, Plan, Step
from pewter.web.suffixes import is_apex, suffixes_are_read

from .board import Board, Given
from .budget import Budget
from .journeys import JourneyContext
from .network import Network
from .scene import Progress, Scene
from .steps import dns, names, origins, pages, ways_in


class Interruption:
    """By which a look is ended before its time: what was seen so far is then its answer."""

    def __init__(self) -> None:
        self.has_come = False
        self._scope: asyncio.Timeout | None = None

    def interrupt(self) -> None:
        """End the look, also one that has not begun; to be called in its loop, as often as one likes."""
        self.has_come = True
        if self._scope is not None and not self._scope.expired():
            self._scope.reschedule(0)

    @contextlib.contextmanager
    def ends(self, scope: asyncio.Timeout) -> Iterator[None]:
        """Within the scope of a look."""
        self._scope = scope
        if self.has_come:
            self.interrupt()
        try:
            yield
        finally:
            self._scope = None


async def look(
    plan: Plan,
    given: Given,
    progress: Progress,
    network: Network | None = None,
    budget: Budget | None = None,
    *,
    interruption: Interruption | None = None,
) -> Evidence:
    """Take one look; never raises for what the site does.

    What the deadline or an interruption leaves open is Unseen in the evidence; a caller that cancels is told so by
    CancelledError, as by any other coroutine.  Afterwards nothing goes on: no task, no question, no connection.
    ``network``: whose threads are shared with other looks, and ended by whoever made it.
    """
    budget = budget or Budget()
    own = network is None
    network = network or Network.for_plan(plan, budget)
    interruption = interruption or Interruption()
    try:
        return await _take(plan, given, progress, network, budget, interruption)
    finally:
        await network.names.asker.errands.end()
        if own:
            network.threads.end()


async def _take(
    plan: Plan, given: Given, progress: Progress, network: Network, budget: Budget, interruption: Interruption
) -> Evidence:
    begun, clock = datetime.datetime.now(datetime.UTC), time.monotonic()
    if not suffixes_are_read():
        await network.threads.run(is_apex, "x.example")
    board = Board(plan, given)
    made = network.slots.made
    try:
        async with asyncio.timeout(plan.whole_seconds) as scope:
            with interruption.ends(scope):
                async with asyncio.TaskGroup() as group:
                    scene = _scene(plan, board, network, budget, progress, group)
                    names.begin(scene)
                    if scene.wants(Step.ORIGINS):
                        origins.begin(scene)
                    if scene.wants(Step.DNS):
                        dns.begin(scene)
    except TimeoutError:
        if interruption.has_come:
            board.interrupted, board.why_unseen = True, "interrupted before it was reached"
    return board.evidence(begun, time.monotonic() - clock, network.slots.made - made, network.names.asker.seen())


def _scene(
    plan: Plan, board: Board, network: Network, budget: Budget, progress: Progress, group: asyncio.TaskGroup
) -> Scene:
    context = JourneyContext(network, plan.step_seconds)
    scene = Scene(plan, board, network, budget, progress, group, context)
    context.destinations = scene.destinations
    context.why_not_contact = scene.why_not_contact
    context.met = functools.partial(ways_in.met, scene)
    context.keep_page = functools.partial(pages.keep, scene)
    context.moved = functools.partial(ways_in.moved, scene)
    return scene
