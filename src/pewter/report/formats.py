"""The tables of formats: for each kind of result one row a format, with the function that makes its octets.

A function is imported when its format is wanted: no command waits for the others, and the help reads these tables.
"""

import importlib
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from pewter.errors import UsageError
from pewter.escape import sealed


class Format(NamedTuple):
    """One way to write a result down."""

    suffix: str
    title: str
    function: str
    """``html.render_html`` of this part: takes the result, gives octets; the same result gives the same octets."""

    def load(self) -> Callable[..., bytes]:
        module, _, name = self.function.rpartition(".")
        made: Callable[..., bytes] = getattr(importlib.import_module(f"{__package__}.{module}"), name)
        return made


_LINES = frozenset({".txt", ".md", ".csv", ".ics", ".om", ".prom", ".html", ".xml", ".sarif"})
"""Suffixes of texts.  What is JSON escapes itself; pictures hold text of their own making."""


class Formats(NamedTuple):
    """All formats of one kind of result."""

    rows: tuple[Format, ...]
    is_large: bool = False
    """Written in pieces, each of which escapes what it is given."""

    @property
    def suffixes(self) -> tuple[str, ...]:
        return tuple(each.suffix for each in self.rows)

    def render(self, suffix: str, *result: object) -> bytes:
        """A result in the format of a suffix.  UsageError for no such format."""
        for each in self.rows:
            if each.suffix == suffix:
                octets = each.load()(*result)
                if suffix not in _LINES or self.is_large:
                    return octets
                return sealed(octets.decode("utf-8")).encode("utf-8")
        raise UsageError(f"{suffix!r} is no format; there are {', '.join(self.suffixes)}.")

    def check(self, path: Path) -> None:
        """UsageError for a file whose suffix is that of no format."""
        if path.suffix not in self.suffixes:
            raise UsageError(f"--write {path}: the suffix says the format; it can be {', '.join(self.suffixes)}.")


OF_REVIEWS = Formats(
    (
        Format(".json", "JSON, to be read again", "saved.render_json"),
        Format(".html", "HTML, one file that loads nothing", "html.render_html"),
        Format(".txt", "the report as plain text", "text.render_text"),
        Format(".md", "Markdown, for a ticket", "markdown.render_markdown"),
        Format(".csv", "CSV, one row an outcome", "rows.render_rows"),
        Format(".sarif", "SARIF 2.1.0, for code scanning", "sarif.render_sarif"),
        Format(".xml", "JUnit XML, for build servers", "junit.render_junit"),
        Format(".ics", "iCalendar, what ends when", "icalendar.render_icalendar"),
        Format(".om", "OpenMetrics", "metrics.render_openmetrics"),
        Format(".prom", "the text format of a textfile collector", "metrics.render_textfile"),
    )
)
"""Of a review."""

OF_COMPARISONS = Formats(
    (
        Format(".html", "HTML, one file that loads nothing", "html.render_html_changes"),
        Format(".md", "Markdown, for a ticket", "markdown.render_markdown_changes"),
        Format(".json", "JSON", "saved.render_json_changes"),
        Format(".sarif", "SARIF 2.1.0, with baseline states", "sarif.render_sarif_changes"),
    )
)
"""Of what changed between two reviews: the older one, the newer one, and what is to be remarked of each."""

OF_COURSES = Formats(
    (
        Format(".html", "HTML, one file that loads nothing", "course.render_html"),
        Format(".csv", "CSV, one row for each time a gap was open", "course.render_csv"),
        Format(".json", "JSON", "course.render_json"),
        Format(".svg", "a chart", "course.render_svg"),
        Format(".png", "a chart", "course.render_png"),
    )
)
"""Of the course of a site over several looks."""

OF_ENDINGS = Formats(
    (
        Format(".ics", "iCalendar", "icalendar.calendar"),
        Format(".csv", "CSV, one row an end", "endings.render_rows"),
        Format(".om", "OpenMetrics", "endings.render_openmetrics"),
        Format(".prom", "the text format of a textfile collector", "endings.render_textfile"),
        Format(".png", "a chart", "endings.render_png"),
        Format(".svg", "a chart", "endings.render_svg"),
    )
)
"""Of what ends when: the endings, soonest first, and the moment by which some are past."""

OF_SURVEYS = Formats(
    (
        Format(".csv", "CSV, one row a site", "many.render_csv"),
        Format(".json", "JSON", "many.render_json"),
        Format(".om", "OpenMetrics", "many.render_openmetrics"),
        Format(".parquet", "Parquet, typed columns", "frames.render_parquet"),
        Format(".html", "a page", "survey_page.render_survey_page"),
    ),
    is_large=True,
)
"""Of a survey as far as it has come."""

OF_RUNS = Formats((Format(".json", "JSON", "many.render_run_changes_json"),))
"""Of what changed from one run of a survey to the next."""
