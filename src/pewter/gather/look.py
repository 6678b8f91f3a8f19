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
import concurrent.futures
import datetime
import functools
import time

from pewter.evidence import Evidence, Plan, Step
from pewter.web.suffixes import is_apex, suffixes_are_read

from .board import Board, Given
from .budget import Budget
from .journeys import JourneyContext
from .network import Network
from .scene import Progress, Scene
from .steps import dns, names, origins, pages, ways_in

WORKERS = 4
"""Threads that read what may take longer than the loop may stand still."""


async def look(
    plan: Plan,
    given: Given,
    progress: Progress,
    network: Network | None = None,
    budget: Budget | None = None,
    *,
    has_own_threads: bool = True,
) -> Evidence:
    """Take one look; never raises for what the site does.

    What the deadline or an interruption leaves open is Unseen in the evidence.  ``network`` may be shared by several
    looks; looks beside each other in one loop leave its threads to whoever runs them.
    """
    budget = budget or Budget()
    network = network or Network.for_plan(plan, budget)
    if not has_own_threads:
        return await _take(plan, given, progress, network, budget)
    workers = concurrent.futures.ThreadPoolExecutor(WORKERS, "pewter")
    asyncio.get_running_loop().set_default_executor(workers)
    try:
        return await _take(plan, given, progress, network, budget)
    finally:
        # What still waits to be read is read no more: the deadline ends the look.
        workers.shutdown(wait=False, cancel_futures=True)


async def _take(plan: Plan, given: Given, progress: Progress, network: Network, budget: Budget) -> Evidence:
    begun, clock = datetime.datetime.now(datetime.UTC), time.monotonic()
    if not suffixes_are_read():
        await asyncio.to_thread(is_apex, "x.example")
    board = Board(plan, given)
    made = network.slots.made
    try:
        async with asyncio.timeout(plan.whole_seconds), asyncio.TaskGroup() as group:
            scene = _scene(plan, board, network, budget, progress, group)
            names.begin(scene)
            if scene.wants(Step.ORIGINS):
                origins.begin(scene)
            if scene.wants(Step.DNS):
                dns.begin(scene)
    except TimeoutError:
        pass
    except asyncio.CancelledError:
        # Interrupted from the keyboard: what was seen so far is the answer.
        task = asyncio.current_task()
        if task is not None:
            task.uncancel()
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
