"""What ends when, as a review and a file tell it."""

import datetime

from pewter.expectations import AcceptedGap, Expectations, Terms
from pewter.judge.endings import Ending, EndingKind, endings_of, endings_of_certificate, soonest_first
from pewter.judge.review import make_review
from pewter.lab.authority import DAY
from pewter.pki import life_of, read_certificate
from support.cases import case, endpoint, handshake, hop, journey, stored
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
