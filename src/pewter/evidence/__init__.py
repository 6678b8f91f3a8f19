"""What can be seen: frozen types, JSON in and out; no opinion, no input or output."""

from .handshakes import (
    Alert,
    Ended,
    Endpoint,
    FetchedIssuer,
    GivenLog,
    Handshake,
    HelloAnswer,
    NoConnection,
    NotTls,
    Offer,
    Probe,
    Proof,
    StatusAnswer,
    StoredCertificate,
)
from .journeys import Hop, Journey, Landed, StopCause, Stopped
from .names import Answer, Lookup, Name, is_ip_address
from .observed import Seen, Unseen
from .pages import Move, Page, Reference, Statement, Use
from .protocols import Feature, FiniteField, GroupsSeen, Protocol, SuitesSeen, VersionSeen
from .root import Evidence, HostProbe, NotContacted, Question

__all__ = [
    "Alert",
    "Answer",
    "Ended",
    "Endpoint",
    "Evidence",
    "Feature",
    "FetchedIssuer",
    "FiniteField",
    "GivenLog",
    "GroupsSeen",
    "Handshake",
    "HelloAnswer",
    "Hop",
    "HostProbe",
    "Journey",
    "Landed",
    "Lookup",
    "Move",
    "Name",
    "NoConnection",
    "NotContacted",
    "NotTls",
    "Offer",
    "Page",
    "Probe",
    "Proof",
    "Protocol",
    "Question",
    "Reference",
    "Seen",
    "Statement",
    "StatusAnswer",
    "StopCause",
    "Stopped",
    "StoredCertificate",
    "SuitesSeen",
    "Unseen",
    "Use",
    "VersionSeen",
    "is_ip_address",
]
