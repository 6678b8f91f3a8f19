"""Signed certificate timestamps (RFC 6962 section 3): reading, and verifying by the key of a log."""

import datetime
import hashlib
import struct
from collections.abc import Mapping

import msgspec
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

from pewter.crypto import SignatureVerdict, public_key_of
from pewter.octets import DecodeError, Reader

from . import der
from .certificates import Certificate
from .der import DerReader
from .identifiers import PRECERTIFICATE_POISON, SIGNED_CERTIFICATE_TIMESTAMPS
from .signatures import verify_octets

# AlgorithmIdentifiers for SHA-256 with ECDSA and with RSA, the two that RFC 6962 section 2.1.4 allows.
_ALGORITHMS = {
    (4, 3): bytes.fromhex("300a06082a8648ce3d040302"),
    (4, 1): bytes.fromhex("300d06092a864886f70d01010b0500"),
}
_X509_ENTRY, _PRECERT_ENTRY = 0, 1


class SignedTimestamp(msgspec.Struct, frozen=True):
    """One SCT of version 1."""

    log_id: bytes
    """SHA-256 of the log's SubjectPublicKeyInfo."""

    at: datetime.datetime
    extensions: bytes
    hash_algorithm: int
    signature_algorithm: int
    signature: bytes
    milliseconds: int
    """Since 1970, as signed."""


class Log(msgspec.Struct, frozen=True):
    """A log whose key is known."""

    title: str
    spki: bytes

    @property
    def log_id(self) -> bytes:
        return hashlib.sha256(self.spki).digest()

    @property
    def key(self) -> PublicKeyTypes | None:
        return public_key_of(self.spki)


def read_timestamps(octets: bytes) -> tuple[SignedTimestamp, ...]:
    """Read a SignedCertificateTimestampList; an SCT of another version is passed over.  DecodeError for no list."""
    outer = Reader(octets, "SignedCertificateTimestampList")
    items = Reader(outer.vector(2), "SerializedSCT")
    outer.end()
    found: list[SignedTimestamp] = []
    while items:
        fields = Reader(items.vector(2), "SignedCertificateTimestamp")
        if fields.uint(1) != 0:
            continue
        log_id = fields.take(32)
        milliseconds = fields.uint(8)
        extensions = fields.vector(2)
        hash_algorithm, signature_algorithm = fields.uint(1), fields.uint(1)
        signature = fields.vector(2)
        try:
            at = datetime.datetime.fromtimestamp(milliseconds / 1000, datetime.UTC)
        except (ValueError, OverflowError, OSError) as exc:
            raise DecodeError("SignedCertificateTimestamp", 33, "a time beyond the year 9999") from exc
        found.append(
            SignedTimestamp(log_id, at, extensions, hash_algorithm, signature_algorithm, signature, milliseconds)
        )
    return tuple(found)


def verify_timestamp(
    timestamp: SignedTimestamp, log: Log, certificate: Certificate, issuer: Certificate | None
) -> SignatureVerdict:
    """Check one SCT by its log's key.

    ``issuer`` is given for an SCT embedded in the certificate, which signs the precertificate; None for
    one that came by OCSP or in the handshake, which signs the certificate as it is (section 3.2).
    """
    algorithm = _ALGORITHMS.get((timestamp.hash_algorithm, timestamp.signature_algorithm))
    if algorithm is None:
        return SignatureVerdict.UNSUPPORTED
    if issuer is None:
        entry = struct.pack(">H", _X509_ENTRY) + _vector3(certificate.der)
    else:
        issuer_key_hash = issuer.spki_sha256
        try:
            entry = struct.pack(">H", _PRECERT_ENTRY) + issuer_key_hash + _vector3(tbs_without_timestamps(certificate))
        except DecodeError:
            return SignatureVerdict.UNSUPPORTED
    head = struct.pack(">BBQ", 0, 0, timestamp.milliseconds)
    tail = struct.pack(">H", len(timestamp.extensions)) + timestamp.extensions
    return verify_octets(log.key, algorithm, timestamp.signature, head + entry + tail)


def tbs_without_timestamps(certificate: Certificate) -> bytes:
    """tbsCertificate without its SCTs (and without the poison), as the log signed it (section 3.2)."""
    fields = DerReader(DerReader(certificate.tbs, "tbsCertificate").next(der.SEQUENCE).content, "tbsCertificate")
    kept: list[bytes] = []
    while fields:
        element = fields.next()
        kept.append(_without_timestamps(element.content) if element.tag == 0xA3 else element.octets)
    return der.build(der.SEQUENCE, b"".join(kept))


def _without_timestamps(extensions: bytes) -> bytes:
    sequence = DerReader(extensions, "Extensions").nested(der.SEQUENCE, "Extensions")
    kept: list[bytes] = []
    while sequence:
        extension = sequence.next(der.SEQUENCE)
        identifier = DerReader(extension.content, "Extension").next(der.OBJECT_IDENTIFIER).content
        if der.read_oid(identifier, "extnID") not in {SIGNED_CERTIFICATE_TIMESTAMPS, PRECERTIFICATE_POISON}:
            kept.append(extension.octets)
    return der.build(0xA3, der.build(der.SEQUENCE, b"".join(kept)))


def _vector3(octets: bytes) -> bytes:
    return len(octets).to_bytes(3, "big") + octets


def by_log_id(logs: tuple[Log, ...]) -> Mapping[bytes, Log]:
    return {log.log_id: log for log in logs}
