"""Ways in: every URL that a visitor may type, followed hop by hop, and what the home page links to."""

import functools

from pewter.evidence import Step, Unseen, WayIn
from pewter.tls import fingerprint
from pewter.tls.offers import MODERN
from pewter.web.further_ways import ABSENT_PATH, choose_ways_in
from pewter.web.sites import paths_for
from pewter.web.urls import Url, read_url

from ..exchanges import Answered
from ..journeys import OngoingJourney
from ..routes import Destination
from ..scene import Scene
from . import endpoints, pages


def begin(scene: Scene, name: str, https_destinations: tuple[Destination, ...]) -> None:
    """Both schemes and every path, by a visitor's own choice of address; the home page by each address."""
    several = _several(https_destinations)
    for path in paths_for(name, scene.plan.paths):
        go_from(scene, name, path, WayIn.TYPED, several if path == "/" else ())


def begin_absent(scene: Scene, name: str, https_destinations: tuple[Destination, ...]) -> None:
    """A page that nobody has: at the last address, so that the first is free for journeys."""
    if scene.is_first(("absent", name)):
        go_from(scene, name, ABSENT_PATH, WayIn.ABSENT, _several(https_destinations)[-1:])


def _several(destinations: tuple[Destination, ...]) -> tuple[str, ...]:
    """The addresses of a name that has more than one."""
    return tuple(each.address for each in destinations) if len(destinations) > 1 else ()


def go_from(
    scene: Scene, name: str, path: str, reason: WayIn, addresses: tuple[str, ...] = (), looks_like: str = ""
) -> None:
    path, mark, query = path.partition("?")
    for scheme, port in (("http", 80), ("https", scene.board.ports[name])):
        url = Url(scheme, name, port, path or "/", query if mark else None)
        for address in addresses or (None,):
            if scene.is_first(("way in", str(url), address)):
                journey = OngoingJourney(url, scene.context, reason, address, looks_like=looks_like)
                _start(scene, journey, f"{url}" + (f" at {address}" if address else ""))


def _start(scene: Scene, journey: OngoingJourney, what: str) -> None:
    scene.board.journeys.append(journey)
    scene.start(_follow(scene, journey), what, functools.partial(_failed, journey))


async def _follow(scene: Scene, journey: OngoingJourney) -> None:
    await journey.follow()
    if journey.start.target == "/" and journey.hops and journey.hops[-1].page is not None:
        _find_more(scene, read_url(journey.hops[-1].url), journey.hops[-1].page)


def _failed(journey: OngoingJourney, reason: str) -> None:
    """A journey that had ended stays as it was: the fault came after it."""
    if journey.end is None:
        journey.end = Unseen(reason)


def _find_more(scene: Scene, url: Url, page: str) -> None:
    """Try what the home page of one of the site's names links to, once for each name."""
    board = scene.board
    if not scene.wants(Step.FOUND) or url.host not in board.names:
        return
    if url.is_https and scene.is_first(("sitemap", url.host)):
        pages.fetch_sitemap(scene, url)
    if not scene.is_first(("searched", url.host)):
        return
    for path, looks_like in choose_ways_in(
        board.pages[str(url), page].inner_links, paths_for(url.host, scene.plan.paths)
    ):
        go_from(scene, url.host, path, WayIn.FOUND, looks_like=looks_like)


def moved(scene: Scene, journey: OngoingJourney, url: Url) -> None:
    """Follow where a page moved its visitors, once for each address, with the cookies that they have by then."""
    followed = sum(1 for each in scene.board.journeys if each.reason is WayIn.MOVED)
    if followed < scene.budget.moves and scene.is_first(("moved", str(url))):
        onward = OngoingJourney(url, scene.context, WayIn.MOVED, as_browser=journey.as_browser, jar=journey.jar.copy())
        _start(scene, onward, f"{url}")


def met(scene: Scene, url: Url, destination: Destination, answered: Answered) -> None:
    """A host that a journey leads to and that is no name of the site gets one hello: what does a browser make of it?"""
    if answered.certificate is None:
        return
    board = scene.board
    board.certificates.setdefault(fingerprint(answered.certificate), answered.certificate)
    if url.host not in board.names and scene.wants(Step.CERTIFICATES):
        endpoints.look_at(scene, url.host, destination, (MODERN,))
