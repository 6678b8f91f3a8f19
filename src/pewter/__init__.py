"""Pewter reviews a site's HTTPS setup from outside and reports every gap with its evidence and its mend."""

import importlib
import types
from typing import TYPE_CHECKING, Any

from .version import __version__

if TYPE_CHECKING:
    from .api import (
        Comparison,
        Evidence,
        Interruption,
        LookRequest,
        Plan,
        Review,
        Settled,
        Terms,
        compare,
        judge,
        look,
        read_review,
        render,
        settle,
        survey_frame,
    )

__all__ = [
    "Comparison",
    "Evidence",
    "Interruption",
    "LookRequest",
    "Plan",
    "Review",
    "Settled",
    "Terms",
    "__version__",
    "compare",
    "judge",
    "look",
    "read_review",
    "render",
    "settle",
    "survey_frame",
]


def __getattr__(name: str) -> object:
    """The interface is loaded when it is first used: the program's start does not wait for it."""
    if name in __all__:
        from . import api  # noqa: PLC0415

        return getattr(api, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


class _CallablePackage(types.ModuleType):
    """The package ``pewter.judge``, which is the function ``pewter.judge`` as well."""

    def __call__(self, *arguments: Any, **options: Any) -> Any:
        from . import api  # noqa: PLC0415

        return api.judge(*arguments, **options)


importlib.import_module(".judge", __name__).__class__ = _CallablePackage
