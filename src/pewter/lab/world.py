"""The simulated world: name server and web servers of one scenario, on loopback and unprivileged ports.

The scenario's names resolve to documentation addresses (RFC 5737, RFC 3849); routes lead from these
to the ports on 127.0.0.1.  Nothing else tells a probe that the world is not real.
"""

import asyncio
import contextlib
import threading
from collections.abc import Awaitable, Callable, Coroutine, Mapping
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass, field
from types import TracebackType
from typing import Generic, Self, TypeVar

import dns.zone

from .authority import Issued
from .name_server import NameServer, zone_of_table
from .relay import TcpRelay, UdpRelay
from .web_server import VirtualHost, WebServer

Starter = Callable[[tuple[int, ...]], Awaitable[object]]

CLOSED_PORT = 1
"""Where nobody listens: no address of the world leads out of it."""

FIRST_PORT = 18440
"""Ports are taken from here where they are free, so that they stay the same from one start to the next."""


@dataclass(frozen=True)
class Scenario:
    """What there is in a world."""

    zone: Mapping[str, tuple[str, ...]]
    """Addresses by name, ``"=target"`` for an alias; for a world without name servers of its own."""

    servers: Mapping[tuple[str, ...], Mapping[str, VirtualHost]]
    """Virtual hosts by the addresses at which they are."""

    root: Issued
    """The anchor to trust."""

    zones: tuple[dns.zone.Zone, ...] = ()
    """What the resolver knows, from the root down."""

    name_servers: Mapping[str, tuple[dns.zone.Zone, ...]] = field(default_factory=dict)
    """The zones that a name server at an address serves."""

    files: Mapping[str, bytes] = field(default_factory=dict)
    """What somebody has on disk, by file name."""

    mending: tuple["Mend", ...] = ()
    """What somebody mends one after the other while the world runs."""


@dataclass(frozen=True)
class Mend:
    """One change of a world that runs."""

    words: str
    """What was done, for whoever watches."""

    servers: Mapping[str, Mapping[str, VirtualHost]] = field(default_factory=dict)
    """Virtual hosts of the server at an address, in place of those it had."""

    name_servers: Mapping[str, tuple[dns.zone.Zone, ...]] = field(default_factory=dict)
    """Zones of the name server at an address."""

    resolver: tuple[dns.zone.Zone, ...] = ()
    """What the resolver knows; empty for what it knew."""

    copies_last: float = 0.0
    """Seconds for which the resolver goes on giving what it knew, as the copies that it kept."""


@dataclass
class World:
    """A running scenario; ``delay_seconds`` puts every server behind relays that add it each way."""

    scenario: Scenario
    delay_seconds: float = 0.0
    keep_ports: bool = False
    resolver: str = ""
    """``127.0.0.1:18440`` once it runs."""

    routes: tuple[str, ...] = ()
    """Route texts as ``--route`` takes them."""

    _web_servers: dict[str, WebServer] = field(default_factory=dict)
    _name_servers: dict[str, NameServer] = field(default_factory=dict)
    _resolver: NameServer | None = None
    _running: list[WebServer | NameServer | TcpRelay | UdpRelay] = field(default_factory=list)
    _next_port: int = FIRST_PORT

    async def __aenter__(self) -> Self:
        zones = self.scenario.zones or (zone_of_table(self.scenario.zone),)
        self._resolver = NameServer(zones)
        self.resolver = f"127.0.0.1:{await self._start_name_server(self._resolver)}"
        routes: list[str] = []
        for address, served in self.scenario.name_servers.items():
            self._name_servers[address] = NameServer(served, recurses=False)
            port = await self._start_name_server(self._name_servers[address])
            routes.append(f"{_bracketed(address)}:53=127.0.0.1:{port}")
        for addresses, hosts in self.scenario.servers.items():
            later = (mend.servers.get(each, {}) for mend in self.scenario.mending for each in addresses)
            speaks_tls_later = any(host.chain for found in later for host in found.values())
            server = await self._start_web_server(WebServer(hosts, keeps_tls_port=speaks_tls_later))
            self._web_servers.update(dict.fromkeys(addresses, server))
            for port, inner in ((80, server.http_port), (443, server.https_port)):
                outer = await self._behind_relay(inner) if inner else CLOSED_PORT
                routes += [f"{_bracketed(address)}:{port}=127.0.0.1:{outer}" for address in addresses]
        self.routes = tuple(routes)
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, exc: BaseException | None, trace: TracebackType | None
    ) -> None:
        for each in self._running:
            await each.stop()

    async def change(self, mend: Mend) -> None:
        """Put one mend in force; ports, and with them the routes, stay what they are."""
        for address, hosts in mend.servers.items():
            await self._web_servers[address].change(hosts)
        for address, zones in mend.name_servers.items():
            self._name_servers[address].change(zones)
        if mend.resolver and self._resolver is not None:
            self._resolver.change(mend.resolver, mend.copies_last)

    async def _start_name_server(self, server: NameServer) -> int:
        self._running.append(server)
        await self._on_kept_ports(lambda ports: server.start(*ports), 1)
        if not self.delay_seconds:
            return server.port
        relay = await UdpRelay(server.port, self.delay_seconds).start()
        self._running.append(relay)
        with contextlib.suppress(OSError):  # the port may be taken for TCP: then this server has none
            self._running.append(await TcpRelay(server.port, self.delay_seconds).start(relay.port))
        return relay.port

    async def _start_web_server(self, server: WebServer) -> WebServer:
        self._running.append(server)
        await self._on_kept_ports(lambda ports: server.start(*ports), 2)
        return server

    async def _behind_relay(self, port: int) -> int:
        if not self.delay_seconds:
            return port
        relay = await TcpRelay(port, self.delay_seconds).start()
        self._running.append(relay)
        return relay.port

    async def _on_kept_ports(self, start: Starter, count: int) -> None:
        """Start on the next ports of the row; where one is taken, or none is to be kept, on any."""
        ports = tuple(range(self._next_port, self._next_port + count))
        self._next_port += count
        if self.keep_ports:
            try:
                await start(ports)
                return
            except OSError:
                pass
        await start((0,) * count)


W = TypeVar("W", bound="AbstractAsyncContextManager[object]")


class WorldThread(Generic[W]):
    """A world in a thread and event loop of its own, so that it answers while a review runs beside it."""

    def __init__(self, world: W) -> None:
        self.world = world
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="pewter lab", daemon=True)

    @property
    def ident(self) -> int:
        """Of its thread, once it runs."""
        assert self._thread.ident is not None
        return self._thread.ident

    def __enter__(self) -> W:
        self._thread.start()
        asyncio.run_coroutine_threadsafe(_enter(self.world), self._loop).result(60)
        return self.world

    def do(self, work: Coroutine[None, None, None]) -> None:
        """Have the world do something, from another thread: ``do(world.change(mend))``."""
        asyncio.run_coroutine_threadsafe(work, self._loop).result(30)

    def __exit__(
        self, kind: type[BaseException] | None, exc: BaseException | None, trace: TracebackType | None
    ) -> None:
        asyncio.run_coroutine_threadsafe(self._wind_up(), self._loop).result(10)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(10)
        self._loop.close()

    async def _wind_up(self) -> None:
        await self.world.__aexit__(None, None, None)
        others = [task for task in asyncio.all_tasks() if task is not asyncio.current_task()]
        for task in others:
            task.cancel()
        await asyncio.gather(*others, return_exceptions=True)


async def _enter(world: AbstractAsyncContextManager[object]) -> None:
    await world.__aenter__()


def _bracketed(address: str) -> str:
    return f"[{address}]" if ":" in address else address
