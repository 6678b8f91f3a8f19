"""Which site goes to which worker: one address is asked by one worker at a time, and no host many times in a row.
Pure bookkeeping: no processes and no clock.
"""

from collections import Counter, deque
from collections.abc import Hashable, Iterable, Iterator
from dataclasses import dataclass, field

import msgspec

SITES_AT_AN_ADDRESS, SITES_IN_A_NETWORK = 4, 16
"""Sites under way behind one place; more would only wait for its turns."""


class Task(msgspec.Struct, frozen=True):
    """A site with the places that it will ask."""

    key: str
    targets: str
    places: frozenset[str]
    """Its addresses, and the networks that they are in; empty where it has none."""

    @property
    def main(self) -> str:
        """The place by which it waits its turn: a network, so that places are few."""
        return max(self.places, key=lambda place: ("/" in place, place), default="")


@dataclass
class Dispatch:
    """What waits, and what is under way where."""

    _queues: dict[str, deque[Task]] = field(default_factory=dict)
    _turns: deque[str] = field(default_factory=deque)
    """Places with tasks that wait, each once."""

    _owners: dict[str, Hashable] = field(default_factory=dict)
    _users: Counter[str] = field(default_factory=Counter)
    _under_way: dict[str, tuple[Hashable, Task]] = field(default_factory=dict)

    def add(self, task: Task) -> None:
        """One that waits."""
        queue = self._queues.setdefault(task.main, deque())
        if not queue:
            self._turns.append(task.main)
        queue.append(task)

    @property
    def waits(self) -> int:
        """Tasks that wait for a worker."""
        return sum(map(len, self._queues.values()))

    @property
    def under_way(self) -> int:
        return len(self._under_way)

    @property
    def keys_under_way(self) -> list[str]:
        """The longest first."""
        return list(self._under_way)

    def take(self, worker: Hashable) -> Task | None:
        """The next task that this worker may have: none of its places is asked by another, or by many."""
        for _ in range(len(self._turns)):
            place = self._turns.popleft()
            queue = self._queues[place]
            if not self._is_free(queue[0], worker):
                self._turns.append(place)
                continue
            task = queue.popleft()
            if queue:
                self._turns.append(place)
            else:
                del self._queues[place]
            self.claim(task, worker)
            return task
        return None

    def _is_free(self, task: Task, worker: Hashable) -> bool:
        return self._is_open_to(task, worker) and all(self._users[place] < _most_of(place) for place in task.places)

    def _is_open_to(self, task: Task, worker: Hashable) -> bool:
        """Whether no other worker asks a place of it."""
        return all(self._owners.get(place, worker) == worker for place in task.places)

    def take_batch(self, worker: Hashable, most: int) -> list[Task]:
        """As many as go together: all of a place as far as they fit, and no limit on how many are behind it."""
        found: list[Task] = []
        for _ in range(len(self._turns)):
            place = self._turns.popleft()
            queue = self._queues[place]
            while queue and len(found) < most and self._is_open_to(queue[0], worker):
                task = queue.popleft()
                self.claim(task, worker)
                found.append(task)
            if queue:
                self._turns.append(place)
            else:
                del self._queues[place]
            if len(found) >= most:
                break
        return found

    def claim(self, task: Task, worker: Hashable) -> None:
        """Hand out one that does not wait (any more), whoever else asks its places."""
        for place in task.places:
            self._owners.setdefault(place, worker)
            self._users[place] += 1
        self._under_way[task.key] = worker, task

    def done(self, key: str) -> Task | None:
        """A task has ended; None where it was not under way."""
        worker_and_task = self._under_way.pop(key, None)
        if worker_and_task is None:
            return None
        task = worker_and_task[1]
        for place in task.places:
            self._users[place] -= 1
            if not self._users[place]:
                del self._users[place]
                self._owners.pop(place, None)
        return task

    def of_worker(self, worker: Hashable) -> list[Task]:
        """What a worker has under way."""
        return [task for owner, task in self._under_way.values() if owner == worker]

    def owns(self, worker: Hashable, places: Iterable[str]) -> Iterator[str]:
        """Those of the places that this worker has to itself."""
        return (place for place in places if self._owners.get(place) == worker)


def _most_of(place: str) -> int:
    return SITES_IN_A_NETWORK if "/" in place else SITES_AT_AN_ADDRESS
