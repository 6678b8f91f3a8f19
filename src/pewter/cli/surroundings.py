"""What the tasks meet in a terminal: progress, signals, passphrases."""

import contextlib
import gc
import signal
import sys
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING

from pewter.tasks.surroundings import Alone

from .saying import say
from .signals import ENDING, kept_handlers

if TYPE_CHECKING:
    from pewter.evidence import Evidence, Plan
    from pewter.gather.board import Given
    from pewter.gather.scene import Progress
    from pewter.survey.work import Watcher


GRACE_SECONDS = 4.0
"""After the first Ctrl-C of a survey."""


class Terminal(Alone):
    """Says on standard error; whoever ends a look or a survey gets what was seen so far."""

    def say(self, words: str) -> None:
        say(words)

    def look(self, plan: "Plan", given: "Given") -> "Evidence":
        """From beginning to end, or to a signal."""
        import asyncio  # noqa: PLC0415

        from .progress import show_progress  # noqa: PLC0415

        # What was imported and read by now stays: looking for garbage in it would hold up the look, 100 ms at a time.
        gc.freeze()
        with show_progress() as progress, kept_handlers():
            return asyncio.run(_look(plan, given, progress))

    def survey(self, work: "Callable[[Watcher], Awaitable[None]]", done: int, whole: int) -> bool:
        import asyncio  # noqa: PLC0415

        from .progress import SurveyProgress  # noqa: PLC0415

        watcher = SurveyProgress(done, whole)

        async def run() -> None:
            task, loop = asyncio.current_task(), asyncio.get_running_loop()
            assert task is not None

            def stop() -> None:
                """What is nearly done is waited for; a second time, for nothing."""
                if watcher.is_stopping:
                    task.cancel()
                    return
                watcher.is_stopping = True
                say(f"stopping: what is nearly done within {GRACE_SECONDS:g} s is stored; Ctrl-C again ends it at once")
                loop.call_later(GRACE_SECONDS, task.cancel)

            on_signals(stop)
            await work(watcher)

        try:
            asyncio.run(run())
        except (asyncio.CancelledError, KeyboardInterrupt):
            return True
        finally:
            watcher.close()
        return watcher.is_stopping

    def passphrase(self, what: str) -> bytes | None:
        """Typed where there is a terminal."""
        if sys.stdin is None or not sys.stdin.isatty():
            return None
        try:
            import getpass  # noqa: PLC0415

            return getpass.getpass(f"Passphrase for {what} (empty: leave it closed): ", sys.stderr).encode() or None
        except EOFError:
            return None


async def _look(plan: "Plan", given: "Given", progress: "Progress") -> "Evidence":
    from pewter.gather.look import Interruption, look  # noqa: PLC0415

    interruption = Interruption()
    on_signals(interruption.interrupt)
    return await look(plan, given, progress, interruption=interruption)


def on_signals(do: Callable[[], object]) -> None:
    """In the running loop, for every signal that ends programs; as far as this system has them."""
    import asyncio  # noqa: PLC0415

    loop = asyncio.get_running_loop()
    for name in ("SIGINT", *ENDING):
        with contextlib.suppress(AttributeError, NotImplementedError, RuntimeError, ValueError):
            loop.add_signal_handler(getattr(signal, name), do)
