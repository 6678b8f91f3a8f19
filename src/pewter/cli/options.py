"""From the options of a command to its request; and help that says what arguments are."""

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any, TypeVar

import click

if TYPE_CHECKING:
    import msgspec

_T = TypeVar("_T", bound="msgspec.Struct")
_F = TypeVar("_F", bound=Callable[..., Any])


def request(kind: type[_T], options: Mapping[str, Any], **more: Any) -> _T:
    """A request of this kind, of the options that are called as its fields; what was not given stays as it is there."""
    names = set(kind.__struct_fields__)
    given = {name: value for name, value in options.items() if name in names and value is not None}
    return kind(**given, **more)


class _Argument(click.Argument):
    """One that the help explains."""

    def __init__(self, *declarations: Any, help: str, **settings: Any) -> None:
        super().__init__(*declarations, **settings)
        self.words = help


def argument(*declarations: str, **settings: Any) -> Callable[[_F], _F]:
    """``click.argument`` with a ``help``."""
    return click.argument(*declarations, cls=_Argument, **settings)


class Command(click.Command):
    """Its help begins with the arguments."""

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        found = [(each.make_metavar(ctx), each.words) for each in self.params if isinstance(each, _Argument)]
        if found:
            with formatter.section("Arguments"):
                formatter.write_dl(found)
        super().format_options(ctx, formatter)


class Group(click.Group):
    """Its commands stand in the order of their work, each with its first line whole."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.commands)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, (each.help or "").partition("\n")[0]) for name, each in self.commands.items()])
