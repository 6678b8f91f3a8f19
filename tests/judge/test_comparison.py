"""Two reviews of a site, held against each other."""

import datetime

import pytest

from pewter.evidence import Unseen
from pewter.judge.comparison import Change, compare
from pewter.judge.expectations import AcceptedGap, Terms
from pewter.judge.review import make_review
from support.cases import case, endpoint, handshake, hop, journey, name, stored, unseen
from support.certificates import HOST, NOW, intermediate, leaf

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
STS = ("Strict-Transport-Security", "max-age=31536000; includeSubDomains")
SHORT = ("Strict-Transport-Security", "max-age=60")
MOVED = journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS, 200, STS))
PLAIN = journey(hop(HTTP))


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


def test_a_later_day_opens_what_ends_by_then():
    old, later = review(MOVED), review(MOVED, at=NOW + datetime.timedelta(days=100))
    assert [change for change, _, _ in became("date/expired", old, later)] == [Change.OPENED]
