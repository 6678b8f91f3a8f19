"""Name servers of the simulated world, over UDP and TCP; dnspython does the messages and reads the zones."""

import asyncio
import contextlib
import math
import time
from collections.abc import Iterator, Mapping, Sequence
from typing import Self, cast

import cryptography.hazmat.primitives.asymmetric.ec
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdataset
import dns.rdatatype
import dns.rrset
import dns.zone

from .serving import listen, port_of

TTL = 60
SIGNED_SECONDS = 14 * 86400
MAX_TRIES = 20
MAX_ALIASES = 8


def read_zone(apex: str, records: str, serial: int = 1) -> dns.zone.Zone:
    """A zone of records as a zone file has them, with a SOA before them; ``.`` is the root."""
    origin = apex if apex == "." else f"{apex}."
    mail = "hostmaster." if apex == "." else f"hostmaster.{apex}."
    text = f"$TTL {TTL}\n@ SOA {origin} {mail} {serial} 7200 900 1209600 {TTL}\n{records}\n"
    return dns.zone.from_text(text, origin, relativize=False, check_origin=False)


def sign(zone: dns.zone.Zone, above: dns.zone.Zone) -> None:
    """Sign a zone with a key of its own, and have the zone above vouch for it (RFC 4034)."""
    import dns.dnssec  # noqa: PLC0415

    assert zone.origin is not None
    key = cryptography.hazmat.primitives.asymmetric.ec.generate_private_key(
        cryptography.hazmat.primitives.asymmetric.ec.SECP256R1()
    )
    public = dns.dnssec.make_dnskey(key.public_key(), "ECDSAP256SHA256", flags=257)
    dns.dnssec.sign_zone(zone, keys=[(key, public)], lifetime=SIGNED_SECONDS, add_dnskey=True)
    ds = dns.dnssec.make_ds(zone.origin, public, "SHA256")
    above.find_rdataset(zone.origin, "DS", create=True).add(ds, TTL)


def zone_of_table(table: Mapping[str, tuple[str, ...]]) -> dns.zone.Zone:
    """A whole world in one zone: addresses by name, ``"=target"`` for an alias."""
    kinds = {"=": "CNAME", ":": "AAAA"}
    lines = []
    for name, values in table.items():
        for value in values:
            kind = next((kind for sign, kind in kinds.items() if sign in value), "A")
            data = f"{value[1:]}." if kind == "CNAME" else value
            lines.append(f"{name.lower()}. {kind} {data}")
        if not values:
            lines.append(f'{name.lower()}. TXT ""')
    return read_zone(".", "\n".join(lines))


class NameServer:
    """Answers with authority for its zones; one that ``recurses`` answers from all zones of the world as a resolver."""

    def __init__(self, zones: Sequence[dns.zone.Zone], *, recurses: bool = True) -> None:
        self._zones = _by_origin(zones)
        self._recurses = recurses
        self._next_zones: dict[dns.name.Name, dns.zone.Zone] | None = None
        self._copies_end = 0.0
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

    def change(self, zones: Sequence[dns.zone.Zone], copies_last: float = 0.0) -> None:
        """Other zones: at once, or after the seconds for which kept copies of the present ones last."""
        self._next_zones = _by_origin(zones)
        self._copies_end = time.monotonic() + copies_last

    def _seconds_left(self) -> int:
        """Of the copies that are still given; 0 where there is nothing newer."""
        left = self._copies_end - time.monotonic()
        if self._next_zones is not None and left <= 0:
            self._zones, self._next_zones = self._next_zones, None
        return math.ceil(left) if self._next_zones is not None else 0

    def answer(self, octets: bytes) -> bytes | None:
        """The response to one query; None for octets that are no query."""
        try:
            query = dns.message.from_wire(octets)
        except (dns.exception.DNSException, ValueError):
            return None
        response = dns.message.make_response(query, recursion_available=self._recurses)
        if not query.question:
            response.set_rcode(dns.rcode.FORMERR)
            return response.to_wire()
        question = query.question[0]
        if not self._recurses:
            response.flags |= dns.flags.AA
        seconds_left = self._seconds_left()
        self._fill(response, question.name, question.rdtype, with_signatures=bool(query.ednsflags & dns.flags.DO))
        if seconds_left:
            for found in response.answer:
                found.ttl = min(found.ttl, seconds_left)
        return response.to_wire()

    def _fill(
        self,
        response: dns.message.Message,
        name: dns.name.Name,
        kind: dns.rdatatype.RdataType,
        *,
        with_signatures: bool,
    ) -> None:
        for _ in range(MAX_ALIASES):
            zone = self._zone_of(name, kind)
            if zone is None:
                if not response.answer:
                    response.set_rcode(dns.rcode.REFUSED)
                    response.flags &= ~dns.flags.AA
                return
            cut = _cut_above(zone, name, kind)
            if cut is not None:
                _refer(response, zone, cut)
                return
            node = zone.get_node(name)
            alias = node.get_rdataset(dns.rdataclass.IN, dns.rdatatype.CNAME) if node is not None else None
            if node is None and not any(each.is_subdomain(name) for each in zone.nodes):
                response.set_rcode(dns.rcode.NXDOMAIN)
            elif alias is None or kind == dns.rdatatype.CNAME:
                found = node.get_rdataset(dns.rdataclass.IN, kind) if node is not None else None
                if found is not None and node is not None:
                    response.answer.append(_set(name, found))
                    if with_signatures:
                        signed = node.get_rdataset(dns.rdataclass.IN, dns.rdatatype.RRSIG, kind)
                        response.answer += [_set(name, signed)] if signed is not None else []
                    return
            else:
                response.answer.append(_set(name, alias))
                name = alias[0].target
                continue
            assert zone.origin is not None
            soa = zone.find_rdataset(zone.origin, dns.rdatatype.SOA)
            response.authority.append(_set(zone.origin, soa))
            return

    def _zone_of(self, name: dns.name.Name, kind: dns.rdatatype.RdataType) -> dns.zone.Zone | None:
        """The nearest one; of a DS the one above the cut (RFC 4035 section 3.1.4.1)."""
        if kind == dns.rdatatype.DS and name != dns.name.root:
            name = name.parent()
        while True:
            if name in self._zones:
                return self._zones[name]
            if name == dns.name.root:
                return None
            name = name.parent()

    async def _serve_tcp(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(asyncio.IncompleteReadError):
            while True:
                length = int.from_bytes(await reader.readexactly(2), "big")
                answer = self.answer(await reader.readexactly(length))
                if answer is None:
                    return
                writer.write(len(answer).to_bytes(2, "big") + answer)


def _by_origin(zones: Sequence[dns.zone.Zone]) -> dict[dns.name.Name, dns.zone.Zone]:
    return {zone.origin: zone for zone in zones if zone.origin is not None}


def _set(name: dns.name.Name, found: dns.rdataset.Rdataset) -> dns.rrset.RRset:
    return dns.rrset.from_rdata_list(name, found.ttl, list(found))


def _cut_above(zone: dns.zone.Zone, name: dns.name.Name, kind: dns.rdatatype.RdataType) -> dns.name.Name | None:
    """The delegation at or above a name, where there is one in this zone."""
    for above in _up_to(zone, name.parent() if kind == dns.rdatatype.DS else name):
        if zone.get_rdataset(above, dns.rdatatype.NS) is not None:
            return above
    return None


def _up_to(zone: dns.zone.Zone, name: dns.name.Name) -> Iterator[dns.name.Name]:
    """The name and those above it, below the apex."""
    while name not in {zone.origin, dns.name.root}:
        yield name
        name = name.parent()


def _refer(response: dns.message.Message, zone: dns.zone.Zone, cut: dns.name.Name) -> None:
    servers = zone.find_rdataset(cut, dns.rdatatype.NS)
    response.authority.append(_set(cut, servers))
    response.flags &= ~dns.flags.AA
    for server in servers:
        for kind in (dns.rdatatype.A, dns.rdatatype.AAAA):
            glue = zone.get_rdataset(server.target, kind)
            if glue is not None:
                response.additional.append(_set(server.target, glue))


class _UdpSide(asyncio.DatagramProtocol):
    def __init__(self, server: NameServer) -> None:
        self._server = server

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.DatagramTransport, transport)

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        answer = self._server.answer(data)
        if answer is not None:
            self._transport.sendto(answer, addr)
