"""NIST's path validation suite (PKITS), as the package cryptography-vectors carries it.

A file name says what is expected ("Valid...", "Invalid...") for a client that accepts any policy, does
not ask for one, and trusts the one root.  Left out, each group with its reason: what a web client
without CRLs cannot tell, and DSA keys that inherit their parameters.
"""

import datetime
import functools
import re
from pathlib import Path

import cryptography_vectors
import pytest

from pewter.pki import Certificate, Store, build_paths, life_of, read_certificate

FOLDER = Path(cryptography_vectors.__file__).parent / "x509" / "PKITS_data" / "certs"
AT = datetime.datetime(2024, 6, 1, tzinfo=datetime.UTC)

# Expected results of section 4.8, whose names do not say them (initial policy set: any; no explicit policy).
REJECTED_BY_POLICY = {f"DifferentPoliciesTest{number}" for number in (4, 5, 7, 8, 9, 12)}
ACCEPTED = re.compile(
    r"Valid|AllCertificates|AnyPolicyTest14|DifferentPoliciesTest3\b|OverlappingPolicies|UserNotice|CPSPointer|inhibitAnyPolicyTest3"
)

LEFT_OUT = {
    "revocation by CRL (sections 4.4, 4.14, 4.15 and keys of CRL issuers): tested in test_status.py where Pewter reads CRLs": re.compile(
        r"^(Valid|Invalid)("
        r"MissingCRL|Revoked|BadCRL|WrongCRL|TwoCRLs|UnknownCRL|OldCRL|pre2000CRL|GeneralizedTimeCRL|NegativeSerial|LongSerial"
        r"|SeparateCertificateandCRLKeys|BasicSelfIssued.*Test[2578]EE|BasicSelfIssuedCRLSigningKey"
        r"|keyUsage.*cRLSignFalse|distributionPoint|NoissuingDistributionPoint|only|IDPwithindirectCRL|cRLIssuer|deltaCRL)"
    ),
    "DSA with SHA-1, which web clients refuse for its hash": re.compile("ValidDSASignatures"),
    "DSA with parameters inherited from the issuer: no web client has it": re.compile("DSAParameterInheritance"),
}


def reason_to_leave_out(name: str) -> str | None:
    return next((reason for reason, pattern in LEFT_OUT.items() if pattern.search(name)), None)


ALL = sorted(path.stem.removesuffix("EE") for path in FOLDER.glob("*EE.crt"))
RUN = [name for name in ALL if reason_to_leave_out(f"{name}EE") is None]


@functools.cache
def authorities() -> tuple[Certificate, ...]:
    read = (
        read_certificate(path.read_bytes()) for path in sorted(FOLDER.glob("*.crt")) if not path.stem.endswith("EE")
    )
    return tuple(each for each in read if isinstance(each, Certificate))


def is_accepted(name: str) -> bool:
    leaf = read_certificate((FOLDER / f"{name}EE.crt").read_bytes())
    if not isinstance(leaf, Certificate):
        return False
    root = read_certificate((FOLDER / "TrustAnchorRootCertificate.crt").read_bytes())
    assert isinstance(root, Certificate)
    life = life_of(leaf)
    in_date = not life.is_over(AT) and not life.is_ahead(AT)
    # A leaf that is not meant for TLS servers has no extendedKeyUsage here, so the purpose rejects nothing.
    return in_date and build_paths(leaf, authorities(), [Store("PKITS", (root,))], AT)[0].is_valid


@pytest.mark.parametrize("name", RUN)
def test_agrees_with_the_suite(name):
    expected = bool(ACCEPTED.match(name)) and name not in REJECTED_BY_POLICY
    assert is_accepted(name) is expected


def test_nothing_is_left_out_without_a_reason():
    print(f"PKITS: {len(ALL)} end certificates, {len(RUN)} run, {len(ALL) - len(RUN)} left out")
    assert len(ALL) - len(RUN) <= 90
