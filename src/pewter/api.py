"""The interface for Python programs: what the commands do, as functions.

review = pewter.review("www.x.example")
page = pewter.render(review, ".html")
"""

import asyncio
import datetime
import html
import re
import threading
from collections.abc import Coroutine, Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import msgspec

from pewter.errors import UsageError
from pewter.evidence import Evidence, Plan
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.gather.board import Given
from pewter.gather.look import Interruption
from pewter.gather.look import look as _look
from pewter.gather.scene import Silence
from pewter.judge.comparison import Comparison, compare
from pewter.judge.course import Course, course_of
from pewter.judge.review import Review, make_review
from pewter.levels import Level
from pewter.plan.request import LookRequest
from pewter.plan.root_stores import own_stores
from pewter.plan.saved_reviews import read_saved
from pewter.plan.settle import Settled
from pewter.plan.settle import settle as _settle
from pewter.plan.texts import read_as_of
from pewter.report.formats import OF_REVIEWS
from pewter.tasks.expiring import Endings

if TYPE_CHECKING:
    import pandas

__all__ = [
    "Comparison",
    "Course",
    "Evidence",
    "Interruption",
    "LookRequest",
    "Plan",
    "Review",
    "Settled",
    "Terms",
    "compare",
    "course",
    "frame",
    "judge",
    "look",
    "plot",
    "read_review",
    "render",
    "review",
    "settle",
    "survey_frame",
]


def settle(*targets: str, folder: Path | str | None = None, **options: Any) -> Settled:
    """What to look at and by which terms; the options are the fields of LookRequest, as in ``routes=["x=192.0.2.7"]``.

    ``folder``: whose ``pewter.toml`` counts; without it none does.  The result has the ``plan``, the ``terms`` and what
    the reviewer's own files hold.  Raises UsageError or FileError, and TypeError for an option that there is none of.
    """
    made = {name: _as_field(name, value) for name, value in options.items()}
    for target in targets:
        _is_text("a target", target)
    request = LookRequest(targets=targets, uses_site_file=folder is not None, **made)
    try:
        return _settle(request, Path(folder) if folder is not None else Path(), lambda words: None)
    except UsageError as exc:
        raise UsageError(_OPTION.sub(_in_python, str(exc))) from exc


_FILES = frozenset({"trust", "trust_only", "certificates", "ct_logs"})
_OPTION = re.compile(r"--([a-z][a-z-]+)")
_KINDS = {field.name: field.type for field in msgspec.structs.fields(LookRequest)}


def _in_python(match: re.Match[str]) -> str:
    """An option of the commands by the name that it has here."""
    name = match[1].replace("-", "_")
    return next((each for each in (name, f"{name}s") if each in _KINDS), match[0])


def _as_field(name: str, value: Any) -> Any:
    """Lists as tuples, one text as the list of it, names of files as paths; TypeError in one sentence for all else."""
    kind = _KINDS.get(name)
    if kind is None:
        raise TypeError(f"{name} is no option of a look; there are {', '.join(_KINDS)}")
    if kind in {tuple[str, ...], tuple[Path, ...]}:
        values = [value] if isinstance(value, str | Path) else value
        if not isinstance(values, Iterable) or isinstance(values, bytes | dict):
            raise TypeError(f"{name} is a list of texts, or one text; it was given {value!r:.60}")
        values = list(values)
        for each in values:
            if not isinstance(each, Path if name in _FILES else str):
                _is_text(f"each of {name}", each)
        return tuple(Path(each) if name in _FILES else each for each in values)
    if kind is bool and not isinstance(value, bool):
        raise TypeError(f"{name} is True or False; it was given {value!r:.60}")
    if name == "timeout" and value is not None and (isinstance(value, bool) or not isinstance(value, int | float)):
        raise TypeError(f"timeout is a number of seconds; it was given {value!r:.60}")
    if kind in {str, str | None} and value is not None:
        _is_text(name, value)
    return value


def _is_text(what: str, value: Any) -> None:
    if not isinstance(value, str):
        raise TypeError(f"{what} is a text; it was given {value!r:.60}")


def review(
    *targets: str, folder: Path | str | None = None, as_of: str | datetime.datetime | None = None, **options: Any
) -> Review:
    """Settle, look and judge in one: a plain function, also where a loop runs already, as in a notebook.

    Options as of :func:`settle`; raises as it does.
    """
    settled = settle(*targets, folder=folder, **options)
    return judge(_waited_for(look(settled)), settled.terms, as_of=as_of)


_T = TypeVar("_T")


def _waited_for(work: Coroutine[Any, Any, _T]) -> _T:
    """In a loop of its own: in this thread, or, where this one has a loop that runs, in another."""
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return asyncio.run(work)
    ended: list[_T | BaseException] = []

    def run() -> None:
        try:
            ended.append(asyncio.run(work))
        except BaseException as exc:
            ended.append(exc)

    thread = threading.Thread(target=run, name="pewter review", daemon=True)
    thread.start()
    thread.join()
    (found,) = ended
    if isinstance(found, BaseException):
        raise found
    return found


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


def course(reviews: Iterable[Review]) -> Course:
    """Of several reviews of one site: when each gap opened and closed.  ValueError for none at all."""
    found = list(reviews)
    if not found:
        raise ValueError("a course is of at least one review")
    return course_of((f"look {number}", each) for number, each in enumerate(found, start=1))


def frame(what: Any, *, checks: bool = False) -> "pandas.DataFrame":
    """A table of a review (its gaps; with ``checks`` all that was checked), a comparison, a course, or endings.

    Raises UsageError where pandas is not installed, TypeError for anything else.
    """
    from pewter.report import frames  # noqa: PLC0415

    match what:
        case Review():
            return frames.frame_of_checks(what) if checks else frames.frame_of_gaps(what)
        case Comparison():
            return frames.frame_of_changes(what)
        case Course():
            return frames.frame_of_course(what)
        case Endings():
            return frames.frame_of_endings(what.endings)
    raise TypeError(f"there is no frame of {type(what).__name__}: a review, a comparison, a course, or endings")


def plot(what: Any, suffix: str = ".svg") -> "Picture":
    """A picture of a review (its gaps by level), a comparison (by what became of them), a course, endings, or a frame.

    In a notebook it is shown; ``octets`` are those of an ``.svg`` or ``.png``.  Raises UsageError without Matplotlib.
    """
    from pewter.report import charts  # noqa: PLC0415
    from pewter.report import course as of_course  # noqa: PLC0415

    levels = [level.value for level in Level]
    match what:
        case Review():
            counts = [(level, what.results.counts.get(level, 0)) for level in levels]
            return Picture(
                charts.bars(counts, f"Gaps of {what.evidence.plan.first}", suffix, charts.colours_of(levels)), suffix
            )
        case Comparison():
            changes = [(change.value, len(gaps)) for change, gaps in what.groups.items()] or [("no gap", 0)]
            return Picture(charts.bars(changes, f"What became of the gaps of {what.site}", suffix), suffix)
        case Course():
            drawn = of_course.render_svg(what) if suffix == ".svg" else of_course.render_png(what)
            return Picture(drawn, suffix)
        case Endings():
            return Picture(charts.timeline(what.endings, what.at, suffix), suffix)
        case _ if {"worst", "reached"} <= set(getattr(what, "columns", ())):
            reached = what[what["reached"]]
            counts = [(level, int((reached["worst"] == level).sum())) for level in levels]
            counts += [("no gap", int(reached["worst"].isna().sum())), ("not reached", int((~what["reached"]).sum()))]
            return Picture(charts.bars(counts, "Sites by worst level", suffix, charts.colours_of(levels)), suffix)
    raise TypeError(f"there is no picture of {type(what).__name__}")


class Picture(msgspec.Struct, frozen=True, repr_omit_defaults=True):
    """A drawing, which a notebook shows."""

    octets: bytes
    suffix: str

    def __repr__(self) -> str:
        return f"<Picture, {len(self.octets)} octets of {self.suffix}>"

    def _repr_svg_(self) -> str | None:
        return self.octets.decode("utf-8") if self.suffix == ".svg" else None

    def _repr_png_(self) -> bytes | None:
        return self.octets if self.suffix == ".png" else None


def _shown(what: Review) -> str:
    """The report, in a frame of its own: neither its styles nor those of the notebook reach the other."""
    page = html.escape(OF_REVIEWS.render(".html", what).decode("utf-8"))
    return f'<iframe srcdoc="{page}" sandbox style="width: 100%; height: 40em; border: 1px solid #ccc"></iframe>'


Review._repr_html_ = _shown  # type: ignore[attr-defined]  # of reports the judge knows nothing


def survey_frame(folder: Path | str) -> "pandas.DataFrame":
    """A survey's sites as a table, one row each.  Raises FileError for a folder without one; needs pandas."""
    from pewter.tasks.surveying import survey_frame as frame_of  # noqa: PLC0415

    return frame_of(Path(folder))
