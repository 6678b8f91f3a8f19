"""Does one certificate's key verify another's signature?  (RFC 5280 section 6.1.3 (a)(1))"""

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

from pewter.crypto import Family, Scheme, SignatureVerdict, digest_of, verify
from pewter.kept import kept
from pewter.octets import DecodeError

from . import der
from .certificates import Certificate
from .der import DerReader

_RSASSA_PSS = "1.2.840.113549.1.1.10"
_SCHEMES = {
    "1.2.840.113549.1.1.4": Scheme(Family.RSA_PKCS1, hashes.MD5()),
    "1.2.840.113549.1.1.5": Scheme(Family.RSA_PKCS1, hashes.SHA1()),
    "1.2.840.113549.1.1.14": Scheme(Family.RSA_PKCS1, hashes.SHA224()),
    "1.2.840.113549.1.1.11": Scheme(Family.RSA_PKCS1, hashes.SHA256()),
    "1.2.840.113549.1.1.12": Scheme(Family.RSA_PKCS1, hashes.SHA384()),
    "1.2.840.113549.1.1.13": Scheme(Family.RSA_PKCS1, hashes.SHA512()),
    "1.2.840.10045.4.1": Scheme(Family.ECDSA, hashes.SHA1()),
    "1.2.840.10045.4.3.1": Scheme(Family.ECDSA, hashes.SHA224()),
    "1.2.840.10045.4.3.2": Scheme(Family.ECDSA, hashes.SHA256()),
    "1.2.840.10045.4.3.3": Scheme(Family.ECDSA, hashes.SHA384()),
    "1.2.840.10045.4.3.4": Scheme(Family.ECDSA, hashes.SHA512()),
    "1.2.840.10040.4.3": Scheme(Family.DSA, hashes.SHA1()),
    "2.16.840.1.101.3.4.3.2": Scheme(Family.DSA, hashes.SHA256()),
    "1.3.101.112": Scheme(Family.ED25519),
    "1.3.101.113": Scheme(Family.ED448),
}
"""By the object identifier of the algorithm (RFC 8017, RFC 5758, RFC 8410)."""

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


MOST_VERDICTS = 1024
_VERDICTS: dict[tuple[str, bytes], SignatureVerdict] = {}
"""By what was signed and whose key: the same check is asked for again for every store and endpoint.

Certificates themselves are not kept: a server chooses how large they are, and a survey sees thousands.
"""


def verify_signature(certificate: Certificate, issuer: Certificate) -> SignatureVerdict:
    """Check ``certificate``'s signature by ``issuer``'s key; names are not compared here.

    A certificate whose outer and inner signature algorithm differ is BAD (RFC 5280 section 4.1.1.2).
    """
    check = certificate.sha256, issuer.spki_sha256
    verdict = _VERDICTS.get(check)
    if verdict is None:
        if len(_VERDICTS) >= MOST_VERDICTS:
            _VERDICTS.clear()
        verdict = _VERDICTS[check] = _verify(certificate, issuer)
    return verdict


def _verify(certificate: Certificate, issuer: Certificate) -> SignatureVerdict:
    if certificate.signature_algorithm != certificate.tbs_signature_algorithm:
        return SignatureVerdict.BAD
    return verify_octets(issuer.public_key, certificate.signature_algorithm, certificate.signature, certificate.tbs)


def verify_octets(
    key: PublicKeyTypes | None, algorithm: bytes, signature: bytes, signed: bytes, *, is_digest: bool = False
) -> SignatureVerdict:
    """Check a signature as in certificates, CRLs and OCSP responses; ``algorithm`` is an AlgorithmIdentifier."""
    try:
        scheme = _read_scheme(algorithm)
    except DecodeError:
        return SignatureVerdict.UNSUPPORTED
    if scheme is None or key is None:
        return SignatureVerdict.UNSUPPORTED
    return verify(key, scheme, signature, signed, is_digest=is_digest)


@kept(most=256)
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


def digest_for(algorithm: bytes, signed: bytes) -> bytes | None:
    """What is signed, hashed as an AlgorithmIdentifier has it; None where it takes no digest, or is not known."""
    try:
        scheme = _read_scheme(algorithm)
    except DecodeError:
        return None
    return digest_of(scheme, signed) if scheme is not None else None


def _read_scheme(algorithm: bytes) -> Scheme | None:
    """None for one that is not known."""
    fields = DerReader(algorithm, "AlgorithmIdentifier").nested(der.SEQUENCE, "algorithm")
    oid = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "algorithm")
    if oid == _RSASSA_PSS:
        hashed, mask, salt_octets = _read_pss_parameters(fields)
        return Scheme(Family.RSA_PSS, hashed, mask, salt_octets)
    return _SCHEMES.get(oid)


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
