"""Endpoints: the first hellos to each name at each address."""

import asyncio
import functools

from pewter.evidence import Alert, Ended, Handshake, HowEnded, Offer, Probe, Step, Tries, Unseen
from pewter.pki import MUST_STAPLE, Certificate, read_certificate
from pewter.places import socket_text
from pewter.tls import Version, version_name
from pewter.tls.codepoints import AlertDescription
from pewter.tls.offers import MODERN
from pewter.tls.refusals import FirstHello
from pewter.tls.versions import FIRST_OFFERS

from ..board import EndpointLook
from ..driving import drive_search
from ..routes import Destination
from ..scene import Scene
from ..slots import Priority
from . import chains, front_ends, hellos

STAPLE_TRIES = 2
STAPLE_PAUSE_SECONDS = 0.5


def look_at(scene: Scene, name: str, destination: Destination, offers: tuple[tuple[int, ...], ...]) -> None:
    """Send the offers, each on a connection of its own; once for each name, address and port."""
    key = (name, destination.address, destination.port)
    endpoints = scene.board.endpoints
    if key in endpoints:
        return
    place = f"{name} at {socket_text(destination.address, destination.port)}"
    if len(endpoints) >= scene.budget.endpoints:
        scene.board.leave_out("endpoints", place, f"{scene.budget.endpoints} endpoints are looked at")
        return
    endpoint = endpoints[key] = EndpointLook(name, destination, offers)
    if scene.wants(Step.PROTOCOLS) and offers == FIRST_OFFERS:
        front_ends.register(scene, endpoint)
    for versions in offers:
        failed = functools.partial(_failed, scene, endpoint, versions)
        scene.start(_probe(scene, endpoint, versions), f"{version_name(versions[0])} to {place}", failed)


async def _probe(scene: Scene, endpoint: EndpointLook, versions: tuple[int, ...]) -> None:
    probe = await hellos.probe(scene, endpoint.destination, Offer(versions, endpoint.name), Priority.HANDSHAKE)
    if versions == MODERN and _may_mind_the_hello(endpoint, probe):
        probe = await _insist(scene, endpoint, probe)
    endpoint.probes[versions] = probe
    front_ends.answered(scene, endpoint)
    if not isinstance(probe.answer, Handshake):
        return
    if scene.wants(Step.ISSUERS):
        failed = chains.failing(scene, probe.answer.chain[0])
        scene.start(chains.look_into(scene, probe.answer.chain), f"issuers of {endpoint.name}", failed)
    if Version.TLS_1_3 in versions and probe.answer.staple is None and scene.wants(Step.VERSIONS):
        await _ask_for_staple_again(scene, endpoint, probe.offer, probe.answer.chain[0])


async def _insist(scene: Scene, endpoint: EndpointLook, refused: Probe) -> Probe:
    """A refused first hello, again and in other shapes: which of them is taken, and what does the server mind?"""
    search, asker = FirstHello(refused), front_ends.asker_of(scene, endpoint)
    asker.worked = await drive_search(search.find(), asker, Priority.HANDSHAKE)
    if asker.worked is None:
        return refused
    if asker.worked != refused.offer:
        await drive_search(search.explain(refused.offer), asker, Priority.HANDSHAKE)
    if search.probe.offer == refused.offer:
        endpoint.tries.append(Tries("the hello for TLS 1.3 and TLS 1.2", 2, 1))
    endpoint.cause = search.cause
    return search.probe


async def _ask_for_staple_again(scene: Scene, endpoint: EndpointLook, offer: Offer, leaf: str) -> None:
    """A server that fetches its own staple has none at first: absence needs more than one hello.

    Only where there may be one: the certificate names an OCSP responder, or demands a staple.
    """
    certificate = read_certificate(scene.board.certificates[leaf])
    if not isinstance(certificate, Certificate) or not (
        MUST_STAPLE in certificate.extensions.tls_features or certificate.extensions.ocsp_responders
    ):
        return
    # The whole handshake of a full look is a further try.
    for _ in range(STAPLE_TRIES - front_ends.is_first(scene, endpoint)):
        await asyncio.sleep(STAPLE_PAUSE_SECONDS)
        probe = await hellos.probe(scene, endpoint.destination, offer, Priority.HANDSHAKE)
        endpoint.more_probes.append(probe)
        if isinstance(probe.answer, Handshake) and probe.answer.staple is not None:
            return


def _failed(scene: Scene, endpoint: EndpointLook, versions: tuple[int, ...], reason: str) -> None:
    endpoint.probes.setdefault(versions, Probe(Offer(versions, endpoint.name), Unseen(reason)))
    front_ends.answered(scene, endpoint)


def _may_mind_the_hello(endpoint: EndpointLook, probe: Probe) -> bool:
    """Whether a refusal may be for something in the hello that need not be there, or for no reason at all."""
    match probe.answer:
        case Alert(description=description):
            return description != AlertDescription.PROTOCOL_VERSION
        case Ended(how=HowEnded.SILENT):
            return any(map(front_ends.is_answered, endpoint.probes.values()))  # another hello was
        case Ended(how=how):
            return how in {HowEnded.CLOSED, HowEnded.RESET}
        case _:
            return False
