"""Root stores: whom a visitor's program trusts."""

import functools

import msgspec

from .certificates import Certificate, MalformedCertificate, read_certificate
from .pem import read_certificate_blocks


class Store(msgspec.Struct, frozen=True, dict=True):
    """A named set of trust anchors."""

    title: str
    """What a report calls it: ``Mozilla's roots``."""

    anchors: tuple[Certificate, ...]
    is_public: bool = False
    """A browser's own store: the rules for publicly trusted certificates hold for what it trusts."""

    origin: str = ""
    """Where it is from: ``certifi 2026.10.18``."""

    is_examined: bool = False
    """Its anchors are looked at like any certificate, as browsers do with roots that somebody added to them."""

    @functools.cached_property
    def by_subject(self) -> dict[object, tuple[Certificate, ...]]:
        """Anchors by their subject in comparable form."""
        found: dict[object, tuple[Certificate, ...]] = {}
        for anchor in self.anchors:
            key = anchor.subject.comparable
            found[key] = (*found.get(key, ()), anchor)
        return found

    def anchors_like(self, certificate: Certificate) -> tuple[Certificate, ...]:
        """The anchors with this certificate's subject and key: RFC 5280 section 6.1.1 (d) asks for no more.

        Several where a root was issued anew with its old key.
        """
        named = self.by_subject.get(certificate.subject.comparable, ())
        return tuple(anchor for anchor in named if anchor.spki == certificate.spki)


@functools.lru_cache(maxsize=1024)
def _read_anchor(octets: bytes) -> Certificate | MalformedCertificate:
    """Stores have most of their anchors in common."""
    return read_certificate(octets)


def read_store(title: str, octets: bytes, origin: str = "", *, is_public: bool = False) -> Store:
    """The store in a PEM or DER file; blocks that are no readable certificate are left out."""
    read = map(_read_anchor, read_certificate_blocks(octets))
    return Store(
        title, tuple(certificate for certificate in read if isinstance(certificate, Certificate)), is_public, origin
    )
