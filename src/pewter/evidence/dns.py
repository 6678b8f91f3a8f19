"""What name servers answered, each by itself."""

import enum

import msgspec


class Way(enum.Enum):
    """How a question was asked."""

    RESOLVED = "resolved"
    """Of a resolver: recursion desired."""

    CHECKING_DISABLED = "checking disabled"
    """Of a resolver, without validation (RFC 4035 section 3.2.2)."""

    DIRECT = "direct"
    """Of an authoritative server, recursion not desired, with EDNS."""

    RANDOM = "random"
    """The same, for a label at random, which nobody set up: what answers is a wildcard."""

    AGAIN = "again"
    """The same, to see whether the answer stays."""

    TCP = "tcp"
    PLAIN = "plain"
    """Without EDNS."""

    SIGNED = "signed"
    """With the signatures (DNSSEC OK)."""

    SIGNED_TCP = "signed, tcp"

    @property
    def is_over_tcp(self) -> bool:
        return self in {Way.TCP, Way.SIGNED_TCP}


class Unanswered(enum.Enum):
    """Why a question has no answer, in the words of a report."""

    SILENT = "it does not answer"
    REFUSES = "it refuses questions"
    CLOSES = "it closes the connection without an answer"
    GARBLED = "its answer cannot be read"
    STRAY = "it sends what is no answer to the question"
    NO_WAY = "there is no way to it from here"
    NO_IPV6 = "there is no way to IPv6 from here"
    LATE = "it was not reached in time"
    TOO_MANY = "more questions would have been needed than one review may ask"
    NO_NAME = "it is no name that can be asked for"

    @property
    def is_of_server(self) -> bool:
        """The server's own doing, and not the reviewer's network or a bound."""
        return self in _OF_SERVER


_OF_SERVER = frozenset({Unanswered.SILENT, Unanswered.REFUSES, Unanswered.CLOSES, Unanswered.GARBLED, Unanswered.STRAY})


class Record(msgspec.Struct, frozen=True, array_like=True):
    """One resource record (RFC 1035 section 4.1.3)."""

    owner: str
    """Lower case, without the last dot, ``\\ddd`` for octets that are no letters; the root is ``.``."""

    type: str
    ttl: int
    """Seconds."""

    data: str
    """In presentation form; of CAA and HTTPS the octets in hexadecimal, since a malformed one tells too.

    Of RRSIG: type covered, expiration and inception (seconds since 1970), key tag, signer.
    """


class Reply(msgspec.Struct, frozen=True, omit_defaults=True):
    """One message in answer to a question."""

    rcode: str
    flags: str = ""
    """Of ``aa tc ra ad``, those that are set."""

    answer: tuple[Record, ...] = ()
    authority: tuple[Record, ...] = ()
    additional: tuple[Record, ...] = ()
    """Addresses alone."""

    has_edns: bool = False
    extended: tuple[str, ...] = ()
    """Extended errors (RFC 8914): ``6 DNSKEY missing``; hostile text."""

    left_out: int = 0
    """Records beyond the bound, and such as cannot be read."""

    @property
    def is_authoritative(self) -> bool:
        return "aa" in self.flags.split()

    @property
    def is_of_resolver(self) -> bool:
        """It offers recursion."""
        return "ra" in self.flags.split()

    @property
    def is_validated(self) -> bool:
        return "ad" in self.flags.split()

    @property
    def is_truncated(self) -> bool:
        return "tc" in self.flags.split()


class AskedServer(msgspec.Struct, frozen=True, omit_defaults=True):
    """A resolver or an authoritative server, by its address."""

    address: str
    port: int = 53
    is_resolver: bool = False
    reached_at: str | None = None
    """Where a route led."""

    names: tuple[str, ...] = ()
    """Of a name server: those by which it was found."""


class Question(msgspec.Struct, frozen=True, array_like=True):
    """One question to one server, and what came of it."""

    server: int
    """By its number in the list."""

    name: str
    type: str
    way: Way
    milliseconds: int
    """Until the answer, or until it was given up."""

    reply: int | None
    """By its number in the list: equal ones stand once.  None where none came."""

    why: Unanswered | None = None
    """None came."""


class DnsSeen(msgspec.Struct, frozen=True, omit_defaults=True):
    """All that was asked of the name service."""

    servers: tuple[AskedServer, ...] = ()
    replies: tuple[Reply, ...] = ()
    questions: tuple[Question, ...] = ()
    not_asked: tuple[str, ...] = ()
    """What a bound or the guard left out, and why, in words."""

    no_ipv6: bool = False
    """There is no way to an IPv6 address from here."""

    hosts_file: tuple[tuple[str, str], ...] = ()
    """Names of the site that this machine's hosts file gives an address, and which."""
