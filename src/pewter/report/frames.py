"""A survey as pandas frames, with types that are read back as they were written."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from pewter.errors import UsageError
from pewter.judge.summary import COLUMNS, Row
from pewter.levels import Level

from .many import Found

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
        found[name] = pandas.to_datetime(found[name], utc=True).astype("datetime64[us, UTC]")
    for name in _TEXTS:
        found[name] = found[name].astype("string")
    found["reached"] = found["reached"].astype(bool)
    found["seconds"] = found["seconds"].astype(float)
    found["worst"] = _levels(pandas, found["worst"])
    return found


def render_parquet(found: Found) -> bytes:
    """The frame as Parquet."""
    import io  # noqa: PLC0415

    out = io.BytesIO()
    try:
        frame(found.rows).to_parquet(out, index=False)
    except ImportError:
        raise UsageError("Parquet needs pyarrow, which is not installed here: pip install 'pewter[charts]'") from None
    return out.getvalue()


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
