"""HTTPS records: what a name says of its own service (RFC 9460)."""

import enum
import functools
import ipaddress
import itertools
from collections.abc import Callable, Iterable, Sequence
from typing import TypeVar

import msgspec

from pewter.evidence import Reply, Unseen
from pewter.octets import DecodeError, Reader

from .answers import Answers, final_data
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

    @property
    def goes_over_tcp(self) -> bool:
        return any(each != "h3" for each in self.protocols)

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
    reader = Reader(octets, "HTTPS")
    priority = reader.uint(2)
    try:
        target = _name(reader)
    except DecodeError:
        return Malformed("its target is no name")
    if priority == ALIAS_MODE:
        return HttpsRecord(priority, target)  # parameters are ignored (section 2.4.2)
    parameters: dict[int, bytes] = {}
    last = -1
    while reader:
        try:
            key, value = reader.uint(2), reader.vector(2)
        except DecodeError:
            return Malformed("a parameter ends before its length")
        if key <= last:
            return Malformed("its keys do not rise")
        parameters[key], last = value, key
    return _with(priority, target, parameters)


def _alpn(reader: Reader) -> tuple[str, ...]:
    found: list[str] = []
    while reader or not found:
        if not (protocol := reader.vector(1)):
            raise reader.error("a protocol without octets")
        found.append(protocol.decode("latin-1"))
    return tuple(found)


def _mandatory(reader: Reader, present: Iterable[int]) -> tuple[int, ...]:
    keys: list[int] = []
    while reader or not keys:
        keys.append(reader.uint(2))
    rises = all(one < other for one, other in itertools.pairwise(keys))
    if _MANDATORY in keys or not rises or not set(keys) <= set(present):
        raise reader.error("keys that are not there")
    return tuple(keys)


def _port(reader: Reader) -> int:
    port = reader.uint(2)
    reader.end()
    return port


def _hints(reader: Reader, size: int) -> tuple[str, ...]:
    found: list[str] = []
    while reader or not found:
        found.append(str(ipaddress.ip_address(reader.take(size))))
    return tuple(found)


T = TypeVar("T")


def _with(priority: int, target: str, parameters: dict[int, bytes]) -> HttpsRecord | Malformed:
    problems: list[str] = []

    def read(key: int, form: Callable[[Reader], T], problem: str) -> T | None:
        if key in parameters:
            try:
                return form(Reader(parameters[key], "HTTPS"))
            except DecodeError:
                problems.append(problem)
        return None

    alpn = read(_ALPN, _alpn, "its alpn cannot be read") or ()
    no_such = "its mandatory list names what is not there"
    mandatory = read(_MANDATORY, functools.partial(_mandatory, present=parameters), no_such) or ()
    port = read(_PORT, _port, "its port has not two octets")
    hints: list[str] = []
    for key, size in ((_IPV4_HINT, 4), (_IPV6_HINT, 16)):
        hints += read(key, functools.partial(_hints, size=size), "its address hints cannot be read") or ()
    if _NO_DEFAULT_ALPN in parameters and (parameters[_NO_DEFAULT_ALPN] or not alpn):
        problems.append("no-default-alpn stands without an alpn")
    if problems:
        return Malformed(problems[0])
    return HttpsRecord(
        priority,
        target,
        alpn,
        _NO_DEFAULT_ALPN in parameters,
        port,
        tuple(hints),
        _ECH in parameters,
        tuple(key for key in mandatory if key not in _KNOWN),
    )


def _name(reader: Reader) -> str:
    """An uncompressed name (RFC 1035 section 3.1)."""
    labels: list[str] = []
    while label := reader.vector(1):
        if len(label) > 63 or len(labels) > 127:
            raise reader.error("a name that is too long")
        labels.append(label_text(label))
    return ".".join(labels) or "."


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


MOST_ALIASES = 8
"""Records of AliasMode that are followed in a row (section 3.1 leaves the bound to the client)."""


class AliasEnd(enum.Enum):
    """How the records of a name end, whether by way of aliases or not."""

    SERVICES = "services"
    ADDRESSES = "addresses"
    """The last name has no record that can be used: its addresses serve, at the usual port."""

    NO_SUCH_SERVICE = "no such service"
    CIRCLE = "a circle"
    TOO_LONG = "too long"
    UNKNOWN = "unknown"


class Followed(msgspec.Struct, frozen=True):
    """Where the records of a name lead."""

    owners: tuple[str, ...]
    """The name, and the targets of aliases in their order; the last of a circle is one that was there already."""

    end: AliasEnd
    first: HttpsSet
    services: tuple[HttpsRecord, ...] = ()
    """Of the last name."""

    why: str = ""
    """It is not known."""

    @property
    def last(self) -> str:
        return self.owners[-1]

    def target_of(self, service: HttpsRecord) -> str:
        """``.`` means the owner of the record."""
        return self.last if service.target == "." else service.target


def follow(answers: Answers, name: str) -> Followed | None:
    """The HTTPS records of a name and of those that it is an alias to; None where it has none (section 3)."""
    owners = [name]
    first: HttpsSet | None = None
    while True:
        reply = answers.resolved(owners[-1], "HTTPS")
        if first is not None and (isinstance(reply, Unseen) or reply.rcode not in {"NOERROR", "NXDOMAIN"}):
            why = reply.reason if isinstance(reply, Unseen) else f"the resolver answers {reply.rcode}"
            return Followed(tuple(owners), AliasEnd.UNKNOWN, first, why=why)
        data = final_data(reply, owners[-1], "HTTPS") if isinstance(reply, Reply) else frozenset[str]()
        if first is None and not data:
            return None
        found = read_set(sorted(data))
        first = first or found
        if found.services or not found.alias:
            end = AliasEnd.SERVICES if found.services else AliasEnd.ADDRESSES
            return Followed(tuple(owners), end, first, found.services)
        if found.alias == ".":
            return Followed(tuple(owners), AliasEnd.NO_SUCH_SERVICE, first)
        owners.append(found.alias)
        if found.alias in owners[:-1]:
            return Followed(tuple(owners), AliasEnd.CIRCLE, first)
        if len(owners) > MOST_ALIASES + 1:
            return Followed(tuple(owners), AliasEnd.TOO_LONG, first)
