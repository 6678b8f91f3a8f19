"""The area reach."""

from pewter.evidence import (
    Alert,
    Answer,
    Ended,
    HowEnded,
    HowFailed,
    Lookup,
    Name,
    NoConnection,
    NotTls,
    Origin,
    Seen,
    StopCause,
    Stopped,
    Unseen,
)
from pewter.judge.rules import reach
from support.cases import (
    ADDRESS,
    case,
    endpoint,
    handshake,
    hop,
    journey,
    name,
    outcomes,
    probe,
    stopped,
    stored,
    table,
    unseen,
)
from support.certificates import HOST, leaf, root

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
REFUSED = NoConnection(HowFailed.REFUSED, "the connection was refused")
SILENT = Ended(HowEnded.SILENT, "no whole answer within 10 s")
GARBLED = Ended(HowEnded.GARBLED, "record, octet 3: rubbish")
PLAIN_HTTP = NotTls(b"HTTP/1.1 400 Bad Request\r\nx")
SECOND = "192.0.2.11"
NOTHING, NO_NAME, LATE = Seen(Answer("NOERROR")), Seen(Answer("NXDOMAIN")), Unseen("timed out")


def looked_up(*answers, declared=True):
    return case(names=[Name(HOST, declared, tuple(map(Lookup, ("A", "AAAA"), answers)))])


def answering(*answers):
    return case(endpoints=[endpoint(*answers)])


def two(first, after, *ways, second=SECOND):
    both = [endpoint(first), endpoint(after, address=second)]
    return case(*ways, names=[name(HOST, ADDRESS, second)], endpoints=both)


def behind_edge(hello, secure, plain, *ways, address="198.51.100.9", port=None):
    certificates = stored(leaf("mail.x.example"), root())
    origins = (Origin(HOST, address, port, hello, secure, plain),)
    return case(*ways, names=[name()], origins=origins, certificates=certificates)


VALID, AGAIN = probe(handshake()), Seen(hop(HTTP, 301, ("Location", HTTPS)))
ROUND = journey(hop(HTTPS, 301, ("Location", HTTPS)), end=Stopped(HTTPS, StopCause.LOOP, "it comes round again"))
OVER_HTTP = journey(hop(HTTPS, 302), hop(HTTP, 302), end=Stopped(HTTPS, StopCause.LOOP, "it comes round again"))


def dated(date):
    return case(journey(hop(HTTPS, 200, ("Date", date))))


HOME_PAGES = (
    journey(hop(HTTPS, 200, ("Strict-Transport-Security", "max-age=5")), by=ADDRESS),
    journey(hop(HTTPS, 503), by=SECOND),
)

CASES = {
    reach.no_address: {
        "holds": case(names=[name()]),
        "gap": looked_up(NO_NAME, NO_NAME),
        "sibling-is-a-note": looked_up(NOTHING, NOTHING, declared=False),
        "unknown": looked_up(NO_NAME, LATE),
        "one-is-enough": looked_up(LATE, Seen(Answer("NOERROR", (), ("2001:db8::1",)))),
    },
    (reach.closed, reach.not_tls, reach.refuses_hello): {
        "answers": answering(handshake()),
        "one-hello-is-enough": answering(SILENT, handshake()),
        "refused": answering(REFUSED, REFUSED),
        "silent": answering(SILENT),
        "plain-http": answering(PLAIN_HTTP),
        "garbled": answering(GARBLED),
        "alerts": answering(Alert(2, 40), Alert(2, 70)),
        "unseen": answering(Unseen("not reached")),
        "ssh": answering(NotTls(b"SSH-2.0-x\r\n")),
        "octets": answering(NotTls(b"\xff\xfe")),
    },
    reach.some_addresses: {
        "gap": two(handshake(), REFUSED),
        "holds": two(handshake(), handshake()),
        "unknown": two(handshake(), Unseen("no way to IPv6")),
        "none-answers-is-another-rule": two(REFUSED, REFUSED),
        "ipv6-dead": two(handshake(), REFUSED, second="2001:db8::11"),
        "ipv6-takes-connections": two(handshake(), SILENT, second="2001:db8::11"),
        "ipv4-dead": two(REFUSED, handshake(), second="2001:db8::11"),
    },
    (reach.origin, reach.open_origin): {
        "none-given": case(),
        "valid": behind_edge(probe(handshake()), Seen(hop(HTTPS, 403)), Seen(hop(HTTP, 403))),
        "open": behind_edge(probe(handshake()), Seen(hop(HTTPS)), Unseen("refused")),
        "plain": behind_edge(probe(REFUSED), None, Seen(hop(HTTP))),
        "asks-for-https-again": behind_edge(probe(REFUSED), None, AGAIN),
        "circle": behind_edge(probe(REFUSED), None, AGAIN, ROUND),
        "circle-beside-a-valid-certificate": behind_edge(VALID, Seen(hop(HTTPS)), AGAIN, ROUND),
        "circle-beside-another-certificate": behind_edge(
            probe(handshake(leaf("mail.x.example"))), Seen(hop(HTTPS)), AGAIN, ROUND
        ),
        "circle-of-its-own": behind_edge(VALID, Seen(hop(HTTPS, 301, ("Location", HTTPS))), AGAIN, ROUND),
        "circle-over-http-is-another": behind_edge(VALID, Seen(hop(HTTPS)), AGAIN, OVER_HTTP),
        "valid-and-asks-again": behind_edge(VALID, Seen(hop(HTTPS, 403)), AGAIN, journey(HTTPS)),
        "without-intermediate": behind_edge(probe(handshake(leaf())), Seen(hop(HTTPS, 403)), Unseen("refused")),
        "the-edge-itself": behind_edge(VALID, Seen(hop(HTTPS)), Seen(hop(HTTP)), address=ADDRESS),
        "the-edge-itself-by-port": behind_edge(VALID, Seen(hop(HTTPS)), Seen(hop(HTTP)), address=ADDRESS, port=443),
        "another-port-beside-the-edge": behind_edge(VALID, Seen(hop(HTTPS, 403)), None, address=ADDRESS, port=8443),
        "other-name": behind_edge(probe(handshake(leaf("mail.x.example"))), Seen(hop(HTTPS, 403)), Unseen("refused")),
        "not-trusted": behind_edge(probe(handshake(root())), Unseen("x"), Unseen("refused")),
        "dead": behind_edge(probe(REFUSED), None, Unseen("refused")),
        "not-looked-at": behind_edge(None, Unseen("late"), Unseen("late")),
    },
    reach.unlike_addresses: {
        "alike": two(handshake(), handshake()),
        "versions": two(handshake(), handshake(version=0x0303)),
        "one-refuses-is-another-rule": two(handshake(), REFUSED),
        "home-pages": case(*HOME_PAGES, endpoints=[endpoint(handshake()), endpoint(handshake(), address=SECOND)]),
    },
    reach.port_80: {
        "holds": case(journey(HTTP)),
        "gap": case(stopped(HTTP, StopCause.NO_CONNECTION)),
        "unknown": case(unseen(HTTP)),
        "https-is-another-rule": case(journey(HTTPS)),
    },
    reach.clock: {
        "holds-at-the-limit": dated("Mon, 23 Nov 2026 12:05:00 GMT"),
        "gap": dated("Mon, 23 Nov 2026 12:06:00 GMT"),
        "no-date": dated("yesterday"),
        "of-the-first-answer": case(
            *(journey(hop(HTTPS, 200, ("Date", f"Mon, 23 Nov 2026 12:0{n}:00 GMT"))) for n in (0, 9))
        ),
        "no-zone": dated("Mon, 23 Nov 2026 12:06:00 -0000"),
    },
}


@table(CASES)
def test_rule(told, rule, looked):
    told(outcomes(rule, looked))
