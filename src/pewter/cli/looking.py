"""Running a look so that it can be ended early: whoever ends it, what was seen so far is the answer."""

import asyncio
import contextlib
import gc
import signal

from pewter.evidence import Evidence, Plan
from pewter.gather.board import Given
from pewter.gather.look import Interruption, look
from pewter.gather.scene import Progress

from .signals import ENDING, kept_handlers


def take_look(plan: Plan, given: Given, progress: Progress) -> Evidence:
    """One look from beginning to end, or to a signal."""
    # What was imported and read by now stays: looking for garbage in it would hold up the look, 100 ms at a time.
    gc.freeze()
    with kept_handlers():
        return asyncio.run(_look(plan, given, progress))


async def _look(plan: Plan, given: Given, progress: Progress) -> Evidence:
    loop, interruption = asyncio.get_running_loop(), Interruption()
    for name in ("SIGINT", *ENDING):
        with contextlib.suppress(AttributeError, NotImplementedError, RuntimeError, ValueError):
            loop.add_signal_handler(getattr(signal, name), interruption.interrupt)
    return await look(plan, given, progress, interruption=interruption)
