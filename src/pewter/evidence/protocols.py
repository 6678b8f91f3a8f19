"""What one endpoint accepts: protocol versions, cipher suites, groups and the rest of the handshake.

Code points travel as integers.  Everything here was seen in answers to our own hellos.
"""

import enum

import msgspec

from .observed import Seen, Tries, Unseen

H2 = "h2"
SECURE_RENEGOTIATION = "secure renegotiation"
EXTENDED_MASTER_SECRET = "extended master secret"
ENCRYPT_THEN_MAC = "encrypt-then-MAC"
COMPRESSION = "compression"
TICKETS_1_2 = "tickets in TLS 1.2"
TICKETS_1_3 = "tickets in TLS 1.3"
EARLY_DATA = "early data"
FALLBACK_GUARD = "fallback guard"
GREASE_TOLERANCE = "tolerates unknown values"
LARGE_HELLO_TOLERANCE = "tolerates a large hello"
"""Names of features."""


class VersionOutcome(enum.Enum):
    """Whether a server takes a version."""

    ACCEPTED = "accepted"
    REFUSED = "refused"
    UNKNOWN = "unknown"


class Order(enum.Enum):
    """Who decides among what both have."""

    SERVER = "server"
    SERVER_IN_PART = "server, in part"
    """Not all of its order was learnt."""

    CLIENT = "client"
    MIXED = "mixed"
    """The server follows the client in some choices."""

    ONE = "one"
    """There is but one."""

    NOT_KNOWN = "not known"

    @property
    def is_servers(self) -> bool:
        return self in {Order.SERVER, Order.SERVER_IN_PART}


class VersionSeen(msgspec.Struct, frozen=True, omit_defaults=True):
    """One protocol version, asked for by hellos of its own."""

    version: int
    """0x0002 for SSL 2.0, 0x0300 to 0x0304 for the others."""

    outcome: VersionOutcome
    how: str = ""
    """``alert protocol_version``, ``closed``, ``no answer``, or why it is not known."""

    alert: int | None = None
    """The description of the alert by which it was refused."""

    is_of_version: bool = False
    """The refusal speaks of the version alone, and not of the rest of the hello."""


class SuitesSeen(msgspec.Struct, frozen=True, omit_defaults=True):
    """The cipher suites that are accepted in one version."""

    version: int
    suites: tuple[int, ...]
    """In the server's order where it has one, else in the order of our hello."""

    order: Order
    asked: int
    """How many suites were asked for."""

    unfinished: str = ""
    """Why the search broke off: what was not found then is not known."""


class GroupsSeen(msgspec.Struct, frozen=True, omit_defaults=True):
    """The named groups that are accepted in TLS 1.3, or the curves in TLS 1.2 and below."""

    version: int
    groups: tuple[int, ...]
    order: Order
    asked: int
    unfinished: str = ""


class FiniteField(msgspec.Struct, frozen=True, omit_defaults=True):
    """The server's Diffie-Hellman parameters (RFC 5246 section 7.4.3)."""

    bits: int
    prime_sha256: str
    """Of the prime, most significant octet first, without leading zeros."""


class Feature(msgspec.Struct, frozen=True, omit_defaults=True):
    """One option of the handshake."""

    name: str
    seen: Seen[bool] | Unseen
    detail: str = ""


class BrowserHello(msgspec.Struct, frozen=True, omit_defaults=True):
    """What came of a hello with just what one browser offers."""

    browser: str
    """``Chromium`` or ``Firefox``."""

    seen: Seen[bool] | Unseen
    """Whether the server agreed."""

    version: int | None = None
    suite: int | None = None
    group: int | None = None
    scheme: int | None = None
    """The signature scheme of ServerKeyExchange, before TLS 1.3."""

    how: str = ""
    """How it was refused: ``alert handshake_failure``."""

    minds: str = ""
    """What of the hello had to be left out to be taken: ``status_request``; empty where nothing helped."""

    minds_octets: int = 0
    """Its octets, where its size alone is minded."""


class Protocol(msgspec.Struct, frozen=True, omit_defaults=True):
    """All of it, for one endpoint."""

    versions: tuple[VersionSeen, ...] = ()
    suites: tuple[SuitesSeen, ...] = ()
    """Newest version first."""

    groups: tuple[GroupsSeen, ...] = ()
    finite_field: Seen[FiniteField | None] | Unseen = Unseen("not asked")
    """None where no ephemeral finite-field exchange is accepted."""

    features: tuple[Feature, ...] = ()
    browsers: tuple[BrowserHello, ...] = ()
    tries: tuple[Tries, ...] = ()
    """The hello that had worked before, sent again, one connection at a time."""

    connections: int = 0
    slowed_down: bool = False
    """The server began to refuse connections, so the rest was asked one at a time."""

    @property
    def accepted(self) -> frozenset[int]:
        """The versions that the server agreed to."""
        return frozenset(each.version for each in self.versions if each.outcome is VersionOutcome.ACCEPTED)

    def suites_in(self, version: int) -> SuitesSeen | None:
        return next((each for each in self.suites if each.version == version), None)

    def groups_in(self, version: int) -> GroupsSeen | None:
        return next((each for each in self.groups if each.version == version), None)

    def feature(self, name: str) -> Feature | None:
        return next((each for each in self.features if each.name == name), None)
