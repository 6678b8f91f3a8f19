"""Printing: colour only on a terminal, shapes as far as the output can carry them, every text escaped."""

import contextlib
import shutil
import sys
from collections.abc import Iterator

from rich.console import Console
from rich.text import Text

from pewter.errors import OutputError
from pewter.escape import sealed
from pewter.judge.review import Review
from pewter.report.sheet import ASCII, MAX_WIDTH, UNICODE, Marks
from pewter.report.terminal import render_terminal

from .saying import forget_output


def output_width() -> int:
    """Columns of the terminal (or of COLUMNS); 100 where the output is no terminal."""
    return min(shutil.get_terminal_size((100, 24)).columns, MAX_WIDTH)


def output_marks() -> Marks:
    """Plain ASCII where the output's encoding has no such shapes."""
    try:
        "■◆▲✓○█░│→←".encode(_encoding())
    except (UnicodeEncodeError, LookupError):
        return ASCII
    return UNICODE


def _encoding() -> str:
    return getattr(sys.stdout, "encoding", None) or "ascii"


def print_report(review: Review, *, full: bool) -> None:
    print_text(render_terminal(review, output_width(), output_marks(), full=full))


def print_text(text: Text) -> None:
    """Print laid-out text as it is; what the encoding lacks is replaced, not refused."""
    with _output():
        console = Console(highlight=False, soft_wrap=True)
        encoding = _encoding()
        plain = sealed(text.plain)
        if len(plain) != len(text.plain):
            text = Text(plain)  # something was not escaped where it should have been: harmless, and without colours
        plain = text.plain.encode(encoding, "replace").decode(encoding)
        if plain != text.plain:
            text = Text(plain, spans=text.spans)
        console.print(text, end="")
        sys.stdout.flush()


def print_octets(octets: bytes) -> None:
    """Print what is no text for a terminal: JSON."""
    with _output():
        sys.stdout.buffer.write(octets)
        sys.stdout.flush()


@contextlib.contextmanager
def _output() -> Iterator[None]:
    """OutputError for whatever hinders; a reader that has seen enough (head, less) stays a BrokenPipeError."""
    if sys.stdout is None:
        raise OutputError("Standard output is closed: nothing can be printed. --write keeps the result in a file.")
    try:
        yield
    except BrokenPipeError:
        raise
    except OSError as exc:
        forget_output()
        raise OutputError(f"Standard output cannot be written: {exc.strerror}.") from exc
