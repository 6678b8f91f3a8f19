"""``pewter report``, ``judge`` and ``compare``: saved reviews, without the network."""

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec
from rich.text import Text

from pewter.judge.review import Review
from pewter.levels import Level
from pewter.plan.files import write_whole
from pewter.plan.texts import read_level
from pewter.report.changes import render_changes
from pewter.report.course import render_course
from pewter.report.formats import OF_COMPARISONS, OF_COURSES, OF_RUNS, Formats
from pewter.tasks.expiring import SURVEY
from pewter.tasks.saved import JudgeRequest, compare_files, compare_runs, course, judge, read_report

from .ending import Output, check_files, exit_status, put_out
from .output import output_marks, output_width, print_octets, print_text
from .saying import say


def run_report(path: Path, site: str | None, fail_on: str | None, output: Output) -> int:
    """Print a saved review as it was judged, or write it in other formats."""
    return _put_out(read_report(path, site), fail_on, output)


def run_judge(request: JudgeRequest, fail_on: str | None, output: Output) -> int:
    """Print what comes of judging again, or write it."""
    return _put_out(judge(request), fail_on, output)


def _put_out(review: Review, fail_on: str | None, output: Output) -> int:
    if fail_on is not None:
        review = msgspec.structs.replace(
            review, terms=msgspec.structs.replace(review.terms, fail_on=read_level(fail_on).value)
        )
    output.check()
    failed = put_out(review, output, is_brief=True)
    return exit_status(review, read_level(review.terms.fail_on), failed=failed)


def run_compare(reviews: Sequence[Path], write: Sequence[Path] = (), *, json: bool = False) -> int:
    """Say what changed; 1 where gaps at or above the level of the newer review opened, or could not be seen again.

    Of a survey's folder its last two runs, of a folder of reviews or of more than two the course of their site.
    """
    if len(reviews) == 1 and not (reviews[0].is_dir() and not (reviews[0] / SURVEY).is_file()):
        return _compare_runs(reviews[0], write, json=json)
    if len(reviews) != _PAIR or any(each.is_dir() for each in reviews):
        return _tell_course(reviews, write, json=json)
    old, new = reviews
    found = compare_files(old, new)
    check_files(write, OF_COMPARISONS)
    for file, remark in zip((old, new), found.remarks, strict=True):
        if remark:
            say(f"{file}: {remark}")
    result = (found.before, found.after, found.remarks)
    _tell(OF_COMPARISONS, result, write, lambda: render_changes(found.comparison, output_width(), output_marks()), json)
    return 1 if found.comparison.in_doubt(read_level(found.after.terms.fail_on)) else 0


_PAIR = 2


def _tell_course(paths: Sequence[Path], write: Sequence[Path], *, json: bool) -> int:
    """1 where a gap that breaks or exposes is open at the last look, or could not be seen by it."""
    check_files(write, OF_COURSES)
    found = course(paths, say)
    _tell(OF_COURSES, (found,), write, lambda: render_course(found, output_width(), output_marks()), json)
    return 1 if any(each.is_open and each.level.rank <= Level.EXPOSES.rank for each in found.spells) else 0


def _compare_runs(folder: Path, write: Sequence[Path], *, json: bool) -> int:
    """1 where gaps that break or expose opened from one run of a survey to the next, or could not be seen again."""
    from pewter.report.many import render_run_changes  # noqa: PLC0415

    check_files(write, OF_RUNS)
    changes = compare_runs(folder)
    _tell(OF_RUNS, (changes,), write, lambda: render_run_changes(changes, output_width(), output_marks()), json)
    return 1 if changes.in_doubt(read_level("exposes")) else 0


def _tell(
    formats: Formats, result: tuple[object, ...], write: Sequence[Path], draw: Callable[[], Text], as_json: bool
) -> None:
    """Write a result into files, and print it: as JSON, or drawn for a terminal."""
    for file in write:
        write_whole(file, formats.render(file.suffix, *result))
        say(f"wrote {file}")
    if as_json:
        print_octets(formats.render(".json", *result))
    else:
        print_text(draw())
