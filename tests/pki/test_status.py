"""OCSP, CRLs and signed timestamps: published vectors, and answers made in the test with their fault stated."""

import datetime
from pathlib import Path

import cryptography_vectors
import msgspec
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509 import ocsp as x509_ocsp
from cryptography.x509.oid import ExtendedKeyUsageOID
from hypothesis import given
from hypothesis import strategies as st

from pewter.crypto import SignatureVerdict
from pewter.lab.authority import DAY, Issued, issue_ca, issue_server, make_key
from pewter.octets import DecodeError
from pewter.pki import Certificate, read_certificate, read_certificate_blocks
from pewter.pki.crls import condense_crl, judge_crl, read_crl
from pewter.pki.ocsp import build_ocsp_request, judge_ocsp, ocsp_get_url, read_ocsp_response
from pewter.pki.status import StatusKind, StatusVerdict
from pewter.pki.timestamps import Log, read_timestamps, tbs_without_timestamps, verify_timestamp
from support.certificates import NOW, intermediate, leaf, parsed, root
from support.status import ocsp_response
from support.timestamps import WHEN, signed_timestamps, spki_of

X509 = Path(cryptography_vectors.__file__).parent / "x509"
PKITS = X509 / "PKITS_data"


def responder(
    issuer: Issued | None = None, purposes=(ExtendedKeyUsageOID.OCSP_SIGNING,), end: datetime.datetime = NOW + 9 * DAY
) -> Issued:
    return issue_server(["ocsp.skerry-trust.example"], issuer or intermediate(), NOW - 9 * DAY, end, purposes=purposes)


OTHER_LEAF = issue_server(["other.example"], intermediate(), NOW - DAY, NOW + DAY)
UNSUCCESSFUL = x509_ocsp.OCSPResponseBuilder.build_unsuccessful(x509_ocsp.OCSPResponseStatus.TRY_LATER)
REVOKED, UNKNOWN = x509_ocsp.OCSPCertStatus.REVOKED, x509_ocsp.OCSPCertStatus.UNKNOWN


@pytest.mark.parametrize(
    ("response", "kind", "words"),
    [
        pytest.param(ocsp_response(), StatusKind.GOOD, "good until 2026-11-24", id="good"),
        pytest.param(ocsp_response(by_key=True), StatusKind.GOOD, "good", id="responder-by-key"),
        pytest.param(ocsp_response(algorithm=hashes.SHA256()), StatusKind.GOOD, "good", id="sha-256-id"),
        pytest.param(ocsp_response(next_update=None), StatusKind.GOOD, "without an end", id="no-next-update"),
        pytest.param(ocsp_response(status=REVOKED), StatusKind.REVOKED, "revoked on 2026-11-20, keyCompromise", id="revoked"),
        pytest.param(ocsp_response(status=UNKNOWN), StatusKind.UNKNOWN, "does not know", id="unknown"),
        pytest.param(ocsp_response(signer=responder()), StatusKind.GOOD, "good", id="delegated"),
        pytest.param(ocsp_response(signer=responder(purposes=())), StatusKind.NOT_AUTHORIZED, "not for OCSP signing", id="no-purpose"),
        pytest.param(ocsp_response(signer=responder(root())), StatusKind.NOT_AUTHORIZED, "did not issue", id="by-another-issuer"),
        pytest.param(ocsp_response(signer=responder(end=NOW - DAY)), StatusKind.NOT_AUTHORIZED, "ended", id="responder-expired"),
        pytest.param(ocsp_response(OTHER_LEAF), StatusKind.FOREIGN, "about serial", id="for-another-certificate"),
        pytest.param(ocsp_response(issuer=root(), of=leaf()), StatusKind.FOREIGN, "about serial", id="for-another-issuer"),
        pytest.param(ocsp_response(next_update=NOW), StatusKind.STALE, "ran out 2026-11-23 12:00", id="stale-at-the-limit"),
        pytest.param(ocsp_response(this_update=NOW), StatusKind.GOOD, "good", id="begins-at-the-limit"),
        pytest.param(ocsp_response(this_update=NOW + DAY / 288), StatusKind.GOOD, "good", id="five-minutes-ahead-by-another-clock"),
        pytest.param(ocsp_response(this_update=NOW + DAY, next_update=NOW + 2 * DAY), StatusKind.AHEAD, "valid from", id="ahead"),
        pytest.param(UNSUCCESSFUL.public_bytes(serialization.Encoding.DER), StatusKind.NOT_SUCCESSFUL, "tryLater", id="try-later"),
        pytest.param(b"", StatusKind.MALFORMED, "OCSPResponse", id="empty"),
        pytest.param(b"<html>", StatusKind.MALFORMED, "OCSPResponse", id="a-page"),
        pytest.param(ocsp_response()[:-40] + b"\x00" * 40, StatusKind.BAD_SIGNATURE, "no key", id="damaged-signature"),
    ],
)  # fmt: skip
def test_ocsp(response, kind, words):
    verdict = judge_ocsp(response, parsed(leaf()), parsed(intermediate()), NOW)
    assert verdict.kind is kind
    assert words in verdict.detail


@pytest.mark.parametrize("file", sorted((X509 / "ocsp").glob("*resp*.der")), ids=lambda path: path.stem)
def test_published_ocsp_responses_are_read_as_cryptography_reads_them(file):
    octets = file.read_bytes()
    try:
        theirs = x509_ocsp.load_der_ocsp_response(octets)
        serials = (
            [each.certificate_status.name for each in theirs.responses] if theirs.response_status.value == 0 else None
        )
    except ValueError:
        serials = "refused"
    try:
        ours = read_ocsp_response(octets)
        found = [each.status.name for each in ours.responses] if ours.status == 0 else None
    except DecodeError:
        found = "refused"
    # Ours reads these two on: what is unknown is a fact for the judge.
    if file.stem not in {"resp-unknown-response-status", "resp-invalid-version", "resp-successful-no-response-bytes"}:
        assert found == serials


def test_the_request_is_the_one_that_cryptography_builds():
    builder = x509_ocsp.OCSPRequestBuilder().add_certificate(
        leaf().certificate, intermediate().certificate, hashes.SHA1()
    )
    request = build_ocsp_request(parsed(leaf()), parsed(intermediate()))
    assert request == builder.build().public_bytes(serialization.Encoding.DER)
    assert ocsp_get_url("http://ocsp.x.example/", b"\x30\xfb\xff") == "http://ocsp.x.example/MPv%2F"


# CRLs


def crl(
    *serials: int, issuer: Issued | None = None, next_update: datetime.datetime = NOW + DAY, extensions=(), key=None
) -> bytes:
    issuer = issuer or intermediate()
    builder = x509.CertificateRevocationListBuilder(issuer.certificate.subject, NOW - DAY, next_update)
    for serial in serials:
        entry = x509.RevokedCertificateBuilder(serial, NOW - 2 * DAY)
        builder = builder.add_revoked_certificate(
            entry.add_extension(x509.CRLReason(x509.ReasonFlags.superseded), critical=False).build()
        )
    for extension, critical in extensions:
        builder = builder.add_extension(extension, critical)
    return builder.sign(key or issuer.key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)  # type: ignore[arg-type]


def point(**scope: object) -> tuple[x509.ExtensionType, bool]:
    plain = dict.fromkeys(
        ("only_contains_user_certs", "only_contains_ca_certs", "indirect_crl", "only_contains_attribute_certs"), False
    )
    given_scope = {"full_name": None, "relative_name": None, "only_some_reasons": None, **plain, **scope}
    return x509.IssuingDistributionPoint(**given_scope), True  # type: ignore[arg-type]


SERIAL = leaf().certificate.serial_number


@pytest.mark.parametrize(
    ("octets", "kind", "words"),
    [
        pytest.param(crl(5, SERIAL, 6), StatusKind.REVOKED, "revoked on 2026-11-21, superseded", id="listed"),
        pytest.param(crl(5, 6), StatusKind.GOOD, "not listed, until 2026-11-24", id="not-listed"),
        pytest.param(crl(), StatusKind.GOOD, "not listed", id="empty-list"),
        pytest.param(crl(SERIAL, next_update=NOW), StatusKind.STALE, "ran out", id="stale"),
        pytest.param(crl(SERIAL, issuer=root()), StatusKind.OUT_OF_SCOPE, "a list of Root", id="another-issuer"),
        pytest.param(crl(SERIAL, key=make_key()), StatusKind.BAD_SIGNATURE, "did not sign", id="badly-signed"),
        pytest.param(crl(extensions=[(x509.DeltaCRLIndicator(3), True)]), StatusKind.OUT_OF_SCOPE, "delta CRL", id="delta"),
        pytest.param(crl(extensions=[point(only_contains_ca_certs=True)]), StatusKind.OUT_OF_SCOPE, "other kinds", id="only-authorities"),
        pytest.param(crl(extensions=[point(only_contains_user_certs=True)]), StatusKind.GOOD, "not listed", id="only-users"),
        pytest.param(crl(extensions=[point(indirect_crl=True)]), StatusKind.OUT_OF_SCOPE, "indirect", id="indirect"),
        pytest.param(crl(extensions=[point(full_name=[x509.UniformResourceIdentifier("http://x.example/1.crl")])]), StatusKind.OUT_OF_SCOPE, "another distribution point", id="another-shard"),
        pytest.param(crl(extensions=[(x509.UnrecognizedExtension(x509.ObjectIdentifier("1.2.3"), b"\x05\x00"), True)]), StatusKind.UNCHECKED, "1.2.3", id="unknown-critical"),
        pytest.param(b"\x30\x03\x02\x01\x01", StatusKind.MALFORMED, "CertificateList", id="no-list"),
    ],
)  # fmt: skip
def test_crl(octets, kind, words):
    verdict = judge_crl(octets, parsed(leaf()), parsed(intermediate()), NOW)
    assert verdict.kind is kind
    assert words in verdict.detail
    if (condensed := condense_crl(octets, [SERIAL])) is not None:
        assert judge_crl(condensed[0], parsed(leaf()), parsed(intermediate()), NOW, condensed[1]) == verdict


def test_a_long_list_is_kept_with_what_was_asked_of_it():
    """The signature still verifies by the digest, and nothing can be left out of it unnoticed."""
    octets = crl(*range(1000, 1500), SERIAL, *range(2000, 2500))
    condensed, digest = condense_crl(octets, [SERIAL, 7])
    assert (len(condensed) < 500, len(octets) > 20_000) == (True, True)
    assert [read_crl(condensed).find(serial) is not None for serial in (SERIAL, 1000, 7)] == [True, False, False]
    of, issuer = parsed(leaf()), parsed(intermediate())
    assert judge_crl(condensed, of, issuer, NOW, digest).kind is StatusKind.REVOKED
    assert judge_crl(condensed, of, issuer, NOW, bytes(32)).kind is StatusKind.BAD_SIGNATURE
    assert judge_crl(condensed, of, issuer, NOW).kind is StatusKind.BAD_SIGNATURE
    assert condense_crl(b"\x30\x03\x02\x01\x01", [SERIAL]) is None


def test_an_issuer_that_may_not_sign_crls():
    issuer = issue_ca("No CRLs", None, NOW - DAY, NOW + DAY, crl_sign=False)
    of = issue_server(["x.example"], issuer, NOW - DAY, NOW + DAY)
    assert judge_crl(crl(issuer=issuer), parsed(of), parsed(issuer), NOW).kind is StatusKind.NOT_AUTHORIZED


def test_the_last_of_a_hundred_thousand_entries_is_found_in_time():
    entry = bytes.fromhex("3023021200")
    entries = b"".join(entry + i.to_bytes(17, "big") + b"\x17\x0d260101000000Z" for i in range(100_000))
    made = read_crl(crl())
    big = type(made)(**{name: getattr(made, name) for name in made.__slots__} | {"entries": entries})
    begun = datetime.datetime.now()
    assert big.find(99_999) is None  # another encoding of the number: DER has one form, and it is not this one
    assert (datetime.datetime.now() - begun).total_seconds() < 2


# NIST's suite, section 4.4: what its names say, for a client that demands a usable CRL of each issuer.
def _pkits(name: str) -> Certificate:
    read = read_certificate((PKITS / "certs" / f"{name}.crt").read_bytes())
    assert isinstance(read, Certificate)
    return read


PKITS_AT = datetime.datetime(2024, 6, 1, tzinfo=datetime.UTC)


@pytest.mark.parametrize(
    ("name", "issuer", "crl_file", "kind"),
    [
        ("InvalidRevokedCATest2", "RevokedsubCACert", "RevokedsubCACRL", StatusKind.GOOD),
        ("InvalidRevokedEETest3", "GoodCACert", "GoodCACRL", StatusKind.REVOKED),
        ("InvalidBadCRLSignatureTest4", "BadCRLSignatureCACert", "BadCRLSignatureCACRL", StatusKind.BAD_SIGNATURE),
        ("InvalidBadCRLIssuerNameTest5", "BadCRLIssuerNameCACert", "BadCRLIssuerNameCACRL", StatusKind.OUT_OF_SCOPE),
        ("InvalidWrongCRLTest6", "WrongCRLCACert", "WrongCRLCACRL", StatusKind.OUT_OF_SCOPE),
        ("ValidTwoCRLsTest7", "TwoCRLsCACert", "TwoCRLsCAGoodCRL", StatusKind.GOOD),
        ("InvalidUnknownCRLEntryExtensionTest8", "UnknownCRLEntryExtensionCACert", "UnknownCRLEntryExtensionCACRL", StatusKind.REVOKED),
        ("InvalidUnknownCRLExtensionTest9", "UnknownCRLExtensionCACert", "UnknownCRLExtensionCACRL", StatusKind.REVOKED),
        ("InvalidUnknownCRLExtensionTest10", "UnknownCRLExtensionCACert", "UnknownCRLExtensionCACRL", StatusKind.UNCHECKED),
        ("InvalidOldCRLnextUpdateTest11", "OldCRLnextUpdateCACert", "OldCRLnextUpdateCACRL", StatusKind.STALE),
        ("Invalidpre2000CRLnextUpdateTest12", "pre2000CRLnextUpdateCACert", "pre2000CRLnextUpdateCACRL", StatusKind.STALE),
        ("ValidGeneralizedTimeCRLnextUpdateTest13", "GeneralizedTimeCRLnextUpdateCACert", "GeneralizedTimeCRLnextUpdateCACRL", StatusKind.GOOD),
        ("ValidNegativeSerialNumberTest14", "NegativeSerialNumberCACert", "NegativeSerialNumberCACRL", StatusKind.GOOD),
        ("InvalidNegativeSerialNumberTest15", "NegativeSerialNumberCACert", "NegativeSerialNumberCACRL", StatusKind.REVOKED),
        ("ValidLongSerialNumberTest16", "LongSerialNumberCACert", "LongSerialNumberCACRL", StatusKind.GOOD),
        ("ValidLongSerialNumberTest17", "LongSerialNumberCACert", "LongSerialNumberCACRL", StatusKind.GOOD),
        ("InvalidLongSerialNumberTest18", "LongSerialNumberCACert", "LongSerialNumberCACRL", StatusKind.REVOKED),
        ("InvalidkeyUsageCriticalcRLSignFalseTest4", "keyUsageCriticalcRLSignFalseCACert", "keyUsageCriticalcRLSignFalseCACRL", StatusKind.NOT_AUTHORIZED),
        ("InvalidkeyUsageNotCriticalcRLSignFalseTest5", "keyUsageNotCriticalcRLSignFalseCACert", "keyUsageNotCriticalcRLSignFalseCACRL", StatusKind.NOT_AUTHORIZED),
        ("InvalidonlyContainsUserCertsTest11", "onlyContainsUserCertsCACert", "onlyContainsUserCertsCACRL", StatusKind.OUT_OF_SCOPE),
        ("InvalidonlyContainsCACertsTest12", "onlyContainsCACertsCACert", "onlyContainsCACertsCACRL", StatusKind.OUT_OF_SCOPE),
        ("ValidonlyContainsCACertsTest13", "onlyContainsCACertsCACert", "onlyContainsCACertsCACRL", StatusKind.GOOD),
        ("InvalidonlyContainsAttributeCertsTest14", "onlyContainsAttributeCertsCACert", "onlyContainsAttributeCertsCACRL", StatusKind.OUT_OF_SCOPE),
    ],
)  # fmt: skip
def test_pkits_section_4_4(name, issuer, crl_file, kind):
    octets = (PKITS / "crls" / f"{crl_file}.crl").read_bytes()
    of, ca = _pkits(f"{name}EE"), _pkits(issuer)
    verdict = judge_crl(octets, of, ca, PKITS_AT)
    assert verdict.kind is kind
    condensed, digest = condense_crl(octets, [of.serial])
    assert judge_crl(condensed, of, ca, PKITS_AT, digest) == verdict


# Signed certificate timestamps


def vector(name: str) -> Certificate:
    read = read_certificate(read_certificate_blocks((X509 / name).read_bytes())[0])
    assert isinstance(read, Certificate)
    return read


def test_the_precertificate_of_the_published_vector_is_rebuilt():
    certificate = vector("cryptography-scts.pem")
    assert tbs_without_timestamps(certificate) == (X509 / "cryptography-scts-tbs-precert.der").read_bytes()


def test_published_timestamps_are_read():
    certificate = vector("badssl-sct.pem")
    octets = certificate.extensions.signed_timestamps
    assert octets is not None
    theirs = x509.load_pem_x509_certificate((X509 / "badssl-sct.pem").read_bytes())
    expected = theirs.extensions.get_extension_for_class(x509.PrecertificateSignedCertificateTimestamps).value
    assert [(each.log_id, each.signature) for each in read_timestamps(octets)] == [
        (e.log_id, e.signature) for e in expected
    ]


@pytest.mark.parametrize("embedded", [True, False])
@pytest.mark.parametrize("fault", ["", "another time", "another log"])
def test_a_timestamp_is_verified_by_its_log(embedded, fault):
    key, other = (ec.generate_private_key(ec.SECP256R1()) for _ in range(2))
    certificate, issuer = parsed(leaf()), parsed(intermediate())
    log = Log("Tern log", spki_of(key))
    signer = other if fault == "another log" else key
    octets = signed_timestamps(signer, certificate, issuer if embedded else None, named=key)
    (timestamp,) = read_timestamps(octets)
    if fault == "another time":
        timestamp = msgspec.structs.replace(timestamp, milliseconds=WHEN + 1)
    verdict = verify_timestamp(timestamp, log, certificate, issuer if embedded else None)
    assert verdict is (SignatureVerdict.BAD if fault else SignatureVerdict.VERIFIED)


@given(st.binary(max_size=300))
def test_readers_of_any_octets_return_or_raise_decode_error(octets):
    for read in (read_ocsp_response, read_crl, read_timestamps):
        try:
            read(octets)
        except DecodeError:
            pass


BASES = [ocsp_response(), crl(SERIAL), crl(extensions=[point(only_contains_user_certs=True)])]


@given(st.sampled_from(BASES), st.lists(st.tuples(st.integers(0, 1500), st.integers(0, 255)), min_size=1, max_size=6))
def test_damaged_answers_give_a_verdict(base, changes):
    octets = bytearray(base)
    for position, value in changes:
        octets[position % len(octets)] = value
    for judge in (judge_ocsp, judge_crl):
        assert isinstance(judge(bytes(octets), parsed(leaf()), parsed(intermediate()), NOW), StatusVerdict)
