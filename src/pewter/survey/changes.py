"""What changed from one run of a survey to the next."""

from pewter.judge.comparison import Change, compare
from pewter.judge.summary import RunChanges, SiteChanges

from .store import Ledger


def changes_of_runs(ledger: Ledger) -> RunChanges:
    """Each site's last review against the one before.  Only sites whose gaps or reach differ are read whole."""
    sites: list[SiteChanges] = []
    compared = stayed = 0
    rows = {row[0]: row for row in ledger.rows()}
    for site, before, after in ledger.sites_with_two_runs():
        compared += 1
        old_gaps, new_gaps = ledger.gap_set(site, before), ledger.gap_set(site, after)
        if old_gaps == new_gaps:
            stayed += 1
            continue
        if not (ledger.has_review(site, before) and ledger.has_review(site, after)):
            sites.append(SiteChanges(site, (), "there is no review of one of the two runs", is_known=False))
            continue
        comparison = compare(ledger.review(site, before), ledger.review(site, after))
        changed = tuple(gap for gap in comparison.gaps if gap.change is not Change.STAYED)
        was_reached = bool(rows[site][2])
        sites.append(SiteChanges(site, changed, "" if was_reached else "it could not be reached this time"))
    return RunChanges(compared, stayed, tuple(sites))
