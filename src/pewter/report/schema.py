"""The JSON Schema of a saved review, generated from the types: ``python -m pewter.report.schema FILE``."""

import json
import sys
from pathlib import Path

import msgspec

from pewter.judge.review import FORMAT, Review


def build_schema() -> str:
    """The schema as JSON text, keys in a stable order."""
    schema = msgspec.json.schema(Review)
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": f"A Pewter review ({FORMAT})"}
    return json.dumps({**head, **schema}, indent=1, sort_keys=True) + "\n"


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(build_schema(), encoding="utf-8")
