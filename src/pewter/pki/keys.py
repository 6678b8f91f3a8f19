"""What a SubjectPublicKeyInfo says of its key (RFC 5280 section 4.1.2.7), read from the octets.

Kinds that the cryptography package cannot load are read too: a review has to name them.
"""

import msgspec

from pewter.octets import DecodeError

from . import der
from .der import DerReader

_RSA = "1.2.840.113549.1.1.1"
_RSA_PSS = "1.2.840.113549.1.1.10"
_DSA = "1.2.840.10040.4.1"
_EC = "1.2.840.10045.2.1"
_PLAIN = {
    "1.3.101.112": ("Ed25519", 256),
    "1.3.101.113": ("Ed448", 456),
    "1.3.101.110": ("X25519", 256),
    "1.3.101.111": ("X448", 448),
    "2.16.840.1.101.3.4.3.17": ("ML-DSA-44", 10496),
    "2.16.840.1.101.3.4.3.18": ("ML-DSA-65", 15616),
    "2.16.840.1.101.3.4.3.19": ("ML-DSA-87", 20736),
}
_CURVES = {
    "1.2.840.10045.3.1.1": ("P-192", 192),
    "1.3.132.0.33": ("P-224", 224),
    "1.2.840.10045.3.1.7": ("P-256", 256),
    "1.3.132.0.34": ("P-384", 384),
    "1.3.132.0.35": ("P-521", 521),
    "1.3.132.0.10": ("secp256k1", 256),
    "1.3.36.3.3.2.8.1.1.7": ("brainpoolP256r1", 256),
    "1.3.36.3.3.2.8.1.1.11": ("brainpoolP384r1", 384),
    "1.3.36.3.3.2.8.1.1.13": ("brainpoolP512r1", 512),
    "1.2.156.10197.1.301": ("SM2", 256),
    "1.3.132.0.1": ("sect163k1", 163),
    "1.3.132.0.15": ("sect163r2", 163),
    "1.3.132.0.26": ("sect233k1", 233),
    "1.3.132.0.27": ("sect233r1", 233),
    "1.3.132.0.16": ("sect283k1", 283),
    "1.3.132.0.17": ("sect283r1", 283),
}


class KeyFacts(msgspec.Struct, frozen=True):
    """One public key."""

    kind: str
    """``RSA``, ``RSA-PSS``, ``EC``, ``DSA``, ``Ed25519`` and so on; the identifier of any other."""

    bits: int = 0
    """Of the modulus or the curve; 0 where it is not known."""

    curve: str = ""
    """``P-256``; ``explicit parameters`` where the curve is written out instead of named."""

    exponent: int = 0
    """The public exponent of an RSA key."""

    def __str__(self) -> str:
        """``RSA 2048``, ``EC P-256``, ``Ed25519``."""
        if self.kind == "EC":
            return f"EC {self.curve}"
        return f"{self.kind} {self.bits}" if self.kind in {"RSA", "RSA-PSS", "DSA"} and self.bits else self.kind


def read_key_facts(spki: bytes) -> KeyFacts:
    """Never raises: what cannot be read is a key of the kind ``unreadable``."""
    try:
        return _read(spki)
    except DecodeError:
        return KeyFacts("unreadable")


def subject_public_key(spki: bytes) -> bytes:
    """The content of the BIT STRING, which is what OCSP hashes (RFC 6960 section 4.1.1)."""
    fields = DerReader(spki, "SubjectPublicKeyInfo").nested(der.SEQUENCE, "SubjectPublicKeyInfo")
    fields.next(der.SEQUENCE)
    return der.read_bits(fields.next(der.BIT_STRING).content, "subjectPublicKey")[1]


def _read(spki: bytes) -> KeyFacts:
    fields = DerReader(spki, "SubjectPublicKeyInfo").nested(der.SEQUENCE, "SubjectPublicKeyInfo")
    algorithm = fields.nested(der.SEQUENCE, "AlgorithmIdentifier")
    oid = der.read_oid(algorithm.next(der.OBJECT_IDENTIFIER).content, "algorithm")
    key = der.read_bits(fields.next(der.BIT_STRING).content, "subjectPublicKey")[1]
    if oid in {_RSA, _RSA_PSS}:
        numbers = DerReader(key, "RSAPublicKey").nested(der.SEQUENCE, "RSAPublicKey")
        modulus = der.read_integer(numbers.next(der.INTEGER).content, "modulus")
        exponent = der.read_integer(numbers.next(der.INTEGER).content, "publicExponent")
        return KeyFacts("RSA" if oid == _RSA else "RSA-PSS", modulus.bit_length(), exponent=exponent)
    if oid == _EC:
        parameters = algorithm.next()
        if parameters.tag != der.OBJECT_IDENTIFIER:
            return KeyFacts("EC", max(len(key) - 1, 0) // 2 * 8, "explicit parameters")
        curve = der.read_oid(parameters.content, "namedCurve")
        name, bits = _CURVES.get(curve, (curve, max(len(key) - 1, 0) // 2 * 8))
        return KeyFacts("EC", bits, name)
    if oid == _DSA:
        bits = 0
        if algorithm.tag == der.SEQUENCE:
            prime = algorithm.nested(der.SEQUENCE, "Dss-Parms").next(der.INTEGER)
            bits = der.read_integer(prime.content, "p").bit_length()
        return KeyFacts("DSA", bits)
    return KeyFacts(*_PLAIN.get(oid, (oid, 0)))
