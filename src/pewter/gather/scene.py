"""What every step of one look works with: the plan, the board, the network, and the guard before it."""

import asyncio
from collections.abc import Callable, Coroutine, Iterator
from dataclasses import dataclass, field
from typing import Protocol

from pewter.evidence import Fault, Name, Plan, Seen, Step, Unseen, is_ip_address
from pewter.names.addresses import why_not_public
from pewter.web.urls import Url, why_unresolvable

from .board import Board
from .budget import Budget
from .guard import Guard
from .journeys import JourneyContext
from .network import Network
from .routes import Destination
from .slots import BudgetSpent
from .together import failures_in


class Progress(Protocol):
    """Told what is being looked at."""

    def planned(self, what: str) -> None: ...

    def done(self, what: str) -> None: ...


class Silence:
    """Progress that nobody watches."""

    def planned(self, what: str) -> None:
        """Nothing is said."""

    def done(self, what: str) -> None:
        """Nothing is said."""


@dataclass
class Scene:
    """One look under way."""

    plan: Plan
    board: Board
    network: Network
    budget: Budget
    progress: Progress
    group: asyncio.TaskGroup
    context: JourneyContext
    asked: set[object] = field(default_factory=set)
    """What is asked once in a look, whoever wishes for it."""

    all_under_way: asyncio.Event = field(default_factory=asyncio.Event)
    """The journeys of every name have begun."""

    def wants(self, step: Step) -> bool:
        return step in self.plan.steps

    def is_first(self, what: object) -> bool:
        """Whether this is the first that wishes for it."""
        is_new = what not in self.asked
        self.asked.add(what)
        return is_new

    def start(
        self, work: Coroutine[None, None, None], what: str, failed: Callable[[str], None] | None = None
    ) -> asyncio.Task[None]:
        """Do ``work`` beside the rest.  A fault of ours in it costs no other result; ``failed`` tells of it."""
        self.progress.planned(what)

        async def run() -> None:
            try:
                await work
            except Exception as exc:
                faults = [each for each in failures_in(exc) if not isinstance(each, BudgetSpent)]
                self.board.faults += (Fault.of(what, each) for each in faults)
                if failed is not None:
                    failed(Fault.REASON if faults else str(next(failures_in(exc))))
            self.progress.done(what)

        task = self.group.create_task(run())
        task.add_done_callback(lambda _: work.close())  # a look that ends before the task has begun never waits for it
        return task

    # Where something is reached

    async def destinations(self, url: Url) -> tuple[Destination, ...] | Unseen:
        """Every address at which a URL's host is reached on the URL's port, or why there is none."""
        routed = self.network.routes.for_name(url.host, url.port)
        if routed:
            return routed
        if not is_ip_address(url.host) and (reason := why_unresolvable(url.host)):
            return Unseen(reason)
        known = self.board.names.get(url.host)
        lookups = known.lookups if known is not None else ()
        if not Name(url.host, lookups=lookups).addresses:
            lookups = await self.network.names.look_up(url.host)
        addresses = list(Name(url.host, lookups=lookups).addresses) if lookups else [url.host]
        if not addresses:
            unseen = [lookup.answer for lookup in lookups if isinstance(lookup.answer, Unseen)]
            rcodes = {lookup.answer.value.rcode for lookup in lookups if isinstance(lookup.answer, Seen)}
            return unseen[0] if unseen else Unseen(f"{url.host} has no address ({', '.join(sorted(rcodes))})")
        most = self.budget.addresses
        if len(addresses) > most:
            where = f"{url.host} at {len(addresses) - most} of its {len(addresses)} addresses"
            self.board.leave_out(url.host, where, f"{most} addresses of a name are looked at")
            addresses = _some_of_both_families(addresses, most)
        return tuple(self.network.routes.for_address(address, url.port) for address in addresses)

    async def open_destinations(self, url: Url) -> tuple[Destination, ...] | Unseen:
        """Those of :meth:`destinations` that may be contacted, or why there is none."""
        found = await self.destinations(url)
        if isinstance(found, Unseen):
            return found
        allowed = tuple(each for each in found if self.why_not_contact(url, each) is None)
        return allowed or Unseen(f"not contacted: {self.why_not_contact(url, found[0])}")

    def why_not_contact(self, url: Url, destination: Destination) -> str | None:
        """What the guard has against a place; said once for each host."""
        reason = self._guard().why_not(url.host, destination)
        if reason is not None:
            self.board.leave_out(url.host, str(url), reason)
        return reason

    def _guard(self) -> Guard:
        board = self.board
        typed = frozenset(board.ports) - board.added
        listed = typed if self.plan.names_are_listed else frozenset()
        typed -= listed
        own = frozenset(self._own_addresses(typed))
        ports = frozenset(board.ports.values())
        return Guard(typed, frozenset(board.added), own, ports, self.network.routes, frozenset(board.promised), listed)

    def _own_addresses(self, typed: frozenset[str]) -> Iterator[str]:
        for name in typed:
            found = _found_addresses(self.board.names[name])
            if all(map(why_not_public, found)):
                yield from found


def _found_addresses(name: Name) -> tuple[str, ...]:
    """Those of the name service, or the address that was typed; never those that a route leads to."""
    if not name.lookups:
        return (name.name,) if is_ip_address(name.name) else ()
    return Name(name.name, lookups=name.lookups).addresses


def _some_of_both_families(addresses: list[str], most: int) -> list[str]:
    """As many of each family as there is room for, in their order."""
    six, four = ([each for each in addresses if (":" in each) is wide] for wide in (True, False))
    of_six = min(len(six), max((most + 1) // 2, most - len(four)))
    chosen = {*six[:of_six], *four[: most - of_six]}
    return [each for each in addresses if each in chosen]
