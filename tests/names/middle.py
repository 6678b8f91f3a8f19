"""Between a resolver and a name server: what its first argument names happens to what passes."""

import asyncio
import random
import socket
import struct
import sys

import dns.flags
import dns.message
import dns.rcode
import dns.rdatatype
import dns.rrset

MANNER, BEFORE, BEHIND = sys.argv[1], sys.argv[2], sys.argv[3] if len(sys.argv) > 3 else ""
TURN = 0
RESOLVER = "10.53.0.2"


async def ask_behind(octets: bytes) -> bytes | None:
    loop = asyncio.get_running_loop()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as side:
        side.setblocking(False)
        await loop.sock_connect(side, (BEHIND, 53))
        await loop.sock_sendall(side, octets)
        try:
            async with asyncio.timeout(2):
                return await loop.sock_recv(side, 65535)
        except TimeoutError:
            return None


def changed(octets: bytes, query: dns.message.Message, over_tcp: bool, peer: str) -> bytes | None:
    """The answer as it goes on."""
    global TURN  # noqa: PLW0603
    kind = query.question[0].rdtype
    response = dns.message.from_wire(octets, continue_on_error=True)
    match MANNER:
        case "resolver":
            response.flags = (response.flags | dns.flags.RA) & ~dns.flags.AA
        case "no-authority":
            response.flags &= ~dns.flags.AA
        case "rotate" if response.answer and kind == dns.rdatatype.A and not is_server(query):
            TURN += 1
            response.answer[-1] = dns.rrset.from_text(
                response.answer[-1].name, 300, "IN", "A", f"10.53.2.{1 + TURN % 3}"
            )
        case "by-place" if response.answer and kind == dns.rdatatype.A and peer == RESOLVER and not is_server(query):
            response.answer[-1] = dns.rrset.from_text(response.answer[-1].name, 300, "IN", "A", "10.53.2.2")
        case "truncate" if not over_tcp:
            response.flags |= dns.flags.TC
            response.answer = []
        case "truncate-for-ever":
            response.flags |= dns.flags.TC
        case "caa-fails" if kind == dns.rdatatype.CAA:
            return _error(query, dns.rcode.SERVFAIL)
        case "aaaa-nxdomain" if kind == dns.rdatatype.AAAA:
            return _error(query, dns.rcode.NXDOMAIN)
        case "no-edns-reply":
            response.use_edns(-1)
        case "wrong-id":
            return struct.pack("!H", (query.id + 1) % 65536) + octets[2:]
        case "outside":
            response.authority.append(dns.rrset.from_text("www.y.example.", 300, "IN", "A", "10.53.2.9"))
        case _:
            return octets
    return response.to_wire()


def is_server(query: dns.message.Message) -> bool:
    """Whether the address of a name server is asked for."""
    return query.question[0].name.labels[0][:2] == b"ns"


def _error(query: dns.message.Message, rcode: dns.rcode.Rcode) -> bytes:
    response = dns.message.make_response(query)
    response.flags |= dns.flags.AA
    response.set_rcode(rcode)
    return response.to_wire()


async def answer(octets: bytes, over_tcp: bool, peer: str = "") -> bytes | None:
    if MANNER == "only-resolver" and peer != RESOLVER:
        return None
    query = dns.message.from_wire(octets)
    kind = query.question[0].rdtype
    has_edns = query.edns >= 0
    global TURN  # noqa: PLW0603
    TURN += 1
    is_of_www = query.question[0].name.labels[0] == b"www"
    match MANNER:
        case "silent":
            return None
        case "lose-a-third" if not over_tcp and TURN % 3 == 0:
            return None
        case "lose-half" if not over_tcp and random.random() < 0.5:
            return None
        case "refuse-www" if is_of_www:
            return _error(query, dns.rcode.REFUSED)
        case "silent-for-www" if is_of_www:
            return None
        case "fails-for-www-aaaa" if is_of_www and kind == dns.rdatatype.AAAA:
            return _error(query, dns.rcode.SERVFAIL)
        case "refuse":
            return _error(query, dns.rcode.REFUSED)
        case "servfail":
            return _error(query, dns.rcode.SERVFAIL)
        case "notauth":
            return _error(query, dns.rcode.NOTAUTH)
        case "drop-edns" if has_edns:
            return None
        case "formerr-edns" if has_edns:
            return _error(query, dns.rcode.FORMERR)
        case "drop-https" if kind == 65:
            return None
        case "slow":
            await asyncio.sleep(1.3)
        case "udp-only" if over_tcp:
            return None
        case "tcp-only" if not over_tcp:
            return None
        case "upward":
            response = dns.message.make_response(query)
            response.authority.append(dns.rrset.from_text(".", 300, "IN", "NS", "root."))
            return response.to_wire()
        case "garbage":
            return octets[:2] + b"\x84\x00" + random.randbytes(60)
        case "loop":
            return octets[:2] + b"\x84\x00\x00\x01\x00\x01\x00\x00\x00\x00" + octets[12:] + b"\xc0\x0c" * 40
    got = await ask_behind(octets)
    return changed(got, query, over_tcp, peer) if got is not None else None


class Side(asyncio.DatagramProtocol):
    def connection_made(self, transport):
        self.transport = transport

    def datagram_received(self, data, addr):
        asyncio.create_task(self.pass_on(data, addr))  # noqa: RUF006

    async def pass_on(self, data, addr):
        reply = await answer(data, False, addr[0])
        if reply is not None:
            self.transport.sendto(reply, addr)


async def over_tcp(reader, writer):
    try:
        while True:
            length = int.from_bytes(await reader.readexactly(2), "big")
            reply = await answer(await reader.readexactly(length), True, writer.get_extra_info("peername")[0])
            if reply is None:
                await asyncio.sleep(10)
                return
            framed = len(reply).to_bytes(2, "big") + reply
            for octet in framed if MANNER == "one-octet" else ():
                writer.write(bytes([octet]))
                await writer.drain()
                await asyncio.sleep(1)
            if MANNER != "one-octet":
                writer.write(framed)
    except (asyncio.IncompleteReadError, ConnectionError):
        pass
    finally:
        writer.close()


async def main():
    loop = asyncio.get_running_loop()
    await loop.create_datagram_endpoint(Side, local_addr=(BEFORE, 53))
    if MANNER != "no-tcp":
        await asyncio.start_server(over_tcp, BEFORE, 53)
    await asyncio.Event().wait()


asyncio.run(main())
