"""Looks made of steps: what is shared by front ends, what is not asked, and what a silent place costs."""

import asyncio
import contextlib
import gc
import socket
import threading
import time

import dns.message
import dns.rdatatype
import dns.rrset
import pytest

from pewter.evidence import (
    Alert,
    Ended,
    Handshake,
    HowEnded,
    Landed,
    Offer,
    Plan,
    Probe,
    Seen,
    Step,
    StopCause,
    Target,
    Unseen,
    protocols,
)
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.gather.board import Given
from pewter.gather.budget import Budget
from pewter.gather.dns_asking import SharedAnswers
from pewter.gather.exchanges import Failed
from pewter.gather.journeys import JourneyContext, OngoingJourney
from pewter.gather.liveness import Liveness
from pewter.gather.look import look
from pewter.gather.network import Network, Shared
from pewter.gather.routes import Destination
from pewter.gather.slots import Pool
from pewter.judge.review import make_review
from pewter.lab.web_server import Response, VirtualHost
from pewter.tls.options import Options
from pewter.tls.steps import Exchange
from pewter.tls.trial import Picked, Refusal, Refused
from pewter.web.further_ways import ABSENT_PATH
from pewter.web.urls import Url
from support.certificates import parsed, root, store
from support.looks import CHAIN, HOST, PEER, NoProgress, at_ports, take, take_in, world
from support.peers import peer, stays_silent

SILENT_END = Ended(HowEnded.CLOSED, "closed")
APEX = HOST.removeprefix("www.")
THERE = Destination("192.0.2.7", 443, "127.0.0.1", 1)


def host(ciphers: str = "DEFAULT", **options) -> VirtualHost:
    def handle(request):
        return Response(200, (), b"<h1>page</h1>")

    return VirtualHost(handle, CHAIN, tls_settings=lambda context: context.set_ciphers(ciphers), **options)


def test_a_request_is_made_once_however_many_journeys_come_to_it():
    asked = []

    def handle(request):
        asked.append(f"{request.scheme}://{request.host}{request.target}")
        if request.host == HOST and request.scheme == "https":
            return Response(200, (), b"<h1>page</h1>")
        return Response(301, (("Location", f"https://{HOST}{request.target}"),))

    hosts = {each: VirtualHost(handle, CHAIN) for each in (HOST, APEX)}
    with world(hosts) as running:
        evidence = take_in(running, HOST, paths=("/", "/login"))
    places = [f"{scheme}://{name}" for scheme in ("http", "https") for name in (HOST, APEX)]
    assert sorted(each for each in asked if ".invalid" not in each and "sitemap" not in each) == sorted(
        place + path for place in places for path in ("/", "/login", ABSENT_PATH)
    )
    courses = [tuple(hop.status for hop in journey.hops) for journey in evidence.journeys]
    assert sorted(set(courses)) == [(200,), (301, 200)]
    assert all(isinstance(journey.end, Landed) for journey in evidence.journeys)


def test_a_request_that_fails_is_made_again_by_each_journey_that_comes_to_it_later():
    """An answer is shared, a failure only with those that waited for it."""
    context = JourneyContext(Network.for_plan(Plan((Target(PEER),), resolvers=("127.0.0.1:9",)), Budget()), 2.0)
    url, there = Url("http", PEER, 80, "/"), Destination("192.0.2.7", 80, "127.0.0.1", 1)
    fetched = []

    class Fails(OngoingJourney):
        async def _try(self, url, cookie, destination):
            fetched.append(str(url))
            await asyncio.sleep(0.01)
            return Failed(StopCause.NO_ANSWER, "closed"), None

    async def ask(times):
        return [
            each[0].detail
            for each in await asyncio.gather(*(Fails(url, context)._ask(url, None, there) for _ in range(times)))
        ]

    async def run():
        return await ask(3), await ask(1)

    assert asyncio.run(run()) == (["closed"] * 3, ["closed"])
    assert len(fetched) == 2


def test_a_look_that_ends_at_its_deadline_gives_every_slot_back():
    """Of a survey's, other looks wait for it: the garbage collector is no way to get it."""

    async def run(port):
        routes = tuple(f"{PEER}:{each}=127.0.0.1:{port}" for each in (80, 443))
        plan = Plan((Target(PEER),), routes=routes, resolvers=("127.0.0.1:9",), whole_seconds=1, step_seconds=1)
        pool = Pool(8)
        network = Network.for_plan(plan, Budget(), Shared(pool, SharedAnswers(), 8.0))
        evidence = await look(plan, Given(()), NoProgress(), network)
        return evidence.connections, +pool._open

    gc.disable()
    try:
        with peer(stays_silent) as port:
            connections, still_open = asyncio.run(run(port))
    finally:
        gc.enable()
    assert connections > 2
    assert still_open == {}


def test_names_behind_one_front_end_share_its_look():
    """Which of them comes first is chance on a busy machine."""
    with world({HOST: host(), APEX: host()}) as running:
        evidence = take_in(running, HOST, protocol=True)
    (front_end,) = evidence.front_ends
    assert (front_end.address, front_end.port, {front_end.first, *front_end.alike}) == ("192.0.2.10", 443, {HOST, APEX})
    assert front_end.unlike == ()
    by_name = {each.name: each for each in evidence.endpoints}
    assert by_name[front_end.first].protocol is not None
    assert by_name[front_end.alike[0]].protocol is None
    assert len(by_name[front_end.alike[0]].probes) == 3


@pytest.mark.parametrize(
    ("first", "exchanged", "asked", "expected"),
    [
        pytest.param("h2", None, None, Seen(True), id="chosen"),
        pytest.param(None, None, None, Seen(False), id="no-alpn-at-all"),
        pytest.param("http/1.1", Handshake(0x0304, 0x1301, ("f",), alpn="h2"), None, Seen(True), id="second-choice"),
        pytest.param("http/1.1", Alert(2, 120), None, Seen(False), id="refused"),
        pytest.param("http/1.1", SILENT_END, Refused(Refusal.CLOSED), Seen(False), id="refused-without-a-word"),
        pytest.param("http/1.1", SILENT_END, Picked(0x0303, 0xC02F, alpn="h2"), Seen(True), id="ended-once-tls-1.2"),
        pytest.param("http/1.1", SILENT_END, Picked(0x0304, 0x1301), Unseen("the server did not answer it every time"), id="ended-once-tls-1.3"),
        pytest.param("http/1.1", SILENT_END, Unseen("strained"), Unseen("strained"), id="strained"),
    ],
)  # fmt: skip
def test_whether_a_server_has_h2(first, exchanged, asked, expected):
    probes = (Probe(Offer((0x0304, 0x0303), PEER), Handshake(0x0304, 0x1301, ("f",), alpn=first)),)
    options = Options(PEER, probes, {})
    search, answer = options.ask_h2(), None
    with contextlib.suppress(StopIteration):
        while True:
            step = search.send(answer)
            answer = Probe(step.offer, exchanged) if isinstance(step, Exchange) else asked
    assert options.features[protocols.H2].seen == expected


@pytest.mark.parametrize(
    "ciphers", [pytest.param("ECDHE+AESGCM:ECDHE-ECDSA-AES128-SHA", id="one-weak-suite-more"), pytest.param("ECDHE+AES128", id="fewer")]
)  # fmt: skip
def test_settings_by_name_show(ciphers):
    with world({HOST: host("ECDHE+AESGCM"), APEX: host(ciphers)}) as running:
        evidence = take_in(running, HOST, protocol=True)
    (front_end,) = evidence.front_ends
    assert (front_end.alike, {front_end.first, *front_end.unlike}) == ((), {HOST, APEX})
    own = [each.protocol.suites_in(0x0303).suites for each in evidence.endpoints if each.protocol is not None]
    assert len(own) == 2
    assert own[0] != own[1]


def ask(running, *steps: Step):
    """A look at HOST with these steps alone."""
    plan = Plan((Target(HOST),), routes=running.routes, resolvers=(running.resolver,), steps=steps, whole_seconds=20)
    return asyncio.run(look(plan, Given((store(root()),), (parsed(root()),)), NoProgress()))


@pytest.mark.parametrize(
    ("steps", "requests", "hellos"),
    [
        pytest.param((Step.WAYS_IN,), 2, 0, id="ways-in-alone"),
        pytest.param((Step.WAYS_IN, Step.ABSENT), 4, 0, id="and-a-page-that-nobody-has"),
        pytest.param((Step.CERTIFICATES,), 0, 1, id="one-hello"),
        pytest.param((Step.CERTIFICATES, Step.VERSIONS), 0, 3, id="first-hellos"),
        pytest.param((Step.SIBLINGS,), 0, 0, id="names-alone"),
    ],
)
def test_only_what_a_step_needs_is_asked(steps, requests, hellos):
    asked = []

    def handle(request):
        asked.append(request.target)
        return Response(200, (), b"<h1>page</h1>")

    with world({HOST: VirtualHost(handle, CHAIN)}) as running:
        evidence = ask(running, *steps)
    assert (len(asked), sum(len(each.probes) for each in evidence.endpoints)) == (requests, hellos)
    assert evidence.connections == requests + hellos


def test_a_place_that_says_nothing_is_known_as_such_after_one_first_try():
    """Every hello and request with a deadline of its own took 25 seconds and more."""

    def says_nothing(connection):
        connection.settimeout(30)
        stays_silent(connection)

    with peer(says_nothing) as silent:
        begun = time.monotonic()
        evidence = take(routes=at_ports(silent), step=10, whole=120, protocol=True)
    assert time.monotonic() - begun < 18
    answers = [probe.answer for probe in evidence.endpoints[0].probes]
    assert {(each.how, each.detail) for each in answers} == {(HowEnded.SILENT, "no whole answer within 8 s")}
    assert evidence.connections <= 12


async def wait(liveness: Liveness, seconds: float, *, asleep: float, hears: float | None = None, **more) -> str:
    """How an exchange of this length ends, during which something is heard after ``hears`` seconds."""
    if hears is not None:
        asyncio.get_running_loop().call_later(hears, liveness.heard, THERE)
    try:
        async with liveness.exchange(THERE, seconds, **more):
            await asyncio.sleep(asleep)
    except TimeoutError:
        return "late"
    return "done"


@pytest.mark.parametrize(
    ("heard", "waits", "ends"),
    [
        pytest.param(False, [{"asleep": 30}, {"asleep": 30}], ["late", "late"], id="silent"),
        pytest.param(False, [{"asleep": 0.6, "hears": 0.1}], ["done"], id="heard-in-time"),
        pytest.param(True, [{"asleep": 0.6}], ["done"], id="heard-before"),
        pytest.param(False, [{"asleep": 0.1}, {"asleep": 30}], ["done", "late"], id="ended-without-a-word"),
    ],
)
def test_how_long_a_place_is_waited_for(heard, waits, ends):
    async def run():
        liveness = Liveness(first_seconds=0.3)
        if heard:
            liveness.heard(THERE)
        return [await wait(liveness, 60, **each) for each in waits]

    begun = time.monotonic()
    assert asyncio.run(run()) == ends
    assert time.monotonic() - begun < 20


def test_what_this_machine_is_late_is_no_silence():
    async def run():
        asyncio.get_running_loop().call_later(0.1, time.sleep, 1.5)
        return await wait(Liveness(first_seconds=2), 60, asleep=3, hears=2.5)

    assert asyncio.run(run()) == "done"


def test_a_machine_that_is_always_late_waits_at_most_twice_as_long():
    async def run():
        async def work() -> None:
            while True:
                time.sleep(0.2)
                await asyncio.sleep(0)

        working = asyncio.create_task(work())
        begun = time.monotonic()
        try:
            return await wait(Liveness(first_seconds=0.5), 60, asleep=30), time.monotonic() - begun
        finally:
            working.cancel()

    ends, took = asyncio.run(run())
    assert (ends, took < 10) == ("late", True)


ELSEWHERE = Destination("11.0.0.7", 443, "127.0.0.1", 9)
OTHERS = Destination("11.0.0.8", 443, "127.0.0.1", 9)


@pytest.mark.parametrize(
    ("heard_from", "after", "asleep", "ends"),
    [
        pytest.param(None, 0, 30, "late", id="nothing-of-the-address-is-heard"),
        pytest.param(ELSEWHERE, -1, 0.6, "done", id="another-port-spoke-before"),
        pytest.param(ELSEWHERE, 0.1, 0.6, "done", id="another-port-speaks-meanwhile"),
        pytest.param(OTHERS, -1, 30, "late", id="another-address-spoke"),
    ],
)
def test_how_long_an_answer_is_waited_for(heard_from, after, asleep, ends):
    async def run():
        liveness = Liveness(first_seconds=0.3)
        if after < 0:
            liveness.heard(heard_from)
        elif heard_from is not None:
            asyncio.get_running_loop().call_later(after, liveness.heard, heard_from)
        try:
            async with liveness.answer(Destination("11.0.0.7", 80, "127.0.0.1", 9)):
                await asyncio.sleep(asleep)
        except TimeoutError:
            return "late"
        return "done"

    assert asyncio.run(run()) == ends


@contextlib.contextmanager
def name_server_without_aaaa(address: str):
    """It gives A records, and never answers a question for AAAA; its port."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as server:
        server.bind(("127.0.0.1", 0))

        def serve() -> None:
            with contextlib.suppress(OSError):
                while True:
                    octets, asker = server.recvfrom(1 << 12)
                    query = dns.message.from_wire(octets)
                    if query.question[0].rdtype == dns.rdatatype.A:
                        response = dns.message.make_response(query)
                        response.answer.append(dns.rrset.from_text(query.question[0].name, 60, "IN", "A", address))
                        server.sendto(response.to_wire(), asker)

        threading.Thread(target=serve, daemon=True).start()
        yield server.getsockname()[1]


def test_tls_begins_while_the_other_family_is_still_looked_up():
    public = "11.0.0.7"
    with world({PEER: host()}, address=public) as running, name_server_without_aaaa(public) as port:
        evidence = take(PEER, routes=running.routes, resolver=f"127.0.0.1:{port}", step=6, whole=4)
    (name,) = evidence.names
    assert [type(each.answer) for each in evidence.endpoints[0].probes[:2]] == [Handshake, Handshake]
    assert {type(each.end) for each in evidence.journeys} == {Landed}
    assert [lookup.record_type for lookup in name.lookups] == ["A"]


def test_localhost_is_this_machine_whatever_a_name_server_says():
    """RFC 6761 section 6.3: no server is asked for it, and it is looked at here; nobody is led to it from elsewhere."""
    with world({PEER: host()}) as running, peer(answers_once) as there:
        evidence = take("localhost", port=there, resolver=running.resolver)
        asked = [question.name for question in evidence.dns.questions]
    assert [each.addresses for each in evidence.names] == [("127.0.0.1",)]
    assert "localhost" not in asked
    results = make_review(Case(evidence, Terms(), evidence.begun, ())).results
    assert results.hints == ("localhost is this machine itself (RFC 6761 section 6.3): nobody else gets there.",)


def answers_once(connection):
    connection.recv(4096)
    connection.sendall(b"HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n")


def test_a_made_up_host_that_is_hung_up_on_is_refused():
    """As ``return 444`` does it, while the site's own name is answered."""

    def handle(request):
        return Response(200, (), b"<h1>page</h1>", octets=None if request.host == PEER else b"")

    with world({PEER: VirtualHost(handle, CHAIN, any_host=True)}) as running:
        evidence = take_in(running, PEER)
    assert {(each.scheme, each.is_refused) for each in evidence.host_probes} == {("http", True), ("https", True)}


def test_the_sitemap_is_read_where_http_shows_the_page_itself():
    """The first home page that is searched is the one over http: the sitemap is of https all the same."""
    site_map = b"<?xml version='1.0'?><urlset><url><loc>http://" + PEER.encode() + b"/a</loc></url></urlset>"

    def handle(request):
        is_map = request.target == "/sitemap.xml"
        return Response(200, (), site_map if is_map else b"<title>home</title>")

    with world({PEER: VirtualHost(handle, CHAIN)}) as running:
        evidence = take_in(running, PEER)
    results = make_review(Case(evidence, Terms(), evidence.begun, (store(root()),))).results
    (gap,) = (entry for entry in results.gaps if entry.rule == "page/canonical-tag")
    assert gap.seen == (f"sitemap http://{PEER}/a",)
