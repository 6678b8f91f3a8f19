"""How a command with a judged review ends: its files, what it prints, and its exit status."""

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from pewter.errors import OWN_FAULT, FileError, NotReviewedError, PewterError, own_fault_words
from pewter.judge.counts import reaches
from pewter.judge.review import Review
from pewter.levels import Level
from pewter.plan.files import check_writable, write_whole
from pewter.report.formats import OF_REVIEWS, Formats

from .output import print_octets, print_report
from .saying import say

INTERRUPTED = 130


class Output(msgspec.Struct, frozen=True):
    """The options that every command with a judged review shares."""

    write: tuple[Path, ...] = ()
    json: bool = False
    full: bool = False
    """Every gap in full, not only what breaks or exposes."""

    def check(self, formats: Formats = OF_REVIEWS) -> None:
        """Before the work what would fail after it."""
        check_files(self.write, formats)


def check_files(files: Sequence[Path], formats: Formats) -> None:
    """UsageError for a suffix of no format, FileError for a file that cannot be written."""
    for file in files:
        formats.check(file)
        check_writable(file)


def write_files(files: Sequence[Path], review: Review) -> bool:
    """A review in the format of each."""
    return write_each(files, lambda file: OF_REVIEWS.render(file.suffix, review))


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


def put_out(review: Review, output: Output, *, is_brief: bool = False) -> bool:
    """Write and print; whether a file failed.  Brief: where something is written, the verdict says enough."""
    failed = write_files(output.write, review)
    if output.json:
        print_octets(OF_REVIEWS.render(".json", review))
    elif is_brief and output.write:
        say(f"{review.evidence.plan.first}: {review.results.verdict}")
    else:
        print_report(review, full=output.full)
    return failed


def exit_status(review: Review, fail_on: Level, *, failed: bool = False) -> int:
    """0 where no gap reaches the level, 1 where one does, 2 where a file failed, 4 for a fault of ours, 130 where it
    was interrupted.  Raises NotReviewedError."""
    status = _exit_status(review, fail_on)
    return FileError.exit_status if failed and status < FileError.exit_status else status


def _exit_status(review: Review, fail_on: Level) -> int:
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
