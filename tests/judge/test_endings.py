"""What ends when, as a review and a file tell it."""

import datetime

import msgspec
import pytest

from pewter.expectations import AcceptedGap, Expectations, Terms
from pewter.facts.case import Case
from pewter.judge.endings import Ending, EndingKind, endings_of, endings_of_certificate, soonest_first
from pewter.judge.last_seen import LastSeen
from pewter.judge.review import make_review
from pewter.lab.authority import DAY
from pewter.pki import life_of, read_certificate
from support.cases import case, endpoint, handshake, hop, journey, name, stored
from support.certificates import HOST, NOW, intermediate, leaf
from support.dns import HEALTHY, ZONE, changed

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
OPEN = journey(hop(HTTP, 200))
LOCKED = journey(hop(HTTPS, 200, ("Strict-Transport-Security", "max-age=31536000")))
SERVED = leaf(left=30, life=90)
ENDS = read_certificate(SERVED.der).not_after
LENGTH = life_of(read_certificate(SERVED.der)).length
STARTS = read_certificate(SERVED.der).not_before
ISSUER_ENDS = read_certificate(intermediate().der).not_after


def ends(*ways, **options):
    looked = case(
        *ways,
        endpoints=[endpoint(handshake(SERVED, intermediate()))],
        certificates=stored(SERVED),
        **options,
    )
    return list(endings_of(make_review(looked), "a.json", looked))


def test_a_certificate_its_renewal_and_what_it_hangs_on():
    issuer = read_certificate(SERVED.der).issuer.title
    due = STARTS + LENGTH * Expectations().renewal_point
    assert ends(LOCKED) == [
        Ending(ENDS, EndingKind.CERTIFICATE, HOST, f"by {issuer}; HSTS then locks visitors out", "a.json"),
        Ending(due, EndingKind.RENEWAL, HOST, f"of the certificate by {issuer}", "a.json"),
        Ending(ISSUER_ENDS, EndingKind.INTERMEDIATE, issuer, f"on the path of {HOST}", "a.json"),
    ]
    assert ends(OPEN)[0].words == f"by {issuer}"
    assert list(endings_of_certificate(read_certificate(SERVED.der), 0.5, "leaf.pem")) == [
        Ending(ENDS, EndingKind.CERTIFICATE, HOST, f"by {issuer}", "leaf.pem"),
        Ending(STARTS + LENGTH / 2, EndingKind.RENEWAL, HOST, f"of the certificate by {issuer}", "leaf.pem"),
    ]


def test_an_accepted_gap_counts_again_after_its_last_second():
    until = NOW.date() + DAY
    terms = Terms(accept=(AcceptedGap("redirect/missing", HOST, "known", until),))
    (found,) = (each for each in ends(OPEN, terms=terms) if each.kind is EndingKind.ACCEPTED)
    assert found.at == datetime.datetime.combine(until, datetime.time(23, 59, 59), datetime.UTC)
    assert found.words == "redirect/missing counts again after this day: known"


def test_signatures_end_with_the_first_of_the_zone():
    signed = {
        f"{server} {ZONE} SOA signed": f"{HEALTHY[f'{server} {ZONE} SOA']}; {ZONE} RRSIG 60 SOA {ends_at} 1700000000 1 {ZONE}"
        for server, ends_at in (("1", 1800000000), ("2", 1790000000))
    }
    looked = case(OPEN, dns=changed(signed))
    found = [each for each in endings_of(make_review(looked), "a.json") if each.kind is EndingKind.SIGNATURES]
    assert [(each.at.timestamp(), each.where, each.words) for each in found] == [
        (1800000000, ZONE, f"as ns1.{ZONE} gives them"),
        (1790000000, ZONE, f"as ns2.{ZONE} gives them"),
    ]
    assert soonest_first(found) == (found[1],)


def looked(days_ago, *hosts, under_review=(HOST,), **options):
    """A review so many days before NOW that saw the certificates of some of the names."""
    made = case(
        *(journey(hop(HTTP, 200)) for _ in hosts),
        names=[name(each) for each in under_review],
        endpoints=[endpoint(handshake(SERVED, intermediate()), host=each) for each in hosts],
        certificates=stored(SERVED),
        at=NOW - days_ago * DAY,
        **options,
    )
    begun = msgspec.structs.replace(made.evidence, begun=NOW - days_ago * DAY)
    return make_review(Case(begun, made.terms, NOW, made.own_stores))


TOLD = {
    "the newest alone": ([(9, HOST), (0, HOST)], {HOST: ""}, []),
    "the newest saw nothing": ([(0,), (9, HOST)], {HOST: "9"}, [f"{HOST}: the look of 2026-11-23 12:00 UTC (0.json) did not see its certificate; told by 1.json, 9 days older"]),
    "of several older ones the newest": ([(30, HOST), (0,), (9, HOST)], {HOST: "9"}, [f"{HOST}: the look of 2026-11-23 12:00 UTC (1.json) did not see its certificate; told by 2.json, 9 days older"]),
    "one of two names": ([(2, HOST, "x.example"), (0, HOST)], {HOST: "", "x.example": "2"}, ["x.example: the look of 2026-11-23 12:00 UTC (1.json) did not see its certificate; told by 0.json, 2 days older"]),
    "a name that is under review no longer": ([(2, HOST, "old.example"), (0, HOST)], {HOST: ""}, []),
    "none ever": ([(2,), (0,)], {}, []),
}  # fmt: skip


@pytest.mark.parametrize("title", TOLD)
def test_a_look_that_saw_nothing_takes_nothing_away(title):
    looks, expected, notes = TOLD[title]
    last = LastSeen()
    names = [HOST, *(["old.example"] if "longer" in title else ["x.example"] if "two" in title else [])]
    for number, (days, *hosts) in enumerate(looks):
        under = names if "longer" not in title or days else [HOST]
        last.add(looked(days, *hosts, under_review=under), f"{number}.json")
    found = list(last.endings())
    told = {each.where: each.words for each in found if each.kind is EndingKind.CERTIFICATE}
    issuer = read_certificate(SERVED.der).issuer.title
    assert told == {
        host: f"by {issuer}" + (f"; seen last on {NOW - int(age) * DAY:%Y-%m-%d}" if age else "")
        for host, age in expected.items()
    }
    assert {each.where for each in found if each.kind is EndingKind.RENEWAL} == set(expected)
    assert (issuer in {each.where for each in found}) is bool(expected)
    assert list(last.notes()) == notes


def test_zone_signatures_and_accepted_gaps_of_an_older_look():
    until = NOW.date() + DAY
    terms = Terms(accept=(AcceptedGap("redirect/missing", HOST, "known", until),))
    signed = {
        "1 marram-ferries.example SOA signed": f"{HEALTHY[f'1 {ZONE} SOA']}; {ZONE} RRSIG 60 SOA 1800000000 1700000000 1 {ZONE}"
    }
    older = looked(3, HOST, terms=terms, dns=changed(HEALTHY, signed))
    last = LastSeen()
    last.add(older, "a.json")
    assert {each.kind for each in last.endings()} == set(EndingKind)
    last.add(looked(0), "b.json")
    assert {each.kind for each in last.endings()} == set(EndingKind)
    last.add(looked(-1, HOST), "c.json")
    assert {each.kind for each in last.endings()} == set(EndingKind) - {EndingKind.ACCEPTED}
