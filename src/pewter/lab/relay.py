"""A relay that adds a delay each way, to see how many round trips a review takes.

On loopback a TCP connection comes about at once, whatever is relayed behind it.  So that connecting
costs its round trip as it does on a real path, a relay holds back the first octets of a connection for
one round trip more.
"""

import asyncio
import contextlib
from typing import Self

from .serving import listen, port_of


class TcpRelay:
    """Relays connections to a port on 127.0.0.1."""

    def __init__(self, target_port: int, delay_seconds: float) -> None:
        self._target_port = target_port
        self._delay = delay_seconds
        self._server: asyncio.Server | None = None
        self.port = 0

    async def start(self, port: int = 0) -> Self:
        self._server = await listen(self._serve, port)
        self.port = port_of(self._server)
        return self

    async def stop(self) -> None:
        if self._server is not None:
            self._server.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        inner_reader, inner_writer = await asyncio.open_connection("127.0.0.1", self._target_port)
        await asyncio.sleep(2 * self._delay)
        await asyncio.gather(
            _copy_late(reader, inner_writer, self._delay), _copy_late(inner_reader, writer, self._delay)
        )


async def _copy_late(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, delay: float) -> None:
    """Copy each piece ``delay`` after it came, in order, without holding up the next."""
    loop = asyncio.get_running_loop()

    def write(octets: bytes) -> None:
        with contextlib.suppress(OSError, RuntimeError):
            if octets:
                writer.write(octets)
            else:
                writer.close()

    with contextlib.suppress(OSError):
        while octets := await reader.read(1 << 16):
            loop.call_later(delay, write, octets)
    loop.call_later(delay, write, b"")


class UdpRelay(asyncio.DatagramProtocol):
    """Relays datagrams to a port on 127.0.0.1 and their answers back."""

    def __init__(self, target_port: int, delay_seconds: float) -> None:
        self._target = ("127.0.0.1", target_port)
        self._delay = delay_seconds
        self._outer: asyncio.DatagramTransport | None = None
        self.port = 0

    async def start(self, port: int = 0) -> Self:
        loop = asyncio.get_running_loop()
        self._outer, _ = await loop.create_datagram_endpoint(lambda: self, local_addr=("127.0.0.1", port))
        self.port = self._outer.get_extra_info("sockname")[1]
        return self

    async def stop(self) -> None:
        if self._outer is not None:
            self._outer.close()

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        asyncio.get_running_loop().create_task(self._relay(data, addr))

    async def _relay(self, data: bytes, addr: tuple[str, int]) -> None:
        loop = asyncio.get_running_loop()
        answer: asyncio.Future[bytes] = loop.create_future()
        await asyncio.sleep(self._delay)
        inner, _ = await loop.create_datagram_endpoint(lambda: _OneAnswer(answer), remote_addr=self._target)
        try:
            inner.sendto(data)
            octets = await asyncio.wait_for(answer, 5)
            await asyncio.sleep(self._delay)
            if self._outer is not None:
                self._outer.sendto(octets, addr)
        except TimeoutError:
            pass
        finally:
            inner.close()


class _OneAnswer(asyncio.DatagramProtocol):
    def __init__(self, answer: asyncio.Future[bytes]) -> None:
        self._answer = answer

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        if not self._answer.done():
            self._answer.set_result(data)
