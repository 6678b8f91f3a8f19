"""CAA and HTTPS data, octet by octet; aliases, serials and times."""

import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.evidence import Record, Reply, Unseen
from pewter.names.aliases import ChainEnd, follow
from pewter.names.caa import climb, may_issue, oddities, read_caa
from pewter.names.comparison import behind, is_later
from pewter.names.https_records import Malformed, read_https, read_set
from pewter.names.issuers import domains_of, known_issuers
from pewter.names.spread import negative_ttl, spread_by, ttl_of

NOW = datetime.datetime(2026, 6, 1, tzinfo=datetime.UTC)


def caa(text):
    flags, tag, value = text.split(" ", 2)
    return bytes([int(flags), len(tag)]) + tag.encode() + value.encode("latin-1")


@pytest.mark.parametrize(
    ("text", "issuer", "odd"),
    [
        ("0 issue ca.example", "ca.example", []),
        ("0 ISSUE  CA.example ; a=b", "ca.example", []),
        ("0 issue ca.example; a=b c=d", "ca.example", []),
        ("0 issue ca.example; accounturi = https://x/1", "ca.example", []),
        ("0 issue \tca.example\t;\ta=b", "ca.example", []),
        ("0 issue x-ca.example", "x-ca.example", []),
        ("0 issue ;", "", []),
        ("0 issue ", "", []),
        ("0 issue ca.example;a", "", ["'a' is no parameter"]),
        ("0 issue ca_x.example", "", ["'ca_x.example' is no domain of a CA"]),
        ("0 issue https://ca.example", "", ["'https://ca.example' is no domain of a CA"]),
        ("0 iodef mailto:a@x.example", "mailto:a@x.example", []),
        ("128 issue ca.example", "ca.example", []),
        ("1 issue ca.example", "ca.example", ["the flags are 1: 128 makes a tag critical, 1 does not"]),
        ("0 isssue ca.example", "ca.example", ["the tag 'isssue' is none; issue was meant?"]),
        ("0 isue ca.example", "ca.example", ["the tag 'isue' is none; issue was meant?"]),
        ("0 issuf x", "x", ["the tag 'issuf' is none; issue was meant?"]),
        ("0 ussue x", "x", ["the tag 'ussue' is none; issue was meant?"]),
        ("0 issue2 x", "x", ["the tag 'issue2' is none; issue was meant?"]),
        ("0 issuewilds x", "x", ["the tag 'issuewilds' is none; issuewild was meant?"]),
        ("0 issuewi x", "x", []),
        ("0 ussuf x", "x", []),
        ("0 isuse x", "x", []),
        ("0 tbs x", "x", []),
        ("128 tbs x", "x", ["the tag 'tbs' is critical, and no CA knows it: nobody may issue"]),
        ("0 a-b x", "", ["the tag 'a-b' has other characters than letters and digits"]),
    ],
)
def test_caa(text, issuer, odd):
    record = read_caa(caa(text))
    assert (record.issuer, oddities(record)) == (issuer, odd)


@pytest.mark.parametrize(
    ("records", "name", "domains", "allowed"),
    [
        (["0 issue ca.example"], "x.example", ("ca.example",), True),
        (["0 issue ca.example"], "x.example", None, None),
        (["0 issue ca.example"], "x.example", ("other.example",), False),
        (["0 issue ;"], "x.example", None, False),
        (["0 issue ;", "0 issue ca.example"], "x.example", ("ca.example",), True),
        (["0 issue ca.example", "0 issuewild ;"], "*.x.example", ("ca.example",), False),
        (["0 issue ca.example", "0 issuewild ;"], "x.example", ("ca.example",), True),
        (["0 issuewild ca.example"], "x.example", ("other.example",), True),
        (["0 iodef mailto:a@x.example"], "x.example", None, True),
        (["0 issue ca.example", "128 new x"], "x.example", ("ca.example",), False),
        (["0 issue ca.example; validationmethods=dns-01"], "x.example", ("ca.example",), None),
        (["0 issue ca example"], "x.example", ("ca.example",), False),
        ([], "x.example", None, True),
    ],
)
def test_whether_a_ca_may_issue(records, name, domains, allowed):
    answers = {"x.example": tuple(Record("x.example", "CAA", 60, caa(each).hex()) for each in records)}
    found = climb(name, lambda above: Reply("NOERROR", answer=answers.get(above, ())))
    assert may_issue(found, name, domains).allowed is allowed


def test_the_climb_goes_on_from_the_owner_and_ends_at_a_failure():
    alias = Reply("NOERROR", answer=(Record("a.x.example", "CNAME", 60, "b.other.test"),))
    issue = Reply("NOERROR", answer=(Record("x.example", "CAA", 60, caa("0 issue ca.example").hex()),))
    found = climb("a.x.example", lambda above: {"a.x.example": alias, "x.example": issue}.get(above, Reply("NXDOMAIN")))
    assert found.owner == "x.example"
    assert climb("a.x.example", lambda above: Reply("SERVFAIL")) == Unseen("CAA of a.x.example: SERVFAIL")
    assert (
        climb("x.example", lambda above: Unseen("it does not answer")).reason == "CAA of x.example: it does not answer"
    )


@pytest.mark.parametrize(
    ("octets", "shown"),
    [
        ("0001 00 0001 0003 026832", "1 . alpn=h2"),
        ("0001 00 0001 0006 026832 026833 0002 0000", "1 . alpn=h2,h3 no-default-alpn"),
        ("0002 0161 00 0003 0002 20fb", "2 a port=8443"),
        (
            "0001 00 0004 0008 05050505 05050506 0006 0010 20010db8000000000000000000000001",
            "1 . hints=5.5.5.5,5.5.5.6,2001:db8::1",
        ),
        ("0001 00 0005 0002 abcd", "1 . ech"),
        ("0000 0161 00", "0 a"),
        ("0000 0161 00 0003 0002 01bb", "0 a"),
        ("0001 00 0000 0002 0001 0001 0003 026832", "1 . alpn=h2"),
        ("0001 00 ffde 0001 00", "1 ."),
        ("0001 02 411b 00", "1 a\\027"),
    ],
)
def test_https_records(octets, shown):
    assert str(read_https(bytes.fromhex(octets))) == shown


@pytest.mark.parametrize(
    "octets",
    ["", "0001", "0001 40", "0001 05 6161", "0001 00 0003 0003 01bb01", "0001 00 0001 0000", "0001 00 0001 0002 0568",
     "0001 00 0002 0000", "0001 00 0003 0002 01bb 0001 0003 026832", "0001 00 0003 0002 01bb 0003 0002 01bb",
     "0001 00 0004 0003 050505", "0001 00 0000 0002 0005", "0001 00 0000 0002 0000", "0001 00 0001 00ff 02", "0001 00 00"],
)  # fmt: skip
def test_malformed_https_records_void_their_set(octets):
    assert isinstance(read_https(bytes.fromhex(octets)), Malformed)
    assert "ignore every" in read_set([octets.replace(" ", ""), "000100"]).problem


@given(st.binary(max_size=80))
def test_no_octets_raise(octets):
    read_https(octets)
    oddities(read_caa(octets))


def test_unknown_mandatory_keys_skip_a_record_alone():
    found = read_set(["00010000000002ffdeffde000100", "000200"])
    assert [str(each) for each in found.services] == ["2 ."]


@pytest.mark.parametrize(
    ("targets", "rcode", "has", "links", "end"),
    [
        ({}, "NOERROR", True, ("a",), ChainEnd.ADDRESSES),
        ({"a": "b"}, "NXDOMAIN", False, ("a", "b"), ChainEnd.NO_SUCH_NAME),
        ({"a": "b"}, "NOERROR", False, ("a", "b"), ChainEnd.NOTHING),
        ({"a": "b"}, "SERVFAIL", False, ("a", "b"), ChainEnd.OPEN),
        ({"a": "a"}, "NOERROR", False, ("a", "a"), ChainEnd.LOOP),
        ({"a": "b", "b": "c", "c": "b"}, "SERVFAIL", False, ("a", "b", "c", "b"), ChainEnd.LOOP),
    ],
)
def test_alias_chains(targets, rcode, has, links, end):
    assert (follow("a", targets, rcode, has).links, follow("a", targets, rcode, has).end) == (links, end)


def test_serials_go_round():
    assert is_later(0, 4294967295)
    assert not is_later(4294967295, 0)
    assert not is_later(7, 7)
    assert behind({1: 4294967295, 2: 0, 3: 0}) == {1}


def test_when_a_change_has_spread():
    assert ttl_of([Record("x", "A", 300, "1"), Record("x", "A", 60, "2"), Record("x", "A", 4294967295, "3")]) == 0
    assert ttl_of([]) is None
    assert negative_ttl(Record("x", "SOA", 60, "a b 1 2 3 4 300")) == 60
    assert spread_by(NOW, [60, None, 300]) == NOW + datetime.timedelta(seconds=300)
    assert spread_by(NOW, [None]) is None


def test_issuers():
    assert domains_of("Let's Encrypt") == ("letsencrypt.org",)
    assert domains_of("Skerry Trust") is None
    assert all(each.source and each.domains for each in known_issuers())
