"""Pandas frames of surveys, reviews, comparisons, courses and what ends, with types that are read back as written."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from pewter.errors import UsageError
from pewter.judge.comparison import Comparison
from pewter.judge.course import Course
from pewter.judge.endings import Ending
from pewter.judge.outcomes import Accepted, Gap, Outcome, Unknown
from pewter.judge.review import Review
from pewter.judge.summary import COLUMNS, Row
from pewter.levels import Level

from .many import Found, batched

if TYPE_CHECKING:
    import pandas

_WHOLE = ("names", "breaks", "exposes", "weakens", "notes", "unknown", "days_left", "hsts_age", "connections", "run")
_MOMENTS = ("not_before", "not_after", "renewal", "looked_at")
_TEXTS = ("site", "lands_on", "opens", "versions", "key", "issuer", "caa", "error")


def frame(rows: Sequence[Row]) -> "pandas.DataFrame":
    """Counts are integers that may be unknown, moments are UTC, levels are ordered."""
    pandas = _pandas()
    found = pandas.DataFrame([[row[name] for name in COLUMNS] for row in rows], columns=list(COLUMNS))
    for name in _WHOLE:
        found[name] = found[name].astype("Int64")
    for name in _MOMENTS:
        found[name] = _moments(pandas, found[name])
    for name in _TEXTS:
        found[name] = found[name].astype("string")
    found["reached"] = found["reached"].astype(bool)
    found["seconds"] = found["seconds"].astype(float)
    found["worst"] = _levels(pandas, found["worst"])
    return found


def frame_of_gaps(review: Review) -> "pandas.DataFrame":
    """One row a gap and place: rule, level, title, place, host, what was seen and what was expected."""
    titles = review.results.titles
    gaps = [(each, each.outcome) for each in review.results.outcomes if isinstance(each.outcome, Gap)]
    rows = [
        (each.rule, each.level.value, titles.get(each.rule, ""), gap.where.text, gap.where.host, gap.seen, gap.expected)
        for each, gap in gaps
    ]
    return _of_texts(rows, ("rule", "level", "title", "place", "host", "seen", "expected"))


def frame_of_checks(review: Review) -> "pandas.DataFrame":
    """One row a check: rule, level, what came of it (holds, gap, accepted, unknown), its place and words."""
    rows = [(each.rule, each.level.value, *_told(each.outcome)) for each in review.results.outcomes]
    return _of_texts(rows, ("rule", "level", "outcome", "place", "words"))


def _told(outcome: Outcome) -> tuple[str, str, str]:
    match outcome:
        case Gap():
            return "gap", outcome.where.text, outcome.seen
        case Accepted():
            return "accepted", outcome.gap.where.text, outcome.because
        case Unknown():
            return "unknown", outcome.where.text, outcome.reason
        case _:
            return "holds", outcome.where.text, outcome.seen


def frame_of_endings(endings: Sequence[Ending]) -> "pandas.DataFrame":
    """One row an end, soonest first: when (UTC), kind, where, words and the file that tells it."""
    rows = [(each.at, each.kind.value, each.where, each.words, each.source) for each in endings]
    return _of_texts(rows, ("at", "kind", "where", "words", "source"))


def frame_of_changes(comparison: Comparison) -> "pandas.DataFrame":
    """One row a gap of either review: what became of it, rule, level, title, place, what was seen before and after."""
    rows = [
        (each.change.value, each.rule, each.level.value, each.title, each.where.text, each.before, each.after)
        for each in comparison.gaps
    ]
    return _of_texts(rows, ("change", "rule", "level", "title", "place", "before", "after"))


def frame_of_course(course: Course) -> "pandas.DataFrame":
    """One row for each time that a gap was open; what is not known is missing."""
    rows = []
    for each in course.spells:
        least, most = each.days(course.last)
        end = each.end.value if each.end is not None else "open"
        moments = (each.not_before, each.first_seen, each.last_seen, each.ended)
        rows.append((each.rule, each.level.value, each.title, each.where.text, end, least, most, *moments))
    return _of_texts(rows, ("rule", "level", "title", "place", "end", *_OF_DAYS, *_OF_A_COURSE))


_OF_DAYS = ("days_at_least", "days_at_most")
_OF_A_COURSE = ("not_before", "first_seen", "last_seen", "ended")


def _of_texts(rows: Sequence[Sequence[Any]], names: Sequence[str]) -> "pandas.DataFrame":
    """Levels in their order, moments in UTC, days that may be unknown, and texts."""
    pandas = _pandas()
    made = pandas.DataFrame([list(row) for row in rows], columns=list(names))
    for name in names:
        if name == "level":
            made[name] = _levels(pandas, made[name])
        elif name in _OF_DAYS:
            made[name] = made[name].astype("Int64")
        elif name in {"at", *_OF_A_COURSE}:
            made[name] = _moments(pandas, made[name])
        else:
            made[name] = made[name].astype("string")
    return made


def render_parquet(found: Found) -> bytes:
    """The frame as Parquet."""
    import io  # noqa: PLC0415

    try:
        import pyarrow  # noqa: PLC0415
        import pyarrow.parquet  # noqa: PLC0415
    except ImportError:
        raise UsageError("Parquet needs pyarrow, which is not installed here: pip install 'pewter[charts]'") from None
    out = io.BytesIO()
    schema = pyarrow.Table.from_pandas(frame([]), preserve_index=False).schema
    with pyarrow.parquet.ParquetWriter(out, schema) as writer:
        for rows in batched(found.rows):
            writer.write_table(pyarrow.Table.from_pandas(frame(rows), schema=schema, preserve_index=False))
    return out.getvalue()


def _moments(pandas: Any, column: Any) -> Any:
    return pandas.to_datetime(column, utc=True).astype("datetime64[us, UTC]")


def _levels(pandas: Any, column: Any) -> Any:
    """Ordered from note to breaks."""
    ordered = [level.value for level in reversed(Level)]
    return column.astype(pandas.CategoricalDtype(ordered, ordered=True))


def _pandas() -> Any:
    try:
        import pandas  # noqa: PLC0415
    except ImportError:
        raise UsageError("Frames need pandas, which is not installed here: pip install 'pewter[charts]'") from None
    return pandas
