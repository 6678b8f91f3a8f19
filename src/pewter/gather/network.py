"""What several looks may share: connections and their count, the name service, what is known to be silent, chance."""

import os
from collections.abc import Callable
from dataclasses import dataclass, field

from pewter.evidence import Plan

from .budget import Budget
from .liveness import Liveness
from .name_service import NameService
from .routes import Routes, read_address_and_port, read_route
from .slots import Slots


@dataclass
class Network:
    """The way to the network of one look, or of several."""

    slots: Slots
    names: NameService
    routes: Routes
    liveness: Liveness = field(default_factory=Liveness)
    random: Callable[[int], bytes] = os.urandom

    @classmethod
    def for_plan(cls, plan: Plan, budget: Budget) -> "Network":
        """One of its own for a look."""
        resolver = read_address_and_port(plan.resolver, "--resolver", 53) if plan.resolver else None
        return cls(
            Slots(plan.connections_per_address, budget.connections_for(len(plan.targets))),
            NameService(resolver, plan.step_seconds),
            Routes(tuple(map(read_route, plan.routes))),
        )
