"""Rules: pure functions from a case to outcomes, with their words from the catalogue."""

import enum
import functools
from collections.abc import Callable, Iterable, Iterator
from typing import Generic, TypeVar

import msgspec

from pewter.data import toml_beside
from pewter.levels import Level

from .nature import Nature
from .outcomes import RuleOutcome

C_contra = TypeVar("C_contra", contravariant=True)
"""What a rule is given: the case of a site or of a bundle, or what both have."""


class Does(enum.Enum):
    """What a gap does, to visitors or to the site; the verdict goes by it."""

    STOPS = "stops"
    """Visitors do not get in, or get a warning."""

    STOPS_BELOW = "stops below"
    """Those of hosts below."""

    SPOILS = "spoils"
    """They get in, and something does not work."""

    ENDS = "ends"
    """It will stop them, at an hour that is known."""

    SOME = "some"
    """Programs differ."""

    READ = "read"
    """What they send and get can be read or changed on the way."""

    IMPOSTOR = "impostor"
    """Somebody else can stand in for the site."""

    COOKIES = "cookies"
    WEAK_TLS = "weak tls"
    INSIDE = "inside"
    """Inner workings are shown."""

    RENEWAL = "renewal"
    """The next certificate will not be issued."""

    WEAKER = "weaker"
    NOTE = "note"


class Words(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the catalogue says of one rule; ``{host}`` and ``{canonical}`` stand for the place at hand."""

    title: str
    short: str
    """The gap in few words, for tables and the verdict: ``certificate expired``."""

    do: str
    """What to do, as an order that takes ``at HOST``: ``Serve the missing intermediate``."""

    does: Does
    looks_at: str
    why: str
    mend: str
    check: str
    follows: tuple[str, ...] = ()
    """Rules, or areas (``chain/``) at the level breaks, of whose gaps at the same hosts it is what follows; the first
    that is there counts: who mends it mends both."""


class Rule(msgspec.Struct, Generic[C_contra], frozen=True, dict=True):
    """One rule of the catalogue."""

    name: str
    """``area/slug``."""

    level: Level
    sources: tuple[str, ...]
    nature: Nature
    check: Callable[[C_contra], Iterable[RuleOutcome]]

    @functools.cached_property
    def area(self) -> str:
        return self.name.partition("/")[0]

    @functools.cached_property
    def words(self) -> Words:
        return _catalogue(self.area)[self.name.partition("/")[2]]

    def outcomes(self, case: C_contra) -> Iterator[RuleOutcome]:
        return iter(self.check(case))


def rule(
    name: str, *, level: Level, sources: tuple[str, ...], nature: Nature
) -> Callable[[Callable[[C_contra], Iterable[RuleOutcome]]], Rule[C_contra]]:
    """Make a rule of a function; nothing is registered by it."""

    def make(check: Callable[[C_contra], Iterable[RuleOutcome]]) -> Rule[C_contra]:
        return Rule(name, level, sources, nature, check)

    return make


@functools.cache
def _catalogue(area: str) -> dict[str, Words]:
    return msgspec.convert(toml_beside(__file__, "rules", f"{area}.toml"), dict[str, Words])
