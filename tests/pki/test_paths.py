"""Path building, validation and the assessment of what a server sent."""

import shutil
import subprocess
import time

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.x509.oid import ExtendedKeyUsageOID

from pewter.crypto import SignatureVerdict
from pewter.lab.authority import DAY, Issued, issue_ca, issue_server
from pewter.pki import FaultKind, assess_chain, build_paths
from pewter.pki.constraints import is_below
from pewter.pki.paths import MAX_SIGNATURE_WORK
from pewter.pki.signatures import verify_signature
from support.certificates import FAR_OFF, HOST, LONG_AGO, NOW, intermediate, key, leaf, parsed, root, store

UNKNOWN = x509.UnrecognizedExtension(x509.ObjectIdentifier("1.3.6.1.4.1.99999.1"), b"\x05\x00")


def ca(title: str, issuer: Issued | None = None, **options: object) -> Issued:
    options.setdefault("key", key(title))
    return issue_ca(title, issuer or root(), options.pop("since", LONG_AGO), options.pop("until", FAR_OFF), **options)


def server(issuer: Issued | None, *names: str, **options: object) -> Issued:
    options.setdefault("key", key("leaf"))
    return issue_server(names or (HOST,), issuer, NOW - DAY, NOW + DAY, **options)


def damaged(issued: Issued) -> Issued:
    """The same certificate with the last octet of its signature changed."""
    der = issued.der[:-1] + bytes((issued.der[-1] ^ 1,))
    return Issued(x509.load_der_x509_certificate(der), issued.key)


EXPIRED = ca("Expired", until=NOW - DAY)
NOT_YET = ca("Not yet", since=NOW + DAY)
NO_CA = ca("No CA", is_ca=False)
NO_SIGN = ca("No keyCertSign", key_cert_sign=False)
MAIL_ONLY = ca("Mail only", purposes=[ExtendedKeyUsageOID.EMAIL_PROTECTION])
SHORT = ca("Path length 0", path_length=0)
BELOW_SHORT = ca("Below path length 0", SHORT)
CONSTRAINED = ca("Constrained", permitted_dns=["other.example"])
PERMITTED = ca("Permitted", permitted_dns=["marram-ferries.example"])
FOREIGN_ROOT = issue_ca("Foreign root", None, LONG_AGO, FAR_OFF, key=key("foreign"))
FOREIGN = ca("Foreign intermediate", FOREIGN_ROOT)
IMPOSTOR = ca("Intermediate", key=key("another key"))
OLD_CROSS = issue_ca("Intermediate", FOREIGN_ROOT, LONG_AGO, NOW - DAY, key=key("Intermediate"))


@pytest.mark.parametrize(
    ("chain", "faults"),
    [
        pytest.param([leaf(), intermediate()], [], id="good"),
        pytest.param([leaf(), root(), intermediate()], [], id="any-order"),
        pytest.param([leaf(), OLD_CROSS, intermediate()], [], id="expired-cross-certificate-beside-a-good-path"),
        pytest.param([leaf(), IMPOSTOR, intermediate()], [], id="same-name-another-key-beside-a-good-path"),
        pytest.param([server(PERMITTED), PERMITTED], [], id="permitted-name"),
        pytest.param([server(ca("Self-issued above", SHORT, key=key("s"))), ca("Self-issued above", SHORT, key=key("s")), SHORT], [FaultKind.NOT_A_CA], id="path-length"),
        pytest.param([leaf()], [FaultKind.NO_ANCHOR], id="intermediate-missing"),
        pytest.param([server(FOREIGN), FOREIGN], [FaultKind.NO_ANCHOR], id="foreign-root"),
        pytest.param([server(None)], [FaultKind.NO_ANCHOR], id="self-signed"),
        pytest.param([damaged(leaf()), intermediate()], [FaultKind.BAD_SIGNATURE], id="damaged-leaf"),
        pytest.param([leaf(), IMPOSTOR], [FaultKind.BAD_SIGNATURE], id="issuer-with-another-key"),
        pytest.param([server(EXPIRED), EXPIRED], [FaultKind.EXPIRED_ISSUER], id="expired-issuer"),
        pytest.param([server(NOT_YET), NOT_YET], [FaultKind.ISSUER_NOT_YET_VALID], id="issuer-not-yet-valid"),
        pytest.param([server(NO_CA), NO_CA], [FaultKind.NOT_A_CA], id="issuer-is-no-ca"),
        pytest.param([server(NO_SIGN), NO_SIGN], [FaultKind.NOT_A_CA], id="issuer-may-not-sign"),
        pytest.param([server(MAIL_ONLY), MAIL_ONLY], [FaultKind.NOT_FOR_SERVERS], id="issuer-for-mail"),
        pytest.param([server(BELOW_SHORT), BELOW_SHORT, SHORT], [FaultKind.NOT_A_CA], id="path-too-long"),
        pytest.param([server(CONSTRAINED), CONSTRAINED], [FaultKind.NOT_A_CA], id="name-not-permitted"),
        pytest.param([server(intermediate(), purposes=[ExtendedKeyUsageOID.CLIENT_AUTH]), intermediate()], [FaultKind.NOT_FOR_SERVERS], id="leaf-for-clients"),
        pytest.param([server(intermediate(), purposes=[]), intermediate()], [], id="leaf-without-purposes"),
        pytest.param([server(intermediate(), extra=[(UNKNOWN, True)]), intermediate()], [FaultKind.NOT_A_CA], id="critical-extension"),
        pytest.param([server(intermediate(), extra=[(UNKNOWN, False)]), intermediate()], [], id="uncritical-extension"),
    ],
)  # fmt: skip
def test_best_path(chain, faults):
    best = build_paths(parsed(chain[0]), list(map(parsed, chain)), [store(root())], NOW)[0]
    assert [fault.kind for fault in best.faults] == faults
    assert best.is_valid is (not faults)


@pytest.mark.skipif(shutil.which("openssl") is None, reason="the openssl command is not there")
@pytest.mark.parametrize(
    "chain",
    [
        [leaf(), intermediate()], [leaf(), root(), intermediate()], [leaf(), OLD_CROSS, intermediate()], [leaf()],
        [server(FOREIGN), FOREIGN], [server(None)], [damaged(leaf()), intermediate()], [leaf(), IMPOSTOR],
        [server(EXPIRED), EXPIRED], [server(NOT_YET), NOT_YET], [server(NO_CA), NO_CA], [server(NO_SIGN), NO_SIGN],
        [server(MAIL_ONLY), MAIL_ONLY], [server(BELOW_SHORT), BELOW_SHORT, SHORT], [server(CONSTRAINED), CONSTRAINED],
        [server(PERMITTED), PERMITTED], [server(intermediate(), extra=[(UNKNOWN, True)]), intermediate()],
    ],
    ids=lambda chain: "+".join(each.certificate.subject.rfc4514_string()[3:20] for each in chain),
)  # fmt: skip
def test_verdict_agrees_with_openssl_verify(chain, tmp_path):
    for title, content in {
        "root": root().pem,
        "leaf": chain[0].pem,
        "rest": b"".join(c.pem for c in chain[1:]),
    }.items():
        (tmp_path / title).write_bytes(content or root().pem)
    run = subprocess.run(
        ["openssl", "verify", "-no-CApath", "-no-CAstore", "-CAfile", "root", "-untrusted", "rest", "-purpose",
         "sslserver", "-attime", str(int(NOW.timestamp())), "leaf"],
        cwd=tmp_path, capture_output=True, check=False,
    )  # fmt: skip
    ours = build_paths(parsed(chain[0]), list(map(parsed, chain)), [store(root())], NOW)[0]
    assert ours.is_valid is (run.returncode == 0), run.stderr.decode()


def test_two_cross_certificates_do_not_go_round_for_ever():
    one, two = key("one"), key("two")
    first = issue_ca("One", Issued(ca("Two", key=two).certificate, two), LONG_AGO, FAR_OFF, key=one)
    second = issue_ca("Two", Issued(ca("One", key=one).certificate, one), LONG_AGO, FAR_OFF, key=two)
    below = server(Issued(first.certificate, one))
    paths = build_paths(parsed(below), list(map(parsed, (first, second))), [store(FOREIGN_ROOT)], NOW)
    assert not paths[0].is_valid


def test_hostile_pool_of_same_named_issuers_is_bounded():
    pool = [parsed(intermediate())]
    for serial in range(2000):
        # One key, so that making them is quick; another signature, so that each is a certificate of its own.
        builder = x509.CertificateBuilder(
            intermediate().certificate.subject, intermediate().certificate.subject, key("hostile").public_key(),
            serial + 1, LONG_AGO, FAR_OFF,
        )  # fmt: skip
        pool.append(parsed(Issued(builder.sign(key("hostile"), hashes.SHA256()), key("hostile"))))
    begun = time.thread_time()
    paths = build_paths(parsed(leaf()), [parsed(leaf()), *reversed(pool)], [store(root())], NOW)
    assert time.thread_time() - begun < 1
    assert paths[0].is_valid  # the key identifier has the right one tried first
    assert MAX_SIGNATURE_WORK < 2000


@pytest.mark.parametrize(
    ("kind", "verdict"),
    [("RSA 2048", SignatureVerdict.VERIFIED), ("P-384", SignatureVerdict.VERIFIED), ("Ed25519", SignatureVerdict.VERIFIED), ("Ed448", SignatureVerdict.VERIFIED)],
)  # fmt: skip
def test_signatures_of_every_kind(kind, verdict):
    issuer = ca(f"Issuer {kind}", key=key(f"issuer {kind}", kind))
    below = server(issuer)
    assert verify_signature(parsed(below), parsed(issuer)) is verdict
    assert verify_signature(parsed(damaged(below)), parsed(issuer)) is SignatureVerdict.BAD
    assert verify_signature(parsed(below), parsed(intermediate())) is SignatureVerdict.BAD


def test_rsa_pss_signature():
    from cryptography.hazmat.primitives.asymmetric import padding

    signer = key("issuer RSA 2048", "RSA 2048")
    issuer = ca("Issuer RSA 2048", key=signer)
    builder = x509.CertificateBuilder(
        issuer.certificate.subject, issuer.certificate.subject, key("leaf").public_key(), 7, LONG_AGO, FAR_OFF
    )
    pss = padding.PSS(padding.MGF1(hashes.SHA384()), 48)
    signed = Issued(builder.sign(signer, hashes.SHA384(), rsa_padding=pss), key("leaf"))
    assert verify_signature(parsed(signed), parsed(issuer)) is SignatureVerdict.VERIFIED


@pytest.mark.parametrize(
    ("name", "base", "below"),
    [
        ("host.example.com", "example.com", True), ("example.com", "example.com", True),
        ("badexample.com", "example.com", False), ("a.host.example.com", "host.example.com", True),
        ("example.com", ".example.com", False), ("a.example.com", ".example.com", True),
        ("anything.test", "", True), ("*.example.com", "example.com", True), ("A.Example.COM", "example.com", True),
        ("*.example.com", ".example.com", True), ("*.com", ".example.com", False),
    ],
)  # fmt: skip
def test_dns_subtrees(name, base, below):
    assert is_below(name, base) is below


def constrained(name: str, permitted: tuple[str, ...], excluded: tuple[str, ...]) -> list[tuple[str, str]]:
    """Faults of a path, and in which browser alone it opens."""
    bases = [[x509.DNSName(each) for each in group] or None for group in (permitted, excluded)]
    issuer = ca("Constrained", extra=[(x509.NameConstraints(*bases), True)])
    found = assess_chain([parsed(server(issuer, name)), parsed(issuer)], [], [store(root())], NOW)
    return [(fault.detail, fault.opens_in) for fault in found.alone.faults]


@pytest.mark.parametrize(
    ("name", "permitted", "excluded", "opens_in"),
    [
        pytest.param("*.x.example", (".x.example",), (), None, id="wildcard-under-a-dot"),
        pytest.param("*.x.example", ("x.example",), (), None, id="wildcard-under-a-name"),
        pytest.param("*.x.example", ("a.x.example",), (), "", id="wildcard-beyond"),
        pytest.param("*.x.example", (), ("a.x.example",), "", id="it-could-match-what-is-excluded"),
        pytest.param("*.x.example", (), ("A.X.EXAMPLE",), "", id="in-capitals"),
        pytest.param("*.x.example", (), ("a.b.x.example",), None, id="it-cannot-match-what-is-excluded"),
        pytest.param("*.x.example", (), (".x.example",), "", id="all-of-it-is-excluded"),
        pytest.param("*.x.example", (), (".a.x.example",), "Chromium", id="excluded-with-a-dot"),
        pytest.param("*.x.example", (), (".a.x.example", "b.x.example"), "", id="excluded-with-a-dot-and-without"),
        pytest.param("*.x.example", (), ("example.com",), None, id="excluded-elsewhere"),
    ],
)  # fmt: skip
def test_wildcards_and_constraints(name, permitted, excluded, opens_in):
    words = f"Constrained does not allow {name} (nameConstraints)"
    assert constrained(name, permitted, excluded) == ([] if opens_in is None else [(words, opens_in)])


@pytest.mark.parametrize(
    ("sent", "elsewhere", "valid", "missing", "misplaced", "superfluous"),
    [
        pytest.param([leaf(), intermediate()], [], True, [], [], [], id="good"),
        pytest.param([leaf()], [intermediate()], True, ["Intermediate"], [], [], id="incomplete"),
        pytest.param([leaf()], [], False, [], [], [], id="missing-and-not-to-be-had"),
        pytest.param([server(BELOW_SHORT)], [BELOW_SHORT, SHORT], False, [], [], [], id="what-would-be-invalid-does-not-help"),
        pytest.param([server(ca("Lower", intermediate())), intermediate(), ca("Lower", intermediate())], [], True, [], ["Intermediate"], [], id="wrong-order"),
        pytest.param([leaf(), intermediate(), intermediate()], [], True, [], [], [("Intermediate", "was sent already")], id="twice"),
        pytest.param([leaf(), intermediate(), root()], [], True, [], [], [("Root", "is the root itself, which every client has to have already")], id="root-sent"),
        pytest.param([leaf(), FOREIGN, intermediate()], [], True, [], [], [("Foreign intermediate", "is on no path from the server's certificate")], id="unrelated"),
        pytest.param([leaf(), intermediate(), OLD_CROSS], [], True, [], [], [], id="cross-certificate-is-not-superfluous"),
    ],
)  # fmt: skip
def test_assessment(sent, elsewhere, valid, missing, misplaced, superfluous):
    found = assess_chain(list(map(parsed, sent)), list(map(parsed, elsewhere)), [store(root())], NOW)
    assert found.best.is_valid is valid
    assert [each.title for each in found.missing] == missing
    assert [each.title for each in found.misplaced] == misplaced
    assert [(each.title, why) for each, why in found.superfluous] == superfluous
    assert (found.helped is not None) is bool(missing)


def test_self_signed_is_told_from_self_issued():
    assert assess_chain([parsed(server(None))], [], [store(root())], NOW).is_self_signed
    assert not assess_chain([parsed(leaf())], [], [store(root())], NOW).is_self_signed


def test_trusted_self_signed_certificate_is_its_own_path():
    alone = server(None)
    assert assess_chain([parsed(alone)], [], [store(alone)], NOW).alone.is_valid
