"""``pewter.toml``: what a site is and should be."""

import datetime
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

from pewter.errors import FileError
from pewter.evidence import is_ip_address
from pewter.expectations import AcceptedGap, Expectations, read_duration
from pewter.judge.rules import SITE_RULES as RULES
from pewter.levels import Level
from pewter.mends.kinds import Kind
from pewter.tls import Version, version_name

from .files import read_bounded

NAME = "pewter.toml"
KINDS = tuple(kind.value for kind in Kind)
MAX_SITE_FILE = 1 << 20
MAX_KEY_PARTS = 32
_QUOTED = re.compile(r"""\"[^"\n]*+\"|'[^'\n]*+'""")


class SiteSection(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``[site]``"""

    canonical: str | None = None
    names: tuple[str, ...] = ()
    paths: tuple[str, ...] = ()
    server: str | dict[str, str] = ""
    """The kind of server for which mends are printed; by name where they are several."""


class LookSection(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``[look]``: how to get at the site from here."""

    resolver: str | tuple[str, ...] = ()
    """One, or several of which the first decides."""

    trust: tuple[str, ...] = ()
    """Files, relative to the folder of the site file."""

    trust_only: tuple[str, ...] = ()
    certificates: tuple[str, ...] = ()
    ct_logs: tuple[str, ...] = ()
    revocation: bool = False
    gentle: bool = False
    timeout: float | None = None


class SiteFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The whole file."""

    site: SiteSection = SiteSection()
    look: LookSection = LookSection()
    expect: Expectations = Expectations()
    levels: dict[str, str] = {}
    routes: dict[str, str | tuple[str, ...]] = {}
    origins: dict[str, str] = {}
    """Of names, the server behind the edge service."""

    accept: tuple[AcceptedGap, ...] = ()

    @property
    def origin_texts(self) -> tuple[str, ...]:
        """As ``--origin`` takes them."""
        return tuple(f"{name}={address}" for name, address in self.origins.items())

    @property
    def route_texts(self) -> tuple[str, ...]:
        """As ``--route`` takes them; one name may lead to several addresses."""
        return tuple(
            f"{here}={there}"
            for here, addresses in self.routes.items()
            for there in ((addresses,) if isinstance(addresses, str) else addresses)
        )


def read_site_file(path: Path) -> SiteFile:
    """Read and check a site file; FileError names the file, the key and what is allowed."""
    return site_file_of(path, read_bounded(path, MAX_SITE_FILE, "site file"))


def lines_of_names(path: Path, names: Sequence[str]) -> dict[str, int]:
    """The line, from 1, of a site file that names each host first."""
    lines = read_bounded(path, MAX_SITE_FILE, "site file").decode("utf-8", "replace").lower().split("\n")
    hosts = [{_host_in(quoted) for quoted in _QUOTED.findall(line)} for line in lines]
    first: dict[str, int] = {}
    for number, on_line in enumerate(hosts, start=1):
        for name in on_line:
            first.setdefault(name, number)
    return {name: first[name] for name in names if name in first}


def _host_in(quoted: str) -> str:
    """Of a quoted name or URL."""
    return quoted[1:-1].partition("://")[2].partition("/")[0] or quoted[1:-1]


def site_file_of(path: Path, octets: bytes) -> SiteFile:
    """The site file that these octets are."""
    import tomllib  # noqa: PLC0415

    try:
        text = octets.decode("utf-8")
        for number, line in enumerate(text.split("\n"), start=1):
            # The work on a dotted key grows with the square of its parts.
            if _QUOTED.sub("", line).partition("=")[0].count(".") > MAX_KEY_PARTS:
                raise FileError(f"{path}: line {number} has a key of more than {MAX_KEY_PARTS} parts.")
        content = tomllib.loads(text)
    except RecursionError:
        raise FileError(f"{path} is no TOML that can be read: it is nested too deep.") from None
    except UnicodeDecodeError as exc:
        raise FileError(f"{path} cannot be read: octet {exc.start} is no UTF-8.") from exc
    except ValueError as exc:  # also for numbers of more digits than Python reads
        raise FileError(f"{path} is no TOML: {str(exc)[:200]}.") from exc
    _read_durations(path, content)
    _refuse_unknown_keys(path, content)
    try:
        site_file = msgspec.convert(content, SiteFile)
    except msgspec.ValidationError as exc:
        raise FileError(f"{path}: {_in_words(exc)}") from exc
    _check_names(path, site_file)
    return site_file


def _read_durations(path: Path, content: dict[str, Any]) -> None:
    """``"365 days"`` becomes a duration before msgspec looks at it."""
    expect = content.get("expect")
    if not isinstance(expect, dict):
        return
    for field in msgspec.structs.fields(Expectations):
        if field.type is not datetime.timedelta or field.name not in expect:
            continue
        duration = read_duration(expect[field.name]) if isinstance(expect[field.name], str) else None
        if duration is None:
            raise FileError(f'{path}: expect.{field.name} is {expect[field.name]!r}; write it as "365 days".')
        expect[field.name] = duration


def _refuse_unknown_keys(path: Path, content: dict[str, Any]) -> None:
    sections: dict[str, type[msgspec.Struct]] = {"site": SiteSection, "look": LookSection, "expect": Expectations}
    _refuse(path, "", content, SiteFile)
    for section, kind in sections.items():
        if isinstance(content.get(section), dict):
            _refuse(path, f"{section}.", content[section], kind)
    for entry in content.get("accept", []) if isinstance(content.get("accept"), list) else []:
        if isinstance(entry, dict):
            _refuse(path, "accept.", entry, AcceptedGap)


def _refuse(path: Path, prefix: str, content: dict[str, Any], kind: type[msgspec.Struct]) -> None:
    allowed = kind.__struct_fields__
    for key in content:
        if key not in allowed:
            raise FileError(f"{path}: unknown key {prefix}{key}; allowed here: {', '.join(allowed)}.")


def _in_words(exc: msgspec.ValidationError) -> str:
    problem, _, where = str(exc).partition(" - at `")
    key = where.rstrip("`").removeprefix("$.")
    return f"{key}: {problem}." if key else f"{problem}."


def _check_names(path: Path, site_file: SiteFile) -> None:
    versions = [version_name(version) for version in Version]
    if site_file.expect.minimum_protocol not in versions:
        minimum = site_file.expect.minimum_protocol
        raise FileError(f"{path}: expect.minimum_protocol is {minimum!r}; allowed: {', '.join(versions)}.")
    for name, addresses in site_file.expect.addresses.items():
        for address in addresses:
            if not is_ip_address(address):
                raise FileError(f"{path}: expect.addresses of {name} has {address!r}, which is no IP address.")
    known = {rule.name for rule in RULES}
    levels = [level.value for level in Level]
    for rule, level in site_file.levels.items():
        if rule not in known:
            raise FileError(f"{path}: levels.{rule!r} is no rule; 'pewter rules' lists them.")
        if level not in levels:
            raise FileError(f"{path}: levels.{rule!r} is {level!r}; allowed: {', '.join(levels)}.")
    servers = site_file.site.server
    for kind in servers.values() if isinstance(servers, dict) else (servers,) if servers else ():
        if kind not in KINDS:
            raise FileError(f"{path}: site.server is {kind!r}; allowed: {', '.join(KINDS)}.")
    for accept in site_file.accept:
        if accept.gap not in known:
            raise FileError(f"{path}: accept.gap {accept.gap!r} is no rule; 'pewter rules' lists them.")
        if not accept.because.strip():
            raise FileError(f"{path}: accept.because is empty; say why {accept.gap} is accepted.")
