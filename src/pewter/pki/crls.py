"""Certificate revocation lists (RFC 5280 section 5), as far as a certificate of a web server needs them.

A list can hold hundreds of thousands of entries, so they are passed over by their lengths and only the
one looked for is read.  Delta CRLs and indirect CRLs are said to be what they are, and not used.
"""

import datetime
from collections.abc import Iterable

import msgspec

from pewter.crypto import SignatureVerdict
from pewter.octets import DecodeError

from . import der
from .certificates import Certificate
from .der import DerReader
from .distinguished_names import DistinguishedName, read_distinguished_name
from .extensions import CRL_SIGN, read_full_name_uris
from .identifiers import AUTHORITY_KEY_IDENTIFIER
from .signatures import digest_for, verify_octets
from .status import StatusKind, StatusVerdict, out_of_date, revoked_words

_DELTA_CRL_INDICATOR = "2.5.29.27"
_ISSUING_DISTRIBUTION_POINT = "2.5.29.28"
_CRL_NUMBER = "2.5.29.20"
_REASON_CODE = "2.5.29.21"
_INVALIDITY_DATE = "2.5.29.24"
_SHORTEST_ENTRY = 18
"""Octets of a serial number and a time: the entries of a list of 16 MB are fewer than a million."""


class Scope(msgspec.Struct, frozen=True):
    """IssuingDistributionPoint (section 5.2.5)."""

    uris: tuple[str, ...] = ()
    has_other_name: bool = False
    """It names its distribution point in another way than by a URI."""

    only_users: bool = False
    only_authorities: bool = False
    only_attributes: bool = False
    some_reasons: bool = False
    indirect: bool = False


class RevokedEntry(msgspec.Struct, frozen=True):
    """One entry that was looked for."""

    at: datetime.datetime
    reason: int | None
    unknown_critical: bool
    """It has a critical extension that is not processed."""


class Crl(msgspec.Struct, frozen=True):
    """One list."""

    issuer: DistinguishedName
    this_update: datetime.datetime
    next_update: datetime.datetime | None
    entries: bytes
    """The content of revokedCertificates."""

    tbs: bytes
    signature_algorithm: bytes
    signature: bytes
    is_delta: bool
    scope: Scope
    unknown_critical: tuple[str, ...]
    """Critical extensions that are not processed."""

    def find(self, serial: int) -> RevokedEntry | None:
        """The entry of a serial number; DecodeError where the entries cannot be passed over."""
        found = self.find_octets(serial)
        return _read_entry(found) if found is not None else None

    def find_octets(self, serial: int) -> bytes | None:
        """The same entry as it stands in the list."""
        wanted = der.build_integer(serial)
        octets, position, found = self.entries, 0, None
        if wanted not in octets:
            return None
        while position < len(octets):
            start = position
            if octets[position] != der.SEQUENCE or position + 2 > len(octets):
                raise DecodeError("revokedCertificates", position, "no entry")
            length, content = der.read_length(octets, position + 1)
            if length < _SHORTEST_ENTRY:
                raise DecodeError("revokedCertificates", position, f"an entry of {length} octets")
            position = content + length
            if octets.startswith(wanted, content):
                found = octets[start:position]
                break
        return found


def read_crl(octets: bytes) -> Crl:
    """Read a list; DecodeError where it is none."""
    reader = DerReader(octets, "CertificateList")
    outer = reader.nested(der.SEQUENCE, "CertificateList")
    reader.end()
    tbs = outer.next(der.SEQUENCE)
    algorithm = outer.next(der.SEQUENCE).octets
    signature = der.read_bits(outer.next(der.BIT_STRING).content, "signatureValue")[1]
    fields = DerReader(tbs.content, "tbsCertList")
    fields.optional(der.INTEGER)
    fields.next(der.SEQUENCE)
    issuer = read_distinguished_name(fields.next(der.SEQUENCE).octets)
    this_update = der.read_time(fields.next(), "thisUpdate")
    next_update = None
    if fields.tag in {der.UTC_TIME, der.GENERALIZED_TIME}:
        next_update = der.read_time(fields.next(), "nextUpdate")
    entries = fields.optional(der.SEQUENCE)
    is_delta, scope, unknown = False, Scope(), []
    if (tagged := fields.optional(0xA0)) is not None:
        extensions = DerReader(tagged.content, "crlExtensions").nested(der.SEQUENCE, "crlExtensions")
        while extensions:
            oid, critical, value = _read_extension(extensions)
            if oid == _DELTA_CRL_INDICATOR:
                is_delta = True
            elif oid == _ISSUING_DISTRIBUTION_POINT:
                scope = _read_scope(value)
            elif critical and oid not in {_CRL_NUMBER, AUTHORITY_KEY_IDENTIFIER}:
                unknown.append(oid)
    return Crl(
        issuer=issuer,
        this_update=this_update,
        next_update=next_update,
        entries=entries.content if entries is not None else b"",
        tbs=tbs.octets,
        signature_algorithm=algorithm,
        signature=signature,
        is_delta=is_delta,
        scope=scope,
        unknown_critical=tuple(unknown),
    )


def _read_extension(extensions: DerReader) -> tuple[str, bool, bytes]:
    fields = extensions.nested(der.SEQUENCE, "Extension")
    oid = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "extnID")
    critical = fields.optional(der.BOOLEAN)
    return oid, critical is not None and critical.content != b"\x00", fields.next(der.OCTET_STRING).content


def _read_scope(value: bytes) -> Scope:
    fields = DerReader(value, "issuingDistributionPoint").nested(der.SEQUENCE, "issuingDistributionPoint")
    name = fields.optional(0xA0)
    flags = {
        tag: (element := fields.optional(tag)) is not None and element.content != b"\x00" for tag in range(0x81, 0x86)
    }
    uris = read_full_name_uris(name.content) if name is not None else []
    return Scope(
        tuple(uris), name is not None and not uris, flags[0x81], flags[0x82], flags[0x85], flags[0x83], flags[0x84]
    )


def _read_entry(octets: bytes) -> RevokedEntry:
    fields = DerReader(octets, "revokedCertificate").nested(der.SEQUENCE, "revokedCertificate")
    fields.next(der.INTEGER)
    at = der.read_time(fields.next(), "revocationDate")
    reason, unknown = None, False
    if fields:
        extensions = fields.nested(der.SEQUENCE, "crlEntryExtensions")
        while extensions:
            oid, critical, value = _read_extension(extensions)
            if oid == _REASON_CODE:
                reason = der.read_count(DerReader(value, "reasonCode").next(0x0A).content, "reasonCode")
            elif critical and oid != _INVALIDITY_DATE:
                unknown = True
    return RevokedEntry(at, reason, unknown)


def condense_crl(octets: bytes, serials: Iterable[int]) -> tuple[bytes, bytes] | None:
    """A list with the entries of these serial numbers alone, and the digest of what its CA signed.

    By the digest the signature can still be verified.  None where the list cannot be read or condensed.
    """
    try:
        crl = read_crl(octets)
        digest = digest_for(crl.signature_algorithm, crl.tbs)
        kept = [entry for serial in dict.fromkeys(serials) if (entry := crl.find_octets(serial)) is not None]
        if digest is None:
            return None
        outer = DerReader(octets, "CertificateList").nested(der.SEQUENCE, "CertificateList")
        fields = DerReader(outer.next(der.SEQUENCE).content, "tbsCertList")
        rest = outer.next(der.SEQUENCE).octets + outer.next(der.BIT_STRING).octets
        before = [fields.next().octets for _ in range(3 + (fields.tag == der.INTEGER))]  # version, who, by what, when
        if fields.tag in {der.UTC_TIME, der.GENERALIZED_TIME}:
            before.append(fields.next().octets)
        fields.optional(der.SEQUENCE)
        after = [] if not fields else [fields.next().octets]
    except DecodeError:
        return None
    entries = [der.build(der.SEQUENCE, b"".join(kept))] if kept else []
    tbs = der.build(der.SEQUENCE, b"".join((*before, *entries, *after)))
    return der.build(der.SEQUENCE, tbs + rest), digest


def judge_crl(
    octets: bytes, certificate: Certificate, issuer: Certificate, at: datetime.datetime, digest: bytes | None = None
) -> StatusVerdict:
    """What a list says of ``certificate`` at ``at``; never raises.

    ``digest``: of what was signed, where the list was condensed.
    """
    try:
        crl = read_crl(octets)
        return _judge(crl, certificate, issuer, at, digest)
    except DecodeError as exc:
        return StatusVerdict(StatusKind.MALFORMED, str(exc))


def _judge(
    crl: Crl, certificate: Certificate, issuer: Certificate, at: datetime.datetime, digest: bytes | None
) -> StatusVerdict:
    problem = _why_out_of_scope(crl, certificate)
    if problem is not None:
        return StatusVerdict(StatusKind.OUT_OF_SCOPE, problem)
    usage = issuer.extensions.key_usage
    if usage is not None and CRL_SIGN not in usage:
        return StatusVerdict(StatusKind.NOT_AUTHORIZED, f"{issuer.title} may not sign CRLs (keyUsage lacks cRLSign)")
    signed, is_digest = (digest, True) if digest is not None else (crl.tbs, False)
    verdict = verify_octets(issuer.public_key, crl.signature_algorithm, crl.signature, signed, is_digest=is_digest)
    if verdict is not SignatureVerdict.VERIFIED:
        return StatusVerdict(StatusKind.BAD_SIGNATURE, f"the key of {issuer.title} did not sign it")
    if (dated := out_of_date(crl.this_update, crl.next_update, at)) is not None:
        return dated
    entry = crl.find(certificate.serial)
    if entry is not None and entry.reason != 8:
        return StatusVerdict(StatusKind.REVOKED, revoked_words(entry.at, entry.reason), crl.next_update)
    if crl.unknown_critical:
        words = f"it has the critical extension {crl.unknown_critical[0]}, which Pewter does not process"
        return StatusVerdict(StatusKind.UNCHECKED, words)
    if crl.scope.some_reasons:
        return StatusVerdict(StatusKind.UNCHECKED, "it lists revocations for some reasons only")
    end = f"until {crl.next_update:%Y-%m-%d %H:%M} UTC" if crl.next_update else "without an end"
    return StatusVerdict(StatusKind.GOOD, f"not listed, {end}", crl.next_update)


def _why_out_of_scope(crl: Crl, certificate: Certificate) -> str | None:
    scope, is_ca = crl.scope, certificate.extensions.is_ca
    if crl.issuer.comparable != certificate.issuer.comparable:
        return f"a list of {crl.issuer.title}, not of {certificate.issuer.title}"
    if crl.is_delta:
        return "a delta CRL, which lists changes only; Pewter does not use these"
    if scope.indirect:
        return "an indirect CRL, which Pewter does not use"
    if scope.only_attributes or (scope.only_users and is_ca) or (scope.only_authorities and not is_ca):
        return "a list of other kinds of certificates"
    if scope.has_other_name or (scope.uris and not set(scope.uris) & set(certificate.extensions.crl_uris)):
        return "a list of another distribution point"
    return None
