"""Keys, forms, revocation, logging, stores, odd names and lives: the rest of the areas chain, name and date."""

import datetime

import msgspec
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding

from pewter.evidence import Answer, Lookup, Name, Seen, StatusAnswer, StoredCertificate, Unseen
from pewter.judge import chain, chain_keys, chain_status, date, visits
from pewter.judge import name as name_rules
from pewter.judge.browsers import Browser, Meeting, browsers_refusing_key
from pewter.judge.case import Case
from pewter.judge.expectations import Expectations
from pewter.judge.outcomes import Gap, Holds, Level, Unknown
from pewter.lab.authority import DAY, Issued, SignedWith, issue_ca, issue_server
from pewter.pki import KeyFacts, Store, der
from pewter.tls import fingerprint as fingerprint_of
from support.cases import case, endpoint, fingerprint, handshake, hop, journey, name, outcomes, stored
from support.certificates import FAR_OFF, HOST, LONG_AGO, NOW, intermediate, key, leaf, parsed, root
from support.status import ocsp_response, signed_list

APEX = "marram-ferries.example"
STAPLE_DEMANDED = (x509.TLSFeature([x509.TLSFeatureType.status_request]), False)


def server(*names: str, kind: str = "P-256", issuer: Issued | None = None, **options) -> Issued:
    given = {"not_before": NOW - DAY, "not_after": NOW + 60 * DAY, "key": key(f"leaf {kind}", kind), **options}
    return issue_server(names or (HOST,), issuer or intermediate(), **given)


def ca(title: str, issuer: Issued | None, kind: str = "P-256") -> Issued:
    return issue_ca(title, issuer, LONG_AGO, FAR_OFF, key=key(f"{title} {kind}", kind))


def looked(*sent: Issued, public: bool = False, answers=(), host: str = HOST, also=(), **more) -> Case:
    answers = answers or (handshake(*sent),)
    found = case(
        journey(hop(f"https://{host}/", issued=sent[0])),
        names=more.pop("names", [name(host)]),
        endpoints=more.pop("endpoints", [endpoint(*answers, host=host)]),
        certificates=stored(*sent, *also),
        **more,
    )
    if public:
        found.own_stores = (Store("Mozilla's roots", found.own_stores[0].anchors, is_public=True),)
        found.stores = found.own_stores
    return found


# Keys


@pytest.mark.parametrize(
    ("facts", "weak", "odd"),
    [
        (KeyFacts("RSA", 2048, exponent=65537), "", False),
        (KeyFacts("RSA", 2047, exponent=65537), "RSA key of 2047 bits", False),
        (KeyFacts("RSA", 2048, exponent=3), "", False),
        (KeyFacts("RSA", 2048, exponent=1), "RSA key with exponent 1", False),
        (KeyFacts("RSA", 4096, exponent=4), "RSA key with exponent 4", False),
        (KeyFacts("RSA", 4096, exponent=1 << 9000), "RSA key, even exponent", False),
        (KeyFacts("RSA-PSS", 2048, exponent=65537), "", True),
        (KeyFacts("EC", 256, "P-256"), "", False),
        (KeyFacts("EC", 224, "P-224"), "", True),
        (KeyFacts("EC", 192, "P-192"), "EC key of 192 bits (P-192)", True),
        (KeyFacts("EC", 521, "P-521"), "", False),
        (KeyFacts("EC", 256, "explicit parameters"), "", True),
        (KeyFacts("DSA", 1024), "DSA key of 1024 bits", True),
        (KeyFacts("Ed25519", 256), "", True),
        (KeyFacts("1.2.3.4"), "", True),
        (KeyFacts("unreadable"), "", True),
    ],
)
def test_weak_and_unusual_keys(facts, weak, odd):
    assert chain_keys.key_weakness(facts, Expectations()) == weak
    assert (browsers_refusing_key(facts) == frozenset(Browser)) is odd


def test_keys_of_the_path_are_judged_and_the_roots_are_not(told):
    short_root = ca("Short root", None, "RSA 1024")
    short_ca = ca("Short CA", short_root, "RSA 1024")
    found = looked(server(issuer=short_ca), short_ca, also=(short_root,), given_trust=(fingerprint(short_root),))
    told(outcomes(chain_keys.weak_key, found))
    told(outcomes(chain_keys.unusual_key, found))
    told(outcomes(chain_keys.weak_key, looked(leaf(), intermediate())))
    assert outcomes(chain_keys.weak_key, case(endpoints=[endpoint(Unseen("late"))])) == [Unknown(HOST, "late")]


@pytest.mark.parametrize("kind", ["P-521", "Ed25519", "Ed448"])
def test_browsers_cannot_connect_with_an_unusual_key(told, kind):
    found = looked(server(kind=kind), intermediate())
    told(outcomes(chain_keys.unusual_key, found))
    meets = visits.predict_visits(found)[0].meets
    assert meets is (Meeting.IN_SOME if kind == "P-521" else Meeting.CANNOT_CONNECT)


def with_sha_1(issued: Issued, signer: Issued) -> bytes:
    """The same certificate signed by PKCS #1 with SHA-1, which no library signs any more."""
    whole = der.DerReader(der.DerReader(issued.der, "").next().content, "")
    new, old = bytes.fromhex("06092a864886f70d010105"), bytes.fromhex("06092a864886f70d01010b")
    tbs = whole.next().octets.replace(old, new, 1)
    signature = signer.key.sign(tbs, padding.PKCS1v15(), hashes.SHA1())  # type: ignore[union-attr, call-arg, arg-type]
    algorithm = whole.next().octets.replace(old, new)
    return der.build(der.SEQUENCE, tbs + algorithm + der.build(der.BIT_STRING, b"\0" + signature))


def test_sha_1_is_refused_on_the_path(told):
    issuer = ca("RSA CA", root(), "RSA 2048")
    octets = with_sha_1(server(issuer=issuer), issuer)
    sha256 = fingerprint_of(octets)
    answer = msgspec.structs.replace(handshake(), chain=(sha256, fingerprint(issuer)))
    found = case(
        journey(msgspec.structs.replace(hop(f"https://{HOST}/"), certificate=sha256)),
        endpoints=[endpoint(answer)],
        certificates=(StoredCertificate(sha256, octets), *stored(issuer)),
    )
    (gap,) = outcomes(chain_keys.weak_signature, found)
    assert (gap.seen, chain.path_problem(found.chains[0])) == (f"{HOST}: signed with SHA-1", "weak-signature")
    told(outcomes(chain.untrusted, found))
    assert visits.predict_visits(found)[0].meets is Meeting.NOT_TRUSTED
    told(outcomes(chain_keys.weak_signature, looked(leaf(), intermediate())))


# Forms


@pytest.mark.parametrize(
    ("options", "words", "level"),
    [
        pytest.param({"common_name": ""}, "its subject is empty, and subjectAltName is not critical", Level.BREAKS, id="empty-subject"),
        pytest.param({"extra": ((x509.PrecertPoison(), True),)}, "it is a precertificate", Level.BREAKS, id="precertificate"),
        pytest.param({"extra": ((x509.BasicConstraints(False, None), True),)}, None, None, id="good"),
    ],
)  # fmt: skip
def test_forms(options, words, level):
    found = outcomes(chain_keys.malformed, looked(server(**options), intermediate()))
    if words is None:
        assert found == [Holds(HOST, "all can be read")]
    else:
        assert (found[0].level, words in found[0].seen) == (level, True)


def test_a_form_that_browsers_insist_on_stops_visitors():
    found = looked(server(extra=((x509.PrecertPoison(), True),)), intermediate())
    assert visits.predict_visits(found)[0].meets is Meeting.NOT_TRUSTED


# Status


def stapled(response: bytes | None, sent: tuple[Issued, ...] = ()) -> Case:
    answer = msgspec.structs.replace(handshake(*sent), staple=response)
    return looked(*(sent or (leaf(), intermediate())), answers=(answer,))


REVOKED = x509.ocsp.OCSPCertStatus.REVOKED


@pytest.mark.parametrize(
    ("response", "revoked"),
    [
        pytest.param(None, Meeting.OPENS, id="no-staple"),
        pytest.param(ocsp_response(), Meeting.OPENS, id="good"),
        pytest.param(ocsp_response(next_update=NOW - DAY / 2), Meeting.IN_SOME, id="stale"),
        pytest.param(ocsp_response(server("other.example")), Meeting.IN_SOME, id="foreign"),
        pytest.param(ocsp_response(status=REVOKED), Meeting.REVOKED, id="revoked"),
        pytest.param(b"rubbish", Meeting.OPENS, id="rubbish"),
    ],
)
def test_staples(told, response, revoked):
    found = stapled(response)
    told(outcomes(chain_status.staple_broken, found))
    told(outcomes(chain_status.revoked, found))
    meets = visits.predict_visits(found)[0].meets
    assert meets is revoked


def test_a_staple_is_unknown_where_the_issuer_is_not_at_hand():
    stranger = ca("Stranger", ca("Stranger's root", None))
    of = server(issuer=stranger)
    found = stapled(ocsp_response(of, stranger), (of,))
    assert outcomes(chain_status.staple_broken, found) == [
        Unknown(HOST, "the stapled response: the issuer is not at hand")
    ]


def test_must_staple(told):
    demanding = server(extra=(STAPLE_DEMANDED,))
    told(outcomes(chain_status.staple_missing, looked(leaf(), intermediate())))
    told(outcomes(chain_status.staple_missing, stapled(None, (demanding, intermediate()))))
    with_staple = stapled(ocsp_response(demanding), (demanding, intermediate()))
    told(outcomes(chain_status.staple_missing, with_staple))


def access(**urls: str):
    method = x509.AuthorityInformationAccessOID.OCSP
    return (
        x509.AuthorityInformationAccess([x509.AccessDescription(method, x509.UniformResourceIdentifier(urls["ocsp"]))]),
        False,
    )


ASKABLE = server(extra=(access(ocsp="http://ocsp.x.example"),))


@pytest.mark.parametrize(
    ("answer", "expected"),
    [
        pytest.param(None, Unknown("certificates", chain_status.NOT_ASKED), id="not-asked"),
        pytest.param(Seen(ocsp_response(ASKABLE)), Holds, id="good"),
        pytest.param(Seen(ocsp_response(ASKABLE, status=REVOKED)), Gap, id="revoked"),
        pytest.param(Unseen("status 503"), Unknown(HOST, "revocation is not known: OCSP at http://ocsp.x.example: status 503"), id="no-answer"),
        pytest.param(Seen(b"<html>"), Unknown, id="a-page"),
    ],
)  # fmt: skip
def test_asking_the_ca(told, answer, expected):
    answers = () if answer is None else (StatusAnswer("OCSP", "http://ocsp.x.example", fingerprint(ASKABLE), answer),)
    found = looked(ASKABLE, intermediate(), revocation_asked=answer is not None, status_answers=answers)
    told(outcomes(chain_status.revoked, found))
    if expected is Gap:
        visit = visits.predict_visits(found)[0]
        assert (visit.meets, visit.detail) == (Meeting.OPENS, "only in browsers that do not ask whether it is revoked")


def test_a_list_counts_for_every_certificate_that_names_it(told):
    point = x509.DistributionPoint([x509.UniformResourceIdentifier("http://crl.x.example/3.crl")], None, None, None)
    of = server(extra=((x509.CRLDistributionPoints([point]), False),))
    crl = signed_list(intermediate(), of.certificate.serial_number)
    answers = (StatusAnswer("CRL", "http://crl.x.example/3.crl", "another", Seen(crl)),)
    found = looked(of, intermediate(), revocation_asked=True, status_answers=answers)
    told(outcomes(chain_status.revoked, found))


# Logging


def timestamps(*logs: bytes) -> bytes:
    items = b""
    for log in logs:
        item = (
            b"\x00"
            + log.ljust(32, b"\0")
            + (1_790_000_000_000).to_bytes(8, "big")
            + b"\x00\x00\x04\x03\x00\x02\x30\x00"
        )
        items += len(item).to_bytes(2, "big") + item
    return len(items).to_bytes(2, "big") + items


@pytest.mark.parametrize(
    ("logs", "life", "expected"),
    [
        pytest.param((b"a", b"b"), 180, Holds, id="two-for-180-days"),
        pytest.param((b"a", b"b"), 181, Gap, id="two-for-longer"),
        pytest.param((b"a", b"b", b"c"), 181, Holds, id="three-for-longer"),
        pytest.param((b"a", b"a"), 90, Gap, id="one-log-twice"),
        pytest.param((), 90, Gap, id="none"),
    ],
)
def test_not_logged(told, logs, life, expected):
    start = NOW - 2 * DAY
    of = server(not_before=start, not_after=start + life * DAY - datetime.timedelta(seconds=1))
    answer = msgspec.structs.replace(
        handshake(of, intermediate()), signed_timestamps=timestamps(*logs) if logs else None
    )
    found = looked(of, intermediate(), public=True, answers=(answer,))
    told(outcomes(chain_status.not_logged, found))
    assert visits.predict_visits(found)[0].meets is (Meeting.OPENS if expected is Holds else Meeting.NOT_TRUSTED)
    told(outcomes(chain_status.not_logged, looked(of, intermediate(), answers=(answer,))))


# Stores


def test_stores_disagree(told):
    other = ca("Other root", None)
    found = looked(leaf(), intermediate())
    found.own_stores = (found.own_stores[0], Store("this system's roots", (parsed(other),)))
    found.stores = found.own_stores
    told(outcomes(chain.stores_disagree, found))
    found = looked(leaf(), intermediate())
    found.stores = found.own_stores = (found.own_stores[0], Store("this system's roots", found.own_stores[0].anchors))
    assert outcomes(chain.stores_disagree, found) == [Holds(HOST, "trusted by test store, this system's roots")]


def test_what_is_given_stands_beside_or_in_place_of_the_stores(told):
    foreign_root = ca("Foreign root", None)
    of = server(issuer=foreign_root)
    given = {"also": (foreign_root,), "given_trust": (fingerprint(foreign_root),)}
    beside = looked(of, **given)
    assert [(each.title, each.trusts) for each in beside.store_verdicts((fingerprint(of),))] == [
        ("test store", False),
        ("--trust", True),
    ]
    told(outcomes(chain.untrusted, beside))
    told(outcomes(chain.stores_disagree, beside))
    only = looked(leaf(), intermediate(), trusts_given_only=True, **given)
    assert [store.title for store in only.stores] == ["--trust-only"]
    told(outcomes(chain.untrusted, only))


def test_an_issuer_out_of_date_beside_a_good_path_is_a_note(told):
    old = issue_ca("Intermediate", root(), LONG_AGO, NOW - DAY, key=key("Intermediate"))
    told(outcomes(chain.expired_issuer, looked(leaf(), old, intermediate())))


# Names


def test_common_name_only(told):
    of = server("mail.marram-ferries.example", common_name=HOST)
    found = looked(of, intermediate())
    told(outcomes(name_rules.common_name_only, found))
    told(outcomes(name_rules.not_covered, found))
    told(outcomes(name_rules.common_name_only, looked(leaf(), intermediate())))
    assert visits.predict_visits(found)[0].meets is Meeting.WRONG_NAME


@pytest.mark.parametrize(
    ("entry", "why"),
    [
        ("www.marram-ferries.example", None), ("*.marram-ferries.example", None), ("xn--bcher-kva.example", None),
        ("a_b.example", "an underscore"), ("w*.example", "wildcard that is not"), ("a.*.example", "wildcard that is not"),
        ("*.co.uk", "public suffix"), ("*.example", "top-level"), ("fileserver", "internal"), ("x.local", "internal"),
        ("192.0.2.1", "IP address"), ("x.example.", "dot at its end"), ("-x.example", "no host name"),
        ("x\x1b[31m.example", "octets that no"), ("<b>.example", "no host name"), ("", "no host name"),
    ],
)  # fmt: skip
def test_odd_entries(entry, why):
    found = looked(leaf(), intermediate())
    certificate = found.certificate(fingerprint(leaf()))
    facts = certificate.extensions  # type: ignore[union-attr]
    object.__setattr__(certificate, "extensions", type(facts)(dns_names=(HOST, entry), has_subject_alt_name=True))
    (outcome,) = outcomes(name_rules.odd_entries, found)
    if why is None:
        assert outcome == Holds(HOST, "every entry is a name")
    else:
        assert why in outcome.seen
        assert "\x1b" not in outcome.seen


def resolved(text: str, *addresses: str) -> Name:
    return Name(text, False, (Lookup("A", Seen(Answer("NOERROR" if addresses else "NXDOMAIN", (), addresses))),))


def test_also_covers(told):
    of = server(HOST, "shop.marram-ferries.example", "old.marram-ferries.example", "*.marram-ferries.example")
    names = (resolved("shop.marram-ferries.example", "192.0.2.9"), resolved("old.marram-ferries.example"))
    told(outcomes(name_rules.also_covers, looked(of, intermediate(), covered_names=names)))
    told(outcomes(name_rules.also_covers, looked(leaf(), intermediate())))


# Lives


@pytest.mark.parametrize(
    ("issued", "days"),
    [
        pytest.param("2026-03-14", 398, id="398-before-the-change"),
        pytest.param("2026-03-15", 200, id="200-on-the-day"),
        pytest.param("2026-03-15", 201, id="201-on-the-day"),
        pytest.param("2027-03-15", 101, id="101-in-2027"),
        pytest.param("2029-03-15", 47, id="47-in-2029"),
        pytest.param("2017-01-01", 1100, id="before-there-was-a-limit"),
    ],
)
def test_too_long(told, issued, days):
    start = datetime.datetime.fromisoformat(issued).replace(tzinfo=datetime.UTC)
    long_root = issue_ca("Root", None, LONG_AGO, FAR_OFF, key=key("Root"))
    of = server(not_before=start, not_after=start + days * DAY - datetime.timedelta(seconds=1), issuer=long_root)
    found = looked(of, public=True, at=start + DAY)
    told(outcomes(date.too_long, found))
    told(outcomes(date.too_long, looked(of, at=start + DAY)))


def test_one_second_too_long(told):
    start = datetime.datetime(2026, 4, 1, tzinfo=datetime.UTC)
    of = server(not_before=start, not_after=start + 200 * DAY)
    told(outcomes(date.too_long, looked(of, intermediate(), public=True, at=start + DAY)))


def test_not_loaded(told):
    newer = server(not_before=NOW - DAY / 2)
    given = {"also": (newer,), "given_certificates": (fingerprint(newer),)}
    told(outcomes(date.not_loaded, looked(leaf(), intermediate(), **given)))
    told(outcomes(date.not_loaded, looked(newer, intermediate(), **given)))
    told(outcomes(date.not_loaded, looked(leaf(), intermediate())))


@pytest.mark.parametrize("left", [20, -1, 60], ids=["older", "ended-is-another-rule", "the-same"])
def test_left_behind(told, left):
    here, there = leaf(left=left), leaf()
    found = looked(
        here,
        intermediate(),
        endpoints=[
            endpoint(handshake(here, intermediate()), address="192.0.2.30"),
            endpoint(handshake(there, intermediate()), address="192.0.2.31"),
        ],
    )
    told(outcomes(date.left_behind, found))


def test_a_chain_signed_by_a_stranger_has_no_logs_to_count(told):
    impostor = server(signed_with=SignedWith(key=key("stranger")))
    told(outcomes(chain_status.not_logged, looked(impostor, intermediate(), public=True)))
