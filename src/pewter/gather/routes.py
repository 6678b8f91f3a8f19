"""Routes: where to connect instead of where the name service, or an address, would lead.

A route makes a staging server, an origin behind a CDN, or the simulated site reachable under the
names and addresses that visitors use.
"""

import re

import msgspec

from pewter.errors import UsageError
from pewter.evidence import read_ip_address
from pewter.places import socket_text
from pewter.web.urls import InvalidUrl, read_host

DNS_PORT = 53
_SIDE = re.compile(r"(?P<host>\[[^\]]*\]|[^:\[\]]+)(?::(?P<port>[0-9]{1,5}))?")


class Destination(msgspec.Struct, frozen=True):
    """Where one connection goes."""

    address: str
    """The address that the evidence names."""

    port: int
    connect_address: str
    """Where the connection is really made."""

    connect_port: int

    @property
    def reached_at(self) -> str | None:
        """``127.0.0.1:18443`` where that differs from the address and port."""
        if (self.address, self.port) == (self.connect_address, self.connect_port):
            return None
        return socket_text(self.connect_address, self.connect_port)


class Route(msgspec.Struct, frozen=True):
    """``www.x.example:443=127.0.0.1:18443``; a side without a port means every port, or the same one."""

    host: str
    """A host name, or an IP address."""

    port: int | None
    to_address: str
    to_port: int | None

    def __str__(self) -> str:
        here = socket_text(self.host, self.port) if self.port else self.host
        there = socket_text(self.to_address, self.to_port) if self.to_port else self.to_address
        return f"{here}={there}"


def read_route(text: str) -> Route:
    """Read ``NAME[:PORT]=ADDRESS[:PORT]``; UsageError where it is none."""
    here, equals, there = text.partition("=")
    if not equals:
        raise UsageError(f"--route {text!r} has no '='. Write NAME[:PORT]=ADDRESS[:PORT], as in x.example=192.0.2.7.")
    host, port = _read_side(text, here)
    to_host, to_port = _read_side(text, there)
    try:
        to_address = read_ip_address(to_host)
    except ValueError:
        message = f"--route {text!r}: {to_host!r} is no IP address. A route leads to an address, as in 192.0.2.7:8443."
        raise UsageError(message) from None
    try:
        return Route(read_host(host), port, to_address, to_port)
    except InvalidUrl as exc:
        raise UsageError(f"--route {text!r}: {exc}.") from exc


def read_origin(text: str, first: str) -> tuple[str, str, int | None]:
    """``[NAME=]ADDRESS[:PORT]``: the name, ``first`` where none is given, the address and the port."""
    name, equals, there = text.rpartition("=")
    address, port = _read_address_and_port(there, "--origin")
    try:
        host = read_host(name) if equals else first
    except InvalidUrl as exc:
        raise UsageError(f"--origin {text!r}: {exc}.") from exc
    return host, address, port


def read_resolver(text: str) -> tuple[str, int]:
    """``192.0.2.53`` or ``[2001:db8::53]:5353``: where it listens, at port 53 where none is given."""
    address, port = _read_address_and_port(text, "--resolver")
    return address, port or DNS_PORT


def _read_address_and_port(text: str, option: str) -> tuple[str, int | None]:
    """``192.0.2.53`` or ``[2001:db8::53]:5353``; UsageError names the option."""
    try:
        return read_ip_address(text), None
    except ValueError:
        pass
    match = _SIDE.fullmatch(text)
    try:
        if match is None:
            raise ValueError
        address = read_ip_address(match["host"].strip("[]"))
        port = int(match["port"]) if match["port"] else None
        if port is not None and not 0 < port < 65536:
            raise ValueError
    except ValueError:
        raise UsageError(f"{option} {text!r} is no ADDRESS[:PORT], as in 192.0.2.53 or 192.0.2.53:5353.") from None
    return address, port


def _read_side(whole: str, side: str) -> tuple[str, int | None]:
    try:
        return read_ip_address(side), None  # an IPv6 address without brackets
    except ValueError:
        pass
    match = _SIDE.fullmatch(side)
    port = int(match["port"]) if match is not None and match["port"] else None
    if match is None or (port is not None and not 0 < port < 65536):
        raise UsageError(f"--route {whole!r}: {side!r} is no NAME[:PORT] or ADDRESS[:PORT].")
    return match["host"].strip("[]"), port


class Routes:
    """All routes of one look."""

    def __init__(self, routes: tuple[Route, ...] = ()) -> None:
        self.routes = routes
        self._by_host: dict[str, list[Route]] = {}
        for route in routes:
            self._by_host.setdefault(route.host, []).append(route)

    def for_name(self, name: str, port: int) -> tuple[Destination, ...]:
        """Where the routes of a name lead, by the routes of their addresses; empty where the name service decides."""
        found: dict[Destination, None] = {}
        for route in self._by_host.get(name, ()):
            if route.port in {None, port}:
                onward = self.for_address(route.to_address, route.to_port or port)
                found[Destination(route.to_address, port, onward.connect_address, onward.connect_port)] = None
        return tuple(found)

    def for_address(self, address: str, port: int) -> Destination:
        """Where a connection to an address goes."""
        for route in self._by_host.get(address, ()):
            if route.port in {None, port}:
                return Destination(address, port, route.to_address, route.to_port or port)
        return Destination(address, port, address, port)
