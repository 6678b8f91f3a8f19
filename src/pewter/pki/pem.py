"""Certificates in text files (RFC 7468) and as bare DER."""

import base64
import binascii
import re

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization

_SIGNED_DATA = bytes.fromhex("06092a864886f70d010702")
"""The object identifier 1.2.840.113549.1.7.2 as DER."""

_BLOCK = re.compile(rb"-----BEGIN (?:X509 )?CERTIFICATE-----([A-Za-z0-9+/=\s]*+)-----END (?:X509 )?CERTIFICATE-----")


def read_certificate_blocks(octets: bytes) -> tuple[bytes, ...]:
    """The DER octets of every certificate in a PEM, DER or PKCS #7 file, in order.

    Text around the blocks is passed over.  A block that is no base64 is left out, so that an empty
    result means: no certificate here.
    """
    found: list[bytes] = []
    for match in _BLOCK.finditer(octets):
        try:
            found.append(base64.b64decode(b"".join(match[1].split()), validate=True))
        except binascii.Error:
            continue
    if found or octets[:1] != b"\x30":
        return tuple(found)
    if is_certificate_set(octets):
        try:
            return read_certificate_set(octets)
        except ValueError:
            return ()
    return (octets,)


def write_pem(octets: bytes) -> bytes:
    """One certificate as PEM (RFC 7468 section 5.1), with a line end after it."""
    text = base64.b64encode(octets).decode("ascii")
    lines = (text[start : start + 64] for start in range(0, len(text), 64))
    return "\n".join(("-----BEGIN CERTIFICATE-----", *lines, "-----END CERTIFICATE-----", "")).encode("ascii")


_PUBLIC_KEY = re.compile(
    rb"(?:^|\n)(?:(?P<title>[^\r\n]{1,200}+)\r?\n)?"
    rb"-----BEGIN PUBLIC KEY-----(?P<body>[A-Za-z0-9+/=\s]*+)-----END PUBLIC KEY-----"
)


def read_public_keys(octets: bytes) -> tuple[tuple[str, bytes], ...]:
    """Title (the line above the block; may be empty) and SubjectPublicKeyInfo of every PUBLIC KEY block."""
    found: list[tuple[str, bytes]] = []
    for match in _PUBLIC_KEY.finditer(octets):
        title = (match["title"] or b"").decode("utf-8", "replace").strip().lstrip("#").strip()
        try:
            octets = base64.b64decode(b"".join(match["body"].split()), validate=True)
        except binascii.Error:
            continue
        found.append(("" if title.startswith("---") else title, octets))
    return tuple(found)


def is_certificate_set(octets: bytes) -> bool:
    """Whether DER is a PKCS #7 SignedData (RFC 2315 section 9.1), the form in which some CAs publish issuers."""
    return _SIGNED_DATA in octets[:32]


def read_certificate_set(octets: bytes) -> tuple[bytes, ...]:
    """The certificates of a PKCS #7 SignedData as DER.  Raises ValueError where it cannot be read."""
    from cryptography.hazmat.primitives.serialization import pkcs7  # noqa: PLC0415  slow to load, and seldom needed

    try:
        certificates = pkcs7.load_der_pkcs7_certificates(octets)
    except UnsupportedAlgorithm as exc:
        raise ValueError(str(exc)) from exc
    return tuple(each.public_bytes(serialization.Encoding.DER) for each in certificates)
