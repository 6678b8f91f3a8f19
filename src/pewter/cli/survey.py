"""``pewter survey``."""

from collections.abc import Sequence
from pathlib import Path

from pewter.errors import FileError, NotReviewedError, UsageError
from pewter.levels import Level
from pewter.plan.texts import read_level
from pewter.report.formats import OF_SURVEYS
from pewter.report.many import render_summary
from pewter.tasks.surveying import Surveyed, SurveyRequest, show_survey, survey

from .ending import INTERRUPTED, check_files, write_each
from .output import output_marks, output_width, print_text
from .saying import say
from .surroundings import Terminal


def run_survey(request: SurveyRequest | None, show: Path | None, fail_on: str | None, write: Sequence[Path]) -> int:
    """Look at every site of the list that waits, and show what was found; 130 where it was broken off.

    ``show``: only what the folder tells.
    """
    check_files(write, OF_SURVEYS)
    level = read_level(fail_on) if fail_on is not None else None
    if show is not None:
        return _tell(show_survey(show), write, level)
    if request is None:
        raise UsageError("Give a list and a folder for what is found: pewter survey sites.txt --into survey")
    surveyed = survey(request, Terminal())
    status = _tell(surveyed, write, level)
    return INTERRUPTED if surveyed.broken_off else status


def _tell(surveyed: Surveyed, files: Sequence[Path], fail_on: Level | None) -> int:
    found = surveyed.found
    failed = write_each(files, lambda file: OF_SURVEYS.render(file.suffix, found))
    print_text(render_summary(found, output_width(), output_marks()))
    if failed:
        return FileError.exit_status
    reached, levels = found.tally.reached, found.tally.levels
    if fail_on is not None and any(levels[level.value] for level in Level if level.rank <= fail_on.rank):
        return 1
    if not reached:
        say("no site was reached: of none of them is anything known")
        return NotReviewedError.exit_status
    if fail_on is not None and reached < found.sites:
        say(f"{found.sites - reached:,} of {found.sites:,} sites were not reached: nothing is known of them")
    return 0
