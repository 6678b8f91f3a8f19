"""Does one certificate's key verify another's signature?  (RFC 5280 section 6.1.3 (a)(1))"""

import enum
import functools
from dataclasses import dataclass

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

from pewter.octets import DecodeError

from . import der
from .certificates import Certificate
from .der import DerReader


class SignatureVerdict(enum.Enum):
    """What came of checking one signature."""

    VERIFIED = "verified"
    BAD = "does not verify"
    UNSUPPORTED = "uses an algorithm or key that cannot be checked"


_RSA = {
    "1.2.840.113549.1.1.4": hashes.MD5(),
    "1.2.840.113549.1.1.5": hashes.SHA1(),
    "1.2.840.113549.1.1.14": hashes.SHA224(),
    "1.2.840.113549.1.1.11": hashes.SHA256(),
    "1.2.840.113549.1.1.12": hashes.SHA384(),
    "1.2.840.113549.1.1.13": hashes.SHA512(),
}
_ECDSA = {
    "1.2.840.10045.4.1": hashes.SHA1(),
    "1.2.840.10045.4.3.1": hashes.SHA224(),
    "1.2.840.10045.4.3.2": hashes.SHA256(),
    "1.2.840.10045.4.3.3": hashes.SHA384(),
    "1.2.840.10045.4.3.4": hashes.SHA512(),
}
_DSA = {"1.2.840.10040.4.3": hashes.SHA1(), "2.16.840.1.101.3.4.3.2": hashes.SHA256()}
_RSASSA_PSS = "1.2.840.113549.1.1.10"
_ED25519 = "1.3.101.112"
_ED448 = "1.3.101.113"
_PSS_HASHES: dict[str, hashes.HashAlgorithm] = {
    "1.3.14.3.2.26": hashes.SHA1(),
    "2.16.840.1.101.3.4.2.1": hashes.SHA256(),
    "2.16.840.1.101.3.4.2.2": hashes.SHA384(),
    "2.16.840.1.101.3.4.2.3": hashes.SHA512(),
}


_WEAK_HASHES = {
    "1.2.840.113549.1.1.2": "MD2",
    "1.2.840.113549.1.1.3": "MD4",
    "1.2.840.113549.1.1.4": "MD5",
    "1.2.840.113549.1.1.5": "SHA-1",
    "1.3.14.3.2.29": "SHA-1",
    "1.2.840.10045.4.1": "SHA-1",
    "1.2.840.10040.4.3": "SHA-1",
}


@dataclass(frozen=True)
class _Check:
    """One certificate and one issuer; the same check is asked for again for every store and endpoint."""

    certificate: Certificate
    issuer: Certificate

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Check) and self._key == other._key

    def __hash__(self) -> int:
        return hash(self._key)

    @property
    def _key(self) -> tuple[str, bytes]:
        return self.certificate.sha256, self.issuer.spki


def verify_signature(certificate: Certificate, issuer: Certificate) -> SignatureVerdict:
    """Check ``certificate``'s signature by ``issuer``'s key; names are not compared here.

    A certificate whose outer and inner signature algorithm differ is BAD (RFC 5280 section 4.1.1.2).
    """
    return _remembered(_Check(certificate, issuer))


@functools.lru_cache(maxsize=4096)
def _remembered(check: _Check) -> SignatureVerdict:
    certificate = check.certificate
    if certificate.signature_algorithm != certificate.tbs_signature_algorithm:
        return SignatureVerdict.BAD
    key = check.issuer.public_key
    return verify_octets(key, certificate.signature_algorithm, certificate.signature, certificate.tbs)


def verify_octets(key: PublicKeyTypes | None, algorithm: bytes, signature: bytes, signed: bytes) -> SignatureVerdict:
    """Check a signature as in certificates, CRLs and OCSP responses; ``algorithm`` is an AlgorithmIdentifier."""
    try:
        return _verify(key, algorithm, signature, signed)
    except InvalidSignature:
        return SignatureVerdict.BAD
    except (DecodeError, ValueError, TypeError, UnsupportedAlgorithm):
        return SignatureVerdict.UNSUPPORTED


def weak_hash(algorithm: bytes) -> str | None:
    """``SHA-1`` or ``MD5`` where the AlgorithmIdentifier signs with one; None for a sound hash, or an unknown one."""
    try:
        fields = DerReader(algorithm, "AlgorithmIdentifier").nested(der.SEQUENCE, "algorithm")
        oid = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "algorithm")
        if oid == _RSASSA_PSS:
            return "SHA-1" if isinstance(_read_pss_parameters(fields)[0], hashes.SHA1) else None
    except DecodeError:
        return None
    return _WEAK_HASHES.get(oid)


def _verify(key: PublicKeyTypes | None, algorithm_octets: bytes, signature: bytes, tbs: bytes) -> SignatureVerdict:
    fields = DerReader(algorithm_octets, "AlgorithmIdentifier").nested(der.SEQUENCE, "algorithm")
    oid = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "algorithm")
    if isinstance(key, rsa.RSAPublicKey) and oid in _RSA:
        key.verify(signature, tbs, padding.PKCS1v15(), _RSA[oid])
    elif isinstance(key, rsa.RSAPublicKey) and oid == _RSASSA_PSS:
        algorithm, mask_algorithm, salt_octets = _read_pss_parameters(fields)
        key.verify(signature, tbs, padding.PSS(padding.MGF1(mask_algorithm), salt_octets), algorithm)
    elif isinstance(key, ec.EllipticCurvePublicKey) and oid in _ECDSA:
        key.verify(signature, tbs, ec.ECDSA(_ECDSA[oid]))
    elif (isinstance(key, ed25519.Ed25519PublicKey) and oid == _ED25519) or (
        isinstance(key, ed448.Ed448PublicKey) and oid == _ED448
    ):
        key.verify(signature, tbs)
    elif isinstance(key, dsa.DSAPublicKey) and oid in _DSA:
        key.verify(signature, tbs, _DSA[oid])
    elif key is None or oid not in {*_RSA, *_ECDSA, *_DSA, _RSASSA_PSS, _ED25519, _ED448}:
        return SignatureVerdict.UNSUPPORTED
    else:
        return SignatureVerdict.BAD  # the issuer's key is of another kind than the signature
    return SignatureVerdict.VERIFIED


def _read_pss_parameters(fields: DerReader) -> tuple[hashes.HashAlgorithm, hashes.HashAlgorithm, int]:
    """Hash, hash of the mask generation, salt octets, with the defaults of RFC 4055 section 3.1."""
    parameters = fields.nested(der.SEQUENCE, "RSASSA-PSS-params")
    algorithm: hashes.HashAlgorithm = hashes.SHA1()
    mask_algorithm: hashes.HashAlgorithm = hashes.SHA1()
    salt_octets = 20
    if (tagged := parameters.optional(0xA0)) is not None:
        algorithm = _read_hash(DerReader(tagged.content, "hashAlgorithm"))
    if (tagged := parameters.optional(0xA1)) is not None:
        mask = DerReader(tagged.content, "maskGenAlgorithm").nested(der.SEQUENCE, "maskGenAlgorithm")
        mask.next(der.OBJECT_IDENTIFIER)
        mask_algorithm = _read_hash(mask)
    if (tagged := parameters.optional(0xA2)) is not None:
        salt_octets = der.read_integer(DerReader(tagged.content, "saltLength").next(der.INTEGER).content, "saltLength")
    return algorithm, mask_algorithm, salt_octets


def _read_hash(reader: DerReader) -> hashes.HashAlgorithm:
    fields = reader.nested(der.SEQUENCE, "AlgorithmIdentifier")
    oid = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "hashAlgorithm")
    if oid not in _PSS_HASHES:
        raise DecodeError("RSASSA-PSS-params", 0, f"hash {oid}")
    return _PSS_HASHES[oid]
