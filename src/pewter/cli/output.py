"""Printing: colour only on a terminal, shapes as far as the output can carry them."""

import shutil
import sys

from rich.console import Console
from rich.text import Text

from pewter.judge.case import Case
from pewter.judge.review import Review
from pewter.report.sheet import ASCII, MAX_WIDTH, UNICODE, Marks
from pewter.report.terminal import render_terminal


def output_width() -> int:
    """Columns of the terminal (or of COLUMNS); 100 where the output is no terminal."""
    return min(shutil.get_terminal_size((100, 24)).columns, MAX_WIDTH)


def output_marks() -> Marks:
    """Plain ASCII where the output's encoding has no such shapes."""
    try:
        "■◆▲✓○█░│→←".encode(sys.stdout.encoding or "ascii")
    except UnicodeEncodeError:
        return ASCII
    return UNICODE


def print_report(review: Review, case: Case) -> None:
    print_text(render_terminal(review, case, output_width(), output_marks()))


def print_text(text: Text) -> None:
    """Print laid-out text as it is; what the encoding lacks is replaced, not refused."""
    console = Console(highlight=False, soft_wrap=True)
    encoding = sys.stdout.encoding or "ascii"
    plain = text.plain.encode(encoding, "replace").decode(encoding)
    if plain != text.plain:
        text = Text(plain, spans=text.spans)
    console.print(text, end="")
