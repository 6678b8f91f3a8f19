"""The root of all that was observed."""

import datetime

import msgspec

from .dns import DnsSeen
from .handshakes import Endpoint, FetchedIssuer, FrontEnd, GivenLog, StatusAnswer, StoredCertificate
from .journeys import Hop, Journey
from .names import Name
from .observed import Fault, Seen, Unseen
from .origins import Origin
from .pages import Page, Redirected
from .plan import Plan
from .services import Service


class NotContacted(msgspec.Struct, frozen=True, omit_defaults=True):
    """An address that Pewter refused to contact, to protect the reviewer's own network."""

    url: str
    reason: str


class HostProbe(msgspec.Struct, frozen=True, omit_defaults=True):
    """One request with a Host that cannot be the site's."""

    name: str
    """Whose address was asked."""

    scheme: str
    asked: str
    """The host name in the request: ``no-such-host.invalid``."""

    answer: Seen[Hop] | Unseen
    is_refused: bool = False
    """The connection was closed without an answer, which is one way to refuse such a host."""


class Evidence(msgspec.Struct, frozen=True, omit_defaults=True):
    """All that was observed in one look at one site; no opinion in it."""

    plan: Plan
    """What was asked for."""

    begun: datetime.datetime
    elapsed_seconds: float
    names: tuple[Name, ...] = ()
    dns: DnsSeen = DnsSeen()
    """Of resolvers and name servers, one by one."""

    endpoints: tuple[Endpoint, ...] = ()
    front_ends: tuple[FrontEnd, ...] = ()
    journeys: tuple[Journey, ...] = ()
    pages: tuple[Page, ...] = ()
    """Pages and style sheets, each once by its SHA-256 and URL."""

    redirected_parts: tuple[Redirected, ...] = ()
    host_probes: tuple[HostProbe, ...] = ()
    origins: tuple[Origin, ...] = ()
    services: tuple[Service, ...] = ()
    """Servers elsewhere, or at another port, that HTTPS records promise."""

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
