"""What a file holds is evidence only where its types and bounds hold: one check, before anything reads it."""

import datetime
import math
import re
from collections.abc import Iterator
from typing import Any

import msgspec

from pewter.evidence import (
    Endpoint,
    Evidence,
    Hop,
    HostProbe,
    Journey,
    Name,
    Origin,
    Page,
    Reference,
    Stopped,
    Target,
)
from pewter.expectations import Terms
from pewter.web.urls import InvalidUrl, read_host, read_url

FIRST_YEAR, LAST_YEAR = 1990, 2400
MOST = 1 << 53
"""Of any number: what JSON's readers agree on."""

MAX_PORT = 65_535
MOST_OF = {"names": 1_000, "endpoints": 1_000, "journeys": 8_000, "pages": 8_000, "certificates": 4_000}
"""Of each there is more in a file than any look brings."""

_FILE_NAME = re.compile(r"[A-Za-z0-9._-]{1,100}")

_URLS = {Hop: ("url",), Journey: ("start",), Stopped: ("at",), Page: ("url",), Reference: ("url",)}
_HOSTS = {Target: "host", Name: "name", Endpoint: "name", Origin: "name", HostProbe: "name"}
_SECONDS = {"whole_seconds": 3600.0, "step_seconds": 3600.0}


class DamagedError(Exception):
    """What does not hold, in words."""


def check(evidence: Evidence, terms: Terms, at: datetime.datetime) -> None:
    """Raises DamagedError for the first thing that no look could have brought."""
    for value in _all((evidence, terms, at)):
        _check(value)
    plan = evidence.plan
    for name, most in MOST_OF.items():
        if len(getattr(evidence, name)) > most:
            raise DamagedError(f"it has more than {most:,} {name}")
    if plan.site_file and not _FILE_NAME.fullmatch(plan.site_file):
        raise DamagedError("its site file is no name of a file")
    if not all(0 < line < 1 << 31 for line in plan.site_lines.values()):
        raise DamagedError("a line of its site file is none")
    if not plan.targets:
        raise DamagedError("it is of no site")
    if not 0 < plan.connections_per_address <= MAX_PORT or plan.whole_seconds <= 0 or plan.step_seconds <= 0:
        raise DamagedError("its plan has no time, or no connections")


def _all(value: Any) -> Iterator[Any]:
    """Every value within, structs and their fields."""
    waiting = [value]
    while waiting:
        found = waiting.pop()
        yield found
        if isinstance(found, msgspec.Struct):
            waiting += (getattr(found, name) for name in found.__struct_fields__)
        elif isinstance(found, tuple | list | frozenset):
            waiting += found
        elif isinstance(found, dict):
            waiting += (*found, *found.values())


def _check(value: Any) -> None:
    match value:
        case bool():
            return
        case float() if not math.isfinite(value) or not 0 <= value <= MOST:
            raise DamagedError(f"{value} is no number of anything")
        case int() if not -MOST < value < MOST:
            raise DamagedError("a number is out of range")
        case datetime.timedelta() if not abs(value) < datetime.timedelta(days=366_000):
            raise DamagedError("a time is out of range")
        case datetime.datetime() if value.tzinfo is None or not FIRST_YEAR <= value.year <= LAST_YEAR:
            raise DamagedError(f"{value:%Y-%m-%d} is no day on which anybody looked, or has no time zone")
        case datetime.date() if not FIRST_YEAR <= value.year <= LAST_YEAR:
            raise DamagedError(f"{value} is no day of a site")
        case msgspec.Struct():
            _check_struct(value)


def _check_struct(value: msgspec.Struct) -> None:
    for name in _URLS.get(type(value), ()):
        _check_url(getattr(value, name))
    if (field := _HOSTS.get(type(value))) is not None:
        _check_host(getattr(value, field))
    port = getattr(value, "port", 443)
    if port is not None and not 0 < port <= MAX_PORT:
        raise DamagedError(f"{port} is no port")
    for name, most in _SECONDS.items():
        if getattr(value, name, 1.0) > most:
            raise DamagedError(f"{name} is more than {most:g}")


def _check_url(text: str) -> None:
    try:
        read_url(text)
    except InvalidUrl as exc:
        raise DamagedError(f"a URL is none: {exc}") from exc


def _check_host(text: str) -> None:
    try:
        read_host(text.strip("[]"))
    except InvalidUrl as exc:
        raise DamagedError(f"a name is none: {exc}") from exc
