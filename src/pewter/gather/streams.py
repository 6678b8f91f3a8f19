"""A connection that carries http or https: octets in, octets out, and over TLS as the local OpenSSL speaks it.

TLS is fed piece by piece, so that a deadline is never further off than one piece, and what comes without a single octet
for us is bounded: a peer may ask for new keys (RFC 8446 section 4.6.3) as often as it likes, and each costs work.
"""

import asyncio
import contextlib
import ssl
from collections.abc import Callable

PIECE = 1 << 14
MAX_QUIET = 1 << 18
"""Octets in a row that bring the reader nothing; in a handshake, all of it."""


class Stream:
    """Over TCP alone."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._reader = reader
        self._writer = writer

    async def read(self) -> bytes:
        """What comes next; empty at the end.  Raises OSError, and ssl.SSLError, which is one."""
        return await self._reader.read(PIECE)

    async def write(self, octets: bytes) -> None:
        """Raises as :meth:`read` does."""
        self._writer.write(octets)

    def abort(self) -> None:
        """End it at once, and wait for nothing."""
        self._writer.transport.abort()

    @property
    def certificate(self) -> bytes | None:
        """The peer's own, in DER."""
        return None


class TlsStream(Stream):
    """Over TLS."""

    def __init__(
        self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, context: ssl.SSLContext, name: str
    ) -> None:
        super().__init__(reader, writer)
        self._in, self._out = ssl.MemoryBIO(), ssl.MemoryBIO()
        self._tls = context.wrap_bio(self._in, self._out, server_hostname=name)

    async def handshake(self) -> None:
        """Raises ssl.SSLError; ConnectionResetError without a number where the peer ended it."""
        if not await self._done(self._tls.do_handshake):
            raise ConnectionResetError

    async def read(self) -> bytes:
        octets = b""

        def read() -> None:
            nonlocal octets
            octets = self._tls.read(PIECE)

        with contextlib.suppress(ssl.SSLZeroReturnError):
            await self._done(read)
        return octets

    async def write(self, octets: bytes) -> None:
        if not await self._done(lambda: self._tls.write(octets)):
            raise ConnectionResetError

    async def _done(self, step: Callable[[], object]) -> bool:
        """Take a step, with as much as it has to read; False where the peer ends the connection before."""
        quiet = 0
        while quiet <= MAX_QUIET:
            try:
                step()
            except ssl.SSLWantReadError:
                self._flush()
            else:
                self._flush()
                return True
            fed = self._in.write(await self._reader.read(PIECE))
            if not fed:
                return False
            quiet += fed
        raise ConnectionResetError

    def _flush(self) -> None:
        if self._out.pending:
            self._writer.write(self._out.read())

    @property
    def certificate(self) -> bytes | None:
        return self._tls.getpeercert(binary_form=True)


async def open_stream(address: str, port: int, context: ssl.SSLContext | None, name: str) -> Stream:
    """Connect, and with a context also shake hands with ``name``.  Raises OSError, ssl.SSLError and UnicodeError."""
    reader, writer = await asyncio.open_connection(address, port)
    try:
        if context is None:
            return Stream(reader, writer)
        stream = TlsStream(reader, writer, context, name)
        await stream.handshake()
    except BaseException:
        writer.transport.abort()
        raise
    return stream
