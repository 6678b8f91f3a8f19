"""Relays in threads of their own, and how they end connections."""

import asyncio
import contextlib
import socket
import struct
import threading
from collections.abc import Callable, Iterator

from pewter.lab.serving import listen, port_of


async def copy(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    with contextlib.suppress(OSError):
        while octets := await reader.read(1 << 16):
            writer.write(octets)
            await writer.drain()
    with contextlib.suppress(OSError):
        writer.close()


@contextlib.contextmanager
def serving(serve: Callable[[asyncio.StreamReader, asyncio.StreamWriter], object], port: int = 0) -> Iterator[int]:
    """A server in a thread of its own; its tasks are ended with it."""
    loop = asyncio.new_event_loop()
    server = loop.run_until_complete(listen(serve, port))
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    try:
        yield port_of(server)
    finally:
        loop.call_soon_threadsafe(loop.stop)
        thread.join()
        for task in asyncio.all_tasks(loop):
            task.cancel()
        loop.run_until_complete(asyncio.sleep(0))
        server.close()


def reset(writer: asyncio.StreamWriter) -> None:
    """End it with RST in place of FIN."""
    linger = struct.pack("ii", 1, 0)
    writer.transport.get_extra_info("socket").setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, linger)
    writer.transport.abort()
