"""One hello on a connection of its own, with its turn at the address, and its certificates kept."""

from pewter.evidence import Offer, Probe

from ..hellos import send_hello
from ..routes import Destination
from ..scene import Scene
from ..slots import Priority


async def probe(scene: Scene, destination: Destination, offer: Offer, priority: Priority) -> Probe:
    async with scene.network.slots.connection(destination.address, priority):
        result = await send_hello(offer, destination, scene.network, scene.plan.step_seconds)
    for sha256, der in result.certificates.items():
        scene.board.certificates.setdefault(sha256, der)
    return Probe(offer, result.answer, round(result.elapsed_seconds, 3))
