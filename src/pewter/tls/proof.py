"""Does the server hold the certificate's private key?  (RFC 8446 section 4.4.3, RFC 5246 section 7.4.3)"""

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes

from pewter.crypto import Family, Scheme, SignatureVerdict, family_of, verify
from pewter.evidence import Proof

_HASHES: dict[int, hashes.HashAlgorithm] = {
    2: hashes.SHA1(),
    3: hashes.SHA224(),
    4: hashes.SHA256(),
    5: hashes.SHA384(),
    6: hashes.SHA512(),
}
_PSS: dict[int, hashes.HashAlgorithm] = {
    0x0804: hashes.SHA256(),
    0x0805: hashes.SHA384(),
    0x0806: hashes.SHA512(),
    0x0809: hashes.SHA256(),
    0x080A: hashes.SHA384(),
    0x080B: hashes.SHA512(),
}
_TLS_1_3_CONTEXT = b" " * 64 + b"TLS 1.3, server CertificateVerify" + b"\x00"


def certificate_verify_content(transcript_hash: bytes) -> bytes:
    """The octets that a TLS 1.3 server signs."""
    return _TLS_1_3_CONTEXT + transcript_hash


def verify_proof(leaf_der: bytes, scheme: int | None, signature: bytes, content: bytes) -> Proof:
    """Verify ``signature`` over ``content`` by the key in the certificate ``leaf_der``.

    ``scheme`` is None before TLS 1.2: ECDSA and DSA then sign SHA-1; RSA signs MD5 and SHA-1
    side by side, which is not checked here.
    """
    from cryptography import x509  # noqa: PLC0415  slow to load, and saved reviews are judged without

    try:
        key = x509.load_der_x509_certificate(leaf_der).public_key()
    except (ValueError, TypeError, UnsupportedAlgorithm, x509.InvalidVersion):
        return Proof.NOT_CHECKED  # a certificate or key that cannot be loaded: the chain rules speak of it
    named = _scheme(key, scheme)
    return _PROOFS[verify(key, named, signature, content)] if named is not None else Proof.NOT_CHECKED


_PROOFS = {
    SignatureVerdict.VERIFIED: Proof.VERIFIED,
    SignatureVerdict.BAD: Proof.FAILED,
    SignatureVerdict.UNSUPPORTED: Proof.NOT_CHECKED,
}


def _scheme(key: object, code: int | None) -> Scheme | None:
    """What a key of this kind signs by under a SignatureScheme; None where it is not checked."""
    family = family_of(key)
    if family in {Family.ED25519, Family.ED448}:
        return Scheme(family)
    if family is Family.RSA_PKCS1 and code in _PSS:
        return Scheme(Family.RSA_PSS, _PSS[code])
    algorithm = hashes.SHA1() if code is None else _HASHES.get(code >> 8)
    if family is None or algorithm is None or (family is Family.RSA_PKCS1 and code is None):
        return None
    return Scheme(family, algorithm)
