"""A survey as one HTML page: what was found, charts with their numbers, and a table of all sites.

The table is whole without a script; with it, it can be sorted and filtered.  Nothing is loaded.
"""

import base64
import hashlib
from collections.abc import Sequence

import msgspec

from pewter.data import text_beside
from pewter.errors import UsageError
from pewter.judge.summary import Row

from . import charts, many
from .html import MARKS, template
from .many import Found

HEADS = {
    "site": "site",
    "worst": "worst",
    "breaks": "breaks",
    "exposes": "exposes",
    "weakens": "weakens",
    "opens": "a visitor meets",
    "versions": "versions",
    "days_left": "days left",
    "hsts_age": "HSTS days",
    "issuer": "issuer",
    "seconds": "seconds",
}
"""Columns of the page's table, and their heads."""

_NUMBERS = frozenset({"breaks", "exposes", "weakens", "days_left", "hsts_age", "seconds"})


def render_survey_page(found: Found) -> bytes:
    """In UTF-8; without Matplotlib the numbers stand alone."""
    script = _script()
    digest = base64.b64encode(hashlib.sha256(script.encode("utf-8")).digest()).decode("ascii")
    reached = found.tally.reached
    text: str = template("survey.html.j2").render(
        script=script,
        digest=digest,
        sites=found.sites,
        looked_at=len(found.rows),
        reached=reached,
        is_whole=found.is_whole,
        at=f"{found.at:%Y-%m-%d %H:%M}" if found.at is not None else "",
        levels=[(level, count, MARKS.get(level, MARKS["holds"])) for level, count in many.worst_levels(found)],
        parts=_parts(found),
        heads=[(name, HEADS[name], name in _NUMBERS) for name in HEADS],
        rows=[_row(row) for row in found.worst_rows],
        left_out=max(len(found.rows) - many.MAX_PAGE_ROWS, 0),
        marks=MARKS,
    )
    return text.encode("utf-8", "replace")


def _script() -> str:
    return text_beside(__file__, "templates", "survey.js").strip()


def _row(row: Row) -> list[tuple[str, str, str]]:
    """Words, the value to sort by, and the class of each cell."""
    cells = []
    for name in HEADS:
        value = row[name]
        words, css = "" if value is None else str(value), "num" if name in _NUMBERS else ""
        match name:
            case "worst" if not row["reached"]:
                words, css = f"not reached: {row['error'] or ''}", "unknown"
            case "worst":
                words, css = value or "no gap", value or "holds"
            case "hsts_age" if value is not None:
                words = str(value // 86400)
            case "seconds":
                words = f"{value:.1f}"
        order = _LEVEL_ORDER.get(row["worst"] or "", 4 if row["reached"] else 5) if name == "worst" else value
        cells.append((words, "" if order is None else str(order), css))
    return cells


_LEVEL_ORDER = {"breaks": 0, "exposes": 1, "weakens": 2, "note": 3}


class _Part(msgspec.Struct, frozen=True):
    """What was counted, with its n."""

    title: str
    n: str
    counts: Sequence[tuple[str, int]]
    colours: Sequence[str] = ()

    @property
    def chart(self) -> str:
        """Empty where Matplotlib is not installed: the numbers stand beside it anyway."""
        try:
            return charts.bars(self.counts, self.title, ".svg", self.colours).decode("utf-8")
        except UsageError:
            return ""


def _parts(found: Found) -> list[_Part]:
    tally = found.tally
    reached, with_version, with_policy, with_end = tally.reached, tally.with_version, tally.with_policy, tally.with_end
    levels, rules, weeks = many.worst_levels(found), many.main_rules(found), many.ends_by_week(found)
    by_level = charts.colours_of([level for level, _ in levels])
    by_rule = charts.colours_of([level for _, level, _ in rules])
    of_rules = [(f"{rule} ({level})", count) for rule, level, count in rules]
    parts = [
        _Part("Sites by worst level", f"n = {reached:,} reached", levels if reached else (), by_level),
        _Part("Gaps by rule", f"worst level first, sites with each, n = {reached:,}", of_rules, by_rule),
        _Part("Certificates by week of their end", f"n = {with_end:,}", weeks),
        _Part("Lives by issuer", f"mean days of a life, n = {with_end:,}", many.lives_by_issuer(found)),
        _Part("Protocol versions", f"sites that speak each, n = {with_version:,}", many.newest_versions(found)),
        _Part("HSTS max-age", f"n = {with_policy:,}", many.hsts_ages(found) if with_policy else ()),
        _Part("Time a site", f"n = {len(found.rows):,}", many.seconds_of_sites(found)),
    ]
    return [part for part in parts if part.counts]
