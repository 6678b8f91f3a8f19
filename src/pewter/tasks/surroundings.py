"""What a task needs of whoever runs it.  Only what looks loads what looks need."""

import datetime
import time
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from pewter.evidence import Evidence, Plan
    from pewter.gather.board import Given
    from pewter.survey.work import Watcher


class Surroundings(Protocol):
    """Somebody to tell, a way to look, and time."""

    def say(self, words: str) -> None:
        """One line on the way."""

    def look(self, plan: "Plan", given: "Given") -> "Evidence":
        """Take one look; where it is ended early, what was seen so far is the evidence."""

    def survey(self, work: "Callable[[Watcher], Awaitable[None]]", done: int, whole: int) -> bool:
        """Do the work of a survey of which so much is done; whether it was broken off."""

    def now(self) -> datetime.datetime: ...

    def wait(self, seconds: float) -> None:
        """KeyboardInterrupt where that is not wished any more."""

    def passphrase(self, what: str) -> bytes | None:
        """Of an encrypted key; None leaves it closed."""


class Alone:
    """For programs: nobody is told, nobody is asked."""

    def say(self, words: str) -> None:
        """Nothing is said."""

    def look(self, plan: "Plan", given: "Given") -> "Evidence":
        import asyncio  # noqa: PLC0415

        from pewter.gather.look import look  # noqa: PLC0415
        from pewter.gather.scene import Silence  # noqa: PLC0415

        return asyncio.run(look(plan, given, Silence()))

    def survey(self, work: "Callable[[Watcher], Awaitable[None]]", done: int, whole: int) -> bool:
        import asyncio  # noqa: PLC0415

        from pewter.survey.work import Quiet  # noqa: PLC0415

        async def run() -> None:
            await work(Quiet())

        asyncio.run(run())
        return False

    def now(self) -> datetime.datetime:
        return datetime.datetime.now(datetime.UTC)

    def wait(self, seconds: float) -> None:
        time.sleep(seconds)

    def passphrase(self, what: str) -> bytes | None:
        return None
