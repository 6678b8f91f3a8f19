"""Timestamps as logs of certificates sign them (RFC 6962 section 3.2)."""

import hashlib

from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from pewter.pki import Certificate

WHEN = 1_700_000_000_000


def spki_of(log: ec.EllipticCurvePrivateKey) -> bytes:
    return log.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)


def signed_timestamps(
    log: ec.EllipticCurvePrivateKey,
    certificate: Certificate,
    issuer: Certificate | None = None,
    *,
    named: ec.EllipticCurvePrivateKey | None = None,
) -> bytes:
    """A list of one; ``issuer``: of the precertificate; ``named``: the log that it says it is of, if another."""
    if issuer is not None:
        tbs = certificate.tbs
        entry = b"\x00\x01" + hashlib.sha256(issuer.spki).digest() + len(tbs).to_bytes(3, "big") + tbs
    else:
        entry = b"\x00\x00" + len(certificate.der).to_bytes(3, "big") + certificate.der
    signature = log.sign(b"\x00\x00" + WHEN.to_bytes(8, "big") + entry + b"\x00\x00", ec.ECDSA(hashes.SHA256()))
    log_id = hashlib.sha256(spki_of(named or log)).digest()
    end = b"\x00\x00\x04\x03" + len(signature).to_bytes(2, "big") + signature
    item = b"\x00" + log_id + WHEN.to_bytes(8, "big") + end
    items = len(item).to_bytes(2, "big") + item
    return len(items).to_bytes(2, "big") + items
