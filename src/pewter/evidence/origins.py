"""The server behind an edge service, asked as the edge would."""

import msgspec

from .handshakes import Probe
from .journeys import Hop
from .observed import Seen, Unseen


class Origin(msgspec.Struct, frozen=True, omit_defaults=True):
    """One name at its origin."""

    name: str
    address: str
    port: int | None = None
    """That was given; None for 443 and 80."""

    probe: Probe | None = None
    """A hello with the name."""

    secure: Seen[Hop] | Unseen | None = None
    """The home page over TLS."""

    plain: Seen[Hop] | Unseen | None = None
    """The home page over plain HTTP."""
