"""A worker process on this machine: ``python -m pewter.survey.worker``.  Orders come over a socket, its standard input.

A frame is its length in four octets and msgpack.  When the socket ends, so does the worker: it outlives nobody.
"""

import asyncio
import gc
import signal
import socket

import msgspec

from .looking import Done, Looker, Ready
from .settings import Order, Settings

MAX_FRAME = 1 << 28
READ_AHEAD = 1 << 20
OBJECTS_BETWEEN_COLLECTIONS = 5_000
"""A look makes many objects that live as long as it and few circles: the usual 700 would have them looked at often."""


async def read_frame(reader: asyncio.StreamReader) -> bytes | None:
    """None at the end of the stream."""
    try:
        length = int.from_bytes(await reader.readexactly(4), "big")
        return await reader.readexactly(length) if length <= MAX_FRAME else None
    except (asyncio.IncompleteReadError, OSError):
        return None


def frame(message: msgspec.Struct) -> bytes:
    octets = msgspec.msgpack.encode(message)
    return len(octets).to_bytes(4, "big") + octets


def serve(connection: socket.socket) -> None:
    """Look at what is ordered, until the connection ends."""
    # Ctrl-C is for the survey, which ends its workers itself.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gc.set_threshold(OBJECTS_BETWEEN_COLLECTIONS, 2, 2)
    asyncio.run(_serve(connection))


async def _serve(connection: socket.socket) -> None:
    reader, writer = await asyncio.open_connection(sock=connection, limit=READ_AHEAD)
    settings = await read_frame(reader)
    if settings is None:
        return
    looker = Looker(msgspec.msgpack.decode(settings, type=Settings))
    gc.freeze()
    writer.write(frame(Ready()))
    under_way: set[asyncio.Task[None]] = set()

    async def run(order: Order) -> None:
        done: Done = await looker.look_at(order)
        writer.write(frame(done))
        await writer.drain()

    while (octets := await read_frame(reader)) is not None:
        task = asyncio.create_task(run(msgspec.msgpack.decode(octets, type=Order)))
        under_way.add(task)
        task.add_done_callback(under_way.discard)
    for task in under_way:
        task.cancel()


if __name__ == "__main__":
    serve(socket.socket(fileno=0))
