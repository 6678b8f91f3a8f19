"""What several looks may share: connections and their count, the name service, what is known to be silent, chance."""

import os
from collections.abc import Callable
from dataclasses import dataclass, field

from pewter.evidence import Plan

from .budget import Budget
from .dns_asking import UNDER_WAY, Asker, SharedAnswers
from .hosts_file import routes_by_hosts_file
from .liveness import Lag, Liveness
from .name_service import NameService
from .routes import Route, Routes, read_resolver, read_route
from .slots import Pool, Slots
from .threads import Threads


@dataclass
class Network:
    """The way to the network of one look, or of several."""

    slots: Slots
    names: NameService
    routes: Routes
    liveness: Liveness = field(default_factory=Liveness)
    random: Callable[[int], bytes] = os.urandom
    threads: Threads = field(default_factory=Threads)

    @classmethod
    def for_plan(
        cls, plan: Plan, budget: Budget, shared: "Shared | None" = None, routes: Routes | None = None
    ) -> "Network":
        """One of its own for a look, which may share with looks beside it; ``routes``: the plan's, read before."""
        resolvers = tuple(read_resolver(each) for each in plan.resolvers)
        most = budget.connections_for(len(plan.targets))
        slots = Slots(plan.connections_per_address, most, shared.pool if shared is not None else None)
        answers = shared.answers if shared is not None else None
        threads = shared.threads if shared is not None else Threads()
        asker = Asker(slots, os.urandom, min(UNDER_WAY, plan.connections_per_address), answers, threads)
        return cls(
            slots,
            NameService(resolvers, plan.step_seconds, asker),
            routes if routes is not None else Routes(_routes_of(plan)),
            Liveness(shared.first_seconds, shared.lag) if shared is not None else Liveness(),
            threads=threads,
        )


def _routes_of(plan: Plan) -> tuple[Route, ...]:
    """Those that were given; of other typed names those of this machine's hosts file."""
    given = tuple(map(read_route, plan.routes))
    named = {route.host for route in given}
    return (*given, *(route for route in routes_by_hosts_file(plan) if route.host not in named))


@dataclass
class Shared:
    """What the looks of a survey share in one process."""

    pool: Pool
    answers: SharedAnswers
    first_seconds: float
    """How long a place of which nothing was ever heard is waited for."""

    lag: Lag = field(default_factory=Lag)
    threads: Threads = field(default_factory=Threads)
