import datetime

import msgspec
import pytest

from pewter.lab.authority import DAY, issue_server
from pewter.pki import Life, covers
from pewter.pki.identity import matches
from support.certificates import FAR_OFF, LONG_AGO, NOW, intermediate, key, leaf, parsed


@pytest.mark.parametrize(
    ("presented", "host", "expected"),
    [
        ("www.example.com", "www.example.com", True),
        ("WWW.example.COM", "www.Example.com", True),
        ("www.example.com", "www.example.com.", True),
        ("www.example.com.", "www.example.com", False),
        # RFC 9525 section 6.3: the whole left-most label, and exactly one.
        ("*.example.com", "foo.example.com", True),
        ("*.example.com", "example.com", False),
        ("*.example.com", "a.b.example.com", False),
        ("f*.example.com", "foo.example.com", False),
        ("*oo.example.com", "foo.example.com", False),
        ("foo.*.com", "foo.example.com", False),
        ("*.*.com", "foo.example.com", False),
        ("*", "localhost", False),
        ("*.example.com", ".example.com", False),
        ("*.example.com", "xn--caf-dma.example.com", True),
        ("xn--caf-dma.example.com", "xn--caf-dma.example.com", True),
        ("caf\xe9.example.com", "xn--caf-dma.example.com", False),
        ("*.com", "example.com", True),
        ("under_score.example.com", "under_score.example.com", True),
        ("", "", False),
    ],
)
def test_dns_names(presented, host, expected):
    assert matches(presented, host) is expected
    made = parsed(leaf())
    named = msgspec.structs.replace(
        made, extensions=msgspec.structs.replace(made.extensions, dns_names=("x.y", presented))
    )
    assert covers(named, host) is expected


def certificate(*names: str, common_name: str | None = None):
    return parsed(issue_server(names, intermediate(), LONG_AGO, FAR_OFF, key=key("leaf"), common_name=common_name))


@pytest.mark.parametrize(
    ("names", "host", "expected"),
    [
        pytest.param(("192.0.2.7",), "192.0.2.7", True, id="ip"),
        pytest.param(("192.0.2.7",), "192.0.2.8", False, id="another-ip"),
        pytest.param(("2001:db8::7",), "2001:db8:0::7", True, id="ipv6-by-octets"),
        pytest.param(("192.0.2.7",), "::ffff:192.0.2.7", False, id="mapped-is-not-ipv4"),
        pytest.param(("*.0.2.7", "x.example"), "192.0.2.7", False, id="wildcard-is-no-ip"),
        pytest.param((), "www.example.com", False, id="common-name-does-not-count"),
    ],
)
def test_certificate_covers(names, host, expected):
    assert covers(certificate(*names, common_name="www.example.com"), host) is expected


def test_address_written_as_a_dns_name_does_not_count():
    from cryptography import x509

    odd = x509.SubjectAlternativeName([x509.DNSName("192.0.2.7")])
    issued = issue_server((), intermediate(), LONG_AGO, FAR_OFF, key=key("leaf"), common_name="x", extra=[(odd, False)])
    assert not covers(parsed(issued), "192.0.2.7")


LIFE = Life(NOW - 60 * DAY, NOW + 30 * DAY - datetime.timedelta(seconds=1))


def test_life_counts_both_ends():
    assert LIFE.length == 90 * DAY
    assert LIFE.passed(NOW) == pytest.approx(2 / 3)
    assert LIFE.point(2 / 3) == NOW
    assert LIFE.days_left(NOW) == 29


@pytest.mark.parametrize(
    ("at", "over", "ahead"),
    [
        pytest.param(LIFE.not_after, False, False, id="last-second"),
        pytest.param(LIFE.not_after + datetime.timedelta(seconds=1), True, False, id="after-it"),
        pytest.param(LIFE.not_before, False, False, id="first-second"),
        pytest.param(LIFE.not_before - datetime.timedelta(seconds=1), False, True, id="before-it"),
    ],
)
def test_ends_are_included(at, over, ahead):
    assert (LIFE.is_over(at), LIFE.is_ahead(at)) == (over, ahead)


@pytest.mark.parametrize(
    ("life", "passed"),
    [
        pytest.param(Life(NOW, NOW - DAY), 1.0, id="ends-before-it-begins"),
        pytest.param(Life(NOW, datetime.datetime(9999, 12, 31, 23, 59, 59, tzinfo=datetime.UTC)), 0.0, id="no-end"),
    ],
)
def test_odd_lives(life, passed):
    assert life.passed(NOW) == passed
    life.point(2 / 3)
