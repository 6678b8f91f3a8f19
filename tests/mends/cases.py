"""The faults that mends are proven on, as they stand in ``cases.toml``."""

import tomllib
from pathlib import Path

import msgspec

from pewter.mends.kinds import Kind

ALL = (Kind.NGINX, Kind.APACHE, Kind.HAPROXY, Kind.CADDY, Kind.LIGHTTPD)


class Case(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One fault."""

    rule: str
    title: str
    behaviour: str = "year"
    """Of the application behind the server (:mod:`mends.application`)."""

    kinds: tuple[Kind, ...] = ALL
    faults: dict[Kind, dict[str, str]] = {}
    """Of the configuration: what stands in the slots of its base."""

    canonical: bool = False
    """www is the canonical host, and under review too."""

    several: bool = False
    """One block answers for both names."""

    declared: bool = True
    """The canonical host is given; else worked out."""

    paths: tuple[str, ...] = ("/",)
    opens: frozenset[str] = frozenset()
    """Rules that may be left open: steps that come later, and what could not be seen as long as nobody got in."""

    chain: str = "full.pem"
    still: tuple[str, ...] = ()
    """Commands that have to say the same before and after: what the lines must not touch."""

    words: str = ""
    """What is done by hand where the mend is told in words."""

    @property
    def name(self) -> str:
        return f"{self.rule} {self.title}"


CASES = msgspec.convert(
    tomllib.loads((Path(__file__).parent / "cases.toml").read_text(encoding="utf-8"))["case"], tuple[Case, ...]
)
