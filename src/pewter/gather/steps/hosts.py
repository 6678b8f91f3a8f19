"""Hosts: what a server answers to a Host that cannot be the site's."""

import functools

import msgspec

from pewter.evidence import Hop, HostProbe, Seen, StopCause, Unseen
from pewter.web.further_ways import UNKNOWN_HOST
from pewter.web.urls import Url

from ..exchanges import Answered, fetch_once
from ..scene import Scene
from . import pages


def begin(scene: Scene, name: str) -> None:
    """Over both schemes."""
    for scheme, port in (("http", 80), ("https", scene.board.ports[name])):
        url = Url(scheme, name, port, "/")
        failed = functools.partial(_failed, scene, url)
        scene.start(_ask(scene, url), f"{url} as {UNKNOWN_HOST}", failed)


async def _ask(scene: Scene, url: Url) -> None:
    """At an address of the name that answers; the last one first, since journeys go to the first."""
    destinations = await scene.open_destinations(url)
    if isinstance(destinations, Unseen):
        return
    failures: list[str] = []
    refusals = 0
    for destination in reversed(destinations):
        outcome = await fetch_once(url, destination, scene.network, scene.plan.step_seconds, UNKNOWN_HOST)
        if isinstance(outcome, Answered):
            shown = await pages.keep(scene, url, outcome) if outcome.body else None
            page = shown.sha256 if shown is not None else None
            _answered(scene, url, Seen(msgspec.structs.replace(outcome.hop, page=page)))
            return
        failures.append(outcome.detail)
        refusals += outcome.may_pass and outcome.cause is StopCause.NO_ANSWER
    _answered(scene, url, Unseen(failures[0]), is_refused=refusals == len(failures))


def _failed(scene: Scene, url: Url, reason: str) -> None:
    _answered(scene, url, Unseen(reason))


def _answered(scene: Scene, url: Url, answer: Seen[Hop] | Unseen, *, is_refused: bool = False) -> None:
    scene.board.host_probes.append(HostProbe(url.host, url.scheme, UNKNOWN_HOST, answer, is_refused))
