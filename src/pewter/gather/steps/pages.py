"""Pages: read what was shown, and fetch what belongs to it."""

import functools
import hashlib
from collections.abc import Callable

from pewter.evidence import Page, Redirected, Step, Unseen
from pewter.web.further_ways import SITEMAP_PATH
from pewter.web.pages import read_page, read_sitemap, read_style_sheet
from pewter.web.redirects import next_url
from pewter.web.urls import InvalidUrl, Url, read_url

from ..exchanges import Answered, fetch_once
from ..scene import Scene

MOST_REDIRECTS = 5
"""Of a part that is followed."""


async def keep(scene: Scene, url: Url, answered: Answered) -> Page:
    """Read a page, keep what it says, and fetch its own style sheets; the same page at the same URL once in a look.

    A long one in a thread: what a hostile page costs must not hold up the other looks, nor the deadline.
    """
    pages = scene.board.pages
    key = str(url), hashlib.sha256(answered.body).hexdigest()
    if key in pages:
        return pages[key]
    read = functools.partial(read_page, answered.body, url, answered.content_type, truncated=answered.truncated)
    page = pages[key] = await scene.network.threads.off_the_loop(len(answered.body), read)
    if url.is_https and scene.wants(Step.STYLE_SHEETS):
        _fetch_sheets(scene, page)
        _ask_parts(scene, page)
    return page


def _ask_parts(scene: Scene, page: Page) -> None:
    """Where the page's scripts, frames and other sheets are redirected."""
    for part in page.parts:
        if part.url in page.style_sheets or not scene.is_first(("part", part.url)):
            continue
        if scene.board.parts >= scene.budget.parts:
            _told_nothing(scene, part.url, f"{scene.budget.parts} parts of pages are asked for")
            continue
        scene.board.parts += 1
        failed = functools.partial(_told_nothing, scene, part.url)
        scene.start(_follow(scene, part.url, read_url(part.url)), part.url, failed)


async def _follow(scene: Scene, part: str, url: Url) -> None:
    """Ask for a part, from one of the URLs on its way on."""
    for _ in range(MOST_REDIRECTS):
        destinations = await scene.open_destinations(url)
        if isinstance(destinations, Unseen):
            return _told_nothing(scene, part, destinations.reason)
        outcome = await fetch_once(url, destinations[0], scene.network, scene.plan.step_seconds)
        if not isinstance(outcome, Answered):
            return _told_nothing(scene, part, outcome.detail)
        if not (following := _redirect_of(scene, part, url, outcome)):
            return None
        url = following
    return _told_nothing(scene, part, f"more than {MOST_REDIRECTS} redirects")


def _redirect_of(scene: Scene, part: str, url: Url, outcome: Answered) -> Url | None:
    """Where it leads on over https; that it leads to a plain URL is kept."""
    try:
        following = next_url(outcome.hop.status, outcome.hop.values("Location"), url)
    except InvalidUrl:
        return None
    if not isinstance(following, Url):
        return None
    if following.is_https:
        return following
    scene.board.redirected_parts[part] = Redirected(part, str(following))
    return None


def _told_nothing(scene: Scene, part: str, reason: str) -> None:
    scene.board.redirected_parts[part] = Redirected(part, why_unseen=reason)


def _fetch_sheets(scene: Scene, page: Page) -> None:
    """The first sheets of a page, or of a sheet that imports others."""
    for sheet in page.style_sheets[: scene.budget.style_sheets]:
        if not scene.is_first(("sheet", sheet)):
            continue
        if scene.board.style_sheets >= scene.budget.all_style_sheets:
            scene.board.leave_out("style sheets", sheet, f"{scene.budget.all_style_sheets} style sheets are read")
            continue
        scene.board.style_sheets += 1
        scene.start(_fetch(scene, read_url(sheet), read_style_sheet), sheet)


def fetch_sitemap(scene: Scene, url: Url) -> None:
    """Of the origin of a home page."""
    sitemap = Url("https", url.host, url.port, SITEMAP_PATH)
    scene.start(_fetch(scene, sitemap, read_sitemap), str(sitemap))


async def _fetch(scene: Scene, url: Url, read: Callable[..., Page]) -> None:
    destinations = await scene.open_destinations(url)
    if isinstance(destinations, Unseen):
        return
    outcome = await fetch_once(url, destinations[0], scene.network, scene.plan.step_seconds)
    if isinstance(outcome, Answered) and (following := _redirect_of(scene, str(url), url, outcome)) is not None:
        await _follow(scene, str(url), following)
    elif isinstance(outcome, Answered) and outcome.hop.status == 200 and outcome.body:
        reading = functools.partial(read, outcome.body, url, truncated=outcome.truncated)
        sheet = await scene.network.threads.off_the_loop(len(outcome.body), reading)
        scene.board.pages[sheet.url, sheet.sha256] = sheet
        _fetch_sheets(scene, sheet)
