"""What a survey does wherever its sites are looked at: resolving, orders, storing, giving up."""

import datetime
import itertools
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

from pewter.judge.summary import SiteRow, summary_of_failure

from .dispatch import Dispatch, Task
from .looking import Done
from .resolving import Resolver, resolved
from .settings import Known, Order, Settings
from .store import Ledger

MOST_IN_DOUBT = 2000
"""Sites of a run that are looked at once more: of many that are silent each takes seconds."""


class Watcher(Protocol):
    """Told how a survey goes."""

    is_stopping: bool
    """Nothing more is begun, and what is under way is waited for."""

    def stored(self, row: SiteRow) -> None: ...

    def waits_for(self, keys: list[str]) -> None: ...

    def say(self, words: str) -> None: ...


class Quiet:
    """Nobody watches."""

    is_stopping = False

    def stored(self, row: SiteRow) -> None:
        """Nothing is told."""

    def waits_for(self, keys: list[str]) -> None:
        """Nothing is told."""

    def say(self, words: str) -> None:
        """Nothing is told."""


@dataclass
class Work:
    """One run of a survey: the list of what is to be done is the ledger's, which this process alone writes."""

    ledger: Ledger
    run: int
    settings: Settings
    watcher: Watcher
    in_doubt: set[str] = field(default_factory=set, init=False)
    """Sites that are to be looked at once more, when there is less to do."""

    _dispatch: Dispatch = field(default_factory=Dispatch, init=False)
    _known: dict[str, tuple[Known, ...]] = field(default_factory=dict, init=False)
    _all_resolved: bool = field(default=False, init=False)

    async def _resolve(self, ahead: int) -> None:
        """Look up the names of what waits, so that at most ``ahead`` sites wait for a worker."""
        resolver = Resolver(self.settings)
        waiting = itertools.takewhile(lambda _: not self.watcher.is_stopping, self.ledger.waiting())
        async for found in resolved(resolver, waiting, self._has_room_ahead(ahead)):
            self._known[found.task.key] = found.known
            self._dispatch.add(found.task)
            self._woken()
        self._all_resolved = True
        self._woken()

    def _has_room_ahead(self, ahead: int) -> Callable[[], bool]:
        return lambda: self.watcher.is_stopping or self._dispatch.waits < ahead

    def _woken(self) -> None:
        """Something changed that others may wait for."""

    def _order(self, task: Task, owner: str) -> Order:
        owned = tuple(self._dispatch.owns(owner, (each for each in task.places if "/" not in each)))
        return Order(task.key, task.targets, owned, self._known.get(task.key, ()))

    def _keep(self, done: Done) -> None:
        self._known.pop(done.key, None)
        if done.in_doubt and len(self.in_doubt) < MOST_IN_DOUBT:
            self.in_doubt.add(done.key)
        if self.ledger.keep(self.run, done.summary, done.review):
            self.watcher.stored(done.summary.row)

    def _give_up(self, task: Task, ended: str) -> None:
        """Store a site of which there will be no review."""
        why = f"could not be reviewed: {ended}"
        now = datetime.datetime.now(datetime.UTC)
        self._keep(Done(task.key, summary_of_failure(task.key, why, now, 0.0), None))
        self.watcher.say(f"{task.key} {why}")
