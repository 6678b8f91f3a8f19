"""What one endpoint answered to our TLS hellos.

Code points travel as integers, so that GREASE and next year's values survive.  Certificates are
referred to by the SHA-256 fingerprint of their DER octets, as 64 hexadecimal digits.
"""

import enum

import msgspec

from .observed import Seen, Tries, Unseen
from .protocols import Protocol


class Proof(enum.Enum):
    """Whether the server showed that it holds the certificate's private key."""

    VERIFIED = "verified"
    FAILED = "failed"
    NOT_GIVEN = "not given"
    """The exchange ended earlier, or the key exchange (static RSA) proves it only later."""

    NOT_CHECKED = "not checked"
    """A signature scheme or key that Pewter cannot verify."""


class Offer(msgspec.Struct, frozen=True, omit_defaults=True):
    """What our hello offered."""

    versions: tuple[int, ...]
    """Protocol versions as code points, best first: ``(0x0304, 0x0303)``."""

    server_name: str | None = None
    """The host name in server_name (RFC 6066 section 3); None where the target is an IP address."""

    suites: tuple[int, ...] | None = None
    """In the order offered; None for all whose certificate can be seen."""

    groups: tuple[int, ...] | None = None
    """None for those that Pewter can compute."""

    shares: tuple[int, ...] | None = None
    """Groups with a key share; none for an empty list, by which the server tells its own choice."""

    schemes: tuple[int, ...] | None = None
    alpn: tuple[str, ...] | None = None
    """None for h2 and http/1.1 in a hello with TLS 1.3, and for no ALPN in others."""

    options: tuple[str, ...] = ()
    """``rich`` (every extension that TLS 1.2 answers), ``browser`` (what browsers send beside), ``compressed``
    (certificates, as Chromium has it), ``compression``, ``grease``, ``large``, ``fallback``."""

    without: tuple[int, ...] = ()
    """Extension types that were left out, to see whether the server minds them."""

    pad_to: int = 0
    """Octets of the handshake message up to which it was padded (RFC 7685)."""


class Handshake(msgspec.Struct, frozen=True, tag="handshake", omit_defaults=True):
    """The server agreed and sent its certificates."""

    version: int
    cipher_suite: int
    chain: tuple[str, ...]
    """Fingerprints exactly as sent: leaf first, order and repeats kept."""

    group: int | None = None
    alpn: str | None = None
    staple: bytes | None = None
    """The stapled OCSPResponse as DER, unread (RFC 6066 section 8)."""

    signed_timestamps: bytes | None = None
    """The SignedCertificateTimestampList of the handshake, unread (RFC 6962 section 3.3.1)."""

    signature_scheme: int | None = None
    proof: Proof = Proof.NOT_GIVEN
    hello_retry: bool = False
    extensions: tuple[int, ...] = ()
    """Extension types that the server answered with, in the order sent, those of EncryptedExtensions last."""

    certificate_octets: int = 0
    """Of the Certificate message."""

    wants_client_certificate: bool = False
    """A CertificateRequest came."""


class Alert(msgspec.Struct, frozen=True, tag="alert", omit_defaults=True):
    """The server refused with an alert (RFC 8446 section 6)."""

    level: int
    description: int


class HowEnded(enum.Enum):
    """How an exchange ended before the certificates."""

    CLOSED = "closed"
    RESET = "reset"
    SILENT = "silent"
    GARBLED = "garbled"
    """Octets that TLS does not allow."""

    OTHER_VERSION = "other version"
    """One that was not offered."""


class HowFailed(enum.Enum):
    """Why no TCP connection came about."""

    REFUSED = "refused"
    TIMED_OUT = "timed out"
    UNREACHABLE = "unreachable"
    RESET = "reset"
    FAILED = "failed"


class Ended(msgspec.Struct, frozen=True, tag="ended", omit_defaults=True):
    """The exchange ended before the certificates: closed, reset, silent, or octets that TLS does not allow."""

    how: HowEnded
    detail: str


class NotTls(msgspec.Struct, frozen=True, tag="not-tls", omit_defaults=True):
    """The first octets are no TLS record: plain HTTP, another protocol, garbage."""

    opening: bytes
    """At most the first 64 octets."""


class NoConnection(msgspec.Struct, frozen=True, tag="no-connection", omit_defaults=True):
    """No TCP connection came about."""

    how: HowFailed
    detail: str


HelloAnswer = Handshake | Alert | Ended | NotTls | NoConnection | Unseen


class Probe(msgspec.Struct, frozen=True, omit_defaults=True):
    """One hello on a connection of its own, and its answer."""

    offer: Offer
    answer: HelloAnswer
    elapsed_seconds: float = 0.0


class Endpoint(msgspec.Struct, frozen=True, omit_defaults=True):
    """One name at one address and port."""

    name: str
    address: str
    port: int
    probes: tuple[Probe, ...] = ()
    reached_at: str | None = None
    """``127.0.0.1:18443`` where a route led elsewhere than to the address and port."""

    nameless: tuple[Probe, ...] = ()
    """Hellos without server_name, and with a name that cannot be the site's."""

    protocol: Protocol | None = None
    minds: tuple[int, ...] = ()
    """Extension types at which the server ends a hello of TLS 1.3 that it takes without them."""

    minds_besides: str = ""
    """What else it ends our first hello for: ``TLS 1.3``, ``many suites``."""

    minds_octets: int = 0
    """Of our first hello, where the server ends it for its size alone."""

    tries: tuple[Tries, ...] = ()
    """Hellos that had to be sent more than once."""

    @property
    def handshakes(self) -> tuple[Handshake, ...]:
        return tuple(probe.answer for probe in self.probes if isinstance(probe.answer, Handshake))


class FrontEnd(msgspec.Struct, frozen=True, omit_defaults=True):
    """One address and port, and the names behind it."""

    address: str
    port: int
    first: str
    """The name whose suites, groups and options were asked for in full."""

    alike: tuple[str, ...] = ()
    """Names of which a few spot checks showed the same."""

    unlike: tuple[str, ...] = ()
    """Names of which they did not: these were asked in full too."""


class StoredCertificate(msgspec.Struct, frozen=True, omit_defaults=True):
    """One certificate, stored once however often it was served."""

    sha256: str
    der: bytes


class StatusMethod(enum.Enum):
    """How a CA was asked."""

    OCSP = "OCSP"
    CRL = "CRL"


class StatusAnswer(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a CA said when it was asked whether a certificate is revoked."""

    method: StatusMethod
    url: str
    of: str
    """Fingerprint of the certificate that named the address."""

    answer: Seen[bytes] | Unseen
    """DER, unread.  A list that several certificates name is kept with the first of them."""

    signed_digest: bytes | None = None
    """Of a long list, which is kept with the entries of the certificates at hand alone: the digest of what its CA
    signed, as its signature algorithm has it."""


class GivenLog(msgspec.Struct, frozen=True, omit_defaults=True):
    """A log of certificates whose key the reviewer gave (RFC 6962)."""

    title: str
    spki: bytes


class FetchedIssuer(msgspec.Struct, frozen=True, omit_defaults=True):
    """An issuer asked for at the caIssuers address of a certificate (RFC 5280 section 4.2.2.1)."""

    url: str
    of: str
    """Fingerprint of the certificate that named the address."""

    answer: tuple[str, ...] | str
    """Fingerprints of what came, or why nothing did, in words."""
