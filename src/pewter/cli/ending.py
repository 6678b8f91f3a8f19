"""How a command with a judged review ends: its files, what it prints, and its exit status."""

import os
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from pewter.errors import OWN_FAULT, FileError, NotReviewedError, PewterError, UsageError, own_fault_words
from pewter.judge.counts import reaches
from pewter.judge.review import Review
from pewter.levels import Level
from pewter.plan.files import check_writable, write_whole
from pewter.report.formats import OF_REVIEWS, Formats

from .output import output_marks, output_width, print_octets, print_report, print_text
from .saying import say

INTERRUPTED = 130
DIFF = ".diff"


class Output(msgspec.Struct, frozen=True):
    """The options that every command with a judged review shares."""

    write: tuple[Path, ...] = ()
    json: bool = False
    full: bool = False
    """Every gap in full, not only what breaks or exposes."""

    server_config: tuple[Path, ...] = ()
    """The server's own configuration, to which the lines are fitted."""

    def check(self, formats: Formats = OF_REVIEWS) -> None:
        """Before the work what would fail after it."""
        if self.diffs and not self.server_config:
            raise UsageError(f"--write {self.diffs[0]}: a diff is of a configuration: --server-config FILE.")
        check_files(self.reviews, formats)
        for file in self.diffs:
            check_writable(file)
        if self.server_config:
            from pewter.plan.server_files import check_server_files  # noqa: PLC0415

            check_server_files(self.server_config)

    @property
    def diffs(self) -> tuple[Path, ...]:
        return tuple(file for file in self.write if file.suffix == DIFF)

    @property
    def reviews(self) -> tuple[Path, ...]:
        return tuple(file for file in self.write if file.suffix != DIFF)


def check_files(files: Sequence[Path], formats: Formats) -> None:
    """UsageError for a suffix of no format, FileError for a file that cannot be written."""
    for file in files:
        formats.check(file)
        check_writable(file)


def write_files(files: Sequence[Path], review: Review) -> bool:
    """A review in the format of each."""
    return write_each(files, lambda file: render(file.suffix, review))


def render(suffix: str, review: Review) -> bytes:
    """A review in a format; one that is read again is signed as this user's own."""
    octets = OF_REVIEWS.render(suffix, review)
    if suffix != ".json":
        return octets
    from pewter.plan.own_mark import signed  # noqa: PLC0415

    return signed(octets)


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
    failed = write_files(output.reviews, review)
    if output.json:
        print_octets(render(".json", review))
    elif is_brief and output.write:
        say(f"{review.evidence.plan.first}: {review.results.verdict}")
    else:
        print_report(review, full=output.full)
    if output.server_config:
        failed |= put_out_fitted(review, output.server_config, output.diffs, prints=not output.json)
    return failed


def put_out_fitted(
    review: Review, configuration: Sequence[Path], diffs: Sequence[Path], *, prints: bool = True
) -> bool:
    """The mend fitted to a configuration, printed and as files; whether one failed.  Raises UsageError or FileError."""
    from pewter.report.fitted import render_diff, render_fitted  # noqa: PLC0415
    from pewter.tasks.fitting import fit_review  # noqa: PLC0415

    found = fit_review(review, configuration, say)
    if prints:
        shown = str(diffs[0]) if diffs else ""
        print_text(
            render_fitted(
                found.fitted, found.title, output_width(), output_marks(),
                folder=os.path.relpath(found.folder), file=shown, later=found.later, others=found.others,
            )
        )  # fmt: skip
    return write_each(diffs, lambda file: render_diff(found.fitted))


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
