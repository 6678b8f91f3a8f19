import datetime

import pytest

from pewter.evidence import Alert, Ended, Name, NoConnection, Proof, StopCause, Unseen
from pewter.judge import hsts, protocol
from pewter.judge.expectations import Expectations, Wishes
from pewter.judge.outcomes import Gap, Holds, Unknown
from support.cases import case, endpoint, handshake, hop, journey, name, outcomes, stopped, unseen
from support.certificates import HOST

REFUSES = Alert(2, 70)
NOT_REACHED = Unseen("not reached")
REFUSED = NoConnection("refused", "the connection was refused")


def old(version):
    return handshake(version=version)


def gap(seen, expected="TLS 1.2 or newer only"):
    return Gap(HOST, seen, expected, cause="obsolete versions")


@pytest.mark.parametrize(
    ("tls11", "tls10"),
    [
        pytest.param(old(0x302), old(0x301), id="gap"),
        pytest.param(REFUSES, Ended("closed", "the server closed the connection"), id="holds"),
        pytest.param(REFUSES, NOT_REACHED, id="unknown"),
        pytest.param(REFUSES, REFUSED, id="refused-connection-is-no-refused-version"),
    ],
)  # fmt: skip
def test_obsolete(told, tls11, tls10):
    looked = case(endpoints=[endpoint(handshake(), handshake(version=0x303), tls11, tls10)])
    told(outcomes(protocol.obsolete, looked))


def test_obsolete_concludes_nothing_where_no_hello_was_accepted():
    looked = case(endpoints=[endpoint(REFUSED, REFUSED, Ended("reset", "reset"), Ended("reset", "reset"))])
    assert {type(outcome) for outcome in outcomes(protocol.obsolete, looked)} == {Unknown}


def test_minimum_protocol_is_an_expectation():
    wishes = Wishes(Expectations(minimum_protocol="TLS 1.1"))
    looked = case(endpoints=[endpoint(handshake(), handshake(version=0x303), old(0x302), old(0x301))], wishes=wishes)
    assert outcomes(protocol.obsolete, looked) == [gap("TLS 1.0 accepted", "TLS 1.1 or newer only")]


@pytest.mark.parametrize(
    "answers",
    [
        pytest.param((handshake(),), id="modern"),
        pytest.param((old(0x303), old(0x303)), id="1.2"),
        pytest.param((REFUSES, REFUSES, REFUSES, old(0x301)), id="1.0-only"),
        pytest.param((NOT_REACHED,), id="unknown"),
        pytest.param((NOT_REACHED, old(0x303)), id="1.3-not-asked"),
    ],
)
def test_newest_version(told, answers):
    looked = case(endpoints=[endpoint(*answers)])
    told(outcomes(protocol.too_old_only, looked))
    told(outcomes(protocol.no_tls13, looked))


@pytest.mark.parametrize(
    "proof",
    [Proof.VERIFIED, Proof.FAILED, Proof.NOT_CHECKED, Proof.NOT_GIVEN],
)
def test_key_not_proven(told, proof):
    found = outcomes(protocol.key_not_proven, case(endpoints=[endpoint(handshake(proof=proof))]))
    told(found)


AT_LEAST = "max-age=15552000 or more (180 days)"
HTTPS = f"https://{HOST}/"


def answered(*values):
    return journey(hop(HTTPS, 200, *(("Strict-Transport-Security", value) for value in values)))


@pytest.mark.parametrize(
    "way",
    [
        pytest.param(answered("max-age=86400"), id="short"),
        pytest.param(answered("max-age=15552000"), id="holds-at-the-limit"),
        pytest.param(answered("max-age=1", "max-age=15552000"), id="first-field-decides"),
        pytest.param(answered("max-age=0"), id="zero"),
        pytest.param(answered("max-age=" + "9" * 40), id="forty-digits"),
        pytest.param(answered(), id="absent"),
        pytest.param(
            answered("max-age=1; max-age=2"),
            id="ignored-is-another-rule",
        ),
        pytest.param(unseen(HTTPS), id="unknown"),
        pytest.param(stopped(HTTPS, StopCause.NO_CONNECTION), id="no-connection"),
    ],
)  # fmt: skip
def test_hsts(told, way):
    looked = case(way)
    told(outcomes(hsts.absent, looked))
    told(outcomes(hsts.short, looked))


def test_field_over_http_does_not_count():
    plain = journey(hop(f"http://{HOST}/", 301, ("Strict-Transport-Security", "max-age=99999999")), hop(HTTPS))
    assert outcomes(hsts.absent, case(plain)) == [Gap(HOST, "no Strict-Transport-Security", AT_LEAST)]


@pytest.mark.parametrize(
    "looked", [Name("192.0.2.7", True, (), ("192.0.2.7",)), Name(HOST)], ids=["address", "no-address"]
)
def test_names_without_a_policy_to_note(looked):
    assert outcomes(hsts.absent, case(answered(), names=[looked, name("x.example")][:1])) == []


def test_minimum_age_is_an_expectation():
    wishes = Wishes(Expectations(hsts_minimum_age=datetime.timedelta(days=1)))
    assert outcomes(hsts.short, case(answered("max-age=86400"), wishes=wishes)) == [Holds(HOST, "max-age=86400")]
