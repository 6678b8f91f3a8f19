"""Rules: pure functions from a case to outcomes, with their words from the catalogue."""

import functools
import importlib.resources
import tomllib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

import msgspec

from .case import Case
from .outcomes import Level, RuleOutcome

Check = Callable[[Case], Iterable[RuleOutcome]]


class Words(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the catalogue says of one rule; ``{host}`` and ``{canonical}`` stand for the place at hand."""

    title: str
    looks_at: str
    why: str
    mend: str
    check: str
    configurations: dict[str, str] = {}
    """Lines by server software: ``nginx``, ``Apache``, ``IIS``, ``HAProxy``, ``Caddy``, ``CDN``."""


@dataclass(frozen=True)
class Rule:
    """One rule of the catalogue."""

    name: str
    """``area/slug``."""

    level: Level
    sources: tuple[str, ...]
    check: Check

    @property
    def area(self) -> str:
        return self.name.partition("/")[0]

    @property
    def words(self) -> Words:
        return _catalogue(self.area)[self.name.partition("/")[2]]

    def outcomes(self, case: Case) -> Iterator[RuleOutcome]:
        yield from self.check(case)


def rule(name: str, *, level: Level, sources: tuple[str, ...]) -> Callable[[Check], Rule]:
    """Make a rule of a function; nothing is registered by it."""

    def make(check: Check) -> Rule:
        return Rule(name, level, sources, check)

    return make


@functools.cache
def _catalogue(area: str) -> dict[str, Words]:
    file = importlib.resources.files(__package__).joinpath("catalogue", f"{area}.toml")
    return msgspec.convert(tomllib.loads(file.read_text(encoding="utf-8")), dict[str, Words])
