"""A review: settled, looked at, judged."""

from pathlib import Path

import msgspec

from pewter.facts.case import Case
from pewter.judge.door import MOST_OF
from pewter.judge.review import Review, make_review
from pewter.plan.own_files import read_har_file
from pewter.plan.own_mark import marked
from pewter.plan.request import LookRequest
from pewter.plan.settle import settle
from pewter.plan.texts import read_as_of, read_level

from .surroundings import Alone, Surroundings

MOST_RECORDED = MOST_OF["journeys"] - 3_000
"""Ways out of recordings: a review is read again within the same bounds."""


class ReviewRequest(msgspec.Struct, frozen=True):
    """What is to be reviewed, and how it is judged."""

    look: LookRequest = msgspec.field(default_factory=LookRequest)
    har: tuple[Path, ...] = ()
    """Recordings of a browser."""

    as_of: str | None = None
    fail_on: str = "exposes"
    folder: Path = msgspec.field(default_factory=Path)
    """Whose ``pewter.toml`` counts."""


def review(request: ReviewRequest, around: Surroundings | None = None) -> Review:
    """Take the look and judge it.  UsageError or FileError for what cannot be asked; never for what a site does."""
    around = around or Alone()
    fail_on = read_level(request.fail_on)
    as_of = read_as_of(request.as_of)
    recordings = [read_har_file(file, around.say) for file in request.har]
    settled = settle(request.look, request.folder, around.say)
    evidence = around.look(settled.plan, settled.given)
    journeys = [each for recording in recordings for each in recording.journeys]
    if len(journeys) > MOST_RECORDED:
        around.say(f"left out: {len(journeys) - MOST_RECORDED:,} of {len(journeys):,} recorded ways")
    evidence = msgspec.structs.replace(
        evidence,
        journeys=(*evidence.journeys, *journeys[:MOST_RECORDED]),
        pages=(*evidence.pages, *(page for each in recordings for page in each.pages)),
    )
    terms = msgspec.structs.replace(settled.terms, fail_on=fail_on.value)
    return marked(make_review(Case(evidence, terms, as_of or evidence.begun, settled.given.stores)))
