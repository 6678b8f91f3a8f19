"""The server's certificate messages, before and since TLS 1.3."""

import msgspec

from pewter.octets import DecodeError, Reader, vector

from .codepoints import ExtensionType, Version
from .hellos import read_extensions

_OCSP = 1


class CertificateMessage(msgspec.Struct, frozen=True):
    """What a Certificate message carries."""

    chain: tuple[bytes, ...]
    """DER octets, leaf first, exactly in the order sent."""

    staple: bytes | None = None
    """The OCSPResponse beside the leaf; TLS 1.3 alone puts it here."""

    signed_timestamps: bytes | None = None
    """The SignedCertificateTimestampList beside the leaf, likewise."""


class ServerKeyExchange(msgspec.Struct, frozen=True):
    """The server's ephemeral parameters and its signature over them."""

    params: bytes
    """The signed octets, without the two randoms."""

    group: int | None
    """The named curve; None for finite-field Diffie-Hellman."""

    scheme: int | None
    """SignatureScheme; None before TLS 1.2, which names none."""

    signature: bytes
    prime: bytes = b""
    """Of a finite-field exchange, without leading zeros."""


def read_certificate(body: bytes) -> CertificateMessage:
    """Read a Certificate message of TLS 1.2 and below (RFC 5246 section 7.4.2)."""
    reader = Reader(body, "Certificate")
    entries = reader.nested(3, "certificate_list")
    reader.end()
    chain: list[bytes] = []
    while entries:
        chain.append(entries.vector(3))
    return CertificateMessage(tuple(chain))


def build_certificate(chain: tuple[bytes, ...]) -> bytes:
    """The body of a Certificate message of TLS 1.2 and below."""
    return vector(b"".join(vector(der, 3) for der in chain), 3)


def read_certificate_1_3(body: bytes) -> CertificateMessage:
    """Read a Certificate message of TLS 1.3 (RFC 8446 section 4.4.2)."""
    reader = Reader(body, "Certificate")
    reader.vector(1)  # certificate_request_context is empty from a server, and says nothing if it is not
    entries = reader.nested(3, "certificate_list")
    reader.end()
    chain: list[bytes] = []
    staple: bytes | None = None
    timestamps: bytes | None = None
    while entries:
        chain.append(entries.vector(3))
        for extension in read_extensions(entries.vector(2)):
            if extension.type == ExtensionType.STATUS_REQUEST and len(chain) == 1:
                staple = read_certificate_status(extension.body)
            if extension.type == ExtensionType.SIGNED_CERTIFICATE_TIMESTAMP and len(chain) == 1:
                timestamps = extension.body
    return CertificateMessage(tuple(chain), staple, timestamps)


def read_certificate_status(body: bytes) -> bytes:
    """The OCSPResponse of a CertificateStatus (RFC 6066 section 8)."""
    reader = Reader(body, "CertificateStatus")
    status_type = reader.uint(1)
    if status_type != _OCSP:
        raise DecodeError("CertificateStatus", 0, f"status type {status_type}, not ocsp (1)")
    response = reader.vector(3)
    reader.end()
    return response


def read_server_key_exchange(body: bytes, version: int, *, elliptic: bool, signed: bool = True) -> ServerKeyExchange:
    """Read ServerKeyExchange (RFC 8422 section 5.4, RFC 5246 section 7.4.3); anonymous suites sign nothing."""
    reader = Reader(body, "ServerKeyExchange")
    group: int | None = None
    prime = b""
    if elliptic:
        curve_type = reader.uint(1)
        if curve_type != 3:
            raise DecodeError("ServerKeyExchange", 0, f"curve type {curve_type}, not named_curve (3)")
        group = reader.uint(2)
        params = bytes((curve_type,)) + group.to_bytes(2, "big") + vector(reader.vector(1), 1)
    else:
        numbers = [reader.vector(2) for _ in ("p", "g", "Ys")]
        params = b"".join(vector(number, 2) for number in numbers)
        prime = numbers[0].lstrip(b"\x00")
    if not signed:
        return ServerKeyExchange(params, group, None, b"", prime)
    scheme = reader.uint(2) if version >= Version.TLS_1_2 else None
    signature = reader.vector(2)
    reader.end()
    return ServerKeyExchange(params, group, scheme, signature, prime)


def read_alpn(body: bytes | None) -> str | None:
    """The one protocol that the server chose (RFC 7301 section 3.1)."""
    if not body:
        return None
    return (
        Reader(body, "application_layer_protocol_negotiation").nested(2, "ProtocolNameList").vector(1).decode("latin-1")
    )


def read_certificate_verify(body: bytes) -> tuple[int, bytes]:
    """Signature scheme and signature of a CertificateVerify (RFC 8446 section 4.4.3)."""
    reader = Reader(body, "CertificateVerify")
    scheme, signature = reader.uint(2), reader.vector(2)
    reader.end()
    return scheme, signature
