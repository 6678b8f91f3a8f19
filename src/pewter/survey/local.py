"""A survey on this machine: worker processes that stay, one a core; one process resolves, hands out and stores."""

import asyncio
import contextlib
import sys
import time
from collections import deque
from dataclasses import dataclass, field

import msgspec

from pewter.errors import NotReviewedError
from pewter.gather.together import one_of

from .dispatch import Task
from .looking import Done, Ready
from .processes import Process, Started, start
from .work import Work
from .worker import READ_AHEAD, frame, read_frame

AHEAD = 250
"""Sites that are resolved and wait for a worker."""

PATIENCE_SECONDS = 45.0
"""Beyond a site's own time for which a worker may say nothing, before it is ended."""

MOST_FALSE_STARTS = 3
"""Workers in a row that end before they are ready: then it is the program or the machine."""

MOST_DEATHS = 5
"""Workers in a row that end at the one site that they have, while no other site is finished: likewise."""

FEWEST_FILES = 128

FIRST_UNDER_WAY, FEWEST_UNDER_WAY = 16, 4
MOST_LATE = 0.2
"""Of the time of a look, that a worker's loop may be late before it has fewer sites under way."""

_AGAIN = "the same command goes on where it was, once the installation or the machine is in order"


@dataclass
class _Worker:
    """One process and what it has under way."""

    name: str
    capacity: int
    process: Process | None = None
    writer: asyncio.StreamWriter | None = None
    heard: float = 0.0
    is_ready: bool = False
    ended: bool = False
    is_for_suspects: bool = False
    """It has one site at a time: one that was under way when another worker died."""

    room: float = FIRST_UNDER_WAY
    """Sites that it has under way: more while it keeps up, fewer when it is late."""

    def adapt(self, done: Done) -> None:
        """As TCP does (RFC 5681): one more each time around, a quarter less once it is late."""
        late = done.late_seconds / max(done.summary.row.seconds, 0.1)
        if late > MOST_LATE:
            self.room = max(FEWEST_UNDER_WAY, self.room * (1 - 0.25 / max(self.room, 1)))
        elif late < MOST_LATE / 2:
            self.room = min(self.capacity, self.room + (1 if self.room < FIRST_UNDER_WAY else 4 / self.room))


@dataclass
class LocalSurvey(Work):
    """One run of a survey, to its end or until it is cancelled."""

    ready: list[Started] = field(default_factory=list)
    """Worker processes that wait for settings; others are started by the command."""

    command: tuple[str, ...] = (sys.executable, "-m", "pewter.survey.worker")
    _workers: list[_Worker] = field(default_factory=list, init=False)
    _suspects: deque[Task] = field(default_factory=deque, init=False)
    """Sites that were under way when a worker died: each is looked at alone, to find the one."""

    _deadly: list[Task] = field(default_factory=list, init=False)
    """At which a worker ended that had nothing else.  They are given up once any other site shows that workers work."""

    _false_starts: int = field(default=0, init=False)
    _changed: asyncio.Event = field(default_factory=asyncio.Event, init=False)

    async def go(self) -> None:
        """Look at all that waits.

        FileError where the ledger cannot be written, NotReviewedError where no worker works: what is finished is kept.
        """
        workers = [_Worker(f"worker {n}", self.settings.sites_under_way) for n in range(1, self.settings.workers + 1)]
        try:
            async with asyncio.TaskGroup() as group:
                group.create_task(self._resolve(AHEAD))
                for worker in (*workers, _Worker("worker for suspects", 1, is_for_suspects=True)):
                    self._workers.append(worker)
                    group.create_task(self._tend(worker))
                group.create_task(self._watch())
            self._give_up_the_deadly()
        except ExceptionGroup as failed:
            one = one_of(failed)
            if one is failed:
                raise
            raise one from failed
        finally:
            for worker in self._workers:
                await _end(worker)

    @property
    def _is_over(self) -> bool:
        if self.watcher.is_stopping:
            return not self._dispatch.under_way
        return self._all_resolved and not (self._dispatch.waits or self._dispatch.under_way or self._suspects)

    def _woken(self) -> None:
        self._changed.set()

    async def _watch(self) -> None:
        """End workers that say nothing any more, and tell what is waited for."""
        while not self._is_over:
            await asyncio.sleep(0.5)
            now = time.monotonic()
            for worker in self._workers:
                busy = self._dispatch.of_worker(worker.name)
                patience = self._patience if worker.is_ready else PATIENCE_SECONDS
                if worker.process is not None and (busy or not worker.is_ready) and now - worker.heard > patience:
                    worker.process.kill()
            self.watcher.waits_for(self._dispatch.keys_under_way)

    @property
    def _patience(self) -> float:
        return self.settings.whole_seconds + PATIENCE_SECONDS

    # One worker

    async def _tend(self, worker: _Worker) -> None:
        """Start it, keep it busy, and start it anew when it dies."""
        while not self._is_over:
            if worker.is_for_suspects and not self._suspects:
                await self._turn()
                continue
            reader = await self._start(worker)
            await self._keep_busy(worker, reader)
            if self._is_over:
                return
            await _end(worker)
            self._after_death(worker)

    async def _turn(self) -> None:
        """Until something changed."""
        self._changed.clear()
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(0.25):
                await self._changed.wait()

    async def _start(self, worker: _Worker) -> asyncio.StreamReader:
        started = self.ready.pop() if self.ready else start(self.command)
        worker.process = started.process
        reader, worker.writer = await asyncio.open_connection(sock=started.connection, limit=READ_AHEAD)
        worker.ended = worker.is_ready = False
        worker.heard = time.monotonic()
        self._send(worker, self.settings)
        return reader

    def _send(self, worker: _Worker, message: msgspec.Struct) -> None:
        assert worker.writer is not None
        with contextlib.suppress(OSError, RuntimeError):
            worker.writer.write(frame(message))

    async def _keep_busy(self, worker: _Worker, reader: asyncio.StreamReader) -> None:
        """Until it has ended, or all is done."""
        reading = asyncio.create_task(self._read(worker, reader))
        try:
            while not self._is_over and not worker.ended:
                if reading.done():
                    reading.result()  # what it failed of: the ledger
                while worker.is_ready and not worker.ended and self._has_room(worker):
                    task = self._next(worker)
                    if task is None:
                        break
                    self._send(worker, self._order(task, worker.name))
                    worker.heard = time.monotonic()
                await self._turn()
        finally:
            reading.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await reading

    def _has_room(self, worker: _Worker) -> bool:
        room = min(worker.capacity, int(worker.room))
        return not self.watcher.is_stopping and len(self._dispatch.of_worker(worker.name)) < room

    def _next(self, worker: _Worker) -> Task | None:
        if not worker.is_for_suspects:
            return self._dispatch.take(worker.name)
        if self._suspects:
            task = self._suspects.popleft()
            self._dispatch.claim(task, worker.name)
            return task
        return None

    async def _read(self, worker: _Worker, reader: asyncio.StreamReader) -> None:
        while (octets := await read_frame(reader)) is not None:
            worker.heard = time.monotonic()
            message = msgspec.msgpack.decode(octets, type=Ready | Done)
            if isinstance(message, Ready):
                worker.is_ready = True
                self._false_starts = 0
            elif self._dispatch.done(message.key) is not None:
                self._keep(message)
                self._give_up_the_deadly()
                worker.adapt(message)
            self._woken()
        worker.ended = True
        self._woken()

    def _after_death(self, worker: _Worker) -> None:
        """Its sites are looked at again, each alone; the one that ends a worker alone is given up.

        NotReviewedError where it is not the sites: they wait for the same command, typed again.
        """
        if not worker.is_ready:
            self._false_starts += 1
            if self._false_starts >= MOST_FALSE_STARTS:
                raise NotReviewedError(
                    f"{MOST_FALSE_STARTS} worker processes in a row ended before they were ready to look at a site. "
                    f"Nothing is stored for the sites that wait; {_AGAIN}."
                )
        tasks = self._dispatch.of_worker(worker.name)
        for task in tasks:
            self._dispatch.done(task.key)
            if worker.is_for_suspects:
                self._deadly.append(task)
            else:
                self._suspects.append(task)
        if tasks and not worker.is_for_suspects:
            self.watcher.say(f"a worker process ended; its {len(tasks)} sites are looked at again")
        if len(self._deadly) >= MOST_DEATHS:
            raise NotReviewedError(
                f"{MOST_DEATHS} worker processes in a row ended at the first site that they had. "
                f"Nothing is stored for those sites; {_AGAIN}."
            )
        self._woken()

    def _give_up_the_deadly(self) -> None:
        """Workers work: so it is the sites at which they ended."""
        while self._deadly:
            self._give_up(self._deadly.pop(0), "it ended the worker process")


async def _end(worker: _Worker) -> None:
    process = worker.process
    if process is None:
        return
    worker.process = None
    if worker.writer is not None:
        worker.writer.transport.abort()
    process.kill()
    await asyncio.to_thread(process.wait)


def files_allowed() -> int:
    """How many this process may have open, after the limit was raised as far as it may be."""
    try:
        import resource  # noqa: PLC0415  not on every system
    except ImportError:
        return 512
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = 8192 if hard == resource.RLIM_INFINITY else min(8192, hard)
    if soft < wanted:
        with contextlib.suppress(ValueError, OSError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
            soft = wanted
    return soft


def within_files(sites_under_way: int, allowed: int) -> tuple[int, int]:
    """Sites under way and open sockets of one worker that fit into so many open files."""
    sockets = max(24, min(800, allowed - FEWEST_FILES if allowed > 2 * FEWEST_FILES else allowed // 2))
    return max(2, min(sites_under_way, sockets // 4)), sockets
