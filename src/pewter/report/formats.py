"""The table of formats: one row each, and pure functions from a review to octets."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from pewter.errors import UsageError
from pewter.judge.comparison import write_comparison
from pewter.judge.review import Review, write_review

from .html import render_html, render_html_changes
from .icalendar import render_icalendar
from .junit import render_junit
from .markdown import render_markdown, render_markdown_changes
from .metrics import render_openmetrics, render_textfile
from .rows import render_rows
from .sarif import render_sarif, render_sarif_changes
from .text import render_text


@dataclass(frozen=True)
class Format:
    """One way to write a review down."""

    suffix: str
    title: str
    render: Callable[[Review], bytes]


FORMATS = (
    Format(".json", "JSON, to be read again", write_review),
    Format(".txt", "the report as plain text", render_text),
    Format(".html", "HTML, one file that loads nothing", render_html),
    Format(".md", "Markdown, for a ticket", render_markdown),
    Format(".csv", "CSV, one row an outcome", render_rows),
    Format(".sarif", "SARIF 2.1.0, for code scanning", render_sarif),
    Format(".xml", "JUnit XML, for build servers", render_junit),
    Format(".ics", "iCalendar, what ends when", render_icalendar),
    Format(".om", "OpenMetrics", render_openmetrics),
    Format(".prom", "the text format of a textfile collector", render_textfile),
)
"""The one table of formats."""


COMPARISON_FORMATS = {
    ".html": render_html_changes,
    ".md": render_markdown_changes,
    ".json": write_comparison,
    ".sarif": render_sarif_changes,
}
"""Of what changed between two reviews, older and newer."""


def render(review: Review, suffix: str) -> bytes:
    """A review in the format of a suffix; the same review gives the same octets.  UsageError for no such format."""
    for each in FORMATS:
        if each.suffix == suffix:
            return each.render(review)
    raise UsageError(f"{suffix!r} is no format; there are {', '.join(each.suffix for each in FORMATS)}.")


def check_format(path: Path, suffixes: Iterable[str] | None = None) -> None:
    """UsageError for a file whose suffix is that of no format, of a review's where none are given."""
    known = tuple(suffixes) if suffixes is not None else tuple(each.suffix for each in FORMATS)
    if path.suffix not in known:
        raise UsageError(f"--write {path}: the suffix says the format; it can be {', '.join(known)}.")
