"""Names: look each up, and begin with what is known of it as soon as its A or its AAAA records are in."""

import asyncio
import contextlib

from pewter.evidence import Lookup, Name, Step, Unseen, is_this_machine
from pewter.names.addresses import why_not_public
from pewter.pki import Certificate
from pewter.tls.offers import MODERN
from pewter.tls.versions import FIRST_OFFERS
from pewter.web.sites import sibling_of
from pewter.web.suffixes import is_apex
from pewter.web.urls import Url

from ..scene import Scene
from . import chains, endpoints, hosts, ways_in

FIRST_JOURNEYS_SECONDS = 0.05
"""How long hellos let the journeys of names that are still being looked up go first (RFC 8305 section 8)."""

RESOLUTION_DELAY_SECONDS = 0.05
"""How long journeys wait for the other family, once the addresses of one are in (RFC 8305 section 3)."""


def begin(scene: Scene) -> None:
    """With every target, and with chains that nobody served."""
    for chain in scene.board.given.chains:
        _begin_chain(scene, chain)
    for target in scene.plan.targets:
        scene.board.names[target.host] = Name(target.host)
    for target in scene.plan.targets:
        scene.start(_look_at(scene, target.host, declared=True), target.host)


def _begin_chain(scene: Scene, chain: tuple[Certificate, ...]) -> None:
    scene.board.certificates.update((each.sha256, each.der) for each in chain)
    failed = chains.failing(scene, chain[0].sha256)
    scene.start(chains.fetch_issuers(scene, chain), f"issuers of {chain[0].title}", failed)


async def _look_at(scene: Scene, name: str, *, declared: bool) -> None:
    board = scene.board
    if declared and scene.wants(Step.SIBLINGS):
        sibling = None if is_this_machine(name) else sibling_of(name, is_apex)
        if sibling is not None and sibling not in board.names:
            board.ports[sibling] = board.ports[name]
            board.added.add(sibling)
            board.names[sibling] = Name(sibling, declared=False)
            scene.start(_look_at(scene, sibling, declared=False), sibling)
    if _is_wholly_routed(scene, name):
        await _take(scene, name, declared, ())
        return
    asked = scene.network.names.ask(name)
    if not asked:
        await _take(scene, name, declared, ())  # an IP address that was typed as one
        return
    first, later = await asyncio.wait(asked, return_when=asyncio.FIRST_COMPLETED)
    if later and any(_has_public_address(each.result()) for each in first):
        # The other family may be late, or never come: what is there is looked at meanwhile.
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(RESOLUTION_DELAY_SECONDS):
                await asyncio.wait(later)
        if not all(each.done() for each in asked):
            await _take(scene, name, declared, tuple(each.result() for each in asked if each.done()))
    lookups = tuple([await each for each in asked])
    await _take(scene, name, declared, lookups)


def _has_public_address(lookup: Lookup) -> bool:
    """An address off the public internet is looked at only once it is known that no other is on it."""
    addresses = Name("", lookups=(lookup,)).addresses
    return bool(addresses) and not any(map(why_not_public, addresses))


def _is_wholly_routed(scene: Scene, name: str) -> bool:
    routes = scene.network.routes
    return bool(routes.for_name(name, 80) and routes.for_name(name, scene.board.ports[name]))


async def _take(scene: Scene, name: str, declared: bool, lookups: tuple[Lookup, ...]) -> None:
    """Go on with a name, so far as it was looked up."""
    board, port = scene.board, scene.board.ports[name]
    routed = tuple(dict.fromkeys(each.address for each in scene.network.routes.for_name(name, port)))
    if not lookups and not routed:
        routed = (name,)
    board.names[name] = Name(name, declared, lookups, routed)
    destinations = await scene.open_destinations(Url("https", name, port, "/"))
    if isinstance(destinations, Unseen):
        _under_way(scene, name)
        return
    if scene.wants(Step.WAYS_IN):
        ways_in.begin(scene, name, destinations)
    _under_way(scene, name)
    if scene.wants(Step.WAYS_IN):
        # Names come back from the name service almost together: the journeys of all of them go first.
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(FIRST_JOURNEYS_SECONDS):
                await scene.all_under_way.wait()
    offers = FIRST_OFFERS if scene.wants(Step.VERSIONS) else (MODERN,)
    for destination in destinations if scene.wants(Step.CERTIFICATES) else ():
        endpoints.look_at(scene, name, destination, offers)
    # What no visitor waits for takes no slot of what goes before it.
    if scene.wants(Step.HOSTS) and scene.is_first(("hosts", name)):
        hosts.begin(scene, name)
    if scene.wants(Step.ABSENT):
        ways_in.begin_absent(scene, name, destinations)


def _under_way(scene: Scene, name: str) -> None:
    """The journeys of a name have begun, or it has none."""
    scene.asked.add(("under way", name))
    if all(("under way", each) in scene.asked for each in scene.board.names):
        scene.all_under_way.set()
