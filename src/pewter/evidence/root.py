"""The root of all that was observed."""

import datetime
from typing import ClassVar, Self

import msgspec

from .handshakes import Endpoint, FetchedIssuer, GivenLog, StatusAnswer, StoredCertificate
from .journeys import Hop, Journey
from .names import Name
from .observed import Seen, Unseen
from .pages import Page


class Question(msgspec.Struct, frozen=True):
    """What was asked for."""

    targets: tuple[str, ...]
    """Host names; the first decides the site."""

    paths: tuple[str, ...] = ("/",)
    """``/account/login`` for every name, ``tickets.marram-ferries.example/basket`` for one."""

    routes: tuple[str, ...] = ()
    resolver: str | None = None


class NotContacted(msgspec.Struct, frozen=True):
    """An address that Pewter refused to contact, to protect the reviewer's own network."""

    url: str
    reason: str


class Fault(msgspec.Struct, frozen=True):
    """Something that Pewter itself did wrong: it says nothing of the site."""

    what: str
    """Where in the look, or which rule."""

    detail: str

    REASON: ClassVar[str] = "Pewter failed here; please report it"
    """Why what it cost is unknown."""

    @classmethod
    def of(cls, what: str, exc: Exception) -> Self:
        """With as much of the exception as a report has use for."""
        return cls(what, f"{type(exc).__name__}: {exc}"[:300])


class HostProbe(msgspec.Struct, frozen=True):
    """One request with a Host that cannot be the site's."""

    name: str
    """Whose address was asked."""

    scheme: str
    asked: str
    """The host name in the request: ``no-such-host.invalid``."""

    answer: Seen[Hop] | Unseen


class Evidence(msgspec.Struct, frozen=True):
    """All that was observed in one look at one site; no opinion in it."""

    question: Question
    begun: datetime.datetime
    elapsed_seconds: float
    names: tuple[Name, ...] = ()
    endpoints: tuple[Endpoint, ...] = ()
    journeys: tuple[Journey, ...] = ()
    pages: tuple[Page, ...] = ()
    """Pages and style sheets, each once by its SHA-256 and URL."""

    host_probes: tuple[HostProbe, ...] = ()
    certificates: tuple[StoredCertificate, ...] = ()
    fetched_issuers: tuple[FetchedIssuer, ...] = ()
    given_trust: tuple[str, ...] = ()
    """Fingerprints of the anchors that the reviewer gave."""

    trusts_given_only: bool = False
    """They stand in place of every other store."""

    given_certificates: tuple[str, ...] = ()
    """Fingerprints of the certificates in files that the reviewer gave, to be held against what is served."""

    given_logs: tuple[GivenLog, ...] = ()
    covered_names: tuple[Name, ...] = ()
    """Names in served certificates that are not under review, looked up."""

    revocation_asked: bool = False
    """The reviewer wished that the CAs be asked; a stapled answer comes without asking."""

    status_answers: tuple[StatusAnswer, ...] = ()

    not_contacted: tuple[NotContacted, ...] = ()
    faults: tuple[Fault, ...] = ()
    """Of Pewter's own."""

    connections: int = 0
    environment_proxy: str | None = None
    """A proxy set in the environment: a browser there would use it, Pewter does not."""

    interrupted: bool = False
    """The reviewer broke the look off: what is missing was not asked."""
