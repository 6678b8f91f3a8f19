"""How a command with a judged review ends: its files, and its exit status."""

from collections.abc import Callable, Sequence
from pathlib import Path

from pewter.errors import OWN_FAULT, NotReviewedError, PewterError, own_fault_words
from pewter.judge.counts import reaches
from pewter.judge.outcomes import Level
from pewter.judge.review import Review
from pewter.plan.files import write_whole
from pewter.report.formats import render

from .saying import say

INTERRUPTED = 130


def write_files(files: Sequence[Path], review: Review) -> bool:
    """A review in the format of each."""
    return write_each(files, lambda file: render(review, file.suffix))


def write_each(files: Sequence[Path], make: Callable[[Path], bytes]) -> bool:
    """Each by itself: whether any failed, which is said and costs neither the others nor the report."""
    failed = False
    for file in files:
        try:
            write_whole(file, make(file))
            say(f"wrote {file}")
        except PewterError as exc:
            failed = True
            say(str(exc))
    return failed


def exit_status(review: Review, fail_on: Level) -> int:
    """Of a judged review (DESIGN.md section 4).  Raises NotReviewedError."""
    if review.evidence.interrupted:
        return INTERRUPTED
    if review.evidence.faults:
        fault = review.evidence.faults[0]
        say(own_fault_words(f"{fault.what}: {fault.detail}"))
        return OWN_FAULT
    results = review.results
    if not results.was_reviewed:
        raise NotReviewedError(f"{review.evidence.plan.first} could not be reviewed: {results.why_not}.")
    return 1 if reaches(results.outcomes, fail_on) else 0
