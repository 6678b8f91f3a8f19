"""Answers of a CA, made for a test."""

import datetime

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.x509 import ocsp as x509_ocsp

from pewter.lab.authority import DAY, Issued
from support.certificates import NOW, intermediate, leaf


def ocsp_response(
    of: Issued | None = None,
    issuer: Issued | None = None,
    status: x509_ocsp.OCSPCertStatus = x509_ocsp.OCSPCertStatus.GOOD,
    signer: Issued | None = None,
    by_key: bool = False,
    this_update: datetime.datetime = NOW - DAY,
    next_update: datetime.datetime | None = NOW + DAY,
    algorithm: hashes.HashAlgorithm | None = None,
) -> bytes:
    """A response by the issuer, or by ``signer`` whose certificate it encloses."""
    issuer = issuer or intermediate()
    responder = signer or issuer
    encoding = x509_ocsp.OCSPResponderEncoding.HASH if by_key else x509_ocsp.OCSPResponderEncoding.NAME
    builder = x509_ocsp.OCSPResponseBuilder().add_response(
        (of or leaf()).certificate,
        issuer.certificate,
        algorithm or hashes.SHA1(),
        status,
        this_update,
        next_update,
        NOW - 3 * DAY if status is x509_ocsp.OCSPCertStatus.REVOKED else None,
        x509.ReasonFlags.key_compromise if status is x509_ocsp.OCSPCertStatus.REVOKED else None,
    )
    builder = builder.responder_id(encoding, responder.certificate)
    if signer is not None:
        builder = builder.certificates([signer.certificate])
    return builder.sign(responder.key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)  # type: ignore[arg-type]


def signed_list(issuer: Issued, *serials: int) -> bytes:
    """A CRL with these serial numbers, superseded a day ago."""
    builder = x509.CertificateRevocationListBuilder(issuer.certificate.subject, NOW - DAY, NOW + DAY)
    reason = x509.CRLReason(x509.ReasonFlags.superseded)
    for serial in serials:
        entry = x509.RevokedCertificateBuilder(serial, NOW - DAY).add_extension(reason, critical=False)
        builder = builder.add_revoked_certificate(entry.build())
    return builder.sign(issuer.key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)  # type: ignore[arg-type]
