"""``pewter expiry``."""

from collections.abc import Sequence
from pathlib import Path

from pewter.plan.files import write_whole
from pewter.report.endings import render_endings
from pewter.report.formats import OF_ENDINGS
from pewter.tasks.expiring import ExpiryRequest, expiry

from .ending import check_files
from .output import output_marks, output_width, print_text
from .saying import say
from .surroundings import Terminal


def run_expiry(request: ExpiryRequest, write: Sequence[Path]) -> int:
    """A list, soonest first; 0 wherever something could be read."""
    check_files(write, OF_ENDINGS)
    found = expiry(request, Terminal())
    for file in write:
        write_whole(file, OF_ENDINGS.render(file.suffix, found.endings, found.at))
        say(f"wrote {file}")
    print_text(render_endings(found.endings, found.at, output_width(), output_marks(), found.notes))
    return 0
