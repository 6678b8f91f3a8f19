"""The JSON Schema of a saved review, generated from the types: ``python -m pewter.report.schema FILE``."""

import json
import sys
from pathlib import Path

import msgspec

from pewter.judge.review import FORMAT, Review


def build_schema() -> str:
    """The schema as JSON text, keys in a stable order."""
    schema = msgspec.json.schema(Review)
    types = schema["$defs"]
    # Each hop is written once, and journeys give its number (pewter.judge.review.write_review).
    numbers = {"description": "Numbers of hops in evidence.hops", "items": {"minimum": 0, "type": "integer"}}
    types["Evidence"]["properties"]["hops"] = types["Journey"]["properties"]["hops"]
    types["Evidence"]["required"].append("hops")
    types["Journey"]["properties"]["hops"] = {**numbers, "type": "array"}
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": f"A Pewter review ({FORMAT})"}
    return json.dumps({**head, **schema}, indent=1, sort_keys=True) + "\n"


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(build_schema(), encoding="utf-8")
