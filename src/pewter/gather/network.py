"""What several looks may share: connections and their count, the name service, what is known to be silent, chance."""

import os
from collections.abc import Callable
from dataclasses import dataclass, field

from pewter.evidence import Plan

from .budget import Budget
from .dns_asking import UNDER_WAY, Asker
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
        resolvers = tuple(read_address_and_port(each, "--resolver", 53) for each in plan.resolvers)
        slots = Slots(plan.connections_per_address, budget.connections_for(len(plan.targets)))
        asker = Asker(slots, os.urandom, min(UNDER_WAY, plan.connections_per_address))
        return cls(
            slots,
            NameService(resolvers, plan.step_seconds, asker),
            Routes(tuple(map(read_route, plan.routes))),
        )
