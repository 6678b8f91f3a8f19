"""Servers that an HTTPS record promises at another name or port."""

import msgspec

from .handshakes import Probe


class Service(msgspec.Struct, frozen=True, omit_defaults=True):
    """One address of one of them."""

    name: str
    """Of the site, whose record it is: the certificate has to be for it (RFC 9460 section 9)."""

    target: str
    port: int
    probe: Probe
    """A hello with the name; Unseen where none was sent."""

    address: str = ""
    """Empty where the target has none that may be contacted."""
