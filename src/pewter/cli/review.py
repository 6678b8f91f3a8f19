"""``pewter review``: from what was typed to a look, a judgement and its output."""

from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from pewter.errors import OWN_FAULT, FileError
from pewter.judge.facts.case import Case
from pewter.judge.review import make_review
from pewter.plan.files import check_writable
from pewter.plan.own_files import read_har_file
from pewter.plan.settle import Typed, settle
from pewter.plan.texts import read_as_of, read_level
from pewter.report.formats import check_format, render

from .ending import exit_status, write_files
from .looking import take_look
from .output import print_octets, print_report
from .progress import show_progress
from .saying import say

WRONG_FILE = FileError.exit_status


@dataclass(frozen=True)
class ReviewCommand:
    """The options as typed."""

    typed: Typed = field(default_factory=Typed)
    har: tuple[Path, ...] = ()
    as_of: str | None = None
    fail_on: str = "exposes"
    write: tuple[Path, ...] = ()
    json: bool = False
    full: bool = False


def run_review(command: ReviewCommand, folder: Path) -> int:
    """Take the look, judge it, print and write; the exit status of DESIGN.md section 4."""
    fail_on = read_level(command.fail_on)
    as_of = read_as_of(command.as_of)
    for file in command.write:
        check_format(file)
        check_writable(file)
    recordings = [read_har_file(file) for file in command.har]
    settled = settle(command.typed, folder, say)
    with show_progress() as progress:
        evidence = take_look(settled.plan, settled.given, progress)
    for journeys, pages in recordings:
        evidence = msgspec.structs.replace(
            evidence, journeys=(*evidence.journeys, *journeys), pages=(*evidence.pages, *pages)
        )
    terms = msgspec.structs.replace(settled.terms, fail_on=fail_on.value)
    review = make_review(Case(evidence, terms, as_of or evidence.begun, settled.given.stores))
    failed = write_files(command.write, review)
    if command.json:
        print_octets(render(review, ".json"))
    else:
        print_report(review, full=command.full)
    status = exit_status(review, fail_on)
    return WRONG_FILE if failed and status < OWN_FAULT else status
