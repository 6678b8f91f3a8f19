"""Looks taken at peers and at small worlds of the lab."""

import asyncio
import datetime
import time

from pewter.evidence import Evidence, Plan, Step, Target
from pewter.gather.board import Given
from pewter.gather.budget import Budget
from pewter.gather.look import look
from pewter.lab.web_server import VirtualHost
from pewter.lab.world import Scenario, World, WorldThread
from support.certificates import NOW, intermediate, leaf, parsed, root, store

HOST = "www.marram-ferries.example"
PEER = "tickets.marram-ferries.example"
"""A name without a sibling, so that no look-up has to be waited for."""


class NoProgress:
    def planned(self, what: str) -> None: ...

    def done(self, what: str) -> None: ...


def take(
    *targets: str,
    routes=(),
    resolver=None,
    paths=("/",),
    whole=20.0,
    step=3.0,
    stores=None,
    port=443,
    protocol=False,
    stalls=None,
    revocation=False,
    connections_per_address=8,
    max_covered_names=0,
    siblings=True,
    names=True,
    **given,
) -> Evidence:
    """One look; the name service is only asked where a resolver is given.

    ``stalls``: a list that takes the seconds of work for which the event loop was not free, turn by turn.
    """
    plan = Plan(
        targets=tuple(Target(target, port) for target in targets or (PEER,)),
        paths=paths,
        routes=tuple(routes),
        # Nobody listens at the discard port: a look-up that should not happen fails at once.
        resolvers=(resolver or "127.0.0.1:9",),
        steps=tuple(
            each
            for each in Step
            if (protocol or each is not Step.PROTOCOLS)
            and (siblings or each is not Step.SIBLINGS)
            and (names or each is not Step.DNS)
        ),
        revocation=revocation,
        connections_per_address=connections_per_address,
        whole_seconds=whole,
        step_seconds=step,
    )
    given = Given(stores if stores is not None else (store(root()),), (parsed(root()),), **given)
    return asyncio.run(_look(plan, given, Budget(covered_names=max_covered_names), stalls))


async def _look(plan: Plan, given: Given, budget: Budget, stalls: list[float] | None) -> Evidence:
    watch = asyncio.create_task(_watch(stalls)) if stalls is not None else None
    try:
        return await look(plan, given, NoProgress(), budget=budget)
    finally:
        if watch is not None:
            watch.cancel()


async def _watch(stalls: list[float]) -> None:
    """Work of the loop's own thread alone: a busy machine does not lengthen it."""
    before = time.thread_time()
    while True:
        await asyncio.sleep(0.001)
        stalls.append(time.thread_time() - before)
        before = time.thread_time()


def at_ports(https: int, http: int | None = None, host: str = PEER) -> tuple[str, ...]:
    return (f"{host}:443=127.0.0.1:{https}", f"{host}:80=127.0.0.1:{http or https}")


def route_options(port: int) -> list[str]:
    """The same for the command line, both schemes to one port."""
    return [option for route in at_ports(port) for option in ("--route", route)]


def world(hosts: dict[str, VirtualHost], address: str = "192.0.2.10", **others: object) -> WorldThread:
    """All hosts at one address."""
    zone = dict.fromkeys(hosts, (address,))
    return WorldThread(World(Scenario(zone, {(address,): hosts}, root()), **others))  # type: ignore[arg-type]


def take_in(running: World, *targets: str, **options: object) -> Evidence:
    return take(*targets, routes=running.routes, resolver=running.resolver, **options)  # type: ignore[arg-type]


CHAIN = (leaf(), intermediate())
NOW_REALLY = datetime.datetime.now(datetime.UTC)
__all__ = ["CHAIN", "HOST", "NOW", "PEER", "at_ports", "take", "take_in", "world"]
