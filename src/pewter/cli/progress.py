"""Progress on standard error: what is being looked at, how far, how long."""

import contextlib
import sys
import time
from collections.abc import Iterator
from typing import Protocol

from pewter.escape import escaped

from .saying import say

_EVERY_SECONDS = 5.0


class _Counter:
    """Counts what is planned and done, and keeps what is under way."""

    def __init__(self) -> None:
        self.begun = time.monotonic()
        self.total = 0
        self.finished = 0
        self.under_way: dict[str, None] = {}

    def planned(self, what: str) -> None:
        self.total += 1
        self.under_way[what] = None

    def done(self, what: str) -> None:
        self.finished += 1
        self.under_way.pop(what, None)

    @property
    def words(self) -> str:
        oldest = next(iter(self.under_way), "")
        return f"{self.finished} of {self.total} looks done" + (f", waiting for {oldest}" if oldest else "")


class Progress(Protocol):
    def planned(self, what: str) -> None: ...

    def done(self, what: str) -> None: ...


@contextlib.contextmanager
def show_progress() -> Iterator[Progress]:
    """A live line on a terminal; elsewhere a line every few seconds."""
    if sys.stderr is not None and sys.stderr.isatty():
        from rich.console import Console  # noqa: PLC0415
        from rich.text import Text  # noqa: PLC0415

        console = Console(stderr=True)
        with console.status("looking") as status:

            class Live(_Counter):
                def planned(self, what: str) -> None:
                    super().planned(what)
                    status.update(self._line())

                def done(self, what: str) -> None:
                    super().done(what)
                    status.update(self._line())

                def _line(self) -> Text:
                    return Text(f"{time.monotonic() - self.begun:.1f} s  {escaped(self.words)}")

            yield Live()
        return

    class Lines(_Counter):
        last = 0.0

        def done(self, what: str) -> None:
            super().done(what)
            now = time.monotonic()
            if now - max(self.last, self.begun) > _EVERY_SECONDS:
                self.last = now
                say(f"{now - self.begun:.0f} s, {self.words}")

    yield Lines()
