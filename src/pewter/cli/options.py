"""From the options of a command to its request."""

import dataclasses
from collections.abc import Mapping
from typing import Any, TypeVar

_T = TypeVar("_T")


def request(kind: type[_T], options: Mapping[str, Any], **more: Any) -> _T:
    """A request of this kind, of the options that are called as its fields; what was not given stays as it is there."""
    names = {each.name for each in dataclasses.fields(kind)}  # type: ignore[arg-type]
    given = {name: value for name, value in options.items() if name in names and value is not None}
    return kind(**{name: tuple(value) if isinstance(value, list) else value for name, value in given.items()}, **more)
