"""``pewter review``."""

from pewter.plan.texts import read_level
from pewter.tasks.reviewing import ReviewRequest, review

from .ending import Output, exit_status, put_out
from .surroundings import Terminal


def run_review(request: ReviewRequest, output: Output) -> int:
    """Take the look, judge it, print and write."""
    fail_on = read_level(request.fail_on)
    output.check()
    made = review(request, Terminal())
    failed = put_out(made, output)
    return exit_status(made, fail_on, failed=failed)
