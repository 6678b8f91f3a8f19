"""The certificate extensions that decide about a web server's path (RFC 5280 section 4.2)."""

from collections.abc import Callable

import msgspec

from pewter.octets import DecodeError

from . import der
from .der import DerReader
from .distinguished_names import DistinguishedName, read_distinguished_name
from .identifiers import (
    AUTHORITY_INFO_ACCESS,
    AUTHORITY_KEY_IDENTIFIER,
    BASIC_CONSTRAINTS,
    CA_ISSUERS,
    CERTIFICATE_POLICIES,
    CRL_DISTRIBUTION_POINTS,
    EXTENDED_KEY_USAGE,
    INHIBIT_ANY_POLICY,
    KEY_USAGE,
    NAME_CONSTRAINTS,
    OCSP,
    OCSP_NO_CHECK,
    POLICY_CONSTRAINTS,
    POLICY_MAPPINGS,
    PRECERTIFICATE_POISON,
    SIGNED_CERTIFICATE_TIMESTAMPS,
    SUBJECT_ALT_NAME,
    SUBJECT_KEY_IDENTIFIER,
    TLS_FEATURE,
)

# Bits of keyUsage (RFC 5280 section 4.2.1.3)
DIGITAL_SIGNATURE, KEY_ENCIPHERMENT, KEY_AGREEMENT, KEY_CERT_SIGN, CRL_SIGN = 0, 2, 4, 5, 6

# GeneralName choices (RFC 5280 section 4.2.1.6)
_EMAIL = 0x81
_DNS_NAME = 0x82
_DIRECTORY_NAME = 0xA4
_URI = 0x86
_IP_ADDRESS = 0x87


class RawExtension(msgspec.Struct, frozen=True):
    """One extension, its value unread."""

    oid: str
    critical: bool
    value: bytes
    well_formed: bool = True
    """Its critical flag is in DER."""


class ExtensionFault(msgspec.Struct, frozen=True):
    """Why one extension cannot be read, or should not be there."""

    oid: str
    words: str
    stops: bool
    """Browsers refuse the certificate for it."""


class Subtrees(msgspec.Struct, frozen=True):
    """One side of NameConstraints, by the type of name it speaks of."""

    dns: tuple[str, ...] = ()
    ip: tuple[bytes, ...] = ()
    """8 or 32 octets: address, then mask."""

    directory: tuple[DistinguishedName, ...] = ()
    email: tuple[str, ...] = ()
    uri: tuple[str, ...] = ()
    other_tags: frozenset[int] = frozenset()
    """Tags of the types of names that are not processed."""

    @property
    def count(self) -> int:
        """Of subtrees that names are held against."""
        return len(self.dns) + len(self.ip) + len(self.directory) + len(self.email) + len(self.uri)


class NameConstraints(msgspec.Struct, frozen=True):
    """RFC 5280 section 4.2.1.10."""

    permitted: Subtrees
    excluded: Subtrees
    critical: bool = True


class PolicyFacts(msgspec.Struct, frozen=True):
    """What a certificate says of policies (RFC 5280 sections 4.2.1.4, 4.2.1.5, 4.2.1.11 and 4.2.1.14)."""

    policies: tuple[str, ...] | None = None
    mappings: tuple[tuple[str, str], ...] = ()
    """issuerDomainPolicy and subjectDomainPolicy."""

    require_explicit_policy: int | None = None
    inhibit_policy_mapping: int | None = None
    inhibit_any_policy: int | None = None


class ExtensionFacts(msgspec.Struct, frozen=True):
    """What the extensions say; None where an extension is not there."""

    dns_names: tuple[str, ...] = ()
    """dNSName entries of subjectAltName as sent, octets as ISO 8859-1."""

    ip_addresses: tuple[bytes, ...] = ()
    has_subject_alt_name: bool = False
    is_ca: bool | None = None
    """cA of basicConstraints."""

    path_length: int | None = None
    key_usage: frozenset[int] | None = None
    """The bits that are set."""

    email_addresses: tuple[str, ...] = ()
    uris: tuple[str, ...] = ()
    directory_names: tuple[DistinguishedName, ...] = ()
    other_name_tags: frozenset[int] = frozenset()
    policy: PolicyFacts = PolicyFacts()

    purposes: tuple[str, ...] | None = None
    """extendedKeyUsage as dotted identifiers."""

    name_constraints: NameConstraints | None = None
    subject_key_identifier: bytes | None = None
    authority_key_identifier: bytes | None = None
    ca_issuers: tuple[str, ...] = ()
    """URIs at which the issuer's certificate can be had (section 4.2.2.1)."""

    ocsp_responders: tuple[str, ...] = ()
    crl_uris: tuple[str, ...] = ()
    """fullName URIs of cRLDistributionPoints, each once (section 4.2.1.13)."""

    tls_features: tuple[int, ...] = ()
    """RFC 7633; 5 demands a stapled response."""

    signed_timestamps: bytes | None = None
    """The SignedCertificateTimestampList within both OCTET STRINGs (RFC 6962 section 3.3)."""

    is_precertificate: bool = False
    has_ocsp_no_check: bool = False
    faults: tuple[ExtensionFault, ...] = ()

    @property
    def may_sign_certificates(self) -> bool | None:
        """keyCertSign of keyUsage."""
        return None if self.key_usage is None else KEY_CERT_SIGN in self.key_usage


def read_raw_extensions(octets: bytes) -> tuple[RawExtension, ...]:
    """Split Extensions (section 4.1.2.9), in the order sent.

    One that stands twice is kept: browsers refuse it, and all else can be read all the same.
    """
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
        well_formed = critical is None or critical.content in {b"\x00", b"\xff"}
        found.append(RawExtension(oid, critical is not None and critical.content != b"\x00", value, well_formed))
    return tuple(found)


def read_extension_facts(extensions: tuple[RawExtension, ...]) -> ExtensionFacts:
    """Read every extension that path validation, identity or building needs, each by itself.

    One that cannot be read, or that stands twice, costs no other: it is among the faults.
    """
    read: dict[str, object] = {}
    faults: list[ExtensionFault] = []
    seen: set[str] = set()
    for extension in extensions:
        oid = extension.oid
        if oid in seen:
            faults.append(ExtensionFault(oid, "it stands twice", True))
            continue
        seen.add(oid)
        if not extension.well_formed:
            faults.append(ExtensionFault(oid, "its critical flag is no BOOLEAN of DER", True))
        reader = _READERS.get(oid)
        if reader is None:
            continue
        try:
            read.update(reader(extension))
        except DecodeError as exc:
            faults.append(ExtensionFault(oid, exc.problem, oid not in _NOT_NEEDED))
            read.update(exc.facts if isinstance(exc, _PartlyRead) else {})
    policy = PolicyFacts(**{name[7:]: read.pop(name) for name in list(read) if name.startswith("policy_")})  # type: ignore[arg-type]
    return ExtensionFacts(**read, policy=policy, faults=tuple(faults))  # type: ignore[arg-type]


_PROCESSED_NAMES = frozenset({_EMAIL, _DNS_NAME, _DIRECTORY_NAME, _URI, _IP_ADDRESS})
_OTHER_NAMES = frozenset({0xA0, 0xA3, 0xA5, 0x88})
"""otherName, x400Address, ediPartyName and registeredID: known, and not processed."""


def read_full_name_uris(octets: bytes) -> list[str]:
    """The URIs of a DistributionPointName (section 4.2.1.13), in certificates and CRLs alike."""
    full_name = DerReader(octets, "DistributionPointName").optional(0xA0)
    entries = DerReader(full_name.content if full_name is not None else b"", "fullName")
    found: list[str] = []
    while entries:
        entry = entries.next()
        if entry.tag == _URI:
            found.append(_text(entry))
    return found


class _PartlyRead(DecodeError):
    """Browsers refuse the extension; what it says can be told all the same."""

    def __init__(self, structure: str, problem: str, facts: dict[str, object]) -> None:
        super().__init__(structure, 0, problem)
        self.facts = facts


def _text(entry: der.Element) -> str:
    return entry.content.decode("latin-1")


def _ascii(entry: der.Element, structure: str) -> str:
    """IA5String: a browser drops a certificate with another octet here."""
    if not entry.content.isascii():
        raise DecodeError(structure, 0, "octets that are not ASCII")
    return entry.content.decode("ascii")


def _whole(extension: RawExtension, tag: int, structure: str) -> DerReader:
    """A reader for the one element that an extension's value is."""
    reader = DerReader(extension.value, structure)
    inner = reader.nested(tag, structure)
    reader.end()
    return inner


def _content(extension: RawExtension, tag: int, structure: str) -> bytes:
    reader = DerReader(extension.value, structure)
    content = reader.next(tag).content
    reader.end()
    return content


def _boolean(element: der.Element | None, structure: str) -> bool:
    if element is not None and element.content not in {b"\x00", b"\xff"}:
        raise DecodeError(structure, 0, f"a BOOLEAN of {element.content.hex()}")
    return element is not None and element.content == b"\xff"


def _read_alt_names(extension: RawExtension) -> dict[str, object]:
    """What can be read of the names stays known to a report, also where browsers refuse them."""
    sequence = _whole(extension, der.SEQUENCE, "subjectAltName")
    if not sequence:
        raise DecodeError("subjectAltName", 0, "no name in it")
    names: list[der.Element] = []
    while sequence:
        names.append(sequence.next())
    facts: dict[str, object] = {
        "has_subject_alt_name": True,
        "dns_names": tuple(_text(entry) for entry in names if entry.tag == _DNS_NAME),
        "ip_addresses": tuple(entry.content for entry in names if entry.tag == _IP_ADDRESS),
        "email_addresses": tuple(_text(entry) for entry in names if entry.tag == _EMAIL),
        "uris": tuple(_text(entry) for entry in names if entry.tag == _URI),
        "directory_names": tuple(
            read_distinguished_name(entry.content) for entry in names if entry.tag == _DIRECTORY_NAME
        ),
        "other_name_tags": frozenset(entry.tag for entry in names) - _PROCESSED_NAMES,
    }
    for entry in names:
        if entry.tag in {_DNS_NAME, _EMAIL, _URI} and not entry.content.isascii():
            raise _PartlyRead("subjectAltName", "a name with octets that are not ASCII", facts)
        if entry.tag == _IP_ADDRESS and len(entry.content) not in {4, 16}:
            raise _PartlyRead("subjectAltName", f"an address of {len(entry.content)} octets", facts)
    return facts


def _read_basic_constraints(extension: RawExtension) -> dict[str, object]:
    fields = _whole(extension, der.SEQUENCE, "basicConstraints")
    is_ca = _boolean(fields.optional(der.BOOLEAN), "basicConstraints")
    length = fields.optional(der.INTEGER)
    fields.end()
    path_length = der.read_count(length.content, "pathLenConstraint") if length is not None else None
    return {"is_ca": is_ca, "path_length": path_length}


def _read_key_usage(extension: RawExtension) -> dict[str, object]:
    _, octets = der.read_bits(_content(extension, der.BIT_STRING, "keyUsage"), "keyUsage")
    bits = frozenset(bit for bit in range(min(len(octets), 2) * 8) if octets[bit // 8] & (0x80 >> bit % 8))
    return {"key_usage": bits}


def _read_purposes(extension: RawExtension) -> dict[str, object]:
    sequence = _whole(extension, der.SEQUENCE, "extendedKeyUsage")
    found: list[str] = []
    while sequence:
        found.append(der.read_oid(sequence.next(der.OBJECT_IDENTIFIER).content, "KeyPurposeId"))
    if not found:
        raise DecodeError("extendedKeyUsage", 0, "no purpose in it")
    return {"purposes": tuple(found)}


def _read_name_constraints(extension: RawExtension) -> dict[str, object]:
    fields = _whole(extension, der.SEQUENCE, "nameConstraints")
    permitted, excluded = fields.optional(0xA0), fields.optional(0xA1)
    fields.end()
    if permitted is None and excluded is None:
        raise DecodeError("nameConstraints", 0, "neither permitted nor excluded subtrees")
    constraints = NameConstraints(
        _read_subtrees(permitted.content if permitted else b""),
        _read_subtrees(excluded.content if excluded else b""),
        extension.critical,
    )
    return {"name_constraints": constraints}


def _read_subtrees(octets: bytes) -> Subtrees:
    reader = DerReader(octets, "GeneralSubtrees")
    dns: list[str] = []
    ip: list[bytes] = []
    directory: list[DistinguishedName] = []
    email: list[str] = []
    uri: list[str] = []
    other_tags: set[int] = set()
    while reader:
        subtree = reader.nested(der.SEQUENCE, "GeneralSubtree")
        base = subtree.next()
        if subtree:
            # RFC 5280 allows no other minimum than the default, and no maximum.
            raise DecodeError("nameConstraints", 0, "a subtree with minimum or maximum")
        if base.tag == _DNS_NAME:
            dns.append(_ascii(base, "nameConstraints"))
        elif base.tag == _IP_ADDRESS:
            if len(base.content) not in {8, 32}:
                raise DecodeError("nameConstraints", 0, f"an iPAddress subtree of {len(base.content)} octets")
            ip.append(base.content)
        elif base.tag == _DIRECTORY_NAME:
            directory.append(read_distinguished_name(base.content))
        elif base.tag == _EMAIL:
            email.append(_text(base))
        elif base.tag == _URI:
            uri.append(_text(base))
        elif base.tag in _OTHER_NAMES:
            other_tags.add(base.tag)
        else:
            raise DecodeError("nameConstraints", 0, f"a name of the unknown type 0x{base.tag:02x}")
    return Subtrees(tuple(dns), tuple(ip), tuple(directory), tuple(email), tuple(uri), frozenset(other_tags))


def _read_subject_key_identifier(extension: RawExtension) -> dict[str, object]:
    return {"subject_key_identifier": _content(extension, der.OCTET_STRING, "subjectKeyIdentifier")}


def _read_authority_key_identifier(extension: RawExtension) -> dict[str, object]:
    identifier = _whole(extension, der.SEQUENCE, "authorityKeyIdentifier").optional(0x80)
    return {"authority_key_identifier": identifier.content if identifier is not None else None}


def _read_access(extension: RawExtension) -> dict[str, object]:
    """accessMethod and URI of each AccessDescription that has one."""
    sequence = _whole(extension, der.SEQUENCE, "authorityInfoAccess")
    found: list[tuple[str, str]] = []
    while sequence:
        fields = sequence.nested(der.SEQUENCE, "AccessDescription")
        method = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "accessMethod")
        location = fields.next()
        if location.tag == _URI:
            found.append((method, _ascii(location, "authorityInfoAccess")))
    return {
        "ca_issuers": tuple(location for method, location in found if method == CA_ISSUERS),
        "ocsp_responders": tuple(location for method, location in found if method == OCSP),
    }


def _read_crl_uris(extension: RawExtension) -> dict[str, object]:
    """Points of another CRL issuer are left out: such indirect CRLs are not for web clients."""
    points = _whole(extension, der.SEQUENCE, "cRLDistributionPoints")
    found: list[str] = []
    while points:
        fields = points.nested(der.SEQUENCE, "DistributionPoint")
        name = fields.optional(0xA0)
        fields.optional(0x81)
        if name is None or fields:
            continue
        found += read_full_name_uris(name.content)
    return {"crl_uris": tuple(dict.fromkeys(found))}


def _read_tls_features(extension: RawExtension) -> dict[str, object]:
    sequence = _whole(extension, der.SEQUENCE, "TLS feature")
    found: list[int] = []
    while sequence:
        found.append(der.read_count(sequence.next(der.INTEGER).content, "TLS feature"))
    return {"tls_features": tuple(found)}


def _read_signed_timestamps(extension: RawExtension) -> dict[str, object]:
    return {"signed_timestamps": _content(extension, der.OCTET_STRING, "SignedCertificateTimestampList")}


def _read_policies(extension: RawExtension) -> dict[str, object]:
    sequence = _whole(extension, der.SEQUENCE, "certificatePolicies")
    found: list[str] = []
    while sequence:
        information = sequence.nested(der.SEQUENCE, "PolicyInformation")
        found.append(der.read_oid(information.next(der.OBJECT_IDENTIFIER).content, "policyIdentifier"))
    if not found or len(set(found)) < len(found):
        raise DecodeError("certificatePolicies", 0, "a policy that stands twice" if found else "no policy in it")
    return {"policy_policies": tuple(found)}


def _read_policy_mappings(extension: RawExtension) -> dict[str, object]:
    sequence = _whole(extension, der.SEQUENCE, "policyMappings")
    found: list[tuple[str, str]] = []
    while sequence:
        pair = sequence.nested(der.SEQUENCE, "policyMapping")
        issuer, subject = (
            der.read_oid(pair.next(der.OBJECT_IDENTIFIER).content, side)
            for side in ("issuerDomainPolicy", "subjectDomainPolicy")
        )
        found.append((issuer, subject))
    return {"policy_mappings": tuple(found)}


def _read_policy_constraints(extension: RawExtension) -> dict[str, object]:
    fields = _whole(extension, der.SEQUENCE, "policyConstraints")
    explicit, mapping = fields.optional(0x80), fields.optional(0x81)
    fields.end()
    return {
        "policy_require_explicit_policy": der.read_count(explicit.content, "requireExplicitPolicy")
        if explicit is not None
        else None,
        "policy_inhibit_policy_mapping": der.read_count(mapping.content, "inhibitPolicyMapping")
        if mapping is not None
        else None,
    }


def _read_inhibit_any_policy(extension: RawExtension) -> dict[str, object]:
    content = _content(extension, der.INTEGER, "inhibitAnyPolicy")
    return {"policy_inhibit_any_policy": der.read_count(content, "inhibitAnyPolicy")}


_READERS: dict[str, Callable[[RawExtension], dict[str, object]]] = {
    SUBJECT_ALT_NAME: _read_alt_names,
    BASIC_CONSTRAINTS: _read_basic_constraints,
    KEY_USAGE: _read_key_usage,
    EXTENDED_KEY_USAGE: _read_purposes,
    NAME_CONSTRAINTS: _read_name_constraints,
    SUBJECT_KEY_IDENTIFIER: _read_subject_key_identifier,
    AUTHORITY_KEY_IDENTIFIER: _read_authority_key_identifier,
    AUTHORITY_INFO_ACCESS: _read_access,
    CRL_DISTRIBUTION_POINTS: _read_crl_uris,
    CERTIFICATE_POLICIES: _read_policies,
    POLICY_MAPPINGS: _read_policy_mappings,
    POLICY_CONSTRAINTS: _read_policy_constraints,
    INHIBIT_ANY_POLICY: _read_inhibit_any_policy,
    TLS_FEATURE: _read_tls_features,
    SIGNED_CERTIFICATE_TIMESTAMPS: _read_signed_timestamps,
    PRECERTIFICATE_POISON: lambda extension: {"is_precertificate": True},
    OCSP_NO_CHECK: lambda extension: {"has_ocsp_no_check": True},
}
"""By identifier: each gives the facts that its extension states; of all others nothing is read."""

_NOT_NEEDED = frozenset({CRL_DISTRIBUTION_POINTS, TLS_FEATURE, SIGNED_CERTIFICATE_TIMESTAMPS, OCSP_NO_CHECK})
"""Extensions without which browsers go on."""
