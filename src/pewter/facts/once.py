"""What is worked out once from something that does not change."""

import functools
from collections.abc import Callable
from typing import TypeVar, cast

_T = TypeVar("_T")


class WorksOutOnce:
    """Keeps what was worked out of it, for as long as it lives."""

    @functools.cached_property
    def _worked_out(self) -> dict[object, object]:
        return {}

    def once(self, what: object, work_out: Callable[[], _T]) -> _T:
        """What is worked out of it as a whole: by ``what`` it is known when it is asked for again."""
        if what not in self._worked_out:
            self._worked_out[what] = work_out()
        return cast(_T, self._worked_out[what])
