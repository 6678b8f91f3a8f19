"""What can be seen: frozen types, JSON in and out; no opinion, no input or output."""

from .handshakes import (
    Alert,
    Ended,
    Endpoint,
    FetchedIssuer,
    Handshake,
    HelloAnswer,
    NoConnection,
    NotTls,
    Offer,
    Probe,
    Proof,
    StoredCertificate,
)
from .journeys import Hop, Journey, Landed, StopCause, Stopped
from .names import Answer, Lookup, Name, is_ip_address
from .observed import Seen, Unseen
from .root import Evidence, NotContacted, Question

__all__ = [
    "Alert",
    "Answer",
    "Ended",
    "Endpoint",
    "Evidence",
    "FetchedIssuer",
    "Handshake",
    "HelloAnswer",
    "Hop",
    "Journey",
    "Landed",
    "Lookup",
    "Name",
    "NoConnection",
    "NotContacted",
    "NotTls",
    "Offer",
    "Probe",
    "Proof",
    "Question",
    "Seen",
    "StopCause",
    "Stopped",
    "StoredCertificate",
    "Unseen",
    "is_ip_address",
]
