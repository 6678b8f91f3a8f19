"""Whatever a peer does: a stated outcome, in time, and nothing raised."""

import errno
import socket
import time

import pytest

from pewter.evidence import (
    Alert,
    Ended,
    Handshake,
    HowEnded,
    HowFailed,
    Landed,
    NoConnection,
    NotTls,
    StopCause,
    Stopped,
    Unseen,
)
from pewter.gather.hellos import failed_connection
from pewter.lab.web_server import Response, VirtualHost
from pewter.pki import MalformedCertificate, read_certificate
from pewter.tls.hellos import ServerHello, build_message, build_server_hello
from pewter.tls.messages import build_certificate
from pewter.tls.records import build_record
from pewter.web.further_ways import ABSENT_PATH
from support.certificates import root
from support.looks import CHAIN, HOST, PEER, at_ports, take, take_in, world
from support.peers import closed_port, dribbles, peer, resets, sends, stays_silent

RUBBISH_CERTIFICATE = (
    build_record(22, 0x0303, build_server_hello(ServerHello(0x0303, bytes(32), b"", 0x009C, 0, ())))
    + build_record(22, 0x0303, build_message(11, build_certificate((b"rubbish",))))
    + build_record(22, 0x0303, build_message(14, b""))
)


def https_answers(script, **options):
    """What the first hello met, and how the https way in ended, at a peer."""
    with peer(script) as port:
        evidence = take(routes=at_ports(port), **options)
    (endpoint,) = evidence.endpoints
    (journey,) = (each for each in evidence.journeys if each.start == f"https://{PEER}/")
    return endpoint.probes[0].answer, journey.end, evidence


@pytest.mark.parametrize(
    ("script", "kind", "cause"),
    [
        pytest.param(sends(b"HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n"), NotTls, StopCause.NO_TLS, id="plain-http"),
        pytest.param(sends(b"\x15\x03\x03\x00\x02\x02\x28"), Alert, StopCause.NO_TLS, id="alert"),
        pytest.param(sends(b"\x16\x03\x03\x40\x01" + bytes(100)), Ended, StopCause.NO_TLS, id="record-of-16-kib-and-1"),
        pytest.param(sends(b"\x16\x03\x03\x00\x04\x02\x00\x00\x00" + b"\xff" * 50), Ended, StopCause.NO_TLS, id="garbage-after-hello"),
        pytest.param(sends(b""), Ended, None, id="closes"),
        pytest.param(resets, Ended, None, id="resets"),
        pytest.param(sends(b"\x00" * 5000), NotTls, StopCause.NO_TLS, id="zeros"),
    ],
)  # fmt: skip
def test_what_answers_in_place_of_tls(script, kind, cause):
    answer, end, _ = https_answers(script)
    assert isinstance(answer, kind)
    assert isinstance(end, Stopped)
    assert cause is None or end.cause is cause


def test_silence_and_one_octet_at_a_time_end_by_the_total_deadline():
    for script in (stays_silent, dribbles):
        begun = time.monotonic()
        answer, end, _ = https_answers(script, step=0.6)
        assert answer.how is HowEnded.SILENT
        assert end.cause is StopCause.NO_ANSWER
        assert time.monotonic() - begun < 3


def test_whole_deadline_leaves_the_rest_unseen_and_keeps_what_was_seen():
    """A machine that is busy gets more time: what is tested is what the deadline cuts off, not how fast a look is."""
    good_url, silent_url = "https://status.marram-ferries.example/", f"https://{PEER}/"
    for seconds in (1.5, 6.0, 24.0):
        with peer(stays_silent) as silent, world({"status.marram-ferries.example": good()}) as running:
            routes = (*running.routes, *at_ports(silent))
            begun = time.monotonic()
            evidence = take(
                PEER, "status.marram-ferries.example", routes=routes, resolver=running.resolver, whole=seconds, step=60
            )
        assert time.monotonic() - begun < 3 * seconds + 3
        ends = {journey.start: journey.end for journey in evidence.journeys}
        answers = {each.name: each.probes[0].answer for each in evidence.endpoints}
        if isinstance(ends[good_url], Landed) and isinstance(answers["status.marram-ferries.example"], Handshake):
            break
    late = Unseen(f"not reached before the deadline of {seconds:g} s")
    assert (ends[silent_url], ends[good_url]) == (late, Landed())
    assert answers[PEER] == late
    assert isinstance(answers["status.marram-ferries.example"], Handshake)


def test_refused_port():
    with closed_port() as port:
        evidence = take(routes=at_ports(port))
    assert evidence.endpoints[0].probes[0].answer == NoConnection(HowFailed.REFUSED, "the connection was refused")
    ends = {(journey.end.cause, journey.end.detail) for journey in evidence.journeys}
    assert ends == {(StopCause.NO_CONNECTION, "the connection was refused")}


@pytest.mark.parametrize(
    ("number", "kind"),
    [
        pytest.param(errno.ENETUNREACH, Unseen, id="no-route-from-here"),
        pytest.param(errno.EAFNOSUPPORT, Unseen, id="no-ipv6-here"),
        pytest.param(errno.EHOSTUNREACH, NoConnection, id="unreachable-there"),
        pytest.param(errno.ETIMEDOUT, NoConnection, id="timed-out"),
    ],
)
def test_what_this_machine_cannot_reach_is_not_held_against_the_site(number, kind):
    assert isinstance(failed_connection(OSError(number, "x"), "127.0.0.1"), kind)


def test_certificate_that_does_not_parse_is_kept():
    answer, _, evidence = https_answers(sends(RUBBISH_CERTIFICATE))
    assert isinstance(answer, Handshake)
    kept = {stored.sha256: stored.der for stored in evidence.certificates}
    assert isinstance(read_certificate(kept[answer.chain[0]]), MalformedCertificate)


def test_no_such_name_and_a_silent_name_server():
    with world({HOST: good()}) as running:
        (journey, *_), names = (e := take_in(running, "gone.example")).journeys or [None], e.names
        assert journey is None
        assert [lookup.answer.value.rcode for lookup in names[0].lookups] == ["NXDOMAIN", "NXDOMAIN"]
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as silent:
        silent.bind(("127.0.0.1", 0))
        evidence = take(PEER, resolver=f"127.0.0.1:{silent.getsockname()[1]}", step=0.5)
    assert isinstance(evidence.names[0].lookups[0].answer, Unseen)


# HTTP answers, over plain http so that the octets are exact


def plain(*answers: bytes, paths=("/",)):
    """How the plain http way in goes when each connection is answered with these octets in turn."""
    remaining = list(answers)

    def script(connection):
        head = connection.recv(1 << 16)
        if head.startswith(b"GET"):
            connection.sendall(remaining.pop(0) if len(remaining) > 1 else remaining[0])

    with peer(script) as port:
        evidence = take(routes=at_ports(port))
    return next(journey for journey in evidence.journeys if journey.start == f"http://{PEER}/"), evidence


def redirect(location: bytes) -> bytes:
    return b"HTTP/1.1 302 Found\r\nLocation: " + location + b"\r\nContent-Length: 0\r\n\r\n"


@pytest.mark.parametrize(
    ("answer", "cause", "detail"),
    [
        pytest.param(redirect(b"file:///etc/passwd"), StopCause.BAD_LOCATION, "its scheme is 'file'", id="file"),
        pytest.param(redirect(b"javascript:alert(1)"), StopCause.BAD_LOCATION, "its scheme is 'javascript'", id="javascript"),
        pytest.param(redirect(b"https://[::1/"), StopCause.BAD_LOCATION, "is no host name", id="unparsable"),
        pytest.param(redirect(b"http://x.example/" + b"a" * 66_000), StopCause.BAD_LOCATION, "characters long", id="64-kb"),
        pytest.param(redirect(b"http://127.0.0.1:6379/"), StopCause.NOT_CONTACTED, "a loopback address", id="loopback"),
        pytest.param(redirect(b"http://169.254.169.254/latest"), StopCause.NOT_CONTACTED, "a link-local address", id="metadata"),
        pytest.param(redirect(b"http://[::ffff:10.0.0.1]/"), StopCause.NOT_CONTACTED, "a private or reserved address", id="private"),
        pytest.param(redirect(b"/a"), StopCause.LOOP, "it comes round again", id="loop"),
        pytest.param(b"HTTP/1.1 200 OK", StopCause.NO_ANSWER, "the connection ended after 15 octets of a head", id="no-head"),
        pytest.param(b"HTTP/1.1 200 OK\r\nX: " + b"a" * 300_000, StopCause.NO_ANSWER, "its header fields are longer than 256 KiB", id="endless-field"),
        pytest.param(redirect(b"mailto:a@x.example"), StopCause.BAD_LOCATION, "its scheme is 'mailto'", id="mail"),
        pytest.param(redirect(b"https://"), StopCause.BAD_LOCATION, "it names no host", id="no-host"),
        pytest.param(redirect(b"https://a..b/"), StopCause.NO_ADDRESS, "'a..b' has an empty label", id="two-dots"),
        pytest.param(redirect(b"https://-h.example/"), StopCause.NO_ADDRESS, "", id="hyphen"),
        pytest.param(b"", StopCause.NO_ANSWER, "closed without an answer", id="closed"),
    ],
)  # fmt: skip
def test_answers_that_lead_nowhere(answer, cause, detail):
    journey, evidence = plain(answer)
    assert isinstance(journey.end, Stopped), journey
    assert (journey.end.cause, detail in journey.end.detail) == (cause, True), journey.end
    assert bool(evidence.not_contacted) is (cause is StopCause.NOT_CONTACTED)


def test_endless_redirects_end_after_twenty():
    count = iter(range(1000))

    def script(connection):
        connection.recv(1 << 16)
        connection.sendall(redirect(b"/%d" % next(count)))

    with peer(script, connections=200) as port:
        evidence = take(routes=at_ports(port))
    journey = next(each for each in evidence.journeys if each.start.startswith("http:"))
    assert (len(journey.hops), journey.end.cause) == (21, StopCause.TOO_MANY_HOPS)


def test_fields_are_kept_raw_in_order_and_repeated_but_for_cookie_values():
    journey, _ = plain(
        b"HTTP/1.1 200 OK\r\nB: 1\r\nA: \x1b[31mred\r\nB: 2\r\nSet-Cookie: session=secret; Path=/\r\nContent-Length: 0\r\n\r\n"
    )
    assert journey.hops[0].fields == (
        ("B", "1"), ("A", "\x1b[31mred"), ("B", "2"), ("Set-Cookie", "session=******; Path=/"), ("Content-Length", "0"),
    )  # fmt: skip


def test_cookies_last_for_a_journey_and_no_longer():
    def script(connection):
        head = connection.recv(1 << 16)
        if b"Cookie: seen=1" in head:
            connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
        else:
            connection.sendall(b"HTTP/1.1 302 Found\r\nLocation: /\r\nSet-Cookie: seen=1\r\nContent-Length: 0\r\n\r\n")

    with peer(script) as port:
        evidence = take(routes=at_ports(port), paths=("/", "/again"))
    plain_journeys = [each for each in evidence.journeys if each.start.startswith("http:")]
    assert [[hop.status for hop in each.hops] for each in plain_journeys] == [[302, 200]] * 3


def test_body_that_never_ends_costs_nothing():
    def script(connection):
        connection.recv(1 << 16)
        connection.sendall(b"HTTP/1.1 301 Moved\r\nLocation: /next\r\nContent-Length: 200000000\r\n\r\n")
        while True:
            connection.sendall(bytes(1 << 16))

    begun = time.monotonic()
    with peer(script) as port:
        evidence = take(routes=at_ports(port))
    assert time.monotonic() - begun < 5
    assert any(journey.hops for journey in evidence.journeys)


# Over a whole small world


def good(**options) -> VirtualHost:
    def handle(request):
        if request.scheme == "http":
            return Response(301, (("Location", f"https://{request.host}{request.target}"),))
        return Response(200, (("Strict-Transport-Security", "max-age=31536000"),), b"<h1>page</h1>")

    return VirtualHost(handle, options.pop("chain", CHAIN), **options)


def test_clean_host_with_its_sibling_seen_in_full():
    apex = HOST.removeprefix("www.")
    with world({HOST: good(), apex: good()}) as running:
        evidence = take_in(running, HOST)
    assert [(name.name, name.declared) for name in evidence.names] == [(HOST, True), (apex, False)]
    assert {journey.start for journey in evidence.journeys} == {
        f"{scheme}://{name}{path}"
        for scheme in ("http", "https")
        for name in (HOST, apex)
        for path in ("/", ABSENT_PATH)
    }
    versions = [handshake.version for handshake in evidence.endpoints[0].handshakes]
    assert versions == [0x0304, 0x0303]
    assert [type(probe.answer) for probe in evidence.endpoints[0].probes[2:]] == [Alert]
    https = next(journey for journey in evidence.journeys if journey.start == f"https://{HOST}/")
    assert https.hops[0].certificate == evidence.endpoints[0].handshakes[0].chain[0]
    assert evidence.connections == 20


def test_every_address_is_visited_and_a_host_that_a_journey_leads_to_gets_a_hello():
    def leave(request):
        return Response(301, (("Location", "https://elsewhere.marram-ferries.example/"),))

    hosts = {HOST: VirtualHost(leave, CHAIN), "elsewhere.marram-ferries.example": good()}
    with world(hosts) as running:
        evidence = take_in(running, HOST)
    assert [each.name for each in evidence.endpoints] == [HOST, "elsewhere.marram-ferries.example"]
    assert len(evidence.endpoints[1].probes) == 1
    assert {journey.end for journey in evidence.journeys} == {Landed()}


def test_missing_issuer_is_fetched_once_and_only_when_needed():
    from pewter.lab.authority import issue_server
    from support.certificates import FAR_OFF, LONG_AGO, intermediate, key

    asked = []

    def publish(request):
        asked.append(request.target)
        return Response(200, (), intermediate().der)

    url = "http://ca.marram-ferries.example/i.crt"
    lonely = issue_server([HOST], intermediate(), LONG_AGO, FAR_OFF, key=key("leaf"), ca_issuers=url)
    hosts = {HOST: good(chain=(lonely,)), "ca.marram-ferries.example": VirtualHost(publish)}
    with world(hosts) as running:
        evidence = take_in(running, HOST)
        (fetched,) = evidence.fetched_issuers
        assert (fetched.url, len(fetched.answer), asked) == (url, 1, ["/i.crt"])
        whole = world({HOST: good()})
    with whole as running:
        assert take_in(running, HOST).fetched_issuers == ()


@pytest.mark.parametrize(
    ("url", "body", "answer"),
    [
        pytest.param("http://ca.marram-ferries.example/i", b"<html>", "what came is no certificate", id="no-certificate"),
        pytest.param("http://ca.marram-ferries.example/i", bytes(70_000), "more than 65536 octets", id="huge"),
        pytest.param("http://127.0.0.1:631/i", b"", "not contacted: 127.0.0.1 is a loopback address, and 127.0.0.1 was not typed", id="loopback"),
        pytest.param("https://ca.marram-ferries.example/i", b"", "the address is https, which would need a certificate to get one", id="https"),
        pytest.param("ldap://x/", b"", "the address cannot be used: its scheme is 'ldap', not http or https", id="ldap"),
        pytest.param("http://gone.example/i", b"", "gone.example has no address (NXDOMAIN)", id="no-address"),
    ],
)  # fmt: skip
def test_issuers_that_cannot_be_had(url, body, answer):
    from pewter.lab.authority import issue_server
    from support.certificates import FAR_OFF, LONG_AGO, intermediate, key

    lonely = issue_server([HOST], intermediate(), LONG_AGO, FAR_OFF, key=key("leaf"), ca_issuers=url)
    ca_host = VirtualHost(lambda request: Response(200, (), body))
    hosts = {HOST: good(chain=(lonely,)), "ca.marram-ferries.example": ca_host}
    with world(hosts) as running:
        (fetched,) = take_in(running, HOST).fetched_issuers
    assert fetched.answer == answer


def test_own_root_given_by_trust_is_in_the_evidence():
    with closed_port() as port:
        evidence = take(routes=at_ports(port))
    stored = {each.sha256: each.der for each in evidence.certificates}
    assert [stored[sha256] for sha256 in evidence.given_trust] == [root().der]


@pytest.mark.parametrize("part", ["pages.read_page", "pages.read_sitemap", "hellos.send_hello", "ways_in.paths_for"])
def test_a_fault_of_our_own_costs_no_other_result_and_is_told(monkeypatch, part):
    def fails(*_, **__):
        raise RuntimeError("a fault made for this test")

    monkeypatch.setattr(f"pewter.gather.steps.{part}", fails)
    with world({PEER: good()}) as running:
        evidence = take_in(running, PEER)
    assert evidence.faults
    assert all(fault.detail == "RuntimeError: a fault made for this test" for fault in evidence.faults)
    assert (
        any(journey.hops for journey in evidence.journeys)
        or any(each.handshakes for each in evidence.endpoints)
        or part == "ways_in.paths_for"
    )
