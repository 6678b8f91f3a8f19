"""Code points by name (the IANA TLS registries).  On the wire and in the evidence they stay integers."""

import enum


class Version(enum.IntEnum):
    """Protocol versions (RFC 8446 section 4.2.1 and the versions before it)."""

    SSL_2_0 = 0x0002
    SSL_3_0 = 0x0300
    TLS_1_0 = 0x0301
    TLS_1_1 = 0x0302
    TLS_1_2 = 0x0303
    TLS_1_3 = 0x0304


class ContentType(enum.IntEnum):
    """Record types (RFC 8446 section 5.1)."""

    CHANGE_CIPHER_SPEC = 20
    ALERT = 21
    HANDSHAKE = 22
    APPLICATION_DATA = 23


class HandshakeType(enum.IntEnum):
    """Message types (RFC 8446 section 4, RFC 5246 section 7.4, RFC 6066 section 8)."""

    CLIENT_HELLO = 1
    SERVER_HELLO = 2
    NEW_SESSION_TICKET = 4
    ENCRYPTED_EXTENSIONS = 8
    CERTIFICATE = 11
    SERVER_KEY_EXCHANGE = 12
    CERTIFICATE_REQUEST = 13
    SERVER_HELLO_DONE = 14
    CERTIFICATE_VERIFY = 15
    FINISHED = 20
    CERTIFICATE_STATUS = 22


class ExtensionType(enum.IntEnum):
    """Extension types that Pewter sends or reads (RFC 8446 section 4.2)."""

    SERVER_NAME = 0
    STATUS_REQUEST = 5
    SUPPORTED_GROUPS = 10
    EC_POINT_FORMATS = 11
    SIGNATURE_ALGORITHMS = 13
    ALPN = 16
    SIGNED_CERTIFICATE_TIMESTAMP = 18
    PADDING = 21
    ENCRYPT_THEN_MAC = 22
    EXTENDED_MASTER_SECRET = 23
    COMPRESS_CERTIFICATE = 27
    SESSION_TICKET = 35
    EARLY_DATA = 42
    PSK_KEY_EXCHANGE_MODES = 45
    SUPPORTED_VERSIONS = 43
    COOKIE = 44
    KEY_SHARE = 51
    ENCRYPTED_CLIENT_HELLO = 0xFE0D
    RENEGOTIATION_INFO = 0xFF01


class Group(enum.IntEnum):
    """Named groups (RFC 8446 section 4.2.7)."""

    SECT163K1 = 0x0001
    SECT163R2 = 0x0003
    SECT233K1 = 0x0006
    SECT233R1 = 0x0007
    SECT283K1 = 0x0009
    SECT283R1 = 0x000A
    SECT409K1 = 0x000B
    SECT409R1 = 0x000C
    SECT571K1 = 0x000D
    SECT571R1 = 0x000E
    SECP160R1 = 0x0010
    SECP160R2 = 0x0011
    SECP192K1 = 0x0012
    SECP192R1 = 0x0013
    SECP224K1 = 0x0014
    SECP224R1 = 0x0015
    SECP256K1 = 0x0016
    SECP256R1 = 0x0017
    SECP384R1 = 0x0018
    SECP521R1 = 0x0019
    BRAINPOOLP256R1 = 0x001A
    BRAINPOOLP384R1 = 0x001B
    BRAINPOOLP512R1 = 0x001C
    X25519 = 0x001D
    X448 = 0x001E
    BRAINPOOLP256R1TLS13 = 0x001F
    BRAINPOOLP384R1TLS13 = 0x0020
    BRAINPOOLP512R1TLS13 = 0x0021
    CURVESM2 = 0x0029
    FFDHE2048 = 0x0100
    FFDHE3072 = 0x0101
    FFDHE4096 = 0x0102
    FFDHE6144 = 0x0103
    FFDHE8192 = 0x0104
    MLKEM512 = 0x0200
    MLKEM768 = 0x0201
    MLKEM1024 = 0x0202
    SECP256R1MLKEM768 = 0x11EB
    X25519MLKEM768 = 0x11EC
    SECP384R1MLKEM1024 = 0x11ED
    X25519KYBER768DRAFT00 = 0x6399


HYBRID_GROUPS = (Group.X25519MLKEM768, Group.SECP256R1MLKEM768, Group.SECP384R1MLKEM1024)
"""Of a curve and ML-KEM together: they withstand a quantum computer (draft-ietf-tls-ecdhe-mlkem)."""


class AlertDescription(enum.IntEnum):
    """Alert descriptions (RFC 8446 section 6 and the versions before it)."""

    CLOSE_NOTIFY = 0
    UNEXPECTED_MESSAGE = 10
    BAD_RECORD_MAC = 20
    RECORD_OVERFLOW = 22
    HANDSHAKE_FAILURE = 40
    BAD_CERTIFICATE = 42
    ILLEGAL_PARAMETER = 47
    DECODE_ERROR = 50
    DECRYPT_ERROR = 51
    PROTOCOL_VERSION = 70
    INSUFFICIENT_SECURITY = 71
    INTERNAL_ERROR = 80
    INAPPROPRIATE_FALLBACK = 86
    MISSING_EXTENSION = 109
    UNSUPPORTED_EXTENSION = 110
    UNRECOGNIZED_NAME = 112
    CERTIFICATE_REQUIRED = 116
    NO_APPLICATION_PROTOCOL = 120


_GROUP_TITLES = {
    Group.X25519: "X25519",
    Group.X448: "X448",
    Group.SECP192R1: "P-192",
    Group.SECP224R1: "P-224",
    Group.SECP256R1: "P-256",
    Group.SECP384R1: "P-384",
    Group.SECP521R1: "P-521",
    Group.X25519MLKEM768: "X25519MLKEM768",
    Group.SECP256R1MLKEM768: "SecP256r1MLKEM768",
    Group.SECP384R1MLKEM1024: "SecP384r1MLKEM1024",
    Group.X25519KYBER768DRAFT00: "X25519Kyber768Draft00",
    Group.MLKEM512: "ML-KEM-512",
    Group.MLKEM768: "ML-KEM-768",
    Group.MLKEM1024: "ML-KEM-1024",
}


def extension_name(extension: int) -> str:
    """``status_request`` for 5; an unknown code point as ``extension 57``."""
    try:
        return ExtensionType(extension).name.lower()
    except ValueError:
        return f"extension {extension}"


def group_name(group: int) -> str:
    """``X25519``, ``P-256``, ``ffdhe2048``; an unknown code point as ``group 0x2A2A``."""
    try:
        return _GROUP_TITLES.get(Group(group)) or Group(group).name.lower().replace("brainpoolp", "brainpoolP")
    except ValueError:
        return f"group 0x{group:04X}"


def version_name(version: int) -> str:
    """``TLS 1.2`` for 0x0303; an unknown code point as ``version 0x7F1C``."""
    try:
        return Version(version).name.replace("_", " ", 1).replace("_", ".")
    except ValueError:
        return f"version 0x{version:04X}"


def alert_name(description: int) -> str:
    """``handshake_failure`` for 40; an unknown code point as ``alert 200``."""
    try:
        return AlertDescription(description).name.lower()
    except ValueError:
        return f"alert {description}"


def version_of_name(name: str) -> int | None:
    """The code point of ``TLS 1.2``; None for a name that no version has."""
    for version in Version:
        if version_name(version) == name:
            return int(version)
    return None
