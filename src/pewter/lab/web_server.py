"""Web servers with stated faults: plain HTTP and TLS, several names at one address, old protocol versions."""

import asyncio
import contextlib
import datetime
import email.utils
import socket
import ssl
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Self

from pewter.octets import DecodeError
from pewter.tls import Version
from pewter.tls.hellos import ClientHello, read_client_hello, read_offered_versions, read_server_name
from pewter.tls.records import MessageReader, RecordReader

from .authority import Issued
from .old_tls import alert_protocol_version, answer_in_old_version, ask_for_hybrid, asks_for_hybrid
from .serving import Serve, copy_stream, listen, port_of

MAX_HEAD = 1 << 16
MAX_BODY = 1 << 16
"""Of a request, in octets: read over, since the next request comes after it."""

_NO_LENGTH = -1


@dataclass(frozen=True, slots=True)
class Request:
    """The head of one request."""

    scheme: str
    host: str
    target: str
    """Path and query as sent."""

    cookie: str = ""
    body_length: int = 0
    """In octets; less than 0 where the head does not tell, and no further request can be found."""


@dataclass(frozen=True, slots=True)
class Response:
    """One answer; Date, Content-Length and Server are added where they are not given."""

    status: int
    fields: tuple[tuple[str, str], ...] = ()
    body: bytes = b""
    octets: bytes | None = None
    """Sent as they are in place of all else; the connection is closed after them."""


Handler = Callable[[Request], Response]


@dataclass(frozen=True)
class VirtualHost:
    """One name at one address."""

    handler: Handler
    """Answers over both schemes."""

    chain: tuple[Issued, ...] = ()
    """Sent over TLS, leaf first; only the leaf's key is used.  Empty: no https."""

    old_versions: frozenset[int] = frozenset()
    """TLS 1.0 and 1.1, spoken by the lab's own responder as far as a probe needs; asks for an RSA key."""

    server: str = ""
    """The Server field."""

    is_modern: bool = True
    """Speaks HTTP/2 and hybrid key exchange as far as a probe can see; pages go over HTTP/1.1 all the same."""

    tls_settings: Callable[[ssl.SSLContext], None] | None = None
    """Suites, groups and versions other than the usual."""

    tls_port: int | None = None
    """Another program on this port speaks TLS in its place."""

    closes_on: Callable[[ClientHello, int], bool] | None = None
    """Told the hello and its length in octets: whether it ends the connection at once."""

    any_host: bool = False
    """Answers at its address for every host name that no other virtual host has."""


class WebServer:
    """All names at one address: one plain and one TLS port, both on 127.0.0.1."""

    def __init__(self, hosts: Mapping[str, VirtualHost], *, keeps_tls_port: bool = False) -> None:
        """``keeps_tls_port``: one is kept, and refuses, where the hosts speak no TLS yet."""
        self._hosts = dict(hosts)
        self._keeps_tls_port = keeps_tls_port
        self._kept: socket.socket | None = None
        self._servers: list[asyncio.Server] = []
        self._inner_ports: dict[str, int] = {}
        self.http_port = 0
        self.https_port = 0

    async def start(self, http_port: int = 0, https_port: int = 0) -> Self:
        self.http_port = await self._listen(self._serve_plain, http_port)
        self._inner_ports = await self._start_inner(self._hosts)
        if self._inner_ports:
            self.https_port = await self._listen(self._front, https_port)
        elif self._keeps_tls_port:
            self._kept = socket.socket()
            self._kept.bind(("127.0.0.1", https_port))
            self.https_port = int(self._kept.getsockname()[1])
        return self

    async def stop(self) -> None:
        for server in self._servers:
            server.close()
        if self._kept is not None:
            self._kept.close()

    async def change(self, hosts: Mapping[str, VirtualHost]) -> None:
        """Other virtual hosts from now on."""
        inner_ports = await self._start_inner(hosts)
        self._hosts, self._inner_ports = dict(hosts), inner_ports
        if inner_ports and self._kept is not None:
            self._servers.append(await listen(self._front, 0, kept=self._kept))
            self._kept = None

    async def _start_inner(self, hosts: Mapping[str, VirtualHost]) -> dict[str, int]:
        """The ports at which each host speaks TLS."""
        ports = {}
        for name, host in hosts.items():
            if host.tls_port is not None:
                ports[name] = host.tls_port
            elif host.chain:
                context = server_context(host.chain, is_modern=host.is_modern, settings=host.tls_settings)
                ports[name] = await self._listen(self._serve_secure, 0, context)
        return ports

    @property
    def _default(self) -> VirtualHost:
        """For a name that no virtual host has."""
        return next((host for host in self._hosts.values() if host.any_host), _REFUSES)

    async def _listen(self, serve: Serve, port: int, context: ssl.SSLContext | None = None) -> int:
        server = await listen(serve, port, context)
        self._servers.append(server)
        return port_of(server)

    async def _serve_plain(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await self._serve("http", reader, writer)

    async def _serve_secure(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await self._serve("https", reader, writer)

    async def _serve(self, scheme: str, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, ssl.SSLError):
            while True:
                request = _read_head(scheme, await reader.readuntil(b"\r\n\r\n"))
                host = self._hosts.get(request.host) or self._default
                response = host.handler(request)
                own = response.octets
                writer.write(own if own is not None else _response_octets(response, host.server))
                await writer.drain()
                if response.octets is not None or not 0 <= request.body_length <= MAX_BODY:
                    return
                await reader.readexactly(request.body_length)

    async def _front(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Read the hello, and hand the connection to who can speak its version."""
        opening, hello = b"", None
        with contextlib.suppress(OSError, DecodeError):
            while hello is None and len(opening) < MAX_HEAD and (octets := await reader.read(1 << 14)):
                opening += octets
                hello = _hello_in(opening)
        if hello is None:
            return
        name = read_server_name(hello) or ""
        host = self._hosts.get(name) or next(iter(self._hosts.values()))
        if host.closes_on is not None and host.closes_on(hello, len(opening)):
            return
        newest = max(read_offered_versions(hello), default=0)
        if host.is_modern and asks_for_hybrid(hello):
            writer.write(ask_for_hybrid(hello))
            with contextlib.suppress(OSError):
                await writer.drain()
                await reader.read(1)
            return
        if newest < Version.TLS_1_2:
            if newest in host.old_versions:
                writer.write(answer_in_old_version(newest, tuple(each.der for each in host.chain)))
            else:
                writer.write(alert_protocol_version(newest))
            with contextlib.suppress(OSError):
                await writer.drain()
                await reader.read(1)
            return
        port = self._inner_ports.get(name) or next(iter(self._inner_ports.values()))
        await _pipe_to(port, opening, reader, writer)


def _hello_in(opening: bytes) -> ClientHello | None:
    records, messages = RecordReader(), MessageReader()
    records.feed(opening)
    while (record := records.next()) is not None:
        messages.feed(record.fragment)
    message = messages.next()
    return read_client_hello(message[1]) if message is not None else None


async def _pipe_to(port: int, opening: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    inner_reader, inner_writer = await asyncio.open_connection("127.0.0.1", port)
    inner_writer.write(opening)
    await asyncio.gather(copy_stream(reader, inner_writer), copy_stream(inner_reader, writer))


def server_context(
    chain: Sequence[Issued], *, is_modern: bool = False, settings: Callable[[ssl.SSLContext], None] | None = None
) -> ssl.SSLContext:
    """A TLS 1.2 and 1.3 server context that sends exactly ``chain``."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    # The server's order counts: whoever offers http/1.1 too gets that, which is all that the lab can speak.
    context.set_alpn_protocols(["http/1.1", "h2"] if is_modern else ["http/1.1"])
    if settings is not None:
        settings(context)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "chain.pem")
        file.write_bytes(b"".join(each.pem for each in chain) + chain[0].key_pem)
        context.load_cert_chain(file)
    return context


def _read_head(scheme: str, head: bytes) -> Request:
    lines = head.decode("latin-1").split("\r\n")
    target = [*lines[0].split(" "), "/", "/"][1]
    fields = {name.lower(): value.strip() for name, _, value in (line.partition(":") for line in lines[1:])}
    host = fields.get("host", "").partition(":")[0].lower()
    length = fields.get("content-length", "0")
    is_told = length.isdecimal() and len(length) < 10 and "transfer-encoding" not in fields
    return Request(scheme, host, target, fields.get("cookie", ""), int(length) if is_told else _NO_LENGTH)


def _response_octets(response: Response, server: str) -> bytes:
    given = {name.lower() for name, _ in response.fields}
    now = email.utils.format_datetime(datetime.datetime.now(datetime.UTC), usegmt=True)
    fields = [("Date", now), ("Server", server), *response.fields, ("Content-Length", str(len(response.body)))]
    kept = [
        (name, value)
        for position, (name, value) in enumerate(fields)
        if value and not (position < 2 and name.lower() in given)
    ]
    head = "".join(f"{name}: {value}\r\n" for name, value in kept)
    return (
        f"HTTP/1.1 {response.status} {_REASONS.get(response.status, 'Status')}\r\n{head}\r\n".encode("latin-1")
        + response.body
    )


_REFUSES = VirtualHost(lambda request: Response(421, (), b"no such host here"))
_REASONS = {
    200: "OK",
    301: "Moved Permanently",
    302: "Found",
    307: "Temporary Redirect",
    404: "Not Found",
    421: "Misdirected Request",
}
