"""Results that are kept to be given again: bounded in number and in size, since peers choose what is asked for."""

import functools
from collections.abc import Callable
from typing import TypeVar

KeyT = TypeVar("KeyT", str, bytes)
ResultT = TypeVar("ResultT")

LONGEST = 512
"""Octets or characters of a key that is kept; what is read from it is of the same order."""


def kept(most: int, longest: int = LONGEST) -> Callable[[Callable[[KeyT], ResultT]], Callable[[KeyT], ResultT]]:
    """Keep the last ``most`` results of a reader; what is longer than ``longest`` is read anew each time.

    Without the second bound a site with keys of 64 KiB would fill memory by the gigabyte.
    """

    def keep(read: Callable[[KeyT], ResultT]) -> Callable[[KeyT], ResultT]:
        remembered = functools.lru_cache(maxsize=most)(read)

        @functools.wraps(read)
        def read_or_give(key: KeyT) -> ResultT:
            return remembered(key) if len(key) <= longest else read(key)

        return read_or_give

    return keep
