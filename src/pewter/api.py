"""The interface for Python programs: what the commands do, as functions.

plan = pewter.settle("www.x.example")
evidence = asyncio.run(pewter.look(plan))
review = pewter.judge(evidence, plan.terms)
page = pewter.render(review, ".html")
"""

import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pewter.evidence import Evidence, Plan
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.gather.board import Given
from pewter.gather.look import Interruption
from pewter.gather.look import look as _look
from pewter.gather.scene import Silence
from pewter.judge.comparison import Comparison, compare
from pewter.judge.review import Review, make_review
from pewter.plan.request import LookRequest
from pewter.plan.root_stores import own_stores
from pewter.plan.saved_reviews import read_saved
from pewter.plan.settle import Settled
from pewter.plan.settle import settle as _settle
from pewter.plan.texts import read_as_of
from pewter.report.formats import OF_REVIEWS

if TYPE_CHECKING:
    import pandas

__all__ = ["Comparison", "Evidence", "Interruption", "LookRequest", "Plan", "Review", "Settled", "Terms", "compare",
           "judge", "look", "read_review", "render", "settle", "survey_frame"]  # fmt: skip


def settle(*targets: str, folder: Path | str | None = None, **options: Any) -> Settled:
    """What to look at and by which terms; the options are the fields of LookRequest, as in ``routes=["x=192.0.2.7"]``.

    ``folder``: whose ``pewter.toml`` counts; without it none does.  The result has the ``plan``, the ``terms`` and what
    the reviewer's own files hold.  Raises UsageError or FileError, and TypeError for an option that there is none of.
    """
    made = {name: _as_field(name, value) for name, value in options.items()}
    request = LookRequest(targets=targets, uses_site_file=folder is not None, **made)
    return _settle(request, Path(folder) if folder is not None else Path(), lambda words: None)


_FILES = frozenset({"trust", "trust_only", "certificates", "ct_logs"})


def _as_field(name: str, value: Any) -> Any:
    """Lists as tuples, names of files as paths."""
    if isinstance(value, list | tuple):
        return tuple(Path(each) if name in _FILES else each for each in value)
    return value


async def look(plan: Settled | Plan, interruption: Interruption | None = None) -> Evidence:
    """Take one look; never raises for what the site does.  A plan alone goes by this machine's root stores.

    ``interruption.interrupt()`` ends it: what was seen so far is the evidence.  Whoever cancels the task, or has a
    timeout of their own around it, is told so as by any other coroutine; either way nothing of the look goes on.
    """
    if isinstance(plan, Plan):
        return await _look(plan, Given(own_stores()), Silence(), interruption=interruption)
    return await _look(plan.plan, plan.given, Silence(), interruption=interruption)


def judge(evidence: Evidence, terms: Terms | None = None, *, as_of: str | datetime.datetime | None = None) -> Review:
    """Judge evidence by this machine's root stores, for the moment of the look or another: a date, ``2027-03-01``.

    Raises UsageError for what is no date.
    """
    at = read_as_of(as_of) if isinstance(as_of, str) else as_of
    return make_review(Case(evidence, terms or Terms(), at or evidence.begun, own_stores()))


def read_review(path: Path | str) -> Review:
    """A saved review.  Raises FileError for anything else."""
    return read_saved(Path(path))


def render(review: Review, suffix: str) -> bytes:
    """A review in the format of a suffix, ``.html`` or ``.sarif``.  Raises UsageError for one that there is none of."""
    return OF_REVIEWS.render(suffix, review)


def survey_frame(folder: Path | str) -> "pandas.DataFrame":
    """A survey's sites as a table, one row each.  Raises FileError for a folder without one; needs pandas."""
    from pewter.tasks.surveying import survey_frame as frame_of  # noqa: PLC0415

    return frame_of(Path(folder))
