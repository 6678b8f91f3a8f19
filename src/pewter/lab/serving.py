"""Starting stream servers on loopback that also end quietly."""

import asyncio
import contextlib
import socket
import ssl
from collections.abc import Awaitable, Callable

Serve = Callable[[asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]


async def listen(
    serve: Serve, port: int, context: ssl.SSLContext | None = None, *, kept: socket.socket | None = None
) -> asyncio.Server:
    """A server on 127.0.0.1, or at a ``kept`` socket; a connection that is cut off when the world ends is no error."""

    async def quietly(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            await serve(reader, writer)
        except (asyncio.CancelledError, OSError):
            pass
        finally:
            with contextlib.suppress(OSError, RuntimeError):
                writer.close()

    if kept is not None:
        return await asyncio.start_server(quietly, sock=kept, ssl=context)
    return await asyncio.start_server(quietly, "127.0.0.1", port, ssl=context)


def port_of(server: asyncio.Server) -> int:
    return int(server.sockets[0].getsockname()[1])


async def copy_stream(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    """Copy until the end, then close the writing side."""
    with contextlib.suppress(OSError):
        while octets := await reader.read(1 << 16):
            writer.write(octets)
            await writer.drain()
    with contextlib.suppress(OSError, RuntimeError):
        writer.close()
