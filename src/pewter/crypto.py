"""The one verifier of signatures: of certificates, CRLs, OCSP responses, timestamps of logs, and handshakes.

Who names an algorithm, by an object identifier or by a code point of TLS, says by a :class:`Scheme` what it is.
"""

import enum

import msgspec
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes
from cryptography.hazmat.primitives.asymmetric.utils import Prehashed


class SignatureVerdict(enum.Enum):
    """What came of checking one signature."""

    VERIFIED = "verified"
    BAD = "does not verify"
    UNSUPPORTED = "uses an algorithm or key that cannot be checked"


class Family(enum.Enum):
    """A kind of signature, and with it of key."""

    RSA_PKCS1 = "RSASSA-PKCS1-v1_5"
    RSA_PSS = "RSASSA-PSS"
    ECDSA = "ECDSA"
    ED25519 = "Ed25519"
    ED448 = "Ed448"
    DSA = "DSA"


class Scheme(msgspec.Struct, frozen=True):
    """A family with its parameters."""

    family: Family
    algorithm: hashes.HashAlgorithm | None = None
    """None for Ed25519 and Ed448, which hash by themselves."""

    mask_algorithm: hashes.HashAlgorithm | None = None
    """Of RSASSA-PSS; None for that of the message."""

    salt_octets: int | None = None
    """Of RSASSA-PSS; None for as many as the hash has."""


def verify(
    key: object, scheme: Scheme, signature: bytes, signed: bytes, *, is_digest: bool = False
) -> SignatureVerdict:
    """Check a signature by a public key; BAD where the key is of another kind than the signature.

    ``is_digest``: ``signed`` is what :func:`digest_of` gave of the octets that were signed.
    """
    if is_digest and scheme.algorithm is None:
        return SignatureVerdict.UNSUPPORTED
    try:
        fits = _verify(key, scheme, signature, signed, is_digest=is_digest)
    except InvalidSignature:
        return SignatureVerdict.BAD
    except (ValueError, TypeError, UnsupportedAlgorithm):
        return SignatureVerdict.UNSUPPORTED
    if fits:
        return SignatureVerdict.VERIFIED
    return SignatureVerdict.UNSUPPORTED if key is None else SignatureVerdict.BAD


def _verify(key: object, scheme: Scheme, signature: bytes, signed: bytes, *, is_digest: bool) -> bool:
    """Whether the key is of the kind that the scheme is for.  Raises where the signature does not verify."""
    match scheme.family, key:
        case Family.ED25519, ed25519.Ed25519PublicKey():
            key.verify(signature, signed)
            return True
        case Family.ED448, ed448.Ed448PublicKey():
            key.verify(signature, signed)
            return True
    algorithm = scheme.algorithm
    if algorithm is None:
        return False
    message_hash = Prehashed(algorithm) if is_digest else algorithm
    match scheme.family, key:
        case Family.RSA_PKCS1, rsa.RSAPublicKey():
            key.verify(signature, signed, padding.PKCS1v15(), message_hash)
        case Family.RSA_PSS, rsa.RSAPublicKey():
            salt = scheme.salt_octets if scheme.salt_octets is not None else algorithm.digest_size
            pss = padding.PSS(padding.MGF1(scheme.mask_algorithm or algorithm), salt)
            key.verify(signature, signed, pss, message_hash)
        case Family.ECDSA, ec.EllipticCurvePublicKey():
            key.verify(signature, signed, ec.ECDSA(message_hash))
        case Family.DSA, dsa.DSAPublicKey():
            key.verify(signature, signed, message_hash)
        case _:
            return False
    return True


def public_key_of(spki: bytes) -> PublicKeyTypes | None:
    """The key of a SubjectPublicKeyInfo, or None where the cryptography package cannot load its kind."""
    from cryptography.hazmat.primitives import serialization  # noqa: PLC0415  slow to load: commands that list do without

    try:
        return serialization.load_der_public_key(spki)
    except (ValueError, TypeError, UnsupportedAlgorithm):
        return None


def family_of(key: object) -> Family | None:
    """The family in which a key signs where the algorithm does not say; RSA keys sign as PKCS #1 v1.5 lays down."""
    match key:
        case rsa.RSAPublicKey():
            return Family.RSA_PKCS1
        case ec.EllipticCurvePublicKey():
            return Family.ECDSA
        case ed25519.Ed25519PublicKey():
            return Family.ED25519
        case ed448.Ed448PublicKey():
            return Family.ED448
        case dsa.DSAPublicKey():
            return Family.DSA
    return None


def digest_of(scheme: Scheme, signed: bytes) -> bytes | None:
    """What is signed, hashed as the scheme has it; None where the scheme takes no digest."""
    if scheme.algorithm is None:
        return None
    hashing = hashes.Hash(scheme.algorithm)
    hashing.update(signed)
    return hashing.finalize()
