"""Does the server hold the certificate's private key?  (RFC 8446 section 4.4.3, RFC 5246 section 7.4.3)"""

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, padding, rsa

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
    try:
        key = x509.load_der_x509_certificate(leaf_der).public_key()
        return Proof.VERIFIED if _verify(key, scheme, signature, content) else Proof.NOT_CHECKED
    except InvalidSignature:
        return Proof.FAILED
    except (ValueError, TypeError, UnsupportedAlgorithm, x509.InvalidVersion):
        return Proof.NOT_CHECKED  # a certificate or key that cannot be loaded: the chain rules speak of it


def _verify(key: object, scheme: int | None, signature: bytes, content: bytes) -> bool:
    """True when verified, False when this kind is not checked; InvalidSignature otherwise."""
    algorithm = hashes.SHA1() if scheme is None else _HASHES.get(scheme >> 8)
    if isinstance(key, ed25519.Ed25519PublicKey | ed448.Ed448PublicKey):
        key.verify(signature, content)
    elif isinstance(key, rsa.RSAPublicKey) and scheme in _PSS:
        pss = padding.PSS(padding.MGF1(_PSS[scheme]), padding.PSS.DIGEST_LENGTH)
        key.verify(signature, content, pss, _PSS[scheme])
    elif algorithm is None:
        return False
    elif isinstance(key, rsa.RSAPublicKey) and scheme is not None:
        key.verify(signature, content, padding.PKCS1v15(), algorithm)
    elif isinstance(key, ec.EllipticCurvePublicKey):
        key.verify(signature, content, ec.ECDSA(algorithm))
    elif isinstance(key, dsa.DSAPublicKey):
        key.verify(signature, content, algorithm)
    else:
        return False
    return True
