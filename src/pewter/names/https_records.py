"""HTTPS records: what a name says of its own service (RFC 9460)."""

import ipaddress
import itertools
from collections.abc import Sequence
from dataclasses import dataclass, field

import msgspec

from .labels import label_text

ALIAS_MODE = 0
_MANDATORY, _ALPN, _NO_DEFAULT_ALPN, _PORT, _IPV4_HINT, _ECH, _IPV6_HINT = range(7)
_KNOWN = frozenset(range(7))


class HttpsRecord(msgspec.Struct, frozen=True):
    """One record that can be read."""

    priority: int
    target: str
    """``.`` for the owner itself."""

    alpn: tuple[str, ...] = ()
    no_default_alpn: bool = False
    port: int | None = None
    hints: tuple[str, ...] = ()
    has_ech: bool = False
    unknown_mandatory: tuple[int, ...] = ()
    """Keys that a client has to know and we do not: such a record is skipped."""

    @property
    def is_alias(self) -> bool:
        return self.priority == ALIAS_MODE

    @property
    def protocols(self) -> tuple[str, ...]:
        """All that it offers: ``http/1.1`` unless it is taken out (section 7.1.2)."""
        return self.alpn if self.no_default_alpn else (*self.alpn, "http/1.1")

    def __str__(self) -> str:
        words = [str(self.priority), self.target]
        words += [f"alpn={','.join(self.alpn)}"] if self.alpn else []
        words += ["no-default-alpn"] if self.no_default_alpn else []
        words += [f"port={self.port}"] if self.port is not None else []
        words += [f"hints={','.join(self.hints)}"] if self.hints else []
        words += ["ech"] if self.has_ech else []
        return " ".join(words)


class Malformed(msgspec.Struct, frozen=True):
    """A record that voids its whole set (section 2.2)."""

    reason: str


def read_https(octets: bytes) -> HttpsRecord | Malformed:
    """Read the data of an HTTPS record (sections 2.2 and 7); never raises."""
    if len(octets) < 3:
        return Malformed("it is too short")
    priority = int.from_bytes(octets[:2], "big")
    target, at = _name(octets, 2)
    if target is None:
        return Malformed("its target is no name")
    if priority == ALIAS_MODE:
        return HttpsRecord(priority, target)  # parameters are ignored (section 2.4.2)
    parameters: dict[int, bytes] = {}
    last = -1
    while at < len(octets):
        key, length = int.from_bytes(octets[at : at + 2], "big"), int.from_bytes(octets[at + 2 : at + 4], "big")
        value = octets[at + 4 : at + 4 + length]
        if at + 4 > len(octets) or len(value) != length:
            return Malformed("a parameter ends before its length")
        if key <= last:
            return Malformed("its keys do not rise")
        parameters[key], last = value, key
        at += 4 + length
    return _with(priority, target, parameters)


@dataclass
class _Parts:
    """What parameters say, while they are read."""

    problems: list[str] = field(default_factory=list)

    def alpn(self, value: bytes | None) -> tuple[str, ...]:
        if value is None:
            return ()
        found, at = [], 0
        while at < len(value):
            length = value[at]
            if not length or at + 1 + length > len(value):
                break
            found.append(value[at + 1 : at + 1 + length].decode("latin-1"))
            at += 1 + length
        if at != len(value) or not found:
            self.problems.append("its alpn cannot be read")
        return tuple(found)

    def mandatory(self, value: bytes | None, present: Sequence[int]) -> tuple[int, ...]:
        if value is None:
            return ()
        keys = [int.from_bytes(value[at : at + 2], "big") for at in range(0, len(value), 2)]
        rises = all(one < other for one, other in itertools.pairwise(keys))
        if not keys or len(value) % 2 or _MANDATORY in keys or not rises or not set(keys) <= set(present):
            self.problems.append("its mandatory list names what is not there")
        return tuple(keys)

    def port(self, value: bytes | None) -> int | None:
        if value is not None and len(value) != 2:
            self.problems.append("its port has not two octets")
        return int.from_bytes(value, "big") if value is not None else None

    def hints(self, value: bytes | None, size: int) -> list[str]:
        if value is None:
            return []
        if not value or len(value) % size:
            self.problems.append("its address hints cannot be read")
            return []
        return [str(ipaddress.ip_address(value[at : at + size])) for at in range(0, len(value), size)]


def _with(priority: int, target: str, parameters: dict[int, bytes]) -> HttpsRecord | Malformed:
    parts = _Parts()
    alpn = parts.alpn(parameters.get(_ALPN))
    mandatory = parts.mandatory(parameters.get(_MANDATORY), list(parameters))
    port = parts.port(parameters.get(_PORT))
    hints = (*parts.hints(parameters.get(_IPV4_HINT), 4), *parts.hints(parameters.get(_IPV6_HINT), 16))
    if _NO_DEFAULT_ALPN in parameters and (parameters[_NO_DEFAULT_ALPN] or not alpn):
        parts.problems.append("no-default-alpn stands without an alpn")
    if parts.problems:
        return Malformed(parts.problems[0])
    return HttpsRecord(
        priority,
        target,
        alpn,
        _NO_DEFAULT_ALPN in parameters,
        port,
        hints,
        _ECH in parameters,
        tuple(key for key in mandatory if key not in _KNOWN),
    )


def _name(octets: bytes, at: int) -> tuple[str | None, int]:
    """An uncompressed name: its text, and where it ends."""
    labels: list[str] = []
    while at < len(octets):
        length = octets[at]
        if length == 0:
            return ".".join(labels) or ".", at + 1
        if length > 63 or at + 1 + length > len(octets) or len(labels) > 127:
            break
        labels.append(label_text(octets[at + 1 : at + 1 + length]))
        at += 1 + length
    return None, at


class HttpsSet(msgspec.Struct, frozen=True):
    """What clients make of all records of a name."""

    alias: str = ""
    """The target of the alias that is taken; ``.`` says that there is no such service."""

    services: tuple[HttpsRecord, ...] = ()
    """In the order in which clients try them."""

    problem: str = ""
    """Why the whole set is ignored, or what is mixed in it."""


def read_set(data: Sequence[str]) -> HttpsSet:
    """``data`` are the records' octets in hexadecimal.

    One malformed record voids the set (section 2.2); beside any alias, services are ignored (section 2.4.1).
    """
    read = [read_https(bytes.fromhex(each)) for each in data]
    for record in read:
        if isinstance(record, Malformed):
            return HttpsSet(problem=f"{record.reason}: clients ignore every HTTPS record of the name")
    good = [each for each in read if isinstance(each, HttpsRecord)]
    aliases = sorted(each.target for each in good if each.is_alias)
    services = tuple(sorted((each for each in good if not each.is_alias), key=lambda each: each.priority))
    if aliases:
        mixed = "an alias (priority 0) stands beside services, which clients then ignore" if services else ""
        return HttpsSet(alias=aliases[0], problem=mixed)
    return HttpsSet(services=tuple(each for each in services if not each.unknown_mandatory))
