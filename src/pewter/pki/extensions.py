"""The certificate extensions that decide about a web server's path (RFC 5280 section 4.2)."""

from dataclasses import dataclass

from pewter.octets import DecodeError

from . import der
from .der import DerReader
from .distinguished_names import DistinguishedName, read_distinguished_name

SUBJECT_KEY_IDENTIFIER = "2.5.29.14"
KEY_USAGE = "2.5.29.15"
SUBJECT_ALT_NAME = "2.5.29.17"
BASIC_CONSTRAINTS = "2.5.29.19"
NAME_CONSTRAINTS = "2.5.29.30"
CERTIFICATE_POLICIES = "2.5.29.32"
AUTHORITY_KEY_IDENTIFIER = "2.5.29.35"
EXTENDED_KEY_USAGE = "2.5.29.37"
AUTHORITY_INFO_ACCESS = "1.3.6.1.5.5.7.1.1"

PROCESSED = frozenset({KEY_USAGE, SUBJECT_ALT_NAME, BASIC_CONSTRAINTS, NAME_CONSTRAINTS, EXTENDED_KEY_USAGE})
"""Extensions that path validation really acts on."""

TOLERATED = PROCESSED | {SUBJECT_KEY_IDENTIFIER, AUTHORITY_KEY_IDENTIFIER, CERTIFICATE_POLICIES}
"""Extensions that may be critical: policies take every value while no explicit policy is demanded."""

SERVER_AUTH = "1.3.6.1.5.5.7.3.1"
ANY_EXTENDED_KEY_USAGE = "2.5.29.37.0"

_CA_ISSUERS = "1.3.6.1.5.5.7.48.2"
_KEY_CERT_SIGN_BIT = 5

# GeneralName choices (RFC 5280 section 4.2.1.6)
_DNS_NAME = 0x82
_DIRECTORY_NAME = 0xA4
_URI = 0x86
_IP_ADDRESS = 0x87


@dataclass(frozen=True, slots=True)
class RawExtension:
    """One extension, its value unread."""

    oid: str
    critical: bool
    value: bytes


@dataclass(frozen=True, slots=True)
class Subtrees:
    """One side of NameConstraints, by the type of name it speaks of."""

    dns: tuple[str, ...] = ()
    ip: tuple[bytes, ...] = ()
    """8 or 32 octets: address, then mask."""

    directory: tuple[DistinguishedName, ...] = ()
    others: int = 0
    """Count of subtrees of types that no web server's name has."""


@dataclass(frozen=True, slots=True)
class NameConstraints:
    """RFC 5280 section 4.2.1.10."""

    permitted: Subtrees
    excluded: Subtrees


@dataclass(frozen=True, slots=True)
class ExtensionFacts:
    """What the extensions say; None where an extension is not there."""

    dns_names: tuple[str, ...] = ()
    """dNSName entries of subjectAltName as sent, octets as ISO 8859-1."""

    ip_addresses: tuple[bytes, ...] = ()
    has_subject_alt_name: bool = False
    is_ca: bool | None = None
    """cA of basicConstraints."""

    path_length: int | None = None
    may_sign_certificates: bool | None = None
    """keyCertSign of keyUsage."""

    purposes: tuple[str, ...] | None = None
    """extendedKeyUsage as dotted identifiers."""

    name_constraints: NameConstraints | None = None
    subject_key_identifier: bytes | None = None
    authority_key_identifier: bytes | None = None
    ca_issuers: tuple[str, ...] = ()
    """URIs at which the issuer's certificate can be had (section 4.2.2.1)."""


def read_raw_extensions(octets: bytes) -> tuple[RawExtension, ...]:
    """Split Extensions; DecodeError where one extension stands twice (section 4.2)."""
    reader = DerReader(octets, "Extensions")
    sequence = reader.nested(der.SEQUENCE, "Extensions")
    reader.end()
    found: list[RawExtension] = []
    while sequence:
        fields = sequence.nested(der.SEQUENCE, "Extension")
        oid = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "extnID")
        critical = fields.optional(der.BOOLEAN)
        value = fields.next(der.OCTET_STRING).content
        fields.end()
        if any(extension.oid == oid for extension in found):
            raise DecodeError("Extensions", 0, f"extension {oid} stands twice")
        found.append(RawExtension(oid, critical is not None and critical.content != b"\x00", value))
    return tuple(found)


def read_extension_facts(extensions: tuple[RawExtension, ...]) -> ExtensionFacts:
    """Read every extension that path validation, identity or building needs."""
    values = {extension.oid: extension.value for extension in extensions}
    dns_names: list[str] = []
    ip_addresses: list[bytes] = []
    if SUBJECT_ALT_NAME in values:
        names = DerReader(values[SUBJECT_ALT_NAME], "subjectAltName").nested(der.SEQUENCE, "subjectAltName")
        while names:
            entry = names.next()
            if entry.tag == _DNS_NAME:
                dns_names.append(entry.content.decode("latin-1"))
            elif entry.tag == _IP_ADDRESS:
                ip_addresses.append(entry.content)
    is_ca, path_length = _read_basic_constraints(values.get(BASIC_CONSTRAINTS))
    return ExtensionFacts(
        dns_names=tuple(dns_names),
        ip_addresses=tuple(ip_addresses),
        has_subject_alt_name=SUBJECT_ALT_NAME in values,
        is_ca=is_ca,
        path_length=path_length,
        may_sign_certificates=_read_key_cert_sign(values.get(KEY_USAGE)),
        purposes=_read_purposes(values.get(EXTENDED_KEY_USAGE)),
        name_constraints=_read_name_constraints(values.get(NAME_CONSTRAINTS)),
        subject_key_identifier=_read_subject_key_identifier(values.get(SUBJECT_KEY_IDENTIFIER)),
        authority_key_identifier=_read_authority_key_identifier(values.get(AUTHORITY_KEY_IDENTIFIER)),
        ca_issuers=_read_ca_issuers(values.get(AUTHORITY_INFO_ACCESS)),
    )


def _read_basic_constraints(value: bytes | None) -> tuple[bool | None, int | None]:
    if value is None:
        return None, None
    fields = DerReader(value, "basicConstraints").nested(der.SEQUENCE, "basicConstraints")
    flag = fields.optional(der.BOOLEAN)
    length = fields.optional(der.INTEGER)
    fields.end()
    is_ca = flag is not None and flag.content != b"\x00"
    return is_ca, der.read_integer(length.content, "pathLenConstraint") if length is not None else None


def _read_key_cert_sign(value: bytes | None) -> bool | None:
    if value is None:
        return None
    _, octets = der.read_bits(DerReader(value, "keyUsage").next(der.BIT_STRING).content, "keyUsage")
    return bool(octets and octets[0] & (0x80 >> _KEY_CERT_SIGN_BIT))


def _read_purposes(value: bytes | None) -> tuple[str, ...] | None:
    if value is None:
        return None
    sequence = DerReader(value, "extendedKeyUsage").nested(der.SEQUENCE, "extendedKeyUsage")
    found: list[str] = []
    while sequence:
        found.append(der.read_oid(sequence.next(der.OBJECT_IDENTIFIER).content, "KeyPurposeId"))
    return tuple(found)


def _read_name_constraints(value: bytes | None) -> NameConstraints | None:
    if value is None:
        return None
    fields = DerReader(value, "nameConstraints").nested(der.SEQUENCE, "nameConstraints")
    permitted, excluded = fields.optional(0xA0), fields.optional(0xA1)
    fields.end()
    return NameConstraints(
        _read_subtrees(permitted.content if permitted else b""), _read_subtrees(excluded.content if excluded else b"")
    )


def _read_subtrees(octets: bytes) -> Subtrees:
    reader = DerReader(octets, "GeneralSubtrees")
    dns: list[str] = []
    ip: list[bytes] = []
    directory: list[DistinguishedName] = []
    others = 0
    while reader:
        base = reader.nested(der.SEQUENCE, "GeneralSubtree").next()
        if base.tag == _DNS_NAME:
            dns.append(base.content.decode("latin-1"))
        elif base.tag == _IP_ADDRESS:
            if len(base.content) not in {8, 32}:
                raise DecodeError("nameConstraints", 0, f"an iPAddress subtree of {len(base.content)} octets")
            ip.append(base.content)
        elif base.tag == _DIRECTORY_NAME:
            directory.append(read_distinguished_name(base.content))
        else:
            others += 1
    return Subtrees(tuple(dns), tuple(ip), tuple(directory), others)


def _read_subject_key_identifier(value: bytes | None) -> bytes | None:
    return None if value is None else DerReader(value, "subjectKeyIdentifier").next(der.OCTET_STRING).content


def _read_authority_key_identifier(value: bytes | None) -> bytes | None:
    if value is None:
        return None
    identifier = (
        DerReader(value, "authorityKeyIdentifier").nested(der.SEQUENCE, "authorityKeyIdentifier").optional(0x80)
    )
    return identifier.content if identifier is not None else None


def _read_ca_issuers(value: bytes | None) -> tuple[str, ...]:
    if value is None:
        return ()
    sequence = DerReader(value, "authorityInfoAccess").nested(der.SEQUENCE, "authorityInfoAccess")
    found: list[str] = []
    while sequence:
        fields = sequence.nested(der.SEQUENCE, "AccessDescription")
        method = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "accessMethod")
        location = fields.next()
        if method == _CA_ISSUERS and location.tag == _URI:
            found.append(location.content.decode("latin-1"))
    return tuple(found)
