"""What Pewter says on standard error: lines of its own, with whatever is quoted in them escaped."""

import contextlib
import os
import sys

from pewter.escape import escaped


def say(words: str) -> None:
    """One line.  That nobody hears it (standard error closed, or its disk full) hinders nothing."""
    if sys.stderr is None:
        return
    with contextlib.suppress(OSError, ValueError):
        print(f"pewter: {escaped(words)}", file=sys.stderr, flush=True)


def forget_output() -> None:
    """What is still buffered for standard output is not tried again at exit."""
    with contextlib.suppress(OSError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
