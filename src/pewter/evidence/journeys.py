"""What follows from typing a URL: hops, and where it ends."""

import datetime
import enum

import msgspec

from .observed import Tries, Unseen


class StopCause(enum.Enum):
    """Why a journey could not go on."""

    NO_ADDRESS = "no address"
    NO_CONNECTION = "no connection"
    NO_TLS = "no TLS"
    NO_ANSWER = "no answer"
    LOOP = "loop"
    TOO_MANY_HOPS = "too many hops"
    BAD_LOCATION = "bad location"
    NOT_CONTACTED = "not contacted"


class WayIn(enum.Enum):
    """Why a journey was made."""

    TYPED = "typed"
    """The home page and the paths given."""

    FOUND = "found"
    """A link of the home page."""

    ABSENT = "absent"
    """A page that does not exist."""

    RECORDED = "recorded"
    """From a HAR file."""

    MOVED = "moved"
    """Where a page moved its visitors by itself: no way in, but the rest of another."""


class Hop(msgspec.Struct, frozen=True, omit_defaults=True):
    """One request and the head of its answer."""

    url: str
    address: str
    status: int
    fields: tuple[tuple[str, str], ...]
    """Header lines in the order sent, repeats kept, octets as ISO 8859-1.  In Set-Cookie each octet of
    the value is replaced by ``*``: values never enter the evidence."""

    at: datetime.datetime
    certificate: str | None = None
    """Fingerprint of the leaf on this very connection; None over plain http."""

    elapsed_seconds: float = 0.0
    page: str | None = None
    """SHA-256 of the page that was shown, under which the evidence keeps what it says."""

    oddities: tuple[str, ...] = ()
    """What of the head does not conform and is accepted by browsers all the same, in words."""

    body_fault: str = ""
    """Why a browser cannot show the body; empty where it can."""

    @property
    def is_https(self) -> bool:
        return self.url.startswith("https:")

    def values(self, field_name: str) -> tuple[str, ...]:
        """The values of every field line of that name, in order."""
        wanted, length = field_name.lower(), len(field_name)
        return tuple(value for name, value in self.fields if len(name) == length and name.lower() == wanted)


class Landed(msgspec.Struct, frozen=True, tag="landed", omit_defaults=True):
    """The last hop answered with something else than a redirect."""


class Stopped(msgspec.Struct, frozen=True, tag="stopped", omit_defaults=True):
    """The journey broke off at a URL that gave no answer, or that cannot be followed."""

    at: str
    """The URL that gave no answer, or whose answer's Location cannot be followed."""

    cause: StopCause
    detail: str
    location: str | None = None
    """The Location value as sent, where it is what cannot be followed."""


LANDED = Landed()


class Journey(msgspec.Struct, frozen=True, omit_defaults=True):
    """One way in, followed as a browser with an empty profile would."""

    start: str
    """The URL as typed: ``http://marram-ferries.example/``."""

    hops: tuple[Hop, ...]
    end: Landed | Stopped | Unseen = LANDED
    reason: WayIn = WayIn.TYPED
    by_address: str | None = None
    """The one address the first hop was made to go to; None for a visitor's own choice."""

    looks_like: str = ""
    """Of a link that was found: ``login``."""

    tries: tuple[Tries, ...] = ()
    """Requests of it that had to be made more than once."""

    asked_again: bool = False
    """What Pewter got under its own name was an error, so that it asked again as a browser does."""

    answered_otherwise: str = ""
    """What Pewter got under its own name, where a browser got something else: the hops are the browser's then."""
