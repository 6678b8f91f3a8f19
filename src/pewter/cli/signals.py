"""Signals that end the program: what was seen so far is reported and written, as after Ctrl-C."""

import contextlib
import signal
from collections.abc import Iterator

ENDING = ("SIGTERM", "SIGHUP")
"""Beside SIGINT; not every system has them."""


@contextlib.contextmanager
def kept_handlers() -> Iterator[None]:
    """The event loop leaves the system's own behind it: a signal would end the program without a word."""
    before = {}
    for name in ENDING:
        with contextlib.suppress(AttributeError):
            before[getattr(signal, name)] = signal.getsignal(getattr(signal, name))
    try:
        yield
    finally:
        for number, handler in before.items():
            with contextlib.suppress(ValueError, TypeError):  # not in the main thread, or set by another program
                signal.signal(number, handler)


def end_on_signals() -> None:
    """Outside of a look they are what Ctrl-C is, also where the shell has Ctrl-C ignored (as in the background)."""
    for name in ENDING:
        with contextlib.suppress(AttributeError, ValueError):
            signal.signal(getattr(signal, name), _interrupt)


def _interrupt(number: int, frame: object) -> None:
    raise KeyboardInterrupt
