"""Progress on standard error: what is being looked at, how far, how long."""

import contextlib
import sys
import time
from collections import Counter, deque
from collections.abc import Iterator

from pewter.escape import escaped
from pewter.gather.scene import Progress
from pewter.judge.summary import SiteRow
from pewter.levels import Level
from pewter.phrases import about

from .saying import say

_EVERY_SECONDS = 5.0
_RATE_SECONDS = 120.0
"""The last so many seconds tell how fast a survey goes."""


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


class SurveyProgress:
    """Progress on standard error: a live line on a terminal, a line every few seconds elsewhere."""

    def __init__(self, done: int, whole: int) -> None:
        self.is_stopping = False
        self._done, self._whole = done, whole
        self._begun = self._said = time.monotonic()
        self._times: deque[float] = deque(maxlen=20_000)
        self._worst: Counter[str] = Counter()
        self._unreached = 0
        self._waits: list[str] = []
        self._status = None
        if sys.stderr is not None and sys.stderr.isatty():
            from rich.console import Console  # noqa: PLC0415

            self._status = Console(stderr=True).status("looking")
            self._status.start()

    def stored(self, row: SiteRow) -> None:
        """One more site is in the ledger."""
        self._done += 1
        self._times.append(time.monotonic())
        self._unreached += not row.reached
        if row.worst is not None:
            self._worst[row.worst] += 1
        self._show()

    def waits_for(self, keys: list[str]) -> None:
        """What is under way, the longest first."""
        self._waits = keys
        self._show()

    def say(self, words: str) -> None:
        say(words)

    def close(self) -> None:
        """No more of it."""
        if self._status is not None:
            self._status.stop()

    def _show(self) -> None:
        if self._status is not None:
            from rich.text import Text  # noqa: PLC0415

            self._status.update(Text(self.words))
            return
        now = time.monotonic()
        if now - self._said >= _EVERY_SECONDS:
            self._said = now
            say(self.words)

    @property
    def words(self) -> str:
        """How far, how fast, how long still, and how bad so far."""
        now = time.monotonic()
        while self._times and now - self._times[0] > _RATE_SECONDS:
            self._times.popleft()
        span = min(now - self._begun, _RATE_SECONDS)
        rate = len(self._times) / span if span > 1 else 0.0
        parts = [f"{self._done:,} of {self._whole:,} sites"]
        if rate:
            parts.append(f"{rate:.1f} a second, {about((self._whole - self._done) / rate)} left")
        if self._unreached:
            parts.append(f"{self._unreached:,} not reached")
        parts += [f"{self._worst[level.value]:,} {level.value}" for level in Level if self._worst[level.value]][:2]
        if self._waits:
            parts.append(f"waiting for {escaped(self._waits[0])}")
        return " \N{MIDDLE DOT} ".join(parts)
