"""The simulated world is what it says, and the review finds in it just what was put there."""

import asyncio
import contextlib
import datetime
import socket
import time

import dns.asyncquery
import dns.message
import dns.rcode
import pytest

from pewter.evidence import WayIn
from pewter.expectations import Expectations, Terms
from pewter.facts.browsers import Prediction
from pewter.facts.case import Case
from pewter.judge.outcomes import Gap
from pewter.judge.review import make_review
from pewter.lab import name_server
from pewter.lab.marram import (
    APEX,
    BOOKING,
    FREIGHT,
    NAMES,
    PATHS,
    STAFF,
    STATUS,
    TICKETS,
    TIMETABLE,
    WEBMAIL,
    WWW,
    WWW_TICKETS,
    Stage,
    marram_ferries,
)
from pewter.lab.name_server import NameServer, zone_of_table
from pewter.lab.relay import TcpRelay, UdpRelay
from pewter.lab.serving import listen
from pewter.lab.web_server import Response, VirtualHost, WebServer
from pewter.lab.world import World, WorldThread
from pewter.pki import read_certificate
from support.looks import CHAIN, take, take_in, world

TABLE = {"x.example": ("192.0.2.7", "2001:db8::7"), "alias.example": ("=x.example",), "deep.a.example": ("192.0.2.8",)}


@pytest.mark.parametrize(
    ("name", "record_type", "rcode", "answers"),
    [
        ("x.example", "A", "NOERROR", ["x.example. 60 IN A 192.0.2.7"]),
        ("X.Example", "AAAA", "NOERROR", ["x.example. 60 IN AAAA 2001:db8::7"]),
        ("x.example", "MX", "NOERROR", []),
        ("alias.example", "A", "NOERROR", ["alias.example. 60 IN CNAME x.example.", "x.example. 60 IN A 192.0.2.7"]),
        ("a.example", "A", "NOERROR", []),
        ("gone.example", "A", "NXDOMAIN", []),
    ],
)
@pytest.mark.parametrize("transport", ["udp", "tcp"])
def test_name_server(name, record_type, rcode, answers, transport):
    async def ask():
        server = await NameServer([zone_of_table(TABLE)]).start()
        try:
            query = dns.message.make_query(name, record_type)
            send = dns.asyncquery.udp if transport == "udp" else dns.asyncquery.tcp
            return await send(query, "127.0.0.1", port=server.port, timeout=2)
        finally:
            await server.stop()

    response = asyncio.run(ask())
    assert dns.rcode.to_text(response.rcode()) == rcode
    assert [line for rrset in response.answer for line in rrset.to_text().lower().split("\n")] == [
        line.lower() for line in answers
    ]


def held_for_udp_alone():
    """A socket at a port that nobody has for TCP: other programs here come and go at such ports."""
    for _ in range(100):
        holder = socket.socket(type=socket.SOCK_DGRAM)
        holder.bind(("127.0.0.1", 0))
        with contextlib.suppress(OSError), socket.create_server(holder.getsockname(), reuse_port=False):
            return holder
        holder.close()
    raise AssertionError("no port is free for TCP")


def test_name_server_takes_another_port_where_one_is_free_for_tcp_alone(monkeypatch):
    async def start(holder):
        ports = iter([holder.getsockname()[1], 0])
        monkeypatch.setattr(name_server, "listen", lambda serve, port: listen(serve, next(ports)))
        server = await NameServer([zone_of_table(TABLE)]).start()
        await server.stop()
        return server.port

    with held_for_udp_alone() as holder:
        assert asyncio.run(start(holder)) != holder.getsockname()[1]


def test_name_server_ignores_rubbish():
    assert NameServer([zone_of_table(TABLE)]).answer(b"rubbish") is None


@pytest.mark.parametrize(
    ("framing", "body", "targets"),
    [
        ("Content-Length: 5", b"plain", ["/1", "/2"]),
        ("Content-Length: 25", b" / x\r\n\r\nGET /3 HTTP/1.1\r\n", ["/1", "/2"]),
        ("Content-Length: 65537", b"x" * 65537, ["/1"]),
        ("Content-Length: x", b"", ["/1"]),
        ("Content-Length: -1", b"", ["/1"]),
        ("Content-Length: " + "9" * 5000, b"", ["/1"]),
        ("Content-Length: 5", b"cut", ["/1"]),
        ("Transfer-Encoding: chunked", b"0\r\n\r\n", ["/1"]),
    ],
)
def test_web_server_takes_no_body_for_a_request(framing, body, targets):
    """A browser asks a responder twice over one connection, and the octets of its question may hold anything."""
    seen = []

    def handle(request):
        seen.append(request.target)
        return Response(200)

    async def ask():
        server = await WebServer({"x.example": VirtualHost(handle)}).start()
        reader, writer = await asyncio.open_connection("127.0.0.1", server.http_port)
        writer.write(f"POST /1 HTTP/1.1\r\nHost: x.example\r\n{framing}\r\n\r\n".encode() + body)
        if len(body) >= 5:
            writer.write(b"GET /2 HTTP/1.1\r\nHost: x.example\r\n\r\n")
        writer.write_eof()
        with contextlib.suppress(ConnectionError):
            await reader.read()
        writer.close()
        await server.stop()

    asyncio.run(ask())
    assert seen == targets


def test_relay_adds_its_delay_each_way_and_a_round_trip_for_connecting():
    async def run():
        server = await asyncio.start_server(echo, "127.0.0.1", 0)
        relay = await TcpRelay(server.sockets[0].getsockname()[1], 0.05).start()
        begun = time.monotonic()
        reader, writer = await asyncio.open_connection("127.0.0.1", relay.port)
        times = []
        for word in (b"one", b"two"):
            writer.write(word)
            assert await reader.readexactly(3) == word
            times.append(time.monotonic() - begun)
        writer.close()
        await relay.stop()
        server.close()
        return times

    async def echo(reader, writer):
        while octets := await reader.read(100):
            writer.write(octets)
        writer.close()

    first, second = asyncio.run(run())
    assert first >= 0.2
    assert second - first >= 0.1


def test_relay_of_datagrams():
    async def run():
        server = await NameServer([zone_of_table(TABLE)]).start()
        relay = await UdpRelay(server.port, 0.05).start()
        begun = time.monotonic()
        await dns.asyncquery.udp(dns.message.make_query("x.example", "A"), "127.0.0.1", port=relay.port, timeout=2)
        await relay.stop()
        await server.stop()
        return time.monotonic() - begun

    assert asyncio.run(run()) >= 0.1


def test_review_through_the_relay_takes_at_most_ten_round_trips():
    """Round trips of a second: what a busy machine adds is less than one of them counts."""
    host, seconds = "status.marram-ferries.example", 1.0

    def handle(request):
        if request.scheme == "http":
            return Response(301, (("Location", f"https://{request.host}{request.target}"),))
        return Response(200)

    with world({host: VirtualHost(handle, CHAIN)}) as running:
        take_in(running, host)  # what is imported on first use must not count
    with world({host: VirtualHost(handle, CHAIN)}, delay_seconds=seconds / 2) as running:
        evidence = take_in(running, host, step=30, whole=120)
    assert all(journey.hops for journey in evidence.journeys)
    assert evidence.elapsed_seconds < 10 * seconds


# Marram Ferries


def reviewed(stage: Stage):
    now = datetime.datetime.now(datetime.UTC)
    scenario = marram_ferries(stage, now)
    with WorldThread(World(scenario)) as running:
        evidence = take(
            *NAMES,
            routes=running.routes,
            resolver=running.resolver,
            paths=PATHS,
            stores=(),
            revocation=True,
            max_covered_names=20,
            step=30,
            whole=120,
        )
    evidence = with_trust(evidence, scenario.root.der)
    terms = Terms(Expectations(caa_domains=("skerry-trust.example",)), f"https://{WWW}")
    return make_review(Case(evidence, terms, now, ()))


def with_trust(evidence, der):
    import msgspec

    from pewter.evidence import StoredCertificate

    root = read_certificate(der)
    return msgspec.structs.replace(
        evidence, given_trust=(root.sha256,), certificates=(*evidence.certificates, StoredCertificate(root.sha256, der))
    )


@pytest.fixture(scope="module")
def as_found():
    return reviewed(Stage.AS_FOUND)


def test_as_found_has_just_the_gaps_that_were_put_there(as_found):
    found = {
        (entry.rule, tuple(dict.fromkeys(as_found.results.places[number].host for number in entry.places)))
        for entry in as_found.results.gaps
    }
    assert found == {
        ("redirect/loop", (STAFF,)),
        ("chain/incomplete", (FREIGHT,)),
        ("name/not-covered", (WEBMAIL,)),
        ("name/sibling-not-covered", (WWW_TICKETS,)),
        ("date/expired", (TIMETABLE,)),
        ("redirect/missing", (WEBMAIL,)),
        ("redirect/partial", (TICKETS,)),
        ("protocol/obsolete", (FREIGHT,)),
        ("reach/unlike-addresses", (TIMETABLE,)),
        ("redirect/temporary", (APEX,)),
        ("redirect/drops-path", (FREIGHT,)),
        ("date/renewal-overdue", (STAFF,)),
        ("hsts/absent", (TICKETS, WWW_TICKETS, STAFF, WEBMAIL)),
        ("hsts/short", (WWW,)),
        ("hsts/uneven", (TIMETABLE,)),
        ("hsts/apex-never-seen", (APEX,)),
        ("date/hsts-locks-out", (TIMETABLE,)),
        ("reach/unknown-host", (WEBMAIL,)),
        ("redirect/through-bad-certificate", (WWW_TICKETS,)),
        ("redirect/host-before-https", (WWW_TICKETS,)),
        ("redirect/rewritten-method", (WWW,)),
        ("cookie/not-secure", (TICKETS,)),
        ("cookie/over-http", (TICKETS,)),
        ("cookie/same-site", (TICKETS,)),
        ("cookie/not-http-only", (TICKETS,)),
        ("page/blocked-content", (WWW,)),
        ("page/upgraded-content", (WWW,)),
        ("page/insecure-form", (WWW,)),
        ("page/plain-links", (WWW,)),
        ("page/canonical-tag", (WWW,)),
        ("page/no-upgrade-policy", (WWW,)),
        ("page/debug-output", (FREIGHT,)),
        ("page/names-version", (FREIGHT,)),
        ("name/also-covers", (WEBMAIL,)),
        ("chain/revoked", (WEBMAIL,)),
        ("reach/no-address", (BOOKING,)),
        ("dns/dangling-alias", (BOOKING,)),
        ("dns/servers-disagree", (STATUS,)),
        ("dns/https-record-contradicts", (STATUS,)),
        ("dns/caa-excludes-issuer", (TIMETABLE, STAFF)),
        ("dns/caa-excludes-issuer", (APEX, WWW, TICKETS, FREIGHT, f"mail.{APEX}", STATUS)),
        ("dns/dnssec-absent", (APEX,)),
    }
    assert as_found.results.unknowns == ()


@pytest.mark.parametrize(
    ("start", "address", "meets"),
    [
        (f"http://{STATUS}/", None, Prediction.OPENS),
        (f"https://{WWW_TICKETS}/", None, Prediction.IN_SOME),
        (f"http://{TIMETABLE}/", "192.0.2.31", Prediction.OUT_OF_DATE),
        (f"http://{TIMETABLE}/", "192.0.2.30", Prediction.OPENS),
        (f"http://{TICKETS}/account/login", None, Prediction.UNENCRYPTED),
        (f"https://{STAFF}/", None, Prediction.CIRCLES),
    ],
)
def test_as_found_visitors(as_found, start, address, meets):
    (visit,) = (each for each in as_found.results.visits if (each.start, each.by_address) == (start, address))
    assert visit.meets is meets


def test_no_two_gaps_of_a_rule_have_one_key(as_found):
    """Of one name at several addresses they may: there the address tells which."""
    gaps = [(each.rule, each.outcome) for each in as_found.results.outcomes if isinstance(each.outcome, Gap)]
    keys = [(rule, gap.where.key, gap.where.address, gap.about) for rule, gap in gaps]
    assert len(keys) > 40
    assert [key for key in set(keys) if keys.count(key) > 1] == []


def test_mended_has_no_gap_left():
    review = reviewed(Stage.MENDED)
    assert review.results.gaps == ()
    assert {visit.meets for visit in review.results.visits if visit.reason is not WayIn.ABSENT} == {Prediction.OPENS}
