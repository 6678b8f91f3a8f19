"""Servers that refuse hellos for one thing in them.  A relay reads each hello, and lets it through or ends it."""

import asyncio
import contextlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from pewter.octets import DecodeError, read_uint16s
from pewter.tls.codepoints import ContentType, ExtensionType
from pewter.tls.hellos import ClientHello, build_client_hello, read_client_hello
from pewter.tls.records import MessageReader, RecordReader, build_record
from weather.relays import copy, reset, serving

GREASE = range(0x0A0A, 0xFFFF, 0x1010)


@dataclass(frozen=True)
class Hello:
    """What a relay may mind."""

    read: ClientHello
    octets: int

    def has(self, extension: int) -> bool:
        return self.read.extension(extension) is not None

    def _numbers(self, extension: int) -> tuple[int, ...]:
        body = self.read.extension(extension)
        return read_uint16s(body[2:], "numbers") if body else ()

    @property
    def suites(self) -> tuple[int, ...]:
        return self.read.cipher_suites

    @property
    def groups(self) -> tuple[int, ...]:
        return self._numbers(ExtensionType.SUPPORTED_GROUPS)

    @property
    def schemes(self) -> tuple[int, ...]:
        return self._numbers(ExtensionType.SIGNATURE_ALGORITHMS)

    @property
    def has_tls_1_3(self) -> bool:
        return self.has(ExtensionType.SUPPORTED_VERSIONS)

    @property
    def has_grease(self) -> bool:
        return any(suite in GREASE for suite in self.suites)


def _end(writer: asyncio.StreamWriter, how: str) -> None:
    if how.startswith("alert"):
        writer.write(build_record(ContentType.ALERT, 0x0303, bytes((2, int(how.split()[1])))))
    if how == "reset":
        reset(writer)
    writer.close()


async def _hello_of(reader: asyncio.StreamReader) -> tuple[bytes, Hello | None]:
    """The octets, and the hello in them; None for what is none."""
    octets = b""
    records, messages = RecordReader(), MessageReader()
    with contextlib.suppress(DecodeError):
        while piece := await reader.read(1 << 16):
            octets += piece
            if octets[0] != ContentType.HANDSHAKE:
                break
            records.feed(piece)
            while (record := records.next()) is not None:
                messages.feed(record.fragment)
            if (message := messages.next()) is not None:
                hello = read_client_hello(message[1])
                return octets, Hello(hello, len(build_client_hello(hello)))
    return octets, None


@contextlib.contextmanager
def picky(target: int, minds: Callable[[Hello], bool], how: str = "reset") -> Iterator[int]:
    """Its port; the relay runs in a thread of its own."""

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError):
            octets, hello = await _hello_of(reader)
            if hello is not None and minds(hello):
                if how == "silent":
                    await asyncio.sleep(30)
                _end(writer, how)
                return
            inner_reader, inner_writer = await asyncio.open_connection("127.0.0.1", target)
            inner_writer.write(octets)
            await asyncio.gather(copy(reader, inner_writer), copy(inner_reader, writer))

    with serving(serve) as port:
        yield port


MINDS: dict[str, Callable[[Hello], bool]] = {
    "small": lambda hello: 252 <= hello.octets < 508,
    "large": lambda hello: hello.octets > 1000,
    "larger than 600": lambda hello: hello.octets > 600,
    "hybrid": lambda hello: 0x11EC in hello.groups,
    "status_request": lambda hello: hello.has(ExtensionType.STATUS_REQUEST),
    "alpn": lambda hello: hello.has(ExtensionType.ALPN),
    "grease": lambda hello: hello.has_grease,
    "many suites": lambda hello: len(hello.suites) > 30,
    "X448": lambda hello: 0x001E in hello.groups,
    "many schemes": lambda hello: len(hello.schemes) > 12,
    "ech": lambda hello: hello.has(ExtensionType.ENCRYPTED_CLIENT_HELLO),
    "compress_certificate": lambda hello: hello.has(ExtensionType.COMPRESS_CERTIFICATE),
    "session_ticket": lambda hello: hello.has(ExtensionType.SESSION_TICKET),
    "two extensions": lambda hello: hello.has(ExtensionType.STATUS_REQUEST) or hello.has(ExtensionType.ALPN),
    "no session_ticket": lambda hello: not hello.has(ExtensionType.SESSION_TICKET),
    "no hybrid": lambda hello: 0x11EC not in hello.groups,
    "no grease": lambda hello: not hello.has_grease,
    "TLS 1.3": lambda hello: hello.has_tls_1_3,
    "no TLS 1.3": lambda hello: not hello.has_tls_1_3,
    "all": lambda hello: True,
    "all but browsers": lambda hello: not hello.has(ExtensionType.ENCRYPTED_CLIENT_HELLO),
}
