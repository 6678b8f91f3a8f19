"""OCSP (RFC 6960): requests, responses, and what a response says of one certificate.

A response counts only if all of it fits: it is successful, is about this certificate and issuer, is
signed by the issuer or by a responder whom the issuer itself authorized, and is in date.  Servers
staple stale and foreign responses, and widely used clients call them good.
"""

import base64
import datetime
import hashlib
import urllib.parse

import msgspec

from pewter.crypto import SignatureVerdict
from pewter.octets import DecodeError

from . import der
from .certificates import Certificate, read_certificate
from .der import DerReader
from .distinguished_names import DistinguishedName, read_distinguished_name
from .keys import subject_public_key
from .signatures import verify_octets, verify_signature
from .status import StatusKind, StatusVerdict, out_of_date, revoked_words

OCSP_SIGNING = "1.3.6.1.5.5.7.3.9"
MAX_SINGLE_RESPONSES = 1000
MAX_RESPONDER_CERTIFICATES = 8

_BASIC = "1.3.6.1.5.5.7.48.1.1"
_SCT_EXTENSION = "1.3.6.1.4.1.11129.2.4.5"
_HASHES = {
    "1.3.14.3.2.26": "sha1",
    "2.16.840.1.101.3.4.2.1": "sha256",
    "2.16.840.1.101.3.4.2.2": "sha384",
    "2.16.840.1.101.3.4.2.3": "sha512",
}
_STATUS_WORDS = {1: "malformedRequest", 2: "internalError", 3: "tryLater", 5: "sigRequired", 6: "unauthorized"}


class CertId(msgspec.Struct, frozen=True):
    """Which certificate is meant (section 4.1.1)."""

    hash_algorithm: str
    """Dotted identifier."""

    issuer_name_hash: bytes
    issuer_key_hash: bytes
    serial: int


class SingleResponse(msgspec.Struct, frozen=True):
    """What is said of one certificate (section 4.2.1)."""

    certificate: CertId
    status: StatusKind
    """GOOD, REVOKED or UNKNOWN."""

    this_update: datetime.datetime
    next_update: datetime.datetime | None
    revoked_at: datetime.datetime | None = None
    reason: int | None = None
    signed_timestamps: bytes | None = None
    """The SignedCertificateTimestampList of RFC 6962 section 3.3."""


class OcspResponse(msgspec.Struct, frozen=True):
    """One OCSPResponse, unjudged."""

    status: int
    """OCSPResponseStatus; all that follows is empty unless it is 0."""

    tbs: bytes = b""
    signature_algorithm: bytes = b""
    signature: bytes = b""
    responder_name: DistinguishedName | None = None
    responder_key_hash: bytes = b""
    responses: tuple[SingleResponse, ...] = ()
    certificates: tuple[bytes, ...] = ()


# Reading


def read_ocsp_response(octets: bytes) -> OcspResponse:
    """Read one response; DecodeError where it is none."""
    reader = DerReader(octets, "OCSPResponse")
    outer = reader.nested(der.SEQUENCE, "OCSPResponse")
    reader.end()
    status = der.read_count(outer.next(0x0A).content, "responseStatus")
    tagged = outer.optional(0xA0)
    outer.end()
    if status != 0 or tagged is None:
        return OcspResponse(status if status else -1)
    fields = DerReader(tagged.content, "responseBytes").nested(der.SEQUENCE, "ResponseBytes")
    kind = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "responseType")
    if kind != _BASIC:
        raise DecodeError("responseType", 0, f"the response type {kind}")
    return _read_basic(fields.next(der.OCTET_STRING).content)


def _read_basic(octets: bytes) -> OcspResponse:
    fields = DerReader(octets, "BasicOCSPResponse").nested(der.SEQUENCE, "BasicOCSPResponse")
    tbs = fields.next(der.SEQUENCE)
    algorithm = fields.next(der.SEQUENCE).octets
    signature = der.read_bits(fields.next(der.BIT_STRING).content, "signature")[1]
    certificates: list[bytes] = []
    if (tagged := fields.optional(0xA0)) is not None:
        sequence = DerReader(tagged.content, "certs").nested(der.SEQUENCE, "certs")
        while sequence and len(certificates) < MAX_RESPONDER_CERTIFICATES:
            certificates.append(sequence.next(der.SEQUENCE).octets)
    data = DerReader(tbs.content, "ResponseData")
    data.optional(0xA0)
    by_name, by_key = data.optional(0xA1), data.optional(0xA2)
    der.read_time(data.next(), "producedAt")
    return OcspResponse(
        status=0,
        tbs=tbs.octets,
        signature_algorithm=algorithm,
        signature=signature,
        responder_name=read_distinguished_name(by_name.content) if by_name is not None else None,
        responder_key_hash=DerReader(by_key.content, "byKey").next(der.OCTET_STRING).content if by_key else b"",
        responses=_read_responses(data.nested(der.SEQUENCE, "responses")),
        certificates=tuple(certificates),
    )


def _read_responses(sequence: DerReader) -> tuple[SingleResponse, ...]:
    found: list[SingleResponse] = []
    while sequence:
        if len(found) == MAX_SINGLE_RESPONSES:
            raise DecodeError("responses", 0, f"more than {MAX_SINGLE_RESPONSES} responses")
        found.append(_read_single(sequence.nested(der.SEQUENCE, "SingleResponse")))
    return tuple(found)


def _read_single(fields: DerReader) -> SingleResponse:
    identity = fields.nested(der.SEQUENCE, "CertID")
    algorithm = identity.nested(der.SEQUENCE, "hashAlgorithm")
    certificate = CertId(
        der.read_oid(algorithm.next(der.OBJECT_IDENTIFIER).content, "hashAlgorithm"),
        identity.next(der.OCTET_STRING).content,
        identity.next(der.OCTET_STRING).content,
        der.read_integer(identity.next(der.INTEGER).content, "serialNumber"),
    )
    status, revoked_at, reason = _read_status(fields.next())
    this_update = der.read_time(fields.next(), "thisUpdate")
    tagged = fields.optional(0xA0)
    next_update = der.read_time(DerReader(tagged.content, "nextUpdate").next(), "nextUpdate") if tagged else None
    timestamps = None
    if (tagged := fields.optional(0xA1)) is not None:
        extensions = DerReader(tagged.content, "singleExtensions").nested(der.SEQUENCE, "singleExtensions")
        while extensions:
            extension = extensions.nested(der.SEQUENCE, "Extension")
            oid = der.read_oid(extension.next(der.OBJECT_IDENTIFIER).content, "extnID")
            extension.optional(der.BOOLEAN)
            if oid == _SCT_EXTENSION:
                value = extension.next(der.OCTET_STRING).content
                timestamps = DerReader(value, "SignedCertificateTimestampList").next(der.OCTET_STRING).content
    return SingleResponse(certificate, status, this_update, next_update, revoked_at, reason, timestamps)


def _read_status(element: der.Element) -> tuple[StatusKind, datetime.datetime | None, int | None]:
    match element.tag:
        case 0x80:
            return StatusKind.GOOD, None, None
        case 0xA1:
            fields = DerReader(element.content, "RevokedInfo")
            at = der.read_time(fields.next(), "revocationTime")
            tagged = fields.optional(0xA0)
            reason = None
            if tagged is not None:
                reason = der.read_count(DerReader(tagged.content, "revocationReason").next(0x0A).content, "CRLReason")
            return StatusKind.REVOKED, at, reason
        case 0x82:
            return StatusKind.UNKNOWN, None, None
        case _:
            raise DecodeError("certStatus", 0, f"certStatus with tag 0x{element.tag:02x}")


# Judging


def judge_ocsp(octets: bytes, certificate: Certificate, issuer: Certificate, at: datetime.datetime) -> StatusVerdict:
    """What the response says of ``certificate`` at ``at``; never raises."""
    try:
        response = read_ocsp_response(octets)
    except DecodeError as exc:
        return StatusVerdict(StatusKind.MALFORMED, str(exc))
    if response.status != 0:
        words = _STATUS_WORDS.get(response.status, f"responseStatus {response.status}")
        return StatusVerdict(StatusKind.NOT_SUCCESSFUL, words)
    single = next((each for each in response.responses if _is_about(each.certificate, certificate, issuer)), None)
    if single is None:
        serials = ", ".join(f"{each.certificate.serial:x}" for each in response.responses[:2]) or "none"
        words = f"about serial {serials}, not {certificate.serial:x} of this issuer"
        return StatusVerdict(StatusKind.FOREIGN, words)
    signed = _judge_signature(response, issuer, at)
    if signed is not None:
        return signed
    if (dated := out_of_date(single.this_update, single.next_update, at)) is not None:
        return dated
    match single.status:
        case StatusKind.REVOKED:
            assert single.revoked_at is not None
            return StatusVerdict(single.status, revoked_words(single.revoked_at, single.reason), single.next_update)
        case StatusKind.GOOD:
            end = f"until {single.next_update:%Y-%m-%d %H:%M} UTC" if single.next_update else "without an end"
            return StatusVerdict(single.status, f"good {end}", single.next_update)
        case _:
            return StatusVerdict(StatusKind.UNKNOWN, "the responder does not know the certificate", single.next_update)


def _is_about(identity: CertId, certificate: Certificate, issuer: Certificate) -> bool:
    name = _HASHES.get(identity.hash_algorithm)
    if name is None or identity.serial != certificate.serial:
        return False
    return (
        identity.issuer_name_hash == hashlib.new(name, certificate.issuer.octets).digest()
        and identity.issuer_key_hash == hashlib.new(name, subject_public_key(issuer.spki)).digest()
    )


def _judge_signature(response: OcspResponse, issuer: Certificate, at: datetime.datetime) -> StatusVerdict | None:
    """None where the issuer, or a responder that it authorized, signed (section 4.2.2.2)."""
    if _signed_by(response, issuer):
        return None
    read = (read_certificate(octets) for octets in response.certificates)
    for responder in (each for each in read if isinstance(each, Certificate)):
        if not _signed_by(response, responder):
            continue
        problem = _why_not_authorized(responder, issuer, at)
        if problem is None:
            return None
        return StatusVerdict(StatusKind.NOT_AUTHORIZED, f"signed by {responder.title}, {problem}")
    return StatusVerdict(StatusKind.BAD_SIGNATURE, f"no key of {issuer.title} or of an enclosed responder signed it")


def _signed_by(response: OcspResponse, signer: Certificate) -> bool:
    verdict = verify_octets(signer.public_key, response.signature_algorithm, response.signature, response.tbs)
    return verdict is SignatureVerdict.VERIFIED


def _why_not_authorized(responder: Certificate, issuer: Certificate, at: datetime.datetime) -> str | None:
    if responder.issuer.comparable != issuer.subject.comparable:
        return f"which {issuer.title} did not issue"
    if verify_signature(responder, issuer) is not SignatureVerdict.VERIFIED:
        return f"whose certificate {issuer.title} did not sign"
    if OCSP_SIGNING not in (responder.extensions.purposes or ()):
        return "which is not for OCSP signing"
    if not responder.not_before <= at <= responder.not_after:
        return f"which ended {responder.not_after:%Y-%m-%d}"
    return None


def timestamps_in(octets: bytes, certificate: Certificate, issuer: Certificate) -> bytes | None:
    """The SignedCertificateTimestampList that a response carries for the certificate."""
    try:
        responses = read_ocsp_response(octets).responses
    except DecodeError:
        return None
    return next(
        (each.signed_timestamps for each in responses if _is_about(each.certificate, certificate, issuer)), None
    )


# Asking


def build_ocsp_request(certificate: Certificate, issuer: Certificate) -> bytes:
    """An OCSPRequest by SHA-1, the hash that every responder takes (RFC 5019 section 2.1.1), without a nonce."""
    algorithm = der.build(der.SEQUENCE, bytes.fromhex("06052b0e03021a0500"))
    name_hash = hashlib.sha1(certificate.issuer.octets, usedforsecurity=False).digest()
    key_hash = hashlib.sha1(subject_public_key(issuer.spki), usedforsecurity=False).digest()
    serial = der.build_integer(certificate.serial)
    octet_strings = der.build(der.OCTET_STRING, name_hash) + der.build(der.OCTET_STRING, key_hash)
    identity = der.build(der.SEQUENCE, algorithm + octet_strings + serial)
    request_list = der.build(der.SEQUENCE, der.build(der.SEQUENCE, identity))
    return der.build(der.SEQUENCE, der.build(der.SEQUENCE, request_list))


def ocsp_get_url(responder: str, request: bytes) -> str:
    """The address by which GET asks (RFC 6960 appendix A.1)."""
    return responder.rstrip("/") + "/" + urllib.parse.quote(base64.b64encode(request).decode("ascii"), safe="")
