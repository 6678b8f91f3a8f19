"""An authoritative name server for a handful of names, over UDP and TCP; dnspython does the messages."""

import asyncio
import contextlib
from collections.abc import Mapping
from typing import Self, cast

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.rrset

from .serving import listen, port_of

TTL = 60
MAX_TRIES = 20


class NameServer:
    """Answers A and AAAA (and aliases, written ``"=target.example"``) out of a table by name."""

    def __init__(self, table: Mapping[str, tuple[str, ...]]) -> None:
        self._table = {name.lower(): values for name, values in table.items()}
        self._udp: asyncio.DatagramTransport | None = None
        self._tcp: asyncio.Server | None = None
        self.port = 0

    async def start(self, port: int = 0) -> Self:
        """Listen on 127.0.0.1; both transports share one port.

        A port that is free for one may be taken for the other: where any will do, the next is tried.

        Raises:
            OSError: the port cannot be had.
        """
        loop = asyncio.get_running_loop()
        for tries_left in reversed(range(1 if port else MAX_TRIES)):
            self._tcp = await listen(self._serve_tcp, port)
            self.port = port_of(self._tcp)
            try:
                self._udp, _ = await loop.create_datagram_endpoint(
                    lambda: _UdpSide(self), local_addr=("127.0.0.1", self.port)
                )
                break
            except OSError:
                await self.stop()
                if not tries_left:
                    raise
        return self

    async def stop(self) -> None:
        if self._udp is not None:
            self._udp.close()
        if self._tcp is not None:
            self._tcp.close()
            await self._tcp.wait_closed()

    def answer(self, octets: bytes) -> bytes | None:
        """The response to one query; None for octets that are no query."""
        try:
            query = dns.message.from_wire(octets)
        except (dns.exception.DNSException, ValueError):
            return None
        response = dns.message.make_response(query)
        response.flags |= dns.flags.AA
        if not query.question:
            response.set_rcode(dns.rcode.FORMERR)
            return response.to_wire()
        question = query.question[0]
        self._fill(response, str(question.name).rstrip(".").lower(), question.rdtype)
        return response.to_wire()

    def _fill(self, response: dns.message.Message, name: str, record_type: dns.rdatatype.RdataType) -> None:
        values: tuple[str, ...] = ()
        for _ in range(8):
            values = self._table.get(name, ())
            if name not in self._table:
                if not any(other.endswith("." + name) for other in self._table):
                    response.set_rcode(dns.rcode.NXDOMAIN)
                return
            aliases = [value[1:] for value in values if value.startswith("=")]
            if not aliases:
                break
            response.answer.append(dns.rrset.from_text(name + ".", TTL, "IN", "CNAME", aliases[0] + "."))
            name = aliases[0]
        wanted = {dns.rdatatype.A: ".", dns.rdatatype.AAAA: ":"}.get(record_type)
        addresses = [value for value in values if wanted is not None and wanted in value and not value.startswith("=")]
        if addresses:
            response.answer.append(
                dns.rrset.from_text(name + ".", TTL, "IN", dns.rdatatype.to_text(record_type), *addresses)
            )

    async def _serve_tcp(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(asyncio.IncompleteReadError):
            while True:
                length = int.from_bytes(await reader.readexactly(2), "big")
                answer = self.answer(await reader.readexactly(length))
                if answer is None:
                    return
                writer.write(len(answer).to_bytes(2, "big") + answer)


class _UdpSide(asyncio.DatagramProtocol):
    def __init__(self, server: NameServer) -> None:
        self._server = server

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.DatagramTransport, transport)

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        answer = self._server.answer(data)
        if answer is not None:
            self._transport.sendto(answer, addr)
