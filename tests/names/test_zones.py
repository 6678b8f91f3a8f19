"""Where the cuts are, and what a server is called that does not serve."""

import pytest

from pewter.evidence import Unanswered
from pewter.names.answers import Answers, soa_above
from pewter.names.comparison import old_addresses
from pewter.names.zones import Delegation, apex_of, delegation_in, is_blocked, is_intercepted, parent_zone_of
from support.dns import SOA, SUFFIX_SOA, WWW, ZONE, changed, reply

SILENT = Unanswered.SILENT
INNER_SOA = f"{WWW} SOA 60 a b 1 2 3 4 5"
OTHERS_SOA = "other.test SOA 60 a b 1 2 3 4 5"


def answers(*changes):
    return Answers(changed(*changes))


@pytest.mark.parametrize(
    ("changes", "apex"),
    [
        ({}, ZONE),
        ({f"r {WWW} SOA": f"NXDOMAIN ra; !{SOA}"}, ZONE),
        ({f"r {WWW} SOA": f"NOERROR ra; {INNER_SOA}"}, WWW),
        ({f"r {WWW} SOA": f"NOERROR ra; {WWW} CNAME 60 a.other.test; {OTHERS_SOA}"}, ZONE),
        ({f"r {WWW} SOA": f"NOERROR ra; {WWW} CNAME 60 a.other.test; !{OTHERS_SOA}"}, ZONE),
        ({f"r {WWW} SOA": f"NOERROR ra; !{OTHERS_SOA}"}, ZONE),
        ({f"r {WWW} SOA": "NOERROR ra"}, ZONE),
        ({f"r {WWW} SOA": "NOERROR ra", f"r {ZONE} SOA": "NOERROR ra"}, ZONE),
        ({f"r {WWW} SOA": "SERVFAIL ra", f"r {WWW} SOA checking disabled": f"NOERROR ra; !{SOA}"}, ZONE),
        ({f"r {WWW} SOA": "SERVFAIL ra"}, None),
        ({f"r {WWW} SOA": "SERVFAIL ra", f"p {WWW} NS": f"NOERROR; !{ZONE} NS 60 ns1.{ZONE}"}, ZONE),
        ({f"r {WWW} SOA": "SERVFAIL ra", f"1 {WWW} NS": f"NOERROR aa; {WWW} CNAME 60 {WWW}"}, ZONE),
        ({f"r {WWW} SOA": SILENT}, None),
        ({f"r {WWW} SOA": "REFUSED ra"}, None),
    ],
    ids=[
        "nodata", "no-such-name", "a-zone-of-its-own", "alias-with-the-targets-zone", "alias-with-it-beside", "a-zone-that-is-not-above",
        "forwarder-without-authority", "then-by-its-servers", "bogus-and-told-unchecked", "fails-and-nothing-told", "told-by-a-referral",
        "told-by-the-zones-own-server", "silent", "refused",
    ],
)  # fmt: skip
def test_the_apex_of_a_name(changes, apex):
    assert apex_of(answers(changes), WWW) == apex


def test_the_zone_above_is_not_the_name_less_one_label():
    deep = {
        "r co.example SOA": f"NOERROR ra; !{SUFFIX_SOA}",
        "r x.co.example SOA": "NOERROR ra; x.co.example SOA 60 a b 1 2 3 4 5",
    }
    assert parent_zone_of(answers(deep), "x.co.example") == "example"
    assert (parent_zone_of(answers(), ZONE), parent_zone_of(answers(), "example")) == ("example", ".")
    assert parent_zone_of(answers(), ".") is None


def test_a_referral_is_read_with_the_glue_that_is_the_parents_to_give():
    referral = reply(
        f"NOERROR; !{ZONE} NS 60 ns1.{ZONE}; !{ZONE} NS 60 ns.other.test; +ns1.{ZONE} A 60 5.5.5.1; +ns.other.test A 60 5.5.5.2; +x.{ZONE} A 60 1.1.1.1"
    )
    assert delegation_in(referral, ZONE) == Delegation(
        frozenset({f"ns1.{ZONE}", "ns.other.test"}), {f"ns1.{ZONE}": frozenset({"5.5.5.1"})}
    )
    assert delegation_in(referral, "other.test") is None
    assert delegation_in(reply(f"NOERROR aa; {ZONE} NS 60 ns1.{ZONE}"), ZONE) is None


def test_a_soa_of_somebody_else_is_not_believed():
    assert soa_above(reply(f"NOERROR; !{OTHERS_SOA}; !{SOA}"), WWW).owner == ZONE
    assert soa_above(reply(f"NOERROR; {OTHERS_SOA}"), WWW) is None


def test_nothing_direct_is_believed_where_all_answer_as_resolvers():
    as_resolver = {f"{server} {ZONE} SOA": f"NOERROR ra; {SOA}" for server in "12"}
    own = {
        f"{s} {n} {k}": None
        for s in "12p"
        for n in (ZONE, WWW, f"pewter-1.{ZONE}")
        for k in ("SOA", "NS", "DS", "A", "AAAA", "CAA", "HTTPS", "SOA tcp", "A random")
    }
    assert is_intercepted(answers(own, as_resolver))
    assert not is_intercepted(answers(as_resolver))
    assert is_blocked(answers(dict.fromkeys(own, SILENT)))
    assert not is_blocked(answers())


@pytest.mark.parametrize(
    ("changes", "old"),
    [
        ({}, set()),
        ({f"2 {WWW} A": f"NOERROR aa; {WWW} A 60 5.5.5.9"}, set()),
        (
            {
                f"2 {WWW} A": f"NOERROR aa; {WWW} A 60 5.5.5.9",
                f"2 {ZONE} SOA": f"NOERROR aa; {SOA.replace(' 7 ', ' 6 ')}",
            },
            {"5.5.5.9"},
        ),
        ({f"1 {WWW} A": SILENT, f"2 {ZONE} SOA": f"NOERROR aa; {SOA.replace(' 7 ', ' 6 ')}"}, set()),
        (
            {
                f"1 {WWW} A": f"NOERROR aa; {WWW} CNAME 60 a.test",
                f"2 {ZONE} SOA": f"NOERROR aa; {SOA.replace(' 7 ', ' 6 ')}",
            },
            set(),
        ),
    ],
    ids=["all-alike", "no-serial-tells", "a-server-behind", "nobody-up-to-date-tells", "an-alias-now"],
)
def test_addresses_that_only_old_copies_give(changes, old):
    assert old_addresses(answers(changes), WWW, ZONE) == old
