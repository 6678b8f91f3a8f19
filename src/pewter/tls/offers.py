"""Which hello asks which question.

The lists are broad on purpose: a review wants to know what a server answers, not to be safe itself.
Only suites whose certificate we can see are offered: no anonymous, PSK or Kerberos ones.
"""

from collections.abc import Iterator, Sequence

import msgspec

from pewter.evidence import Offer, is_ip_address
from pewter.octets import uint16s, vector

from .codepoints import ExtensionType, Group, Version
from .hellos import EXTENSION_HEADER_OCTETS, ClientHello, Extension, build_client_hello
from .shares import KeyShare

TLS_1_3_SUITES = (0x1301, 0x1302, 0x1303)

_AEAD_SUITES = (
    *(0xC02B, 0xC02F, 0xC02C, 0xC030, 0xCCA9, 0xCCA8),  # ECDHE: AES-GCM, ChaCha20-Poly1305
    *(0x009E, 0x009F, 0xCCAA, 0x00A2, 0x00A3),  # DHE
    *(0xC0AC, 0xC0AD, 0xC0AE, 0xC0AF, 0xC09E, 0xC09F),  # AES-CCM
    *(0xC086, 0xC087, 0xC08A, 0xC08B, 0xC05C, 0xC05D, 0xC060, 0xC061),  # Camellia-GCM, ARIA-GCM
    *(0x009C, 0x009D, 0xC09C, 0xC09D),  # static RSA
)
_SHA256_CBC_SUITES = (
    *(0xC023, 0xC027, 0xC024, 0xC028, 0x0067, 0x006B, 0x0040, 0x006A, 0x003C, 0x003D),
    *(0xC072, 0xC076, 0xC073, 0xC077),
)
_OLD_SUITES = (
    *(0xC009, 0xC013, 0xC00A, 0xC014, 0x0033, 0x0039, 0x0032, 0x0038, 0x002F, 0x0035),  # AES-CBC
    *(0x0041, 0x0084, 0x0045, 0x0088, 0x0096, 0x009A),  # Camellia, SEED
    *(0xC008, 0xC012, 0x0016, 0x0013, 0x000A),  # 3DES
    *(0xC007, 0xC011, 0x0005, 0x0004),  # RC4
    *(0x0015, 0x0012, 0x0009),  # DES
)

GROUPS = (Group.X25519, Group.SECP256R1, Group.SECP384R1, Group.SECP521R1, Group.X448)
"""Groups that Pewter can compute, so that any HelloRetryRequest among them can be followed."""

FIRST_SHARES = (Group.X25519, Group.SECP256R1)

SIGNATURE_SCHEMES = (
    *(0x0403, 0x0503, 0x0603, 0x0807, 0x0808),  # ECDSA, Ed25519, Ed448
    *(0x0804, 0x0805, 0x0806, 0x0809, 0x080A, 0x080B),  # RSASSA-PSS
    *(0x0401, 0x0501, 0x0601, 0x0301, 0x0303),  # PKCS#1 v1.5, SHA-224
    *(0x0203, 0x0201, 0x0202, 0x0402),  # SHA-1, DSA
)

MODERN = (int(Version.TLS_1_3), int(Version.TLS_1_2))


def cipher_suites(versions: tuple[int, ...]) -> tuple[int, ...]:
    """The suites offered for these versions, strongest first."""
    suites: tuple[int, ...] = ()
    if Version.TLS_1_3 in versions:
        suites += TLS_1_3_SUITES
    if Version.TLS_1_2 in versions:
        suites += _AEAD_SUITES + _SHA256_CBC_SUITES
    if min(versions) < Version.TLS_1_3:
        suites += _OLD_SUITES
    return suites


GREASE = (0x0A0A, 0x1A1A, 0x2A2A, 0x3A3A, 0x4A4A)
"""Values that nobody may ever use, for a suite, a group, a version, an extension and a scheme (RFC 8701)."""

_ECH_GREASE = b"\x00\x00\x01\x00\x01\x2a" + vector(bytes(range(32)), 2) + vector(bytes(176), 2)
"""An encrypted hello that is none, as browsers send to servers of which they know no key (RFC 9849 section 6.2)."""

OPTIONAL_EXTENSIONS = (
    ExtensionType.STATUS_REQUEST,
    ExtensionType.ALPN,
    ExtensionType.SIGNED_CERTIFICATE_TIMESTAMP,
    ExtensionType.EXTENDED_MASTER_SECRET,
)
"""Of our first hello: what a server that ends it may mind."""

EMPTY_RENEGOTIATION_INFO_SCSV = 0x00FF
FALLBACK_SCSV = 0x5600
LARGE_HELLO_OCTETS = 3000
"""Of padding: more than two TCP segments, as a hello with several post-quantum key shares has."""


def make_hello(
    offer: Offer, random: bytes, session_id: bytes, shares: Sequence[KeyShare], cookie: bytes | None = None
) -> ClientHello:
    """The ClientHello for ``offer``.

    ``random`` and ``session_id`` hold 32 octets each; ``shares`` and ``cookie`` matter only where
    TLS 1.3 is offered.  A hello that offers TLS 1.2 alone is kept plain unless it is to be ``rich``: servers
    exist that close on an extension they do not know, and it then decides (status_request and ALPN stay out).
    """
    with_tls_1_3 = Version.TLS_1_3 in offer.versions
    suites = offer.suites if offer.suites is not None else cipher_suites(offer.versions)
    if "grease" in offer.options:
        suites = (GREASE[0], *suites)
    if "fallback" in offer.options:
        suites = (*suites, FALLBACK_SCSV)
    extensions: tuple[Extension, ...] = ()
    if max(offer.versions) == Version.SSL_3_0:
        suites = (*suites, EMPTY_RENEGOTIATION_INFO_SCSV)  # SSL 3.0 has no extensions
    else:
        extensions = tuple(each for each in _extensions(offer, shares, cookie) if each.type not in offer.without)
    hello = ClientHello(
        random=random,
        legacy_version=min(max(offer.versions), int(Version.TLS_1_2)),
        cipher_suites=suites,
        session_id=session_id if with_tls_1_3 else b"",
        compression_methods=b"\x01\x00" if "compression" in offer.options else b"\x00",
        extensions=extensions,
    )
    lacking = offer.pad_to - len(build_client_hello(hello)) if offer.pad_to and extensions else 0
    if lacking <= 0:
        return hello
    padding = Extension(ExtensionType.PADDING, bytes(max(lacking - EXTENSION_HEADER_OCTETS, 0)))
    return msgspec.structs.replace(hello, extensions=(*extensions, padding))


def _extensions(offer: Offer, shares: Sequence[KeyShare], cookie: bytes | None) -> Iterator[Extension]:
    with_tls_1_3 = Version.TLS_1_3 in offer.versions
    rich = with_tls_1_3 or "rich" in offer.options
    grease = "grease" in offer.options
    if grease:
        yield Extension(GREASE[3], b"")
    if offer.server_name is not None and not is_ip_address(offer.server_name):
        host_name = b"\x00" + vector(offer.server_name.encode("ascii"), 2)
        yield Extension(ExtensionType.SERVER_NAME, vector(host_name, 2))
    groups = offer.groups if offer.groups is not None else tuple(map(int, GROUPS))
    yield Extension(ExtensionType.SUPPORTED_GROUPS, vector(uint16s((GREASE[1], *groups) if grease else groups), 2))
    yield Extension(ExtensionType.EC_POINT_FORMATS, b"\x01\x00")
    yield Extension(ExtensionType.RENEGOTIATION_INFO, b"\x00")
    if max(offer.versions) >= Version.TLS_1_2:
        schemes = offer.schemes if offer.schemes is not None else SIGNATURE_SCHEMES
        schemes = (GREASE[4], *schemes) if grease else schemes
        yield Extension(ExtensionType.SIGNATURE_ALGORITHMS, vector(uint16s(schemes), 2))
    protocols = offer.alpn if offer.alpn is not None else ("h2", "http/1.1") if rich else ()
    if protocols:
        names = b"".join(vector(each.encode("ascii"), 1) for each in protocols)
        yield Extension(ExtensionType.ALPN, vector(names, 2))
    if rich:
        yield Extension(ExtensionType.STATUS_REQUEST, b"\x01\x00\x00\x00\x00")
        yield Extension(ExtensionType.SIGNED_CERTIFICATE_TIMESTAMP, b"")
        yield Extension(ExtensionType.EXTENDED_MASTER_SECRET, b"")
    if rich and not with_tls_1_3:
        yield Extension(ExtensionType.ENCRYPT_THEN_MAC, b"")
    if (rich and not with_tls_1_3) or "browser" in offer.options:
        yield Extension(ExtensionType.SESSION_TICKET, b"")
    if "browser" in offer.options:
        yield Extension(ExtensionType.ENCRYPTED_CLIENT_HELLO, _ECH_GREASE)
    if "compressed" in offer.options:
        yield Extension(ExtensionType.COMPRESS_CERTIFICATE, b"\x02\x00\x02")
    if with_tls_1_3:
        versions = (GREASE[2], *offer.versions) if grease else offer.versions
        yield Extension(ExtensionType.SUPPORTED_VERSIONS, vector(uint16s(versions), 1))
        yield Extension(ExtensionType.PSK_KEY_EXCHANGE_MODES, b"\x01\x01")
        share_list = b"".join(uint16s((share.group,)) + vector(share.public, 2) for share in shares)
        if grease:
            share_list = uint16s((GREASE[1],)) + vector(b"\x00", 2) + share_list
        yield Extension(ExtensionType.KEY_SHARE, vector(share_list, 2))
        if cookie is not None:
            yield Extension(ExtensionType.COOKIE, vector(cookie, 2))
    if "large" in offer.options:
        yield Extension(ExtensionType.PADDING, bytes(LARGE_HELLO_OCTETS))
