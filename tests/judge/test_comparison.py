"""Two reviews of a site, held against each other."""

import datetime

import msgspec
import pytest
from cryptography.x509 import ocsp as x509_ocsp

from pewter.evidence import Answer, AskedServer, DnsSeen, GivenLog, Lookup, Name, Seen, StopCause, Unseen
from pewter.expectations import AcceptedGap, Expectations, Terms
from pewter.judge.comparison import Change, compare, judged_again
from pewter.judge.review import make_review
from pewter.lab.authority import DAY, issue_ca, issue_server
from support.cases import case, endpoint, fingerprint, handshake, hop, journey, name, stopped, stored, unseen
from support.certificates import FAR_OFF, HOST, LONG_AGO, NOW, intermediate, key, leaf
from support.status import ocsp_response

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
STS = ("Strict-Transport-Security", "max-age=31536000; includeSubDomains")
SHORT = ("Strict-Transport-Security", "max-age=60")
MOVED = journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS, 200, STS))
PLAIN = journey(hop(HTTP))


ANOTHER = issue_ca("Another root", None, LONG_AGO, FAR_OFF, key=key("another root"))


OF_ANOTHER = issue_server([HOST], ANOTHER, LONG_AGO, FAR_OFF, key=key("leaf of another"))


def review(*ways, terms=None, at=NOW, **evidence):
    return make_review(case(*ways, terms=terms or Terms(), at=at, **{"endpoints": [endpoint(handshake())], **evidence}))


def became(rule, old, new):
    return [(each.change, each.before, each.after) for each in compare(old, new).gaps if each.rule == rule]


@pytest.mark.parametrize(
    ("rule", "old", "new", "changes"),
    [
        ("redirect/missing", review(PLAIN), review(MOVED), [(Change.CLOSED, "200 over http", "301 to https")]),
        ("redirect/missing", review(MOVED), review(PLAIN), [(Change.OPENED, "", "200 over http")]),
        ("redirect/missing", review(PLAIN), review(PLAIN), [(Change.STAYED, "200 over http", "200 over http")]),
        ("redirect/missing", review(PLAIN), review(unseen(HTTP)), [(Change.UNSEEN, "200 over http", "not reached")]),
        (
            "redirect/missing",
            review(PLAIN),
            review(PLAIN, terms=Terms(accept=(AcceptedGap("redirect/missing", HOST, "known", NOW.date()),))),
            [(Change.ACCEPTED, "200 over http", "known")],
        ),
        ("redirect/missing", review(MOVED), review(MOVED), []),
    ],
    ids=["closed", "opened", "stayed", "no-longer-seen", "accepted", "never"],
)
def test_what_became_of_a_gap(rule, old, new, changes):
    found = became(rule, old, new)
    assert [change for change, _, _ in found] == [change for change, _, _ in changes]


def test_a_renewed_certificate_and_a_new_address_are_no_new_gap():
    old_leaf, new_leaf = leaf(left=-1), leaf(left=-2, life=91)
    old = review(MOVED, endpoints=[endpoint(handshake(old_leaf, intermediate()))], certificates=stored(old_leaf))
    new = review(
        MOVED,
        endpoints=[endpoint(handshake(new_leaf, intermediate()), address="192.0.2.99")],
        names=[name(HOST, "192.0.2.99")],
        certificates=stored(new_leaf),
    )
    comparison = compare(old, new)
    assert {each.change for each in comparison.gaps if each.rule == "date/expired"} == {Change.STAYED}
    subjects = {each.subject for each in comparison.facts}
    assert {f"addresses of {HOST}", f"certificate of {HOST}"} <= subjects


def test_a_certificate_of_several_names_is_one_change_and_its_key_is_told():
    others = ("a.example", "b.example")

    def served(issued, hosts=(HOST, *others)):
        found = [endpoint(handshake(issued, intermediate()), host=each) for each in hosts]
        return review(
            MOVED, endpoints=found, certificates=stored(issued), names=[name(each) for each in (HOST, *others)]
        )

    old, again = leaf(HOST, *others, left=20), leaf(HOST, *others, left=70)
    new = issue_server((HOST, *others), intermediate(), NOW, NOW + 90 * DAY, key=key("another"))
    for later, words in ((again, "the same key"), (new, "a new key")):
        (fact,) = (each for each in compare(served(old), served(later)).facts if each.subject.startswith("certificate"))
        assert sorted(fact.subject.removeprefix("certificate of ").split(", ")) == sorted((HOST, *others))
        assert fact.after.endswith(f", {words}") and "key" not in fact.before.rpartition(", for ")[2]


def test_what_changed_beside_gaps():
    policies = compare(review(journey(hop(HTTPS, 200, SHORT))), review(journey(hop(HTTPS, 200, STS)))).facts
    assert [(each.subject, each.before, each.after) for each in policies if "HSTS" in each.subject] == [
        (f"HSTS policy of {HOST}", "max-age=60", "max-age=31536000; includeSubDomains")
    ]
    names = compare(review(MOVED), review(MOVED, names=[name(HOST), name("shop.x.example")])).facts
    assert ("names under review", "none left out", "shop.x.example") in [
        (each.subject, each.before, each.after) for each in names
    ]


def test_nothing_that_could_not_be_looked_at_is_closed():
    """Not even where the whole look came to nothing."""
    old = review(PLAIN)
    nothing = review(unseen(HTTP), unseen(HTTPS), endpoints=[endpoint(Unseen("the deadline was over"))])
    assert not [each for each in compare(old, nothing).gaps if each.change is Change.CLOSED]


LONG = ("Strict-Transport-Security", "max-age=31536000")
SID = ("Set-Cookie", "sid=1; Path=/")
SHOP = "shop.marram-ferries.example"
LOGIN = f"{HTTPS}login"
OLD_LEAF = leaf(left=-1)
TWO = [endpoint(handshake()), endpoint(handshake(OLD_LEAF, intermediate()), address="192.0.2.11")]
TWO_ADDRESSES = {"endpoints": TWO, "names": [name(HOST, "192.0.2.10", "192.0.2.11")], "certificates": stored(OLD_LEAF)}
ONE_LEFT = {"names": [name(HOST, "192.0.2.10")]}
HALF_LEARNT = Name(
    HOST, True, (Lookup("A", Seen(Answer("NOERROR", (), ("192.0.2.10",)))), Lookup("AAAA", Unseen("the name service failed")))
)  # fmt: skip
ANOTHER_RESOLVER = DnsSeen((AskedServer("192.0.2.251", is_resolver=True),))
FOUND = journey(hop(LOGIN, 200, SID), reason="found")
HOME = journey(hop(HTTPS, 200, STS))


@pytest.mark.parametrize(
    ("rule", "old", "new", "change", "words"),
    [
        pytest.param(
            "hsts/short", review(journey(hop(HTTPS, 200, SHORT))), review(journey(hop(HTTPS))),
            Change.REPLACED, "No HSTS policy: no Strict-Transport-Security", id="something-worse-in-its-place",
        ),
        pytest.param(
            "redirect/temporary", review(journey(hop(HTTP, 302, ("Location", HTTPS)), hop(HTTPS))), review(PLAIN, HOME),
            Change.REPLACED, "Plain http is answered with content: 200 over plain http", id="a-redirect-that-is-gone",
        ),
        pytest.param(
            "hsts/absent", review(HOME, journey(hop(f"https://{SHOP}/")), names=[name(HOST), name(SHOP)]),
            review(HOME), Change.LEFT, f"{SHOP} is no name of the site any more", id="a-name-that-was-taken-out",
        ),
        pytest.param(
            "hsts/short", review(journey(hop(HTTPS, 200, SHORT))),
            review(journey(hop(HTTPS, 200, SHORT)), terms=Terms(expect=Expectations(hsts_minimum_age=datetime.timedelta(1 / 86400)))),
            Change.UNSEEN, "by what the newer review goes by it was no gap before either", id="by-other-expectations",
        ),
        pytest.param(
            "cookie/not-secure", review(HOME, FOUND), review(HOME), Change.UNSEEN,
            f"{LOGIN} is not linked from the home page this time, and was not looked at (--path /login)", id="a-page-that-is-not-linked-now",
        ),
        pytest.param(
            "date/expired", review(HOME, **TWO_ADDRESSES), review(HOME, **ONE_LEFT), Change.CLOSED,
            "until 2027-01-22", id="an-address-that-is-none-any-more",
        ),
        pytest.param(
            "date/expired", review(HOME, **TWO_ADDRESSES),
            review(HOME, **{**TWO_ADDRESSES, "endpoints": [endpoint(Unseen("no answer")), endpoint(handshake(), address="192.0.2.11")]}),
            Change.CLOSED, "until 2027-01-22", id="an-address-that-holds-beside-one-that-is-silent",
        ),
        pytest.param(
            "date/expired", review(HOME, **TWO_ADDRESSES), review(HOME, names=[HALF_LEARNT]), Change.UNSEEN,
            f"192.0.2.11 was not looked at: another resolver gave other addresses of {HOST} this time", id="not-all-addresses-were-learnt",
        ),
        pytest.param(
            "cookie/not-secure", review(HOME, FOUND), review(HOME, interrupted=True), Change.UNSEEN,
            "the look was interrupted", id="an-interrupted-look",
        ),
        pytest.param(
            "date/expired", review(HOME, **TWO_ADDRESSES), review(HOME, dns=ANOTHER_RESOLVER, **ONE_LEFT), Change.UNSEEN,
            f"192.0.2.11 was not looked at: another resolver gave other addresses of {HOST} this time", id="another-resolver",
        ),
        pytest.param(
            "date/expired", review(HOME, **TWO_ADDRESSES),
            review(HOME, names=[Name(HOST, routed=("127.0.0.1",))], endpoints=[endpoint(handshake(), address="127.0.0.1")]),
            Change.UNSEEN, f"{HOST} was looked at where a route leads this time", id="by-a-route",
        ),
        pytest.param(
            "redirect/missing", review(PLAIN, HOME),
            review(stopped(HTTP, StopCause.NO_CONNECTION), HOME), Change.UNSEEN,
            f"{HTTP}: the connection was refused", id="a-port-that-is-closed-now",
        ),
        pytest.param(
            "cookie/not-secure", review(journey(hop(HTTPS, 200, SID))), review(journey(hop(HTTPS, 503))), Change.UNSEEN,
            f"{HTTPS} shows an error page this time", id="an-error-page-sets-no-cookie",
        ),
        pytest.param(
            "chain/untrusted",
            review(HOME, endpoints=[endpoint(handshake(OF_ANOTHER, ANOTHER))], certificates=stored(OF_ANOTHER, ANOTHER)),
            review(
                HOME, endpoints=[endpoint(handshake(OF_ANOTHER, ANOTHER))], certificates=stored(OF_ANOTHER, ANOTHER),
                given_trust=(fingerprint(ANOTHER),),
            ),
            Change.UNSEEN, "the same certificates were judged by other roots this time", id="a-root-that-was-given-now",
        ),
        pytest.param(
            "date/expiring", review(HOME, at=NOW + datetime.timedelta(days=58)), review(HOME), Change.UNSEEN,
            "it was judged for an earlier day this time (2026-11-23)", id="judged-for-an-earlier-day",
        ),
        pytest.param(
            "date/expired", review(HOME, **TWO_ADDRESSES, given_certificates=(fingerprint(OLD_LEAF),)), review(HOME),
            Change.UNSEEN, "the certificate files were not given this time", id="files-that-were-not-given-now",
        ),
        pytest.param(
            "chain/untrusted",
            review(
                HOME, endpoints=[endpoint(handshake(OF_ANOTHER, ANOTHER))], certificates=stored(OF_ANOTHER, ANOTHER),
                given_logs=(GivenLog("a log", "AA=="),),
            ),
            review(HOME), Change.UNSEEN, "the keys of the logs were not given this time", id="logs-that-were-not-given-now",
        ),
        pytest.param(
            "hsts/short", review(journey(hop(HTTPS, 200, SHORT))), review(HOME, terms=Terms(suppose=(HOST,))),
            Change.UNSEEN, "it was supposed to be otherwise in one of the two reviews", id="what-was-supposed",
        ),
    ],
)  # fmt: skip
def test_what_is_not_closed_though_nothing_of_it_is_there(rule, old, new, change, words):
    assert {(each.change, each.after) for each in compare(old, new).gaps if each.rule == rule and each.before} >= {
        (change, words)
    }
    closed = [each for each in compare(old, new).gaps if each.rule == rule and each.change is Change.CLOSED]
    assert bool(closed) is (change is Change.CLOSED)


def test_a_saved_review_is_held_against_its_own_evidence():
    held, other = review(PLAIN), review(MOVED)
    assert judged_again(held) == (held, "")
    edited = msgspec.structs.replace(held, results=other.results)
    again, remark = judged_again(edited)
    assert again.results == held.results
    assert remark.startswith("its results are not what its evidence comes to (")
    assert remark.endswith(" outcomes): edited by hand? Judged again")
    older = msgspec.structs.replace(edited, judged=msgspec.structs.replace(held.judged, pewter="0.0.1"))
    assert judged_again(older)[0].results == held.results
    assert judged_again(older)[1] == "judged again: Pewter 0.0.1 had judged it"
    faulty = msgspec.structs.replace(edited.evidence, interrupted=True)
    cut_off = msgspec.structs.replace(edited, evidence=faulty)
    assert judged_again(cut_off) == (cut_off, "")


def test_a_key_that_comes_back_after_its_certificate_was_revoked_is_told():
    answer = msgspec.structs.replace(handshake(), staple=ocsp_response(status=x509_ocsp.OCSPCertStatus.REVOKED))
    again = leaf(left=80)
    old = review(HOME, endpoints=[endpoint(answer)])
    new = review(HOME, endpoints=[endpoint(handshake(again, intermediate()))], certificates=stored(again))
    facts = {each.subject: (each.before, each.after) for each in compare(old, new).facts}
    before, after = facts[f"key of {HOST}"]
    assert before.endswith(", which was revoked")
    assert "the same key in " in after


def test_a_later_day_opens_what_ends_by_then():
    old, later = review(MOVED), review(MOVED, at=NOW + datetime.timedelta(days=100))
    assert [change for change, _, _ in became("date/expired", old, later)] == [Change.OPENED]
