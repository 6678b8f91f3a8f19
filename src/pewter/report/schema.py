"""The JSON Schemas of what is written as JSON, generated from the types: ``python -m pewter.report.schema FOLDER``."""

import datetime
import json
import sys
from pathlib import Path
from typing import Any

import msgspec

from pewter.judge import comparison, review
from pewter.judge.comparison import Comparison
from pewter.judge.course import Course
from pewter.judge.review import Review
from pewter.judge.summary import RunChanges, SiteRow

from . import course, many


class _RuleOfSurvey(msgspec.Struct):
    """A rule, and how many sites have a gap by it."""

    rule: str
    level: str
    sites: int


class _RowOfSurvey(SiteRow, frozen=True, kw_only=True):
    """One site, as docs/survey.md describes its columns."""

    run: int


class _Survey(msgspec.Struct):
    """A survey as far as it has come."""

    run: int
    begun: datetime.datetime | None
    sites: int
    is_whole: bool
    rules: list[_RuleOfSurvey]
    rows: list[_RowOfSurvey]


def build_schemas() -> dict[str, str]:
    """By the name of its file, each as JSON text with its keys in a stable order."""
    return {
        "pewter-review.schema.json": _written(_of_review(), f"A Pewter review ({review.FORMAT})"),
        **{
            f"{form.partition('/')[0]}.schema.json": _written(_with_format(msgspec.json.schema(kind), form), title)
            for kind, form, title in (
                (Comparison, comparison.FORMAT, "What changed from one review to the next"),
                (Course, course.FORMAT, "The course of a site over several reviews"),
                (_Survey, many.FORMAT, "A survey"),
                (RunChanges, many.FORMAT_OF_CHANGES, "What changed from one run of a survey to the next"),
            )
        },
    }


def _written(schema: dict[str, Any], title: str) -> str:
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title}
    return json.dumps({**head, **schema}, indent=1, sort_keys=True) + "\n"


def _with_format(schema: dict[str, Any], form: str) -> dict[str, Any]:
    """The name of the form stands first in each."""
    main = schema["$defs"][schema["$ref"].rpartition("/")[2]]
    main["properties"]["format"] = {"const": form}
    main["required"] = ["format", *main.get("required", ())]
    return schema


def _of_review() -> dict[str, Any]:
    schema = msgspec.json.schema(Review)
    types = schema["$defs"]
    # Each hop is written once, and journeys give its number (pewter.judge.review.write_review).
    numbers = {"description": "Numbers of hops in evidence.hops", "items": {"minimum": 0, "type": "integer"}}
    types["Evidence"]["properties"]["hops"] = types["Journey"]["properties"]["hops"]
    types["Evidence"]["required"].append("hops")
    types["Journey"]["properties"]["hops"] = {**numbers, "type": "array"}
    return schema


if __name__ == "__main__":
    for name, text in build_schemas().items():
        (Path(sys.argv[1]) / name).write_text(text, encoding="utf-8")
