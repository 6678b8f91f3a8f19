"""The report as plain text, as a terminal shows it."""

from pewter.judge.review import Review

from .sheet import UNICODE
from .terminal import render_terminal

WIDTH = 100


def render_text(review: Review) -> bytes:
    """UTF-8, without colour."""
    return render_terminal(review, WIDTH, UNICODE).plain.encode("utf-8", "replace")
