"""The areas chain, name and date, on certificates made with the fault in the call."""

import datetime

import msgspec
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding
from cryptography.x509.oid import ExtendedKeyUsageOID

from pewter.evidence import (
    Answer,
    FetchedIssuer,
    GivenLog,
    HowFailed,
    Lookup,
    Name,
    NoConnection,
    Seen,
    StatusAnswer,
    StatusMethod,
    StoredCertificate,
    Unseen,
)
from pewter.expectations import Expectations, Terms
from pewter.facts.browsers import Browser, browsers_refusing_key
from pewter.facts.case import Case
from pewter.judge.outcomes import Gap, Holds
from pewter.judge.rules import chain, chain_keys, chain_status, date
from pewter.judge.rules import name as name_rules
from pewter.lab.authority import DAY, Issued, SignedWith, issue_ca, issue_server
from pewter.pki import KeyFacts, Store, der
from pewter.tls import fingerprint as fingerprint_of
from support.cases import (
    ADDRESS,
    case,
    endpoint,
    fingerprint,
    handshake,
    hop,
    journey,
    name,
    outcomes,
    predicted,
    stored,
    table,
)
from support.certificates import FAR_OFF, HOST, LONG_AGO, NOW, intermediate, key, leaf, parsed, root, store
from support.status import ocsp_response, signed_list
from support.timestamps import signed_timestamps, spki_of

APEX = "marram-ferries.example"
SECOND = 1 / 86400
REFUSED = NoConnection(HowFailed.REFUSED, "the connection was refused")
REVOKED = x509.ocsp.OCSPCertStatus.REVOKED
STAPLE_DEMANDED = (x509.TLSFeature([x509.TLSFeatureType.status_request]), False)


def server(*names: str, kind: str = "P-256", issuer: Issued | None = None, **options) -> Issued:
    given = {"not_before": NOW - DAY, "not_after": NOW + 60 * DAY, "key": key(f"leaf {kind}", kind), **options}
    return issue_server(names or (HOST,), issuer or intermediate(), **given)


def ca(title: str, issuer: Issued | None, kind: str = "P-256", until=FAR_OFF, **options) -> Issued:
    return issue_ca(title, issuer, LONG_AGO, until, key=key(f"{title} {kind}", kind), **options)


def at(*sent: Issued, public: bool = False, answers=(), host: str = HOST, also=(), stores=(), **more) -> Case:
    """A host that sends these certificates, the usual ones unless told otherwise."""
    sent = sent or (leaf(), intermediate())
    if public:
        stores = (Store("Mozilla's roots", store(root()).anchors, is_public=True),)
    return case(
        journey(hop(f"https://{host}/", issued=sent[0])),
        names=more.pop("names", [name(host)]),
        endpoints=more.pop("endpoints", [endpoint(*(answers or (handshake(*sent),)), host=host)]),
        certificates=(*stored(*sent, *also), *more.pop("certificates", ())),
        stores=stores,
        **more,
    )


def unanswered() -> Case:
    return case(endpoints=[endpoint(REFUSED)])


def both(one: Issued, other: Issued) -> Case:
    """Two addresses of one name, each with a certificate of its own."""
    served = [
        endpoint(handshake(each, intermediate()), address=where)
        for each, where in ((one, ADDRESS), (other, "192.0.2.11"))
    ]
    return at(one, also=(other,), endpoints=served, names=[name(HOST, ADDRESS, "192.0.2.11")])


def with_sha_1(issued: Issued, signer: Issued) -> bytes:
    """The same certificate signed by PKCS #1 with SHA-1, which no library signs any more."""
    whole = der.DerReader(der.DerReader(issued.der, "").next().content, "")
    new, old = bytes.fromhex("06092a864886f70d010105"), bytes.fromhex("06092a864886f70d01010b")
    tbs = whole.next().octets.replace(old, new, 1)
    signature = signer.key.sign(tbs, padding.PKCS1v15(), hashes.SHA1())  # type: ignore[union-attr, call-arg, arg-type]
    algorithm = whole.next().octets.replace(old, new)
    return der.build(der.SEQUENCE, tbs + algorithm + der.build(der.BIT_STRING, b"\0" + signature))


def by_sha_1() -> Case:
    issuer = ca("RSA CA", root(), "RSA 2048")
    octets = with_sha_1(server(issuer=issuer), issuer)
    sha256 = fingerprint_of(octets)
    return case(
        journey(msgspec.structs.replace(hop(f"https://{HOST}/"), certificate=sha256)),
        endpoints=[endpoint(msgspec.structs.replace(handshake(), chain=(sha256, fingerprint(issuer))))],
        certificates=(StoredCertificate(sha256, octets), *stored(issuer)),
    )


def sent_as(*fingerprints: str) -> Case:
    answer = msgspec.structs.replace(handshake(), chain=fingerprints)
    return case(endpoints=[endpoint(answer)], certificates=[RUBBISH])


def by_an_impostor() -> Case:
    """No good path is beside the bad signature: the true intermediate is not at hand."""
    found = at(leaf(), issue_ca("Intermediate", root(), LONG_AGO, FAR_OFF, key=key("another")))
    found.chains._elsewhere = ()
    return found


def stapled(response: bytes | None, *sent: Issued) -> Case:
    sent = sent or (leaf(), intermediate())
    return at(*sent, answers=(msgspec.structs.replace(handshake(*sent), staple=response),))


def asked(answer) -> Case:
    answers = (
        ()
        if answer is None
        else (StatusAnswer(StatusMethod.OCSP, "http://ocsp.x.example", fingerprint(ASKABLE), answer),)
    )
    return at(ASKABLE, intermediate(), revocation_asked=answer is not None, status_answers=answers)


def leads_back() -> Case:
    """The certificate is for the bare name alone, and that name redirects to www."""
    here = hop(f"https://{HOST}/", issued=APEX_ALONE)
    away = hop(f"https://{APEX}/", 301, ("Location", f"https://{HOST}/"), issued=APEX_ALONE)
    served = [endpoint(handshake(APEX_ALONE, intermediate()), host=host) for host in (HOST, APEX)]
    names = [name(HOST), name(APEX)]
    return case(journey(here), journey(away, here), names=names, endpoints=served, certificates=stored(APEX_ALONE))


def revoked_and_given(given: Issued) -> Case:
    """A revoked certificate is served, and the file of another one was given."""
    answer = msgspec.structs.replace(handshake(), staple=ocsp_response(status=REVOKED))
    return at(answers=(answer,), also=(given,), given_certificates=(fingerprint(given),))


def listed() -> Case:
    """The list that revokes it was fetched for another certificate that names it too."""
    point = x509.DistributionPoint([x509.UniformResourceIdentifier("http://crl.x.example/3.crl")], None, None, None)
    of = server(extra=((x509.CRLDistributionPoints([point]), False),))
    crl = Seen(signed_list(intermediate(), of.certificate.serial_number))
    answers = (StatusAnswer(StatusMethod.CRL, "http://crl.x.example/3.crl", "another", crl),)
    return at(of, intermediate(), revocation_asked=True, status_answers=answers)


def timestamps(*logs: bytes) -> bytes:
    end = (1_790_000_000_000).to_bytes(8, "big") + b"\x00\x00\x04\x03\x00\x02\x30\x00"
    items = [b"\x00" + log.ljust(32, b"\0") + end for log in logs]
    octets = b"".join(len(item).to_bytes(2, "big") + item for item in items)
    return len(octets).to_bytes(2, "big") + octets


def logged(life: int, *logs: bytes, public: bool = True) -> Case:
    of = server(not_before=NOW - 2 * DAY, not_after=NOW + (life - 2 - SECOND) * DAY)
    found = timestamps(*logs) if logs else None
    answer = msgspec.structs.replace(handshake(of, intermediate()), signed_timestamps=found)
    return at(of, intermediate(), public=public, answers=(answer,))


LOG, IMPOSTOR_OF_LOG = (ec.derive_private_key(number, ec.SECP256R1()) for number in (7, 8))


def logged_by(signer: ec.EllipticCurvePrivateKey) -> Case:
    """By a log whose key was given, or by another in its name."""
    of = server(not_before=NOW - 2 * DAY, not_after=NOW + 88 * DAY)
    said = signed_timestamps(signer, parsed(of), named=LOG)
    answer = msgspec.structs.replace(handshake(of, intermediate()), signed_timestamps=said)
    given = (GivenLog("Tern log", spki_of(LOG)),)
    return at(of, intermediate(), public=True, answers=(answer,), given_logs=given)


def lasting(issued: str, days: float, *, public: bool = True) -> Case:
    start = datetime.datetime.fromisoformat(issued).replace(tzinfo=datetime.UTC)
    of = server(not_before=start, not_after=start + days * DAY, issuer=root())
    return at(of, public=public, at=start + DAY)


def listing(entry: str) -> Case:
    found, of = at(), fingerprint(leaf())
    certificate = found.chains.certificate(of)
    facts = type(certificate.extensions)(dns_names=(HOST, entry), has_subject_alt_name=True)
    found.chains._certificates[of] = msgspec.structs.replace(certificate, extensions=facts)
    return found


def covering(*names: str, host: str = HOST, **options) -> Case:
    issued = issue_server(names, intermediate(), NOW - DAY, NOW + DAY, key=key("leaf"), **options)
    return at(issued, intermediate(), host=host)


def dated(left: float, life: float = 90, **options) -> Case:
    return at(leaf(HOST, left=left, life=life), intermediate(), **options)


def resolved(text: str, *addresses: str) -> Name:
    return Name(text, False, (Lookup("A", Seen(Answer("NOERROR" if addresses else "NXDOMAIN", (), addresses))),))


def of_ocsp(url: str):
    method = x509.AuthorityInformationAccessOID.OCSP
    described = x509.AccessDescription(method, x509.UniformResourceIdentifier(url))
    return x509.AuthorityInformationAccess([described]), False


FOREIGN = ca("Foreign", ca("Foreign root", None))
FOREIGN_ROOT = ca("Foreign root", None)
GIVEN_ROOT = {"also": (FOREIGN_ROOT,), "given_trust": (fingerprint(FOREIGN_ROOT),)}
BY_FOREIGN_ROOT = server(issuer=FOREIGN_ROOT)
EXPIRED = ca("Expired", root(), until=NOW - DAY)
NO_CA = ca("No CA", root(), is_ca=False)
MAIL = ca("Mail", root(), purposes=[ExtendedKeyUsageOID.EMAIL_PROTECTION])
LOWER = ca("Lower", intermediate())
SHORT_ROOT = ca("Short root", None, "RSA 1024")
SHORT_CA = ca("Short CA", SHORT_ROOT, "RSA 1024")
STRANGER = ca("Stranger", ca("Stranger's root", None))
BY_STRANGER = server(issuer=STRANGER)
OLD_INTERMEDIATE = issue_ca("Intermediate", root(), LONG_AGO, NOW - DAY, key=key("Intermediate"))
SELF_SIGNED = issue_server((HOST,), None, NOW - DAY, NOW + DAY, key=key("leaf"))
RUBBISH = StoredCertificate(fingerprint_of(b"rubbish"), b"rubbish")
DEMANDING = server(extra=(STAPLE_DEMANDED,))
ASKABLE = server(extra=(of_ocsp("http://ocsp.x.example"),))
NEWER = server(not_before=NOW - DAY / 2)
LOADED = {"also": (NEWER,), "given_certificates": (fingerprint(NEWER),)}
FETCHED = (FetchedIssuer("http://a.example/i.crt", "x", (fingerprint(intermediate()),)),)
NAMED_BY_CN = server("mail.marram-ferries.example", common_name=HOST)
APEX_ALONE = issue_server((APEX,), intermediate(), NOW - DAY, NOW + DAY, key=key("leaf"))
PAIR = {"names": [name(APEX), name(HOST, declared=False)]}
PAIR |= {"endpoints": [endpoint(handshake(APEX_ALONE, intermediate()), host=host) for host in (APEX, HOST)]}
AT_ANOTHER = {"names": [name(HOST), name(APEX)]}
AT_ANOTHER |= {"endpoints": [endpoint(handshake(leaf())), endpoint(handshake(), host=APEX)]}
WIDE = server(HOST, f"shop.{APEX}", f"old.{APEX}", f"*.{APEX}")
OTHER_NAMES = (resolved(f"shop.{APEX}", "192.0.2.9"), resolved(f"old.{APEX}"))
ROOTS = store(root())
POISONED = server(extra=((x509.PrecertPoison(), True),))
EXACT = leaf(HOST, left=60, life=90)
LATER_RENEWAL = Terms(Expectations(renewal_point=0.9, renewal_grace=0.05))
IMPOSTOR = server(signed_with=SignedWith(key=key("stranger")))
ENTRIES = (
    f"www.{APEX}", f"*.{APEX}", "xn--bcher-kva.example", "a_b.example", "w*.example", "a.*.example", "*.co.uk", "*.example",
    "fileserver", "x.local", "192.0.2.1", "x.example.", "-x.example", "x\x1b[31m.example", "<b>.example", "",
)  # fmt: skip
PATH_RULES = (
    chain.incomplete, chain.untrusted, chain.self_signed, chain.bad_signature, chain.not_a_ca,
    chain.not_for_servers, chain.expired_issuer,
)  # fmt: skip
AGE_RULES = tuple(each for each in date.RULES if each not in {date.too_long, date.not_loaded, date.left_behind})

CASES = {
    PATH_RULES: {
        "good": at(),
        "incomplete": at(leaf()),
        "untrusted": at(server(issuer=FOREIGN), FOREIGN),
        "self-signed": at(SELF_SIGNED),
        "bad-signature": by_an_impostor(),
        "not-a-ca": at(server(issuer=NO_CA), NO_CA),
        "not-for-servers": at(server(issuer=MAIL), MAIL),
        "expired-issuer": at(server(issuer=EXPIRED), EXPIRED),
        "no-handshake": unanswered(),
        "rubbish": sent_as(RUBBISH.sha256),
    },
    chain.incomplete: {
        "fetched": at(leaf(), fetched_issuers=FETCHED),
        "in-a-given-file": at(leaf(), given_certificates=(fingerprint(intermediate()),)),
        "sent-by-another-endpoint": case(**AT_ANOTHER),
        "rubbish-behind-the-chain": sent_as(*handshake().chain, RUBBISH.sha256),
    },
    (chain.wrong_order, chain.superfluous): {
        "good": at(),
        "wrong-order": at(server(issuer=LOWER), intermediate(), LOWER),
        "root-sent": at(leaf(), intermediate(), root()),
        "leaf-twice": at(leaf(), leaf(), intermediate()),
    },
    (chain.stores_disagree, chain.untrusted): {
        "another-root": at(stores=(ROOTS, Store("this system's roots", (parsed(ca("Other root", None)),)))),
        "alike": at(stores=(ROOTS, Store("this system's roots", ROOTS.anchors))),
        "given-beside-the-stores": at(BY_FOREIGN_ROOT, **GIVEN_ROOT),
        "given-in-place-of-them": at(trusts_given_only=True, **GIVEN_ROOT),
    },
    chain.expired_issuer: {"beside-a-good-path": at(leaf(), OLD_INTERMEDIATE, intermediate())},
    (chain_keys.weak_key, chain_keys.unusual_key, predicted): {
        "short": at(server(issuer=SHORT_CA), SHORT_CA, also=(SHORT_ROOT,), given_trust=(fingerprint(SHORT_ROOT),)),
        "good": at(),
        "unknown": case(endpoints=[endpoint(Unseen("late"))]),
        **{each: at(server(kind=each), intermediate()) for each in ("P-521", "Ed25519", "Ed448")},
    },
    (chain_keys.weak_signature, chain.untrusted, predicted): {"SHA-1": by_sha_1(), "SHA-256": at()},
    (chain_keys.malformed, predicted): {
        "rubbish": sent_as(RUBBISH.sha256),
        "rubbish-behind-the-chain": sent_as(*handshake().chain, RUBBISH.sha256),
        "good": at(),
        "empty-subject": at(server(common_name=""), intermediate()),
        "precertificate": at(POISONED, intermediate()),
        "no-ca-said": at(server(extra=((x509.BasicConstraints(False, None), True),)), intermediate()),
    },
    (chain_status.staple_broken, chain_status.revoked, predicted): {
        "no-staple": stapled(None),
        "good": stapled(ocsp_response()),
        "stale": stapled(ocsp_response(next_update=NOW - 2 * DAY)),
        "stale-for-half-a-day": stapled(ocsp_response(next_update=NOW - DAY / 2)),
        "foreign": stapled(ocsp_response(server("other.example"))),
        "revoked": stapled(ocsp_response(status=REVOKED)),
        "rubbish": stapled(b"rubbish"),
        "issuer-not-at-hand": stapled(ocsp_response(BY_STRANGER, STRANGER), BY_STRANGER),
    },
    chain_status.staple_missing: {
        "not-demanded": at(),
        "demanded": stapled(None, DEMANDING, intermediate()),
        "demanded-and-sent": stapled(ocsp_response(DEMANDING), DEMANDING, intermediate()),
    },
    (chain_status.revoked, predicted): {
        "not-asked": asked(None),
        "asked-good": asked(Seen(ocsp_response(ASKABLE))),
        "asked-revoked": asked(Seen(ocsp_response(ASKABLE, status=REVOKED))),
        "asked-without-answer": asked(Unseen("status 503")),
        "asked-a-page": asked(Seen(b"<html>")),
        "list-of-another": listed(),
    },
    chain_status.revoked_key: {
        "given-with-the-same-key": revoked_and_given(leaf(left=80)),
        "given-with-another-key": revoked_and_given(server(kind="P-384")),
        "nothing-is-revoked": at(),
        "not-known": asked(Unseen("status 503")),
    },
    (chain_status.not_logged, predicted): {
        "two-for-180-days": logged(180, b"a", b"b"),
        "two-for-longer": logged(181, b"a", b"b"),
        "three-for-longer": logged(181, b"a", b"b", b"c"),
        "one-log-twice": logged(90, b"a", b"a"),
        "none": logged(90),
        "by-a-log-whose-key-was-given": logged_by(LOG),
        "in-the-name-of-a-log-whose-key-was-given": logged_by(IMPOSTOR_OF_LOG),
        "private-ca": logged(90, public=False),
        "signed-by-a-stranger": at(IMPOSTOR, intermediate(), public=True),
    },
    name_rules.not_covered: {
        "holds": covering(HOST),
        "wildcard-holds": covering(f"*.{APEX}"),
        "gap": covering(f"mail.{APEX}"),
        "many": covering(*(f"n{n}.y.test" for n in range(8))),
        "no-alt-name": covering(common_name="Marram"),
        "wildcard-and-the-bare-name": covering(f"*.{APEX}", host=APEX),
        "wildcard-and-two-labels": covering(f"*.{APEX}", host=f"a.b.{APEX}"),
        "unknown": unanswered(),
    },
    (name_rules.not_covered, name_rules.sibling_not_covered): {
        "sibling-is-one-rule's": at(APEX_ALONE, **PAIR),
        "alone": at(APEX_ALONE, intermediate(), host=APEX),
    },
    (name_rules.sibling_not_covered, predicted): {"that-leads-back": leads_back()},
    (name_rules.common_name_only, name_rules.not_covered, predicted): {"by-cn": at(NAMED_BY_CN, intermediate()), "good": at()},
    name_rules.odd_entries: {repr(each): listing(each) for each in ENTRIES},
    name_rules.also_covers: {"gap": at(WIDE, intermediate(), covered_names=OTHER_NAMES), "nothing": at()},
    AGE_RULES: {
        "fresh": dated(60),
        "expired": dated(-1),
        "not-yet-valid": dated(91),
        "less-than-a-tenth": dated(8.9),
        "past-two-thirds-and-a-tenth": dated(12),
        "past-two-thirds-only": dated(22),
        "less-than-seven-days": dated(6.9, 30),
        "six-day-certificate-has-a-third-left": dated(2.1, 6),
        "six-day-certificate-has-less-than-a-third-left": dated(1.9, 6),
        "last-moment": at(EXACT, intermediate(), at=EXACT.certificate.not_valid_after_utc),
        "first-moment": at(EXACT, intermediate(), at=EXACT.certificate.not_valid_before_utc),
        "unknown": unanswered(),
    },
    date.expired: {"replaced-at-another-address": both(leaf(HOST, left=-4), leaf(HOST, left=80))},
    date.renewal_overdue: {"thresholds-are-expectations": dated(12, terms=LATER_RENEWAL)},
    date.too_long: {
        "398-before-the-change": lasting("2026-03-14", 398 - SECOND),
        "200-on-the-day": lasting("2026-03-15", 200 - SECOND),
        "201-on-the-day": lasting("2026-03-15", 201 - SECOND),
        "101-in-2027": lasting("2027-03-15", 101 - SECOND),
        "47-in-2029": lasting("2029-03-15", 47 - SECOND),
        "before-there-was-a-limit": lasting("2017-01-01", 1100 - SECOND),
        "one-second-too-long": lasting("2026-04-01", 200),
        "private-ca": lasting("2026-03-15", 201, public=False),
    },
    date.not_loaded: {
        "gap": at(**LOADED),
        "loaded": at(NEWER, intermediate(), **LOADED),
        "nothing-given": at(),
    },
    date.left_behind: {
        "older": both(leaf(left=20), leaf()),
        "ended-is-another-rule": both(leaf(left=-1), leaf()),
        "the-same": both(leaf(), leaf()),
    },
}  # fmt: skip


@table(CASES)
def test_rule(told, rule, looked):
    told(outcomes(rule, looked))


@pytest.mark.parametrize("title", CASES[PATH_RULES])
def test_one_rule_speaks_of_each_problem_of_the_path(title):
    found = {rule: outcomes(rule, CASES[PATH_RULES][title]) for rule in PATH_RULES}
    gaps = [rule.name for rule, each in found.items() if any(isinstance(outcome, Gap) for outcome in each)]
    assert gaps == ([] if title in {"good", "no-handshake", "rubbish"} else [f"chain/{title}"])


@pytest.mark.parametrize(
    ("title", "speaks"),
    [
        ("fresh", []), ("expired", ["expired"]), ("not-yet-valid", ["not-yet-valid"]), ("less-than-a-tenth", ["expiring"]),
        ("past-two-thirds-and-a-tenth", ["renewal-overdue"]), ("past-two-thirds-only", []), ("less-than-seven-days", ["expiring"]),
        ("six-day-certificate-has-a-third-left", []), ("six-day-certificate-has-less-than-a-third-left", ["expiring"]),
    ],
)  # fmt: skip
def test_one_rule_speaks_of_each_age(title, speaks):
    looked = CASES[AGE_RULES][title]
    gaps = [rule.name for rule in date.RULES if any(isinstance(outcome, Gap) for outcome in outcomes(rule, looked))]
    assert gaps == [f"date/{each}" for each in speaks]


def test_stores_that_are_given():
    beside, only = (
        CASES[chain.stores_disagree, chain.untrusted][f"given-{each}"]
        for each in ("beside-the-stores", "in-place-of-them")
    )
    verdicts = beside.chains.store_verdicts((fingerprint(BY_FOREIGN_ROOT),))
    assert [(each.title, each.trusts) for each in verdicts] == [("test store", False), ("--trust", True)]
    assert [store.title for store in only.chains.stores] == ["--trust-only"]


def test_odd_entries_are_shown_escaped():
    for entry in ENTRIES:
        (outcome,) = outcomes(name_rules.odd_entries, listing(entry))
        assert isinstance(outcome, Holds) or "\x1b" not in outcome.seen


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
