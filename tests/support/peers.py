"""Peers on loopback that send exact octets."""

import contextlib
import socket
import threading
from collections.abc import Callable, Iterator

from pewter.octets import DecodeError


@contextlib.contextmanager
def peer(script: Callable[[socket.socket], None], connections: int = 64) -> Iterator[int]:
    """Run ``script`` for each connection to a fresh loopback port; yields the port."""
    with socket.create_server(("127.0.0.1", 0)) as listener:
        listener.settimeout(0.2)
        over = threading.Event()

        def serve(connection: socket.socket) -> None:
            with connection, contextlib.suppress(OSError, DecodeError):  # a request in plain http to a TLS script
                connection.settimeout(5)
                script(connection)

        def run() -> None:
            threads = []
            while not over.is_set() and len(threads) < connections:
                with contextlib.suppress(TimeoutError):
                    connection, _ = listener.accept()
                    threads.append(threading.Thread(target=serve, args=(connection,), daemon=True))
                    threads[-1].start()

        thread = threading.Thread(target=run, daemon=True)
        thread.start()
        try:
            yield listener.getsockname()[1]
        finally:
            over.set()
            thread.join(5)


def sends(octets: bytes) -> Callable[[socket.socket], None]:
    """Hear the first octets out, answer with these, and close."""

    def script(connection: socket.socket) -> None:
        connection.recv(1 << 16)
        connection.sendall(octets)

    return script


def stays_silent(connection: socket.socket) -> None:
    while connection.recv(1 << 16):
        pass


def resets(connection: socket.socket) -> None:
    connection.recv(1)
    connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\x01\0\0\0\0\0\0\0")


def dribbles(connection: socket.socket) -> None:
    """One octet of a record of 16,000 every 50 ms: never trips a time-out that counts from the last octet."""
    connection.recv(1 << 16)
    for octet in b"\x16\x03\x03\x3e\x80" + bytes(400):
        connection.sendall(bytes((octet,)))
        threading.Event().wait(0.05)


@contextlib.contextmanager
def closed_port() -> Iterator[int]:
    """A port that refuses connections."""
    with socket.socket() as holder:
        holder.bind(("127.0.0.1", 0))
        yield holder.getsockname()[1]
