"""Pewter reviews a site's HTTPS setup from outside and reports every gap with its evidence and its mend."""

import importlib
import types
from typing import TYPE_CHECKING, Any

from .version import __version__

if TYPE_CHECKING:
    from .api import (
        Comparison,
        Course,
        Evidence,
        Interruption,
        LookRequest,
        Plan,
        Review,
        Settled,
        Terms,
        compare,
        course,
        frame,
        judge,
        look,
        plot,
        read_review,
        render,
        review,
        settle,
        survey_frame,
    )

__all__ = [
    "Comparison",
    "Course",
    "Evidence",
    "Interruption",
    "LookRequest",
    "Plan",
    "Review",
    "Settled",
    "Terms",
    "__version__",
    "compare",
    "course",
    "frame",
    "judge",
    "look",
    "plot",
    "read_review",
    "render",
    "review",
    "settle",
    "survey_frame",
]


def __getattr__(name: str) -> object:
    """The interface is loaded when it is first used: the program's start does not wait for it."""
    if name in __all__:
        from . import api  # noqa: PLC0415

        return getattr(api, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


def __dir__() -> list[str]:
    """What completion offers: the interface, and no rooms of the house."""
    return sorted(__all__)


class _CallablePackage(types.ModuleType):
    """The package ``pewter.judge``, which is the function ``pewter.judge`` as well."""

    def __call__(self, *arguments: Any, **options: Any) -> Any:
        from . import api  # noqa: PLC0415

        return api.judge(*arguments, **options)


importlib.import_module(".judge", __name__).__class__ = _CallablePackage
