"""What a shown page fetches over plain http, and what a browser makes of it."""

import msgspec

from pewter.evidence import Hop, Page, Reference
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
        page = msgspec.structs.replace(page, references=tuple(map(_in_time, page.references)))
    of_sheets = (
        msgspec.structs.replace(each, place=f"{each.place} of {sheet.url}")
        for sheet in case.sheets_of(page)
        for each in sheet.references
    )
    references = (*page.references, *of_sheets)
    found: dict[Treatment, list[Reference]] = {treatment: [] for treatment in Treatment}
    for reference in dict.fromkeys(references):
        found[treatment_of(reference, upgrades_requests=upgrades)].append(reference)
    return {treatment: tuple(parts) for treatment, parts in found.items()}


def blocked_parts(case: Case, hop: Hop) -> tuple[Reference, ...]:
    """What a browser blocks of the page that ``hop`` showed."""
    page = case.page_of(hop)
    if page is None or not hop.is_https:
        return ()
    return parts_by_treatment(case, hop, page)[Treatment.BLOCKED]
