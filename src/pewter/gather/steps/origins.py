"""Origins: what the server behind an edge service answers, over TLS with the site's name and over plain HTTP.

It is asked from here as the public could ask it: an answer tells that whoever finds its address goes round the edge.
"""

import functools

from pewter.evidence import Handshake, Hop, Offer, Origin, Seen, Unseen
from pewter.places import socket_text
from pewter.tls.offers import MODERN
from pewter.web.urls import Url

from ..exchanges import Answered, fetch_once
from ..routes import Destination, read_origin
from ..scene import Scene
from ..slots import Priority
from . import hellos

HTTPS, HTTP = 443, 80


def begin(scene: Scene) -> None:
    """Every origin that was given."""
    for text in scene.plan.origins:
        name, address, port = read_origin(text, scene.plan.first)
        scene.board.origins[name, address, port] = Origin(name, address, port)
        failed = functools.partial(_failed, scene, name, address, port)
        scene.start(_look_at(scene, name, address, port), f"origin {socket_text(address, port or HTTPS)}", failed)


async def _look_at(scene: Scene, name: str, address: str, port: int | None) -> None:
    routes = scene.network.routes
    over_tls, over_http = routes.for_address(address, port or HTTPS), routes.for_address(address, port or HTTP)
    probe = await hellos.probe(scene, over_tls, Offer(MODERN, name), Priority.HANDSHAKE)
    secure: Seen[Hop] | Unseen | None = None
    if isinstance(probe.answer, Handshake):
        secure = await _ask(scene, Url("https", name, port or HTTPS, "/"), over_tls)
    plain = await _ask(scene, Url("http", name, port or HTTP, "/"), over_http)
    scene.board.origins[name, address, port] = Origin(name, address, port, probe, secure, plain)


async def _ask(scene: Scene, url: Url, destination: Destination) -> Seen[Hop] | Unseen:
    outcome = await fetch_once(url, destination, scene.network, scene.plan.step_seconds)
    return Seen(outcome.hop) if isinstance(outcome, Answered) else Unseen(outcome.detail)


def _failed(scene: Scene, name: str, address: str, port: int | None, reason: str) -> None:
    scene.board.origins[name, address, port] = Origin(name, address, port, None, Unseen(reason), Unseen(reason))
