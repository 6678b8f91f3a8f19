"""Work that is done side by side and ends together: nothing goes on after whoever began it."""

import asyncio
from collections.abc import Awaitable, Coroutine, Iterator
from typing import Any, TypeVar

from pewter.errors import PewterError

_T = TypeVar("_T")
_Other = TypeVar("_Other")


async def together(*work: Awaitable[_T]) -> list[_T]:
    """The results, in the order of the work.

    Where one fails, or the caller is cancelled, the others are ended before that goes on.  One failure goes on as it
    is, several as an ExceptionGroup: none is lost.
    """
    try:
        async with asyncio.TaskGroup() as group:
            tasks = [group.create_task(_result(each)) for each in work]
    except BaseExceptionGroup as failed:
        if len(failed.exceptions) == 1:
            raise failed.exceptions[0] from None
        raise
    finally:
        for each in work:
            if asyncio.iscoroutine(each):
                each.close()  # one that was ended before it began is waited for by nobody
    return [task.result() for task in tasks]


async def both(one: Awaitable[_T], other: Awaitable[_Other]) -> tuple[_T, _Other]:
    """:func:`together`, of two that give different things."""
    work: tuple[Awaitable[Any], ...] = one, other
    results = await together(*work)
    return results[0], results[1]


def one_of(failed: ExceptionGroup) -> Exception:
    """The one to go on with: the only one, or the first that a user can do something about, else all of them."""
    each = tuple(failures_in(failed))
    return each[0] if len(each) == 1 else next((one for one in each if isinstance(one, PewterError)), failed)


def failures_in(failure: Exception) -> Iterator[Exception]:
    """Each by itself, whatever groups they come in."""
    if isinstance(failure, ExceptionGroup):
        for each in failure.exceptions:
            yield from failures_in(each)
    else:
        yield failure


async def _result(work: Awaitable[_T]) -> _T:
    return await work


class Errands:
    """Tasks that several wait for, so that none of them may end them: they end with the look that began them."""

    def __init__(self) -> None:
        self._under_way: set[asyncio.Task[Any]] = set()

    def begin(self, work: Coroutine[Any, Any, _T]) -> asyncio.Task[_T]:
        """Its result, or what it failed of, is for those that wait for it."""
        task = asyncio.create_task(work)
        self._under_way.add(task)
        task.add_done_callback(self._under_way.discard)
        return task

    async def end(self) -> None:
        """Cancel what is under way, and wait until it is over."""
        tasks = tuple(self._under_way)
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
