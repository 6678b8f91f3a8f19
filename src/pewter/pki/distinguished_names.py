"""Distinguished names: reading, comparing, and as text (RFC 5280 sections 4.1.2.4 and 7.1, RFC 4514)."""

import functools
import re

import msgspec

from pewter.kept import kept

from . import der
from .der import DerReader

_SHORT_NAMES = {
    "2.5.4.3": "CN",
    "2.5.4.5": "serialNumber",
    "2.5.4.6": "C",
    "2.5.4.7": "L",
    "2.5.4.8": "ST",
    "2.5.4.9": "street",
    "2.5.4.10": "O",
    "2.5.4.11": "OU",
    "0.9.2342.19200300.100.1.25": "DC",
    "1.2.840.113549.1.9.1": "emailAddress",
}
_COMMON_NAME = "2.5.4.3"
_ORGANIZATION = "2.5.4.10"
_ENCODINGS = {0x0C: "utf-8", 0x13: "ascii", 0x14: "latin-1", 0x16: "ascii", 0x1C: "utf-32-be", 0x1E: "utf-16-be"}


class Attribute(msgspec.Struct, frozen=True):
    """One attribute type and value."""

    oid: str
    text: str
    is_text: bool
    """False where the value is no string type; ``text`` is then its octets in hexadecimal."""

    @property
    def comparable(self) -> tuple[str, str]:
        """Letter case and runs of blanks do not count in strings (RFC 5280 section 7.1)."""
        return self.oid, re.sub(r" +", " ", self.text.strip()).casefold() if self.is_text else self.text


class DistinguishedName(msgspec.Struct, frozen=True, dict=True):
    """A Name: relative distinguished names in the order of the encoding."""

    octets: bytes
    rdns: tuple[tuple[Attribute, ...], ...]

    @functools.cached_property
    def comparable(self) -> tuple[frozenset[tuple[str, str]], ...]:
        """Equal for names that match (RFC 5280 section 7.1)."""
        return tuple(frozenset(attribute.comparable for attribute in rdn) for rdn in self.rdns)

    @property
    def is_empty(self) -> bool:
        return not self.rdns

    @property
    def common_names(self) -> tuple[str, ...]:
        return self._texts(_COMMON_NAME)

    @property
    def organizations(self) -> tuple[str, ...]:
        return self._texts(_ORGANIZATION)

    @property
    def title(self) -> str:
        """The shortest text that tells who this is: last common name, else organization, else all of it."""
        names = self.common_names or self._texts(_ORGANIZATION)
        return names[-1] if names else str(self)

    @property
    def owner(self) -> str:
        """Whose it is, for CAA: its first organization, else its title."""
        return next(iter(self.organizations), self.title)

    def __str__(self) -> str:
        """As RFC 4514 writes it, last relative name first: ``CN=Skerry Trust R1,O=Skerry Trust``."""
        parts = ("+".join(f"{_SHORT_NAMES.get(a.oid, a.oid)}={_escape(a.text)}" for a in rdn) for rdn in self.rdns)
        return ",".join(reversed(list(parts))) or "(empty name)"

    def _texts(self, oid: str) -> tuple[str, ...]:
        return tuple(attribute.text for rdn in self.rdns for attribute in rdn if attribute.oid == oid)


@kept(most=256)  # issuers and subjects come again and again
def read_distinguished_name(octets: bytes) -> DistinguishedName:
    """Read the DER of a Name; DecodeError where it is none."""
    reader = DerReader(octets, "Name")
    sequence = reader.nested(der.SEQUENCE, "RDNSequence")
    reader.end()
    rdns: list[tuple[Attribute, ...]] = []
    while sequence:
        rdn = sequence.nested(der.SET, "RelativeDistinguishedName")
        attributes: list[Attribute] = []
        while rdn:
            attributes.append(_read_attribute(rdn.nested(der.SEQUENCE, "AttributeTypeAndValue")))
        rdns.append(tuple(attributes))
    return DistinguishedName(octets, tuple(rdns))


def _read_attribute(reader: DerReader) -> Attribute:
    oid = der.read_oid(reader.next(der.OBJECT_IDENTIFIER).content, "AttributeType")
    value = reader.next()
    encoding = _ENCODINGS.get(value.tag)
    if encoding is None:
        return Attribute(oid, value.octets.hex(), is_text=False)
    # Octets that break their own string type are common in old certificates: kept readable, never refused.
    return Attribute(oid, value.content.decode(encoding, "replace"), is_text=True)


def _escape(text: str) -> str:
    return re.sub(r'([,+"\\<>;=])', r"\\\1", text)
