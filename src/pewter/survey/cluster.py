"""A survey on a cluster: batches of sites for the workers of a running Dask scheduler.

Plans travel as texts and reviews come back packed.  The list of what is to be done is the ledger's, which this process
alone writes.  All names of an address are in one batch, or wait until that batch has come back.
"""

import asyncio
import contextlib
import logging
import pickle
import time
from collections.abc import AsyncIterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec

from pewter.errors import FileError, NotReviewedError, UsageError
from pewter.version import __version__

from .dispatch import Task
from .looking import Done, look_at_all
from .settings import Order, Settings
from .work import Work

SITES_OF_A_BATCH = 30
BATCHES_OF_A_THREAD = 2
"""In flight, so that no worker waits for the next."""

AHEAD = 500
CONNECT_SECONDS = 15
BACK_SECONDS = 60
"""Within which a scheduler that was lost has to be there again."""

WORKERLESS_SECONDS = 600.0
"""How long a scheduler may be without any worker."""

MOST_LOSSES = 5
"""Of the scheduler, one after the other with no batch that came back between them."""

PATIENCE_SECONDS = 60.0
MOST_RETURNS = 3
"""A batch that was given up by the cluster so often may be what it dies of."""

GOES_ON = "What is finished is kept, and the same command goes on."


class BatchDone(msgspec.Struct, frozen=True):
    """What came of a batch: its sites, or why there is nothing."""

    done: tuple[Done, ...] = ()
    fault: str = ""
    other_version: str = ""
    """Of Pewter on the worker, where it is not the client's: nothing was looked at."""


def look_at_batch(version: str, settings: bytes, orders: bytes) -> bytes:
    """What a worker of the cluster runs: texts in, packed reviews out.  It never raises: an error would be pickled."""
    if version != __version__:
        return msgspec.msgpack.encode(BatchDone(other_version=__version__))
    try:
        decoded = msgspec.msgpack.decode(settings, type=Settings), msgspec.msgpack.decode(orders, type=list[Order])
        found = BatchDone(tuple(asyncio.run(look_at_all(*decoded))))
    except Exception as exc:
        found = BatchDone(fault=f"{type(exc).__name__}: {exc}"[:300])
    return msgspec.msgpack.encode(found)


@dataclass(eq=False)
class _Batch:
    """Sites that are under way together."""

    name: str
    tasks: Sequence[Task]
    returns: int = 0
    """How often it came back without a result that was its fault."""


@dataclass
class ClusterSurvey(Work):
    """One run of a survey, to its end or until it is cancelled."""

    address: str
    tls: tuple[Path, ...] = ()
    _again: list[_Batch] = field(default_factory=list, init=False)
    """Halves of a batch that ended its workers."""

    _back: list[_Batch] = field(default_factory=list, init=False)
    """What was in flight when the scheduler was lost."""

    _count: int = field(default=0, init=False)
    _heard: float = field(default=0.0, init=False)
    """The moment, monotonic, since which nothing has come back."""

    _losses: int = field(default=0, init=False)
    """Of the scheduler, since a batch came back."""

    _workerless: float | None = field(default=None, init=False)
    """The moment, monotonic, since which the scheduler has no worker."""

    async def go(self) -> None:
        """Look at all that waits.  FileError where the ledger cannot be written, UsageError without Dask."""
        distributed = _distributed()
        security = self._security(distributed)
        resolving = asyncio.create_task(self._resolve(AHEAD))
        try:
            while True:
                async with self._connected(distributed, security) as client:
                    try:
                        await self._work(distributed, client, resolving)
                        break
                    except (OSError, distributed.client.ClosedClientError) as exc:
                        self._losses += 1
                        if self._losses > MOST_LOSSES:
                            raise NotReviewedError(
                                f"The scheduler at {self.address} is lost again and again ({exc}). {GOES_ON}"
                            ) from exc
                self.watcher.say(f"the scheduler at {self.address} was lost; it is tried for {BACK_SECONDS} s")
            await resolving
        finally:
            resolving.cancel()

    @contextlib.asynccontextmanager
    async def _connected(self, distributed: Any, security: Any) -> AsyncIterator[Any]:
        """A client of the scheduler; NotReviewedError where there is none, or none again after it was lost."""
        seconds = BACK_SECONDS if self._losses else CONNECT_SECONDS
        client = None
        try:
            try:
                client = distributed.Client(self.address, asynchronous=True, timeout=seconds, security=security)
                await client
            except (OSError, TimeoutError, ValueError, TypeError) as exc:
                why = f"was lost, and did not come back within {seconds} s. {GOES_ON}"
                if not self._losses:
                    why = f"cannot be reached: {exc}."
                raise NotReviewedError(f"The scheduler at {self.address} {why}") from exc
            yield client
        finally:
            if client is not None:
                with contextlib.suppress(Exception):
                    await client.close(timeout=2)

    def _security(self, distributed: Any) -> Any:
        if not self.tls:
            if self.address.startswith("tls://"):
                raise UsageError("A scheduler at tls:// asks for certificates: --cluster-tls, three times.")
            return None
        if len(self.tls) != 3:
            raise UsageError("--cluster-tls is given three times: the CA's certificate, the client's, and its key.")
        for file in self.tls:
            if not file.is_file():
                raise FileError(f"{file} cannot be read: --cluster-tls names PEM files.")
        ca, certificate, key = map(str, self.tls)
        return distributed.Security(
            tls_ca_file=ca, tls_client_cert=certificate, tls_client_key=key, require_encryption=True
        )

    async def _work(self, distributed: Any, client: Any, resolving: asyncio.Task[None]) -> None:
        """Until nothing waits; OSError where the scheduler is lost."""
        in_flight: dict[asyncio.Task[bytes], _Batch] = {}
        self._heard = time.monotonic()
        try:
            while True:
                if resolving.done():
                    resolving.result()  # what it failed of: the ledger
                if client.status == "closed":
                    raise ConnectionError("the client gave the scheduler up")
                settings, room = await self._room(client)
                while (batch := self._next_batch(len(in_flight), room)) is not None:
                    in_flight[asyncio.create_task(self._done(client, settings, batch))] = batch
                if not in_flight:
                    if self.watcher.is_stopping:
                        return
                    if self._all_resolved and not (self._dispatch.waits or self._again or self._back):
                        return
                    await asyncio.sleep(0.1)
                    continue
                self.watcher.waits_for(self._dispatch.keys_under_way)
                ended, _ = await asyncio.wait(in_flight, timeout=1, return_when=asyncio.FIRST_COMPLETED)
                for task in ended:
                    self._heard = time.monotonic()
                    self._take(distributed, task, in_flight.pop(task))
                if time.monotonic() - self._heard > self._patience:
                    self._heard = time.monotonic()
                    for task, batch in in_flight.items():
                        task.cancel()
                        self._split(batch, "said nothing for too long")
                    in_flight.clear()
        finally:
            self._back += in_flight.values()
            for task in in_flight:
                task.add_done_callback(lambda ended: ended.cancelled() or ended.exception())  # nobody asks any more
                task.cancel()

    @property
    def _patience(self) -> float:
        """Seconds within which some batch has to come back: each of its sites may use all its time."""
        rounds = -(-SITES_OF_A_BATCH // self.settings.sites_under_way)
        return PATIENCE_SECONDS + self.settings.whole_seconds * (1 + rounds)

    async def _room(self, client: Any) -> tuple[Settings, int]:
        """Batches that may be in flight, and how many ask at the same time."""
        threads = sum((await client.nthreads()).values())
        now = time.monotonic()
        if threads:
            self._workerless = None
        elif self._workerless is None:
            self._workerless = now
            self.watcher.say(f"the scheduler at {self.address} has no worker; waiting for one")
        elif now - self._workerless > WORKERLESS_SECONDS:
            raise NotReviewedError(
                f"The scheduler at {self.address} has had no worker for {WORKERLESS_SECONDS:.0f} s. {GOES_ON}"
            )
        else:
            self._heard = now
        return msgspec.structs.replace(self.settings, workers=max(1, threads)), max(1, threads) * BATCHES_OF_A_THREAD

    def _next_batch(self, in_flight: int, room: int) -> _Batch | None:
        """One that ended its workers is tried while nothing else is under way: whoever dies then dies of it."""
        if self.watcher.is_stopping:
            return None
        if self._again:
            return self._again.pop() if not in_flight else None
        if in_flight >= room:
            return None
        if self._back:
            return self._back.pop()
        self._count += 1
        name = f"batch {self._count}"
        tasks = self._dispatch.take_batch(name, SITES_OF_A_BATCH)
        return _Batch(name, tasks) if tasks else None

    async def _done(self, client: Any, settings: Settings, batch: _Batch) -> bytes:
        """What a worker made of it; the worker then forgets it.

        A task of its own: a result that went with its worker is waited for until another worker has made it anew.
        """
        orders = [self._order(task, batch.name) for task in batch.tasks]
        packed = msgspec.msgpack.encode(settings), msgspec.msgpack.encode(orders)
        future = client.submit(look_at_batch, __version__, *packed, pure=False)
        try:
            octets: bytes = await future.result()
        except asyncio.CancelledError:
            with contextlib.suppress(Exception):
                await asyncio.wait_for(client.cancel([future], force=True), 2)
            raise
        finally:
            future.release()
        return octets

    def _take(self, distributed: Any, task: asyncio.Task[bytes], batch: _Batch) -> None:
        """Store what came; a batch that ended its workers is split."""
        try:
            octets = task.result()
        except (distributed.KilledWorker, distributed.scheduler.KilledWorker):
            self._split(batch, "ended its workers")
            return
        except (asyncio.CancelledError, distributed.CancelledError):
            batch.returns += 1
            if batch.returns < MOST_RETURNS:
                self._back.append(batch)
            else:
                self._split(batch, "was cancelled by the cluster")
            return
        except (OSError, distributed.client.ClosedClientError):
            self._back.append(batch)
            raise
        except (pickle.PickleError, ImportError, AttributeError, TypeError) as exc:
            raise NotReviewedError(f"The workers of {self.address} cannot run this Pewter: {exc}.") from exc
        found = msgspec.msgpack.decode(octets, type=BatchDone)
        self._losses = 0
        if found.other_version:
            raise NotReviewedError(
                f"A worker of {self.address} has Pewter {found.other_version}, and this is {__version__}: "
                f"install the same everywhere. {GOES_ON}"
            )
        if found.fault:
            self._split(batch, f"failed ({found.fault})")
        for done in found.done:
            if self._dispatch.done(done.key) is not None:
                self._keep(done)

    def _split(self, batch: _Batch, what: str) -> None:
        """A batch that came to nothing, in halves; a site that comes to nothing alone is given up."""
        if len(batch.tasks) == 1:
            (task,) = batch.tasks
            self._dispatch.done(task.key)
            self._give_up(task, "it ended the worker process" if what == "ended its workers" else f"its batch {what}")
            return
        half = len(batch.tasks) // 2
        self.watcher.say(f"a batch of {len(batch.tasks)} sites {what}; it is split")
        self._again += [_Batch(batch.name, batch.tasks[:half]), _Batch(batch.name, batch.tasks[half:])]


def _distributed() -> Any:
    try:
        import distributed  # noqa: PLC0415
    except ImportError:
        raise UsageError("A cluster needs Dask, which is not installed here: pip install 'pewter[cluster]'") from None
    for name in list(logging.root.manager.loggerDict):
        if name.startswith("distributed"):
            logging.getLogger(name).setLevel(logging.CRITICAL)  # what matters of it is said in our words
    return distributed
