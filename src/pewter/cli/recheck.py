"""``pewter recheck``."""

from pewter.phrases import counted
from pewter.report.changes import render_changes
from pewter.tasks.rechecking import Rechecked, RecheckRequest, recheck
from pewter.tasks.surroundings import Surroundings

from .ending import INTERRUPTED, Output, exit_status, put_out_fitted, render, write_files
from .output import output_marks, output_width, print_octets, print_report, print_text
from .saying import say
from .surroundings import Terminal


def run_recheck(request: RecheckRequest, output: Output, around: Surroundings | None = None) -> int:
    """Look again, and show what changed.

    0 where the awaited gaps are closed, or where no gap at the level is left; 1 else, also where one could not be seen
    this time.  Raises NotReviewedError where nothing at all was seen.
    """
    output.check()
    found = recheck(request, around or Terminal())
    write_files(output.reviews, found.new)
    if output.json:
        print_octets(render(".json", found.new))
    else:
        _show(found, full=output.full)
    if output.server_config and not found.new.evidence.interrupted:
        put_out_fitted(found.new, output.server_config, output.diffs, prints=not output.json)
    if found.new.evidence.interrupted:
        return INTERRUPTED
    found.check()
    if found.still_open is not None:
        return 1 if found.still_open else 0
    status = exit_status(found.new, found.fail_on)
    if status == 0 and found.comparison.in_doubt(found.fail_on):
        say(f"not every gap at {found.fail_on.value} or above could be seen to be closed")
        return 1
    return status


def _show(found: Rechecked, *, full: bool) -> None:
    print_text(render_changes(found.comparison, output_width(), output_marks()))
    say(
        f"{found.new.evidence.connections} connections, of {found.old.evidence.connections} in the review that was kept"
    )
    if found.others:
        say(f"{counted(found.others, 'other gap')} of that review: not asked about")
    if full:
        print_report(found.new, full=True)
