"""Every expectation at its exact limit, and one step beyond it."""

import datetime
import itertools

import pytest

from judge.test_certificates import logged
from judge.test_cookie import sets
from judge.test_dns import WWW, keys, zone
from judge.test_hsts import ready, sent
from judge.test_protocol import field
from judge.test_reach import dated
from pewter.evidence import FiniteField, Seen
from pewter.expectations import Expectations, Terms
from pewter.judge.outcomes import Gap, Holds
from pewter.judge.rules import (
    chain_keys,
    chain_status,
    cookie,
    date,
    dns,
    dns_names,
    dns_records,
    hsts,
    protocol_suites,
    reach,
    redirect,
)
from pewter.levels import Level
from support.cases import case, endpoint, handshake, journey, outcomes, stored
from support.certificates import HOST, NOW, intermediate, leaf

SECOND = datetime.timedelta(seconds=1)
HTTPS = f"https://{HOST}/"


def expecting(**expected):
    return Terms(expect=Expectations(**expected))


def certificate(at=NOW, life=90.0, left=45.0, **expected):
    """The usual chain, whose certificate has so many days left at NOW, judged for another moment."""
    issued = leaf(left=left, life=life - SECOND / datetime.timedelta(days=1))  # both ends count (RFC 5280)
    served = [endpoint(handshake(issued, intermediate()))]
    return case(endpoints=served, certificates=stored(issued), terms=expecting(**expected), at=at)


def before_the_end(**left):
    return NOW + datetime.timedelta(days=45) - datetime.timedelta(**left)


def redirects(count):
    return case(journey(*(f"{HTTPS}{number}" for number in range(count)), f"{HTTPS}end"))


def aliases(count):
    links = [WWW, *(f"a{number}.other.test" for number in range(count))]
    records = "; ".join(f"{a} CNAME 60 {b}" for a, b in itertools.pairwise(links))
    return zone({f"r {WWW} A": f"NOERROR ra; {records}; {links[-1]} A 60 5.5.5.1"})


def kept_for(seconds):
    return zone({f"12 {WWW} A": f"NOERROR aa; {WWW} A {seconds} 5.5.5.10"})


def signed_until(left):
    """The signature's TTL is 60 seconds."""
    ends = int((NOW + datetime.timedelta(hours=6, seconds=60) + left).timestamp())
    return zone(keys(1, ends=str(ends)))


QUARTER_LEFT = before_the_end(days=24) + SECOND
"""Of a life of 96 days, of which the first second counts too."""

LIMITS = {
    "hsts_minimum_age": (hsts.short, sent("max-age=15552000"), sent("max-age=15551999")),
    "preload_minimum_age": (
        hsts.preload_unready,
        ready("max-age=31536000; includeSubDomains; preload"),
        ready("max-age=31535999; includeSubDomains; preload"),
    ),
    "session_cookie_life": (
        cookie.long_lived,
        sets("sessionid=*; Max-Age=2592000"),
        sets("sessionid=*; Max-Age=2592001"),
    ),
    "maximum_redirects": (redirect.many_hops, redirects(2), redirects(3)),
    "clock_tolerance": (reach.clock, dated("Mon, 23 Nov 2026 12:05:00 GMT"), dated("Mon, 23 Nov 2026 12:05:01 GMT")),
    "expiring_fraction": (
        date.expiring,
        certificate(before_the_end(days=9)),
        certificate(before_the_end(days=9) + SECOND),
    ),
    "expiring_days": (
        date.expiring,
        certificate(before_the_end(days=7), life=60),
        certificate(before_the_end(days=7) + SECOND, life=60),
    ),
    "expiring_fraction_limit": (
        date.expiring,
        certificate(before_the_end(days=3), life=12, expiring_fraction_limit=0.25),
        certificate(before_the_end(days=3) + SECOND, life=12, expiring_fraction_limit=0.25),
    ),
    "renewal_point": (
        date.renewal_overdue,
        certificate(QUARTER_LEFT, life=96, renewal_point=0.5, renewal_grace=0.25),
        certificate(QUARTER_LEFT, life=96, renewal_point=0.4375, renewal_grace=0.25),
    ),
    "renewal_grace": (
        date.renewal_overdue,
        certificate(QUARTER_LEFT, life=96, renewal_point=0.5, renewal_grace=0.25),
        certificate(QUARTER_LEFT + SECOND, life=96, renewal_point=0.5, renewal_grace=0.25),
    ),
    "curve_minimum_bits": (
        chain_keys.weak_key,
        certificate(curve_minimum_bits=256),
        certificate(curve_minimum_bits=257),
    ),
    "finite_field_minimum_bits": (
        protocol_suites.weak_dh,
        field(Seen(FiniteField(2048, "x"))),
        field(Seen(FiniteField(2047, "x"))),
    ),
    "longest_ttl": (dns_names.long_ttl, kept_for(86400), kept_for(86401)),
    "longest_alias_chain": (dns_names.long_alias_chain, aliases(4), aliases(5)),
    "name_server_minimum": (dns.one_server, zone(), zone(expect=Expectations(name_server_minimum=3))),
    "name_server_seconds": (dns.slow_server, zone(milliseconds=1000), zone(milliseconds=1001)),
    "signature_margin": (
        dns_records.dnssec_expiring,
        signed_until(datetime.timedelta()),
        signed_until(-SECOND),
    ),
    "timestamps": (chain_status.not_logged, logged(90, b"a", b"b"), logged(90, b"a")),
}
OTHERWISE = {
    "minimum_protocol": "a name of a version",
    "name_servers": "names that are expected",
    "addresses": "addresses that are expected",
    "caa_domains": "domains that are expected",
    "rsa_minimum_bits": "a table of keys in test_certificates",
    "finite_field_broken_bits": "test_a_broken_field",
    "timestamps_long": "test_a_long_life_needs_more_logs",
    "timestamps_long_life": "test_a_long_life_needs_more_logs",
}


def test_every_expectation_is_held():
    assert set(LIMITS) | set(OTHERWISE) == set(Expectations.__struct_fields__)
    assert not set(LIMITS) & set(OTHERWISE)


@pytest.mark.parametrize("expectation", LIMITS)
def test_at_its_limit_it_holds_and_beyond_it_does_not(expectation):
    rule, at, beyond = LIMITS[expectation]
    assert {type(each) for each in outcomes(rule, at)} == {Holds}
    assert Gap in {type(each) for each in outcomes(rule, beyond)}


@pytest.mark.parametrize(("bits", "level"), [(1024, None), (1023, Level.EXPOSES)])
def test_a_broken_field(bits, level):
    (gap,) = outcomes(protocol_suites.weak_dh, field(Seen(FiniteField(bits, "x"))))
    assert gap.level is level


@pytest.mark.parametrize(("life", "logs", "holds"), [(180, 2, True), (181, 2, False), (181, 3, True)])
def test_a_long_life_needs_more_logs(life, logs, holds):
    looked = logged(life, *(bytes([65 + number]) for number in range(logs)))
    assert [type(each) for each in outcomes(chain_status.not_logged, looked)] == [Holds if holds else Gap]
