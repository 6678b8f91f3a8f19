"""JSON: what is read again."""

from pewter.judge.comparison import write_comparison as render_json_changes
from pewter.judge.review import write_review as render_json

__all__ = ["render_json", "render_json_changes"]
