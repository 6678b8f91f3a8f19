"""Pages: read what was shown, and fetch what belongs to it."""

import functools
import hashlib
from collections.abc import Callable

from pewter.evidence import Page, Step, Unseen
from pewter.web.further_ways import SITEMAP_PATH
from pewter.web.pages import read_page, read_sitemap, read_style_sheet
from pewter.web.urls import Url, read_url

from ..exchanges import Answered, fetch_once
from ..scene import Scene


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
    return page


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
    if isinstance(outcome, Answered) and outcome.hop.status == 200 and outcome.body:
        reading = functools.partial(read, outcome.body, url, truncated=outcome.truncated)
        sheet = await scene.network.threads.off_the_loop(len(outcome.body), reading)
        scene.board.pages[sheet.url, sheet.sha256] = sheet
        _fetch_sheets(scene, sheet)
