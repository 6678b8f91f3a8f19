"""From the options of a command to its request."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, TypeVar

if TYPE_CHECKING:
    import msgspec

_T = TypeVar("_T", bound="msgspec.Struct")


def request(kind: type[_T], options: Mapping[str, Any], **more: Any) -> _T:
    """A request of this kind, of the options that are called as its fields; what was not given stays as it is there."""
    names = set(kind.__struct_fields__)
    given = {name: value for name, value in options.items() if name in names and value is not None}
    return kind(**{name: tuple(value) if isinstance(value, list) else value for name, value in given.items()}, **more)
