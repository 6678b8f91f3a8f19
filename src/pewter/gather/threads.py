"""Threads of a look's own, or of the looks of one survey: the loop's own are its caller's."""

import asyncio
import concurrent.futures
import functools
from collections.abc import Callable
from typing import TypeVar

_T = TypeVar("_T")

WORKERS = 4
"""Threads that read what may take longer than the loop may stand still."""

MAX_ON_THE_LOOP = 1 << 13
"""Octets that are read without going to a thread: more than servers usually send at once."""


class Threads:
    """Made when the first is needed."""

    def __init__(self) -> None:
        self._pool: concurrent.futures.ThreadPoolExecutor | None = None

    async def run(self, work: Callable[..., _T], *arguments: object) -> _T:
        """Do ``work`` in a thread: the loop goes on."""
        if self._pool is None:
            self._pool = concurrent.futures.ThreadPoolExecutor(WORKERS, "pewter")
        return await asyncio.get_running_loop().run_in_executor(self._pool, functools.partial(work, *arguments))

    async def off_the_loop(self, octets: int, work: Callable[..., _T], *arguments: object) -> _T:
        """Do ``work`` that reads so many octets: in a thread where they are many."""
        return await self.run(work, *arguments) if octets > MAX_ON_THE_LOOP else work(*arguments)

    def end(self) -> None:
        """What still waits to be read is read no more."""
        if self._pool is not None:
            self._pool.shutdown(wait=False, cancel_futures=True)
            self._pool = None
