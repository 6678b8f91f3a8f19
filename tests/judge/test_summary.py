"""A site's row in a survey: what stands in it, and why a site was not reached."""

import datetime

import msgspec
import pytest

from pewter.evidence import Answer, Fault, Lookup, Name, NotContacted, Seen, Unseen
from pewter.judge.review import make_review
from pewter.judge.summary import first_to_end, summary_of, summary_of_failure
from pewter.pictures.certificates import served_certificates
from support.cases import case, endpoint, fingerprint, handshake, hop, journey, name, stored
from support.certificates import HOST, NOW, intermediate, leaf, root

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
YEAR = ("Strict-Transport-Security", "max-age=31536000")


def row(looked):
    return summary_of("site", make_review(looked), looked).row


def sent(*fields):
    return row(case(journey(hop(HTTPS, 200, *fields))))


@pytest.mark.parametrize(
    ("fields", "age"),
    [
        pytest.param((YEAR,), 31536000, id="as-sent"),
        pytest.param((("Strict-Transport-Security", "max-age=0"),), 0, id="zero"),
        pytest.param(
            (("Strict-Transport-Security", "max-age=99999999999999999"),),
            (1 << 53) - 1,
            id="no-more-than-a-table-holds",
        ),
        pytest.param((("Strict-Transport-Security", "max-age"),), None, id="not-valid"),
        pytest.param((), 0, id="not-sent"),
    ],
)
def test_the_age_of_the_policy(fields, age):
    assert sent(*fields).hsts_age == age


def test_no_answer_has_no_policy():
    assert row(case()).hsts_age is None


def lookups(*answers):
    return tuple(Lookup(kind, each) for kind, each in zip(("A", "AAAA"), answers, strict=False))


@pytest.mark.parametrize(
    ("evidence", "error"),
    [
        pytest.param({"names": [Name(HOST, lookups=lookups(Unseen("it did not answer")))]}, "it did not answer", id="silent"),
        pytest.param({"names": [Name(HOST, lookups=lookups(Seen(Answer("NXDOMAIN"))))]}, "no such name (NXDOMAIN)", id="no-name"),
        pytest.param({"names": [Name(HOST, lookups=lookups(Seen(Answer("NOERROR")), Seen(Answer("NOERROR"))))]}, "the name has no address", id="no-address"),
        pytest.param({"not_contacted": (NotContacted(HTTPS, "it is private"),)}, "not contacted: it is private", id="guarded"),
        pytest.param({"faults": (Fault("names", "KeyError: 'x'"),)}, "a fault of Pewter's own: names: KeyError: 'x'", id="a-fault"),
        pytest.param({"journeys": (journey(hop(HTTPS)),)}, None, id="reached"),
    ],
)  # fmt: skip
def test_why_a_site_was_not_reached(evidence, error):
    ways = evidence.pop("journeys", ())
    assert row(case(*ways, **evidence)).error == error


def test_a_row_whole():
    served = leaf(HOST, left=30)
    looked = case(
        journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS, 200, YEAR, issued=served)),
        journey(hop(HTTPS, 200, YEAR, issued=served)),
        names=[name(HOST)],
        endpoints=[endpoint(handshake(served, intermediate()), handshake(served, intermediate(), version=0x0303))],
        certificates=stored(served),
        given_trust=(fingerprint(root()),),
    )
    found = msgspec.structs.asdict(row(looked))
    assert found == {
        "site": "site", "names": 1, "reached": True, "worst": None, "breaks": 0, "exposes": 0, "weakens": 0, "notes": 0,
        "unknown": found["unknown"], "lands_on": f"https://{HOST}", "opens": "opens", "versions": "TLS 1.3, TLS 1.2",
        "key": "EC P-256", "issuer": "Intermediate", "not_before": NOW - datetime.timedelta(days=60),
        "not_after": NOW + datetime.timedelta(days=30), "renewal": found["renewal"], "days_left": 30,
        "hsts_age": 31536000, "caa": None, "seconds": 0.5, "connections": 0, "looked_at": NOW, "error": None,
    }  # fmt: skip


def test_a_failure_is_a_row_of_its_own():
    found = summary_of_failure("x.example", "it ended the worker", NOW, 1.5)
    told = {field: value for field, value in msgspec.structs.asdict(found.row).items() if value is not None}
    assert told == {
        "site": "x.example", "names": 0, "reached": False, "breaks": 0, "exposes": 0, "weakens": 0, "notes": 0,
        "unknown": 0, "seconds": 1.5, "connections": 0, "looked_at": NOW, "error": "it ended the worker",
    }  # fmt: skip
    assert (found.gaps, found.ends) == ((), ())


def test_the_certificate_that_ends_first():
    soon, late = leaf(left=5), leaf(left=50)
    looked = case(
        endpoints=[endpoint(handshake(late, intermediate()), handshake(soon, intermediate()))],
        certificates=stored(soon, late),
    )
    found = first_to_end(served_certificates(looked))
    assert found is not None and found.life is not None and found.life.days_left == 5
    assert first_to_end(()) is None
