"""Front ends: suites, groups and options, asked once for all names behind one address and port.

The first name gets the whole look.  Each further one gets its first hellos, and a few spot checks at the same time:
the answer to each is foretold from what the first name was found to accept, and where one comes out otherwise, the
name gets a look of its own.  A difference that no spot check would show is not seen: that is a bound, and documented.
"""

from pewter.evidence import Alert, Ended, Handshake, HowEnded, Offer, Order, Probe
from pewter.tls import Version
from pewter.tls.candidates import TLS_1_3_GROUPS, suites_for
from pewter.tls.refusals import LARGE_ENOUGH
from pewter.tls.search import VersionSearch
from pewter.tls.trial import Picked, Refused
from pewter.tls.versions import FIRST_OFFERS

from ..asking import Asker
from ..board import EndpointLook, FrontEndBoard
from ..front_end_look import FrontEndLook
from ..scene import Scene
from ..together import together
from . import chains


def register(scene: Scene, endpoint: EndpointLook) -> None:
    """The first name at an address and port, in the order of the plan, is the one of which everything is asked."""
    shared = scene.board.front_ends.setdefault(_place(endpoint), FrontEndBoard(endpoint))
    order = list(scene.board.names)
    if not shared.first_answered.is_set() and order.index(endpoint.name) < order.index(shared.first.name):
        shared.first = endpoint


def is_first(scene: Scene, endpoint: EndpointLook) -> bool:
    """Whether this is the endpoint of which everything is asked."""
    shared = scene.board.front_ends.get(_place(endpoint))
    return shared is not None and shared.first is endpoint


def answered(scene: Scene, endpoint: EndpointLook) -> None:
    """Go on once every first hello of a registered endpoint is answered."""
    shared = scene.board.front_ends.get(_place(endpoint))
    if shared is None or len(endpoint.probes) < len(FIRST_OFFERS) or not scene.is_first(("answered", id(endpoint))):
        return
    probes = tuple(endpoint.probes[versions] for versions in endpoint.planned)
    speaks_tls = any(map(is_answered, probes))
    what = f"suites and groups of {endpoint.name} at {endpoint.destination.address}"
    if endpoint is shared.first:
        if speaks_tls:
            scene.start(_look(scene, _new_look(scene, endpoint, probes)), what)
        shared.first_answered.set()
    elif speaks_tls:
        scene.start(_after_first(scene, shared, endpoint, probes), what)


def is_answered(probe: Probe) -> bool:
    """In TLS, or by an end; a place that says nothing is asked nothing more."""
    match probe.answer:
        case Handshake() | Alert():
            return True
        case Ended(how=how):
            return how is not HowEnded.SILENT
    return False


def _place(endpoint: EndpointLook) -> tuple[str, int]:
    return endpoint.destination.address, endpoint.destination.port


async def _after_first(scene: Scene, shared: FrontEndBoard, endpoint: EndpointLook, probes: tuple[Probe, ...]) -> None:
    """Spot checks, where the first hellos showed no difference; else a look of its own."""
    await shared.first_answered.wait()
    if _can_be_shared(shared, endpoint) and await _is_alike(scene, shared, endpoint, probes):
        shared.alike.append(endpoint.name)
    else:
        shared.unlike.append(endpoint.name)
        await _look(scene, _new_look(scene, endpoint, probes))


def _can_be_shared(shared: FrontEndBoard, endpoint: EndpointLook) -> bool:
    """By the first hellos: the same versions, suites and kinds of refusal."""
    first = shared.first
    is_same_place = first.destination == endpoint.destination and first.look is not None
    return is_same_place and first.cause == endpoint.cause and _outline(first) == _outline(endpoint)


def _outline(endpoint: EndpointLook) -> list[object]:
    found: list[object] = []
    for versions in endpoint.planned:
        match endpoint.probes[versions].answer:
            case Handshake() as answer:
                found.append((answer.version, answer.cipher_suite, answer.group, answer.alpn, answer.extensions))
            case Alert(description=description):
                found.append(description)
            case other:
                found.append(type(other))
    return found


def asker_of(scene: Scene, endpoint: EndpointLook, probes: tuple[Probe, ...] = ()) -> Asker:
    """As the answers to its hellos have it."""
    worked = next((probe.offer for probe in probes if isinstance(probe.answer, Handshake)), None)
    return Asker(
        endpoint.name,
        endpoint.destination,
        scene.network,
        scene.plan.step_seconds,
        worked,
        endpoint.cause.extensions,
        LARGE_ENOUGH if endpoint.cause.is_too_small else 0,
        scene.board.certificates,
        steadiness=endpoint.steadiness,
    )


def _new_look(scene: Scene, endpoint: EndpointLook, probes: tuple[Probe, ...]) -> FrontEndLook:
    endpoint.look = FrontEndLook(asker_of(scene, endpoint, probes), probes)
    return endpoint.look


async def _look(scene: Scene, look: FrontEndLook) -> None:
    try:
        await look.run()
    finally:
        look.is_through.set()
    for probe in look.more_probes:
        if isinstance(probe.answer, Handshake):
            await chains.look_into(scene, probe.answer.chain)


async def _is_alike(scene: Scene, shared: FrontEndBoard, endpoint: EndpointLook, probes: tuple[Probe, ...]) -> bool:
    """Hellos of which the answer is foretold by what the first name accepts."""
    asker = asker_of(scene, endpoint, probes)
    accepted = {probe.answer.version for probe in probes if isinstance(probe.answer, Handshake)}
    offers = [offer for version in accepted for offer in _spot_offers(version, endpoint.name)]
    answers = await together(*map(asker.ask, offers))
    look = shared.first.look
    assert look is not None
    await look.is_through.wait()
    return all(_is_foretold(look, offer, answer) for offer, answer in zip(offers, answers, strict=True))


def _spot_offers(version: int, name: str) -> list[Offer]:
    """All that is usual, least liked first; and all that hardly any server has."""
    main, *others = suites_for(version)
    if version == Version.TLS_1_3:
        groups = tuple(int(group) for part in reversed(TLS_1_3_GROUPS) for group in reversed(part))
        return [Offer((version,), name, tuple(reversed(main + others[0])), groups, ())]
    rest = tuple(code for part in others[1:] for code in part)
    return [Offer((version,), name, tuple(reversed(others[0]))), *([Offer((version,), name, rest)] if rest else [])]


def _is_foretold(look: FrontEndLook, offer: Offer, answer: object) -> bool:
    """Whether the first name's suites and groups lead to this answer; what was not seen says nothing."""
    search: VersionSearch | None = look.searches.get(offer.versions[0])
    if search is None or not isinstance(answer, Picked | Refused):
        return True
    accepted, offered = search.suites, offer.suites or ()
    common = [code for code in offered if code in accepted]
    if isinstance(answer, Refused):
        return not common
    wanted = [code for code in accepted if code in offered] if search.order is Order.SERVER else common
    if answer.suite not in (wanted[:1] if search.order is Order.SERVER else wanted):
        return False
    return answer.group is None or not search.with_groups or answer.group in search.accepted_groups
