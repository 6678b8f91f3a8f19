"""What a shown page fetches over plain http, and what a browser makes of it."""

from collections.abc import Iterator

import msgspec

from pewter.evidence import Hop, Page, Redirected, Reference
from pewter.web.mixed_content import Treatment, treatment_of
from pewter.web.pages import has_upgrade_directive

from .case import Case


def upgrades_requests(hop: Hop, page: Page) -> bool:
    """Whether the answer or the page itself says upgrade-insecure-requests."""
    return page.upgrades_requests or any(map(has_upgrade_directive, hop.values("Content-Security-Policy")))


def _in_time(reference: Reference) -> Reference:
    """A field is there before the page."""
    return msgspec.structs.replace(reference, is_early=False) if reference.is_early else reference


def parts_by_treatment(case: Case, hop: Hop, page: Page) -> dict[Treatment, tuple[Reference, ...]]:
    """The plain references of an https page and of its own style sheets."""
    upgrades = upgrades_requests(hop, page)
    if any(map(has_upgrade_directive, hop.values("Content-Security-Policy"))):
        in_time = {name: tuple(map(_in_time, getattr(page, name))) for name in ("references", "parts")}
        page = msgspec.structs.replace(page, **in_time)
    of_sheets = (
        msgspec.structs.replace(each, place=f"{each.place} of {sheet.url}")
        for sheet in case.sheets_of(page)
        for each in sheet.references
    )
    redirected = (
        msgspec.structs.replace(part, url=way.to, place=f"{part.place}, by {part.url}")
        for part in page.parts
        if (way := case.redirected_parts.get(part.url)) is not None and way.to
    )
    references = (*page.references, *redirected, *of_sheets)
    found: dict[Treatment, list[Reference]] = {treatment: [] for treatment in Treatment}
    for reference in dict.fromkeys(references):
        found[treatment_of(reference, upgrades_requests=upgrades)].append(reference)
    return {treatment: tuple(parts) for treatment, parts in found.items()}


def parts_unseen(case: Case, page: Page) -> Iterator[Redirected]:
    """Parts over https of which it is not known where they are redirected."""
    found = (case.redirected_parts.get(part.url) for part in page.parts)
    return (each for each in found if each is not None and each.why_unseen)


def blocked_parts(case: Case, hop: Hop) -> tuple[Reference, ...]:
    """What a browser blocks of the page that ``hop`` showed."""
    page = case.page_of(hop)
    if page is None or not hop.is_https:
        return ()
    return parts_by_treatment(case, hop, page)[Treatment.BLOCKED]
