"""What an HTTPS record promises at another name or port: one hello at each address, for the site's own name."""

import functools

from pewter.evidence import Ended, HowEnded, Offer, Probe, Service, Unseen
from pewter.tls.offers import MODERN
from pewter.web.urls import Url

from ..routes import Destination
from ..scene import Scene
from ..slots import Priority
from ..together import together
from . import hellos

TRIES = 3
"""Of a hello that meets an end."""


def begin(scene: Scene, name: str, target: str, port: int) -> None:
    """Once for each; the site's own endpoints are looked at as such."""
    key = name, target, port
    if (target == name and port == scene.board.ports.get(name)) or not scene.is_first(("service", *key)):
        return
    scene.board.promised.add((target, port))
    failed = functools.partial(_failed, scene, key)
    scene.start(_look_at(scene, key), f"{target} at port {port}, for {name}", failed)


async def _look_at(scene: Scene, key: tuple[str, str, int]) -> None:
    name, target, port = key
    found = await scene.open_destinations(Url("https", target, port, "/"))
    if isinstance(found, Unseen):
        _failed(scene, key, found.reason)
        return
    probes = await together(*(_probe(scene, name, each) for each in found))
    scene.board.services[key] = tuple(
        Service(name, target, port, probe, each.address) for probe, each in zip(probes, found, strict=True)
    )


async def _probe(scene: Scene, name: str, destination: Destination) -> Probe:
    offer = Offer(MODERN, name)
    for _ in range(TRIES):
        found = await hellos.probe(scene, destination, offer, Priority.SEARCH)
        if not isinstance(found.answer, Ended) or found.answer.how is HowEnded.SILENT:
            break
    return found


def _failed(scene: Scene, key: tuple[str, str, int], reason: str) -> None:
    name, target, port = key
    scene.board.services[key] = (Service(name, target, port, Probe(Offer(MODERN, name), Unseen(reason))),)
