"""Reading a certificate (RFC 5280 section 4) from its DER octets, by our own reader.

:func:`read_certificate` never raises: what cannot be read is a :class:`MalformedCertificate` that says why.
"""

import datetime
import functools
import hashlib

import msgspec
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

from pewter.crypto import public_key_of
from pewter.kept import kept
from pewter.octets import DecodeError

from . import der
from .der import DerReader
from .distinguished_names import DistinguishedName, read_distinguished_name
from .extensions import ExtensionFacts, RawExtension, read_extension_facts, read_raw_extensions
from .keys import KeyFacts, read_key_facts

MAX_CERTIFICATE = 1 << 18
"""Octets of one certificate; browsers refuse chains of 100 KB."""


class MalformedCertificate(msgspec.Struct, frozen=True):
    """Octets that were served as a certificate and cannot be read as one."""

    sha256: str
    der: bytes
    reason: str


class Certificate(msgspec.Struct, frozen=True, dict=True):
    """One certificate, taken apart."""

    sha256: str
    der: bytes
    tbs: bytes
    """The signed octets: tbsCertificate with its header."""

    version: int
    """1, 2 or 3."""

    serial: int
    signature_algorithm: bytes
    """The outer AlgorithmIdentifier as DER."""

    tbs_signature_algorithm: bytes
    """The inner one, which has to be the same (RFC 5280 section 4.1.1.2)."""

    signature: bytes
    issuer: DistinguishedName
    subject: DistinguishedName
    not_before: datetime.datetime
    not_after: datetime.datetime
    spki: bytes
    """SubjectPublicKeyInfo as DER."""

    raw_extensions: tuple[RawExtension, ...]
    extensions: ExtensionFacts

    @property
    def is_self_issued(self) -> bool:
        """Subject and issuer are the same name; the signature is another matter."""
        return self.subject.comparable == self.issuer.comparable

    @property
    def title(self) -> str:
        """What a report calls it: the subject's common name, else its first DNS name."""
        if self.subject.is_empty and self.extensions.dns_names:
            return self.extensions.dns_names[0]
        return self.subject.title

    @functools.cached_property
    def dns_index(self) -> tuple[frozenset[str], frozenset[str]]:
        """dNSName entries that can match a host, in lower case: whole names, and what stands behind a wildcard."""
        names = [each.lower() for each in self.extensions.dns_names if each.isascii() and not each.endswith(".")]
        whole = frozenset(each for each in names if each and "*" not in each)
        return whole, frozenset(each[1:] for each in names if each.startswith("*.") and "*" not in each[1:])

    @functools.cached_property
    def spki_sha256(self) -> bytes:
        return hashlib.sha256(self.spki).digest()

    @functools.cached_property
    def public_key(self) -> PublicKeyTypes | None:
        """The key, or None where the cryptography package cannot load its kind."""
        return public_key_of(self.spki)

    @functools.cached_property
    def key(self) -> KeyFacts:
        """What the key says of itself, whether or not it can be loaded."""
        return read_key_facts(self.spki)


@kept(most=128, longest=4096)  # a CA's own come with every site, and each is read for the look and for the judge
def read_certificate(octets: bytes) -> Certificate | MalformedCertificate:
    """Read one certificate; the result is MalformedCertificate wherever the octets do not allow it."""
    sha256 = hashlib.sha256(octets).hexdigest()
    if len(octets) > MAX_CERTIFICATE:
        return MalformedCertificate(sha256, octets, f"{len(octets):,} octets; {MAX_CERTIFICATE >> 10} KiB are read")
    try:
        return _read(octets, sha256)
    except DecodeError as exc:
        return MalformedCertificate(sha256, octets, str(exc))


def _read(octets: bytes, sha256: str) -> Certificate:
    reader = DerReader(octets, "Certificate")
    outer = reader.nested(der.SEQUENCE, "Certificate")
    reader.end()
    tbs = outer.next(der.SEQUENCE)
    signature_algorithm = outer.next(der.SEQUENCE).octets
    unused, signature = der.read_bits(outer.next(der.BIT_STRING).content, "signatureValue")
    outer.end()
    if unused:
        raise DecodeError("signatureValue", 0, f"{unused} unused bits")

    fields = DerReader(tbs.content, "tbsCertificate")
    version = 1
    if (tagged := fields.optional(0xA0)) is not None:
        version = der.read_integer(DerReader(tagged.content, "version").next(der.INTEGER).content, "version") + 1
        if version not in {1, 2, 3}:
            raise DecodeError("version", 0, f"version {version - 1}, which does not exist")
    serial = der.read_integer(fields.next(der.INTEGER).content, "serialNumber")
    tbs_signature_algorithm = fields.next(der.SEQUENCE).octets
    issuer = read_distinguished_name(fields.next(der.SEQUENCE).octets)
    validity = fields.nested(der.SEQUENCE, "Validity")
    not_before = der.read_time(validity.next(), "notBefore")
    not_after = der.read_time(validity.next(), "notAfter")
    subject = read_distinguished_name(fields.next(der.SEQUENCE).octets)
    spki = fields.next(der.SEQUENCE).octets
    for unique_id in (0x81, 0x82):
        fields.optional(unique_id)
    raw: tuple[RawExtension, ...] = ()
    if (tagged := fields.optional(0xA3)) is not None:
        raw = read_raw_extensions(tagged.content)
    fields.end()
    return Certificate(
        sha256=sha256,
        der=octets,
        tbs=tbs.octets,
        version=version,
        serial=serial,
        signature_algorithm=signature_algorithm,
        tbs_signature_algorithm=tbs_signature_algorithm,
        signature=signature,
        issuer=issuer,
        subject=subject,
        not_before=not_before,
        not_after=not_after,
        spki=spki,
        raw_extensions=raw,
        extensions=read_extension_facts(raw),
    )
