"""What an attack is made of: the servers and files that it needs, the program's arguments, and what must hold after it."""

import contextlib
import json
import socket
import socketserver
import struct
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from pewter.lab.web_server import Response, VirtualHost
from support.certificates import root
from support.looks import CHAIN, HOST, PEER, at_ports, world
from support.peers import peer
from support.servers import free_port

VOICE = "FAKE every check holds"
"""Planted behind line ends: no line of a report may begin with it."""

SECRET = "s3cr3t-7f9aC0ffee"
SPOKEN = f"x\r\n\x1b[2K{VOICE}\u2028{VOICE}\x85{VOICE}\n{VOICE}"


@dataclass
class Stage:
    """One attack under way."""

    folder: Path
    stack: contextlib.ExitStack
    trapped: list[str] = field(default_factory=list)
    """What reached a place that nobody may be led to."""

    def file(self, name: str, content: bytes | str) -> str:
        octets = content if isinstance(content, bytes) else content.encode("utf-8", "surrogatepass")
        (self.folder / name).write_bytes(octets)
        return name

    def plain(self, script: Callable[[socket.socket], None]) -> list[str]:
        """A review of a peer that answers http with this, and https with nothing that is TLS."""
        port = self.stack.enter_context(peer(_to_get(script), 4000))
        return ["review", PEER, *_routes(at_ports(port)), *self._usual()]

    def speaks(self, script: Callable[[socket.socket], None], *more: str) -> list[str]:
        """A review of a peer whose every connection begins with this."""
        port = self.stack.enter_context(peer(script, 20_000))
        return ["review", PEER, *_routes(at_ports(port)), *more, *self._usual()]

    def site(self, handler, *more: str, chain=CHAIN, target: str = HOST, others=None) -> list[str]:
        """A review of a good server of the lab with this handler and chain."""
        hosts = {target: VirtualHost(handler, chain), **(others or {})}
        running = self.stack.enter_context(world(hosts))
        return ["review", target, *_routes(running.routes), "--resolver", running.resolver, *more, *self._usual()]

    def named(self, answer: Callable[[bytes], bytes | None], *more: str, tcp: bool = True) -> list[str]:
        """A review with a name server that gives these octets."""
        port = self.stack.enter_context(_name_server(answer, tcp))
        return ["review", HOST, "--resolver", f"127.0.0.1:{port}", *more, *self._usual()]

    def trap(self) -> int:
        """A port of the reviewer's own machine, where nothing may arrive."""
        return self.stack.enter_context(peer(lambda connection: self.trapped.append("trapped"), 100))

    def _usual(self) -> list[str]:
        self.file("root.pem", root().pem)
        return ["--trust", "root.pem", "--timeout", "15", "--write", "review.json"]


@dataclass(frozen=True)
class Ended:
    """How the program ended."""

    stage: Stage
    status: int
    out: str
    err: str

    @property
    def review(self) -> dict:
        return json.loads((self.stage.folder / "review.json").read_bytes())


@dataclass(frozen=True)
class Attack:
    area: str
    title: str
    arguments: Callable[[Stage], Sequence[str]]
    statuses: tuple[int, ...] = (0, 1, 3)
    holds: Callable[[Ended], bool] = lambda ended: True
    seconds: float = 30.0
    prepared: str = ""
    """What is done around the start, in the words of :mod:`attack.runner`."""


def answers(octets: bytes) -> Callable[[socket.socket], None]:
    return lambda connection: connection.sendall(octets)


def head(*fields: bytes, status: bytes = b"200 OK", body: bytes = b"") -> bytes:
    return b"HTTP/1.1 %s\r\n" % status + b"".join(each + b"\r\n" for each in fields) + b"\r\n" + body


def page(body: bytes, *fields: bytes) -> Callable[[socket.socket], None]:
    return answers(head(b"Content-Type: text/html", b"Content-Length: %d" % len(body), *fields, body=body))


def shows(body: bytes = b"<h1>page</h1>", *fields: tuple[str, str], status: int = 200):
    return lambda request: Response(status, (("Content-Type", "text/html"), *fields), body)


def _to_get(script: Callable[[socket.socket], None]) -> Callable[[socket.socket], None]:
    def serve(connection: socket.socket) -> None:
        if connection.recv(1 << 16).startswith(b"GET"):
            script(connection)

    return serve


def _routes(routes: Sequence[str]) -> list[str]:
    return [option for route in routes for option in ("--route", route)]


@contextlib.contextmanager
def _name_server(answer: Callable[[bytes], bytes | None], tcp: bool):
    class Udp(socketserver.BaseRequestHandler):
        def handle(self) -> None:
            octets, sock = self.request
            if (found := answer(octets)) is not None:
                with contextlib.suppress(OSError):
                    sock.sendto(found[:65000], self.client_address)

    class Tcp(socketserver.BaseRequestHandler):
        def handle(self) -> None:
            with contextlib.suppress(OSError):
                query = self.request.recv(1 << 16)[2:]
                if tcp and (found := answer(query)) is not None:
                    self.request.sendall(struct.pack("!H", min(len(found), 65535)) + found[:65535])

    port = free_port()
    with socketserver.ThreadingUDPServer(("127.0.0.1", port), Udp) as udp:
        socketserver.ThreadingTCPServer.allow_reuse_address = True
        with socketserver.ThreadingTCPServer(("127.0.0.1", port), Tcp) as listener:
            for server in (udp, listener):
                server.daemon_threads = True
                threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()
            try:
                yield port
            finally:
                udp.shutdown()
                listener.shutdown()
