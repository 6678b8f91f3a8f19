import pytest

from pewter.evidence import Alert, Answer, Ended, Lookup, Name, NoConnection, NotTls, Seen, StopCause, Unseen
from pewter.judge import reach
from pewter.judge.outcomes import Holds
from support.cases import ADDRESS, case, endpoint, handshake, hop, journey, name, outcomes, stopped, unseen
from support.certificates import HOST

REFUSED = NoConnection("refused", "the connection was refused")
SILENT = Ended("silent", "no whole answer within 10 s")
NOT_REACHED = Unseen("not reached")
SECOND = "192.0.2.11"


def looked_up(*answers, declared=True):
    return Name(HOST, declared, tuple(map(Lookup, ("A", "AAAA"), answers)))


NOTHING, NO_NAME = Seen(Answer("NOERROR")), Seen(Answer("NXDOMAIN"))


@pytest.mark.parametrize(
    "looked",
    [
        pytest.param(name(), id="holds"),
        pytest.param(looked_up(NO_NAME, NO_NAME), id="gap"),
        pytest.param(looked_up(NOTHING, NOTHING, declared=False), id="sibling-is-a-note"),
        pytest.param(looked_up(NO_NAME, Unseen("timed out")), id="unknown"),
        pytest.param(looked_up(Unseen("timed out"), Seen(Answer("NOERROR", (), ("2001:db8::1",)))), id="one-is-enough"),
    ],
)  # fmt: skip
def test_no_address(told, looked):
    told(outcomes(reach.no_address, case(names=[looked])))


STATES = [
    pytest.param((handshake(),), id="answers"),
    pytest.param((SILENT, handshake()), id="one-hello-is-enough"),
    pytest.param((REFUSED, REFUSED), id="refused"),
    pytest.param((SILENT,), id="silent"),
    pytest.param((NotTls(b"HTTP/1.1 400 Bad Request\r\nx"),), id="plain-http"),
    pytest.param((Ended("garbled", "record, octet 3: rubbish"),), id="garbled"),
    pytest.param((Alert(2, 40), Alert(2, 70)), id="alerts"),
    pytest.param((NOT_REACHED,), id="unseen"),
]


@pytest.mark.parametrize("answers", STATES)
def test_one_rule_speaks_of_each_state(told, answers):
    looked = case(endpoints=[endpoint(*answers)])
    for rule in (reach.closed, reach.not_tls, reach.refuses_hello):
        told(outcomes(rule, looked))


@pytest.mark.parametrize(
    "answer",
    [
        NotTls(b"HTTP/1.1 400 Bad Request\r\nx"),
        NotTls(b"SSH-2.0-x\r\n"),
        NotTls(b"\xff\xfe"),
        Ended("garbled", "record, octet 3: rubbish"),
    ],
    ids=["http", "ssh", "octets", "garbled"],
)
def test_what_answers_in_place_of_tls(told, answer):
    told(outcomes(reach.not_tls, case(endpoints=[endpoint(answer)])))
    told(outcomes(reach.refuses_hello, case(endpoints=[endpoint(answer)])))


def two(first, second):
    return case(names=[name(HOST, ADDRESS, SECOND)], endpoints=[endpoint(first), endpoint(second, address=SECOND)])


@pytest.mark.parametrize(
    ("first", "second"),
    [
        pytest.param(handshake(), REFUSED, id="gap"),
        pytest.param(handshake(), handshake(), id="holds"),
        pytest.param(handshake(), Unseen("no way to IPv6"), id="unknown"),
        pytest.param(REFUSED, REFUSED, id="none-answers-is-another-rule"),
    ],
)  # fmt: skip
def test_some_addresses(told, first, second):
    told(outcomes(reach.some_addresses, two(first, second)))


def test_unlike_addresses(told):
    alike = outcomes(reach.unlike_addresses, two(handshake(), handshake()))
    assert alike == [Holds(HOST, "2 addresses alike")]
    told(outcomes(reach.unlike_addresses, two(handshake(), handshake(version=0x0303))))
    assert outcomes(reach.unlike_addresses, two(handshake(), REFUSED)) == []


def test_unlike_home_pages_are_seen_by_address(told):
    journeys = [
        journey(hop(f"https://{HOST}/", 200, ("Strict-Transport-Security", "max-age=5")), by=ADDRESS),
        journey(hop(f"https://{HOST}/", 503), by=SECOND),
    ]
    looked = case(*journeys, endpoints=[endpoint(handshake()), endpoint(handshake(), address=SECOND)])
    told(outcomes(reach.unlike_addresses, looked))


@pytest.mark.parametrize(
    "way_in",
    [
        pytest.param(journey(f"http://{HOST}/"), id="holds"),
        pytest.param(stopped(f"http://{HOST}/", StopCause.NO_CONNECTION), id="gap"),
        pytest.param(unseen(f"http://{HOST}/"), id="unknown"),
        pytest.param(journey(f"https://{HOST}/"), id="https-is-another-rule"),
    ],
)
def test_port_80(told, way_in):
    told(outcomes(reach.port_80, case(way_in)))


@pytest.mark.parametrize(
    "date",
    [
        pytest.param("Mon, 23 Nov 2026 12:05:00 GMT", id="holds-at-the-limit"),
        pytest.param("Mon, 23 Nov 2026 12:06:00 GMT", id="gap"),
        pytest.param("yesterday", id="no-date"),
        pytest.param("Mon, 23 Nov 2026 12:06:00 -0000", id="no-zone"),
    ],
)
def test_clock(told, date):
    told(outcomes(reach.clock, case(journey(hop(f"https://{HOST}/", 200, ("Date", date))))))
