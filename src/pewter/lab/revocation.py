"""A CA's OCSP responder and CRL, as handlers of a web server of the lab."""

import base64
import binascii
import datetime
import urllib.parse
from collections.abc import Mapping

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.x509 import ocsp

from .authority import DAY, Issued

SUPERSEDED = x509.ReasonFlags.superseded
Revoked = Mapping[int, datetime.datetime]
"""When each revoked serial number was revoked."""


def answer_ocsp(issuer: Issued, issued: Mapping[int, Issued], revoked: Revoked, asked: str) -> bytes:
    """The response to a GET (RFC 6960 appendix A.1); ``asked`` is the last segment of the path."""
    try:
        octets = base64.b64decode(urllib.parse.unquote(asked), validate=True)
        serial = ocsp.load_der_ocsp_request(octets).serial_number
        certificate = issued[serial].certificate
    except (binascii.Error, ValueError, KeyError):
        unsuccessful = ocsp.OCSPResponseStatus.UNAUTHORIZED
        return ocsp.OCSPResponseBuilder.build_unsuccessful(unsuccessful).public_bytes(serialization.Encoding.DER)
    now = datetime.datetime.now(datetime.UTC)
    at = revoked.get(serial)
    status = ocsp.OCSPCertStatus.GOOD if at is None else ocsp.OCSPCertStatus.REVOKED
    reason = None if at is None else SUPERSEDED
    builder = ocsp.OCSPResponseBuilder().add_response(
        certificate, issuer.certificate, hashes.SHA1(), status, now - DAY / 2, now + 3 * DAY, at, reason
    )
    builder = builder.responder_id(ocsp.OCSPResponderEncoding.HASH, issuer.certificate)
    return builder.sign(issuer.key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)


def make_crl(issuer: Issued, revoked: Revoked) -> bytes:
    now = datetime.datetime.now(datetime.UTC)
    builder = x509.CertificateRevocationListBuilder(issuer.certificate.subject, now - DAY / 2, now + 3 * DAY)
    for serial, at in revoked.items():
        entry = x509.RevokedCertificateBuilder(serial, at).add_extension(x509.CRLReason(SUPERSEDED), critical=False)
        builder = builder.add_revoked_certificate(entry.build())
    return builder.sign(issuer.key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)
