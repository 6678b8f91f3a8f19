"""The Marram islands' shops, clubs and hotels: many small made-up sites, some of them with a fault, for a survey."""

import asyncio
import datetime
import enum
import itertools
from collections.abc import Iterator
from dataclasses import dataclass, field
from types import TracebackType
from typing import Self

from .authority import DAY, Issued, issue_ca, issue_server
from .name_server import NameServer, zone_of_table
from .relay import TcpRelay
from .serving import listen, port_of
from .web_server import Handler, Request, Response, VirtualHost, WebServer

SLOW_SECONDS = 0.6
"""That a slow site adds each way."""

SITES_OF_A_SERVER = 8
_CLOSED_PORT = 1
_PLACES = (
    "harbour", "lighthouse", "north-shore", "seal-bay", "dune", "old-quay", "west-isle", "kelp-lane", "ferry-road",
    "tern-point", "skerry", "long-beach", "chapel-hill", "peat-moor", "cliff-top", "saltmarsh", "otter-creek",
    "east-head",
)  # fmt: skip
_KINDS = (
    "bakery", "hotel", "sailing-club", "bookshop", "fish-shop", "guesthouse", "pottery", "choir", "bicycles", "dairy",
    "tea-room", "chandlery", "school", "library", "smokehouse", "campsite", "weavers", "museum",
)  # fmt: skip


class Kind(enum.Enum):
    """What a site is like."""

    GOOD = "good"
    NO_HSTS = "no HSTS"
    NO_REDIRECT = "no redirect"
    EXPIRED = "expired"
    RENEWAL = "renewal overdue"
    WRONG_NAME = "wrong name"
    INCOMPLETE = "incomplete"
    SLOW = "slow"
    SILENT = "silent"
    DEAD = "dead"
    NO_NAME = "no such name"


_ROW = (
    *(Kind.GOOD,) * 4, Kind.NO_HSTS, Kind.EXPIRED, *(Kind.GOOD,) * 2, Kind.NO_REDIRECT, Kind.SILENT, Kind.GOOD,
    Kind.WRONG_NAME, Kind.NO_HSTS, Kind.INCOMPLETE, Kind.GOOD, Kind.DEAD, Kind.RENEWAL, Kind.SLOW, Kind.NO_NAME,
    Kind.GOOD,
)  # fmt: skip
"""The first twenty; then it begins anew."""


def site_names() -> Iterator[str]:
    """Without an end."""
    pairs = len(_PLACES) * len(_KINDS)
    for number in itertools.count():
        place = number % len(_PLACES)
        kind = (number // len(_PLACES) + 5 * place) % len(_KINDS)
        yield f"{_PLACES[place]}-{_KINDS[kind]}{number // pairs or ''}.example"


@dataclass
class Crowd:
    """So many sites, on loopback and any ports; what a survey needs to get at them."""

    count: int
    now: datetime.datetime
    kinds: dict[str, Kind] = field(default_factory=dict)
    """By name."""

    table: dict[str, tuple[str, ...]] = field(default_factory=dict)
    """Addresses by name."""

    resolver: str = ""
    routes: tuple[str, ...] = ()
    _running: list[WebServer | NameServer | TcpRelay] = field(default_factory=list)
    _listeners: list[asyncio.Server] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.kinds = dict(zip(itertools.islice(site_names(), self.count), itertools.cycle(_ROW), strict=False))
        self.root = issue_ca("Skerry Trust Root R1", None, self.now - 3000 * DAY, self.now + 4000 * DAY)
        self._issuing = issue_ca(
            "Skerry Trust Issuing CA 3",
            self.root,
            self.now - 700 * DAY,
            self.now + 1100 * DAY,
            path_length=0,
            organization="Skerry Trust",
        )

    async def __aenter__(self) -> Self:
        table = self.table
        routes: list[str] = []
        numbers = itertools.count(1)
        for kind in Kind:
            of_kind = [name for name, each in self.kinds.items() if each is kind]
            for names in _batches(of_kind, SITES_OF_A_SERVER):
                number = next(numbers)
                address = f"198.18.{number // 250}.{1 + number % 250}"
                table.update({} if kind is Kind.NO_NAME else dict.fromkeys(names, (address,)))
                ports = await self._start(kind, names)
                routes += [f"{address}:{port}=127.0.0.1:{inner}" for port, inner in zip((80, 443), ports, strict=True)]
        name_server = await NameServer((zone_of_table(table),)).start()
        self._running.append(name_server)
        self.resolver, self.routes = f"127.0.0.1:{name_server.port}", tuple(routes)
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, exc: BaseException | None, trace: TracebackType | None
    ) -> None:
        for server in self._running:
            await server.stop()
        for listener in self._listeners:
            listener.close()

    async def _start(self, kind: Kind, names: list[str]) -> tuple[int, int]:
        """The ports for http and https of these sites."""
        match kind:
            case Kind.DEAD | Kind.NO_NAME:
                return _CLOSED_PORT, _CLOSED_PORT
            case Kind.SILENT:
                listener = await listen(_say_nothing, 0)
                self._listeners.append(listener)
                return port_of(listener), port_of(listener)
            case _:
                server = await WebServer({name: self._host(kind, name) for name in names}).start()
                self._running.append(server)
                if kind is not Kind.SLOW:
                    return server.http_port, server.https_port
                return await self._slow(server.http_port), await self._slow(server.https_port)

    async def _slow(self, port: int) -> int:
        relay = await TcpRelay(port, SLOW_SECONDS).start()
        self._running.append(relay)
        return relay.port

    def _host(self, kind: Kind, name: str) -> VirtualHost:
        left = {Kind.EXPIRED: -6, Kind.RENEWAL: 9}.get(kind, 30 + len(name) % 55)
        covered = f"shop.{name}" if kind is Kind.WRONG_NAME else name
        end = self.now + left * DAY + DAY / 2
        leaf = issue_server([covered], self._issuing, end - 90 * DAY, end)
        chain: tuple[Issued, ...] = (leaf,) if kind is Kind.INCOMPLETE else (leaf, self._issuing)
        return VirtualHost(_handler(kind, name), chain, server="nginx")


def _batches(names: list[str], size: int) -> Iterator[list[str]]:
    return (names[start : start + size] for start in range(0, len(names), size))


def _handler(kind: Kind, name: str) -> Handler:
    title = name.removesuffix(".example").replace("-", " ").title()
    page = f"<!doctype html><html lang=en><meta charset=utf-8><title>{title}</title><h1>{title}</h1></html>\n".encode()
    policy = () if kind is Kind.NO_HSTS else (("Strict-Transport-Security", "max-age=31536000; includeSubDomains"),)

    def handle(request: Request) -> Response:
        if request.scheme == "http" and kind is not Kind.NO_REDIRECT:
            return Response(301, (("Location", f"https://{request.host}{request.target}"),))
        fields: tuple[tuple[str, str], ...] = (("Content-Type", "text/html"), *policy)
        return Response(200 if request.target == "/" else 404, fields, page)

    return handle


async def _say_nothing(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    while await reader.read(1 << 14):
        pass
