"""The areas chain, name and date, on certificates made with the fault in the call."""

import msgspec
import pytest
from cryptography.x509.oid import ExtendedKeyUsageOID

from pewter.evidence import FetchedIssuer, NoConnection, StoredCertificate
from pewter.judge import chain, chain_keys, date
from pewter.judge import name as name_rules
from pewter.judge.expectations import Expectations
from pewter.judge.outcomes import Gap, Holds, Unknown
from pewter.lab.authority import DAY, Issued, issue_ca, issue_server
from pewter.tls import fingerprint as fingerprint_of
from support.cases import ADDRESS, case, endpoint, fingerprint, handshake, name, outcomes, stored
from support.certificates import FAR_OFF, HOST, LONG_AGO, NOW, intermediate, key, leaf, root

APEX = "marram-ferries.example"
REFUSED = NoConnection("refused", "the connection was refused")


def served(*chain_sent: Issued, host: str = HOST, also=(), at=NOW, names=(), **evidence):
    return case(
        names=names or [name(host)],
        endpoints=[endpoint(handshake(*chain_sent), host=host)],
        certificates=stored(*chain_sent, *also),
        at=at,
        **evidence,
    )


def server(issuer: Issued | None, *names: str, **options) -> Issued:
    return issue_server(names or (HOST,), issuer, NOW - DAY, NOW + DAY, key=key("leaf"), **options)


def ca(title: str, issuer: Issued | None, until=FAR_OFF, **options) -> Issued:
    return issue_ca(title, issuer, LONG_AGO, until, key=key(title), **options)


FOREIGN = ca("Foreign", ca("Foreign root", None))
EXPIRED = ca("Expired", root(), until=NOW - DAY)
NO_CA = ca("No CA", root(), is_ca=False)
MAIL = ca("Mail", root(), purposes=[ExtendedKeyUsageOID.EMAIL_PROTECTION])
IMPOSTOR = issue_ca("Intermediate", root(), LONG_AGO, FAR_OFF, key=key("another"))

PROBLEMS = [
    pytest.param((leaf(), intermediate()), None, id="good"),
    pytest.param((leaf(),), chain.incomplete, id="incomplete"),
    pytest.param((server(FOREIGN), FOREIGN), chain.untrusted, id="untrusted"),
    pytest.param((server(None),), chain.self_signed, id="self-signed"),
    pytest.param((leaf(), IMPOSTOR), chain.bad_signature, id="bad-signature"),
    pytest.param((server(NO_CA), NO_CA), chain.not_a_ca, id="not-a-ca"),
    pytest.param((server(MAIL), MAIL), chain.not_for_servers, id="not-for-servers"),
    pytest.param((server(EXPIRED), EXPIRED), chain.expired_issuer, id="expired-issuer"),
]
PATH_RULES = (
    chain.incomplete, chain.untrusted, chain.self_signed, chain.bad_signature, chain.not_a_ca,
    chain.not_for_servers, chain.expired_issuer,
)  # fmt: skip


@pytest.mark.parametrize(("sent", "speaks"), PROBLEMS)
def test_one_rule_speaks_of_each_problem_of_the_path(sent, speaks):
    # The bad signature has no good path beside it: the true intermediate is not at hand.
    looked = served(*sent)
    if speaks is chain.bad_signature:
        looked._elsewhere = ()
    found = {rule: [type(outcome) for outcome in outcomes(rule, looked)] for rule in PATH_RULES}
    if speaks is None:
        assert all(kinds == [Holds] for kinds in found.values())
    else:
        assert found.pop(speaks) == [Gap]
        assert all(kinds == [] for kinds in found.values())


@pytest.mark.parametrize("rule", PATH_RULES)
def test_no_handshake_is_unknown(rule):
    looked = case(endpoints=[endpoint(REFUSED)])
    assert outcomes(rule, looked) == [Unknown(HOST, "the connection was refused")]


@pytest.mark.parametrize(
    "evidence",
    [
        pytest.param(
            {"fetched_issuers": (FetchedIssuer("http://a.example/i.crt", "x", (fingerprint(intermediate()),)),)},
            id="by-aia",
        ),
        pytest.param({}, id="only-at-hand"),
        pytest.param(
            {"given_certificates": (fingerprint(intermediate()),)},
            id="in-a-given-file",
        ),
    ],
)
def test_incomplete_names_what_is_missing(told, evidence):
    told(outcomes(chain.incomplete, served(leaf(), **evidence)))


def test_incomplete_finds_the_missing_certificate_at_another_endpoint():
    looked = case(
        names=[name(HOST), name(APEX)],
        endpoints=[endpoint(handshake(leaf())), endpoint(handshake(), host=APEX)],
    )
    (gap,) = (each for each in outcomes(chain.incomplete, looked) if isinstance(each, Gap))
    assert gap.detail == f"Intermediate is sent by {APEX}"


RUBBISH = StoredCertificate(fingerprint_of(b"rubbish"), b"rubbish")


def sent_as(*fingerprints: str):
    answer = msgspec.structs.replace(handshake(), chain=fingerprints)
    return case(endpoints=[endpoint(answer)], certificates=[RUBBISH])


def test_malformed_certificates(told):
    whole = sent_as(RUBBISH.sha256)
    told(outcomes(chain_keys.malformed, whole))
    for rule in PATH_RULES:
        told(outcomes(rule, whole))
    part = sent_as(*handshake().chain, RUBBISH.sha256)
    told(outcomes(chain_keys.malformed, part))
    told(outcomes(chain.incomplete, part))
    assert outcomes(chain_keys.malformed, served(leaf(), intermediate())) == [Holds(HOST, "all can be read")]


LOWER = ca("Lower", intermediate())


@pytest.mark.parametrize(
    "sent",
    [
        pytest.param((leaf(), intermediate()), id="good"),
        pytest.param((server(LOWER), intermediate(), LOWER), id="wrong-order"),
        pytest.param((leaf(), intermediate(), root()), id="root-sent"),
        pytest.param((leaf(), leaf(), intermediate()), id="leaf-twice"),
    ],
)
def test_order_and_superfluous(told, sent):
    looked = served(*sent)
    told(outcomes(chain.wrong_order, looked))
    told(outcomes(chain.superfluous, looked))


def test_wrong_order_says_both_orders(told):
    told(outcomes(chain.wrong_order, served(server(LOWER), intermediate(), LOWER)))


# name


@pytest.mark.parametrize(
    ("covered", "seen", "detail"),
    [
        pytest.param((HOST,), None, None, id="holds"),
        pytest.param(("*.marram-ferries.example",), None, None, id="wildcard-holds"),
        pytest.param(("mail.marram-ferries.example",), "covers mail.marram-ferries.example", "The nearest covered name is mail.marram-ferries.example", id="gap"),
        pytest.param(tuple(f"n{n}.y.test" for n in range(8)), "covers n0.y.test, n1.y.test, n2.y.test, n3.y.test, n4.y.test, n5.y.test and 2 more", "", id="many"),
        pytest.param((), "no subjectAltName (the subject's common name Marram does not count)", "", id="no-alt-name"),
    ],
)  # fmt: skip
def test_not_covered(covered, seen, detail):
    issued = issue_server(covered, intermediate(), NOW - DAY, NOW + DAY, key=key("leaf"), common_name="Marram")
    (found,) = outcomes(name_rules.not_covered, served(issued, intermediate()))
    if seen is None:
        assert found == Holds(HOST, f"{HOST} is covered")
    else:
        assert (found.seen, found.expected, found.detail) == (seen, HOST, detail)


@pytest.mark.parametrize(
    ("covered", "host"),
    [
        ("*.marram-ferries.example", APEX),
        ("*.marram-ferries.example", f"a.b.{APEX}"),
    ],
)  # fmt: skip
def test_near_misses_of_wildcards(told, covered, host):
    told(outcomes(name_rules.not_covered, served(server(intermediate(), covered), intermediate(), host=host)))


def test_not_covered_unknown():
    assert outcomes(name_rules.not_covered, case(endpoints=[endpoint(REFUSED)])) == [
        Unknown(HOST, "the connection was refused")
    ]


def test_sibling_is_the_business_of_one_rule():
    issued = server(intermediate(), APEX)
    looked = case(
        names=[name(APEX), name(HOST, declared=False)],
        endpoints=[endpoint(handshake(issued, intermediate()), host=host) for host in (APEX, HOST)],
        certificates=stored(issued),
    )
    assert outcomes(name_rules.not_covered, looked) == [Holds(APEX, f"{APEX} is covered")]
    holds, gap = outcomes(name_rules.sibling_not_covered, looked)
    assert holds == Holds(APEX, f"{APEX} is covered")
    assert (gap.where, gap.seen, gap.expected) == (HOST, f"covers {APEX}; not {HOST}", f"{APEX} and {HOST}")
    alone = served(issued, intermediate(), host=APEX)
    assert outcomes(name_rules.sibling_not_covered, alone) == []


# date


def dated(left: float, life: float = 90):
    return served(leaf(HOST, left=left, life=life), intermediate())


@pytest.mark.parametrize(
    ("left", "life", "speaks"),
    [
        pytest.param(60, 90, None, id="fresh"),
        pytest.param(-1, 90, date.expired, id="expired"),
        pytest.param(91, 90, date.not_yet_valid, id="not-yet-valid"),
        pytest.param(8.9, 90, date.expiring, id="less-than-a-tenth"),
        pytest.param(12, 90, date.renewal_overdue, id="past-two-thirds-and-a-tenth"),
        pytest.param(22, 90, None, id="past-two-thirds-only"),
        pytest.param(6.9, 30, date.expiring, id="less-than-seven-days"),
        pytest.param(2.1, 6, None, id="six-day-certificate-has-a-third-left"),
        pytest.param(1.9, 6, date.expiring, id="six-day-certificate-has-less-than-a-third-left"),
    ],
)
def test_one_rule_speaks_of_each_age(left, life, speaks):
    looked = dated(left, life)
    gaps = [rule for rule in date.RULES if any(isinstance(outcome, Gap) for outcome in outcomes(rule, looked))]
    assert gaps == ([speaks] if speaks else [])


def test_exact_limits(told):
    issued = leaf(HOST, left=60, life=90)
    end = issued.certificate.not_valid_after_utc
    assert outcomes(date.expired, served(issued, intermediate(), at=end)) == [Holds(HOST, f"until {end:%Y-%m-%d}")]
    start = issued.certificate.not_valid_before_utc
    told(outcomes(date.not_yet_valid, served(issued, intermediate(), at=start)))


@pytest.mark.parametrize(
    "rule", [each for each in date.RULES if each not in {date.too_long, date.not_loaded, date.left_behind}]
)
def test_dates_unknown(rule):
    assert outcomes(rule, case(endpoints=[endpoint(REFUSED)])) == [Unknown(HOST, "the connection was refused")]


def test_expired_at_one_address_points_to_the_other():
    old, new = leaf(HOST, left=-4), leaf(HOST, left=80)
    looked = case(
        names=[name(HOST, ADDRESS, "192.0.2.11")],
        endpoints=[
            endpoint(handshake(old, intermediate())),
            endpoint(handshake(new, intermediate()), address="192.0.2.11"),
        ],
        certificates=stored(old, new),
    )
    gap, holds = outcomes(date.expired, looked)
    assert (gap.where, gap.seen) == (f"{HOST} at {ADDRESS}", "ended 2026-11-19 12:00 UTC, 4 days ago")
    assert gap.detail == f"It is replaced already at {HOST} at 192.0.2.11: valid until 2027-02-11"
    assert holds.where == f"{HOST} at 192.0.2.11"


def test_thresholds_are_expectations(told):
    from pewter.judge.expectations import Wishes

    wishes = Wishes(Expectations(renewal_point=0.9, renewal_grace=0.05))
    looked = case(
        endpoints=[endpoint(handshake(leaf(HOST, left=12), intermediate()))],
        certificates=stored(leaf(HOST, left=12)),
        wishes=wishes,
    )
    told(outcomes(date.renewal_overdue, looked))
