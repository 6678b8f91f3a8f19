"""The certificate extensions that decide about a web server's path (RFC 5280 section 4.2)."""

from dataclasses import dataclass

from pewter.octets import DecodeError

from . import der
from .der import DerReader
from .distinguished_names import DistinguishedName, read_distinguished_name

OCSP_NO_CHECK = "1.3.6.1.5.5.7.48.1.5"
SIGNED_CERTIFICATE_TIMESTAMPS = "1.3.6.1.4.1.11129.2.4.2"
PRECERTIFICATE_POISON = "1.3.6.1.4.1.11129.2.4.3"
TLS_FEATURE = "1.3.6.1.5.5.7.1.24"
SUBJECT_KEY_IDENTIFIER = "2.5.29.14"
KEY_USAGE = "2.5.29.15"
SUBJECT_ALT_NAME = "2.5.29.17"
BASIC_CONSTRAINTS = "2.5.29.19"
NAME_CONSTRAINTS = "2.5.29.30"
CRL_DISTRIBUTION_POINTS = "2.5.29.31"
CERTIFICATE_POLICIES = "2.5.29.32"
POLICY_MAPPINGS = "2.5.29.33"
POLICY_CONSTRAINTS = "2.5.29.36"
INHIBIT_ANY_POLICY = "2.5.29.54"
AUTHORITY_KEY_IDENTIFIER = "2.5.29.35"
EXTENDED_KEY_USAGE = "2.5.29.37"
AUTHORITY_INFO_ACCESS = "1.3.6.1.5.5.7.1.1"

PROCESSED = frozenset(
    {
        KEY_USAGE,
        SUBJECT_ALT_NAME,
        BASIC_CONSTRAINTS,
        NAME_CONSTRAINTS,
        EXTENDED_KEY_USAGE,
        CERTIFICATE_POLICIES,
        POLICY_MAPPINGS,
        POLICY_CONSTRAINTS,
        INHIBIT_ANY_POLICY,
    }
)
"""Extensions that path validation really acts on."""

TOLERATED = PROCESSED | {SUBJECT_KEY_IDENTIFIER, AUTHORITY_KEY_IDENTIFIER, CRL_DISTRIBUTION_POINTS}
"""Extensions that may be critical: those that only help to find an issuer or a CRL restrict no path."""

SERVER_AUTH = "1.3.6.1.5.5.7.3.1"
ANY_EXTENDED_KEY_USAGE = "2.5.29.37.0"

ANY_POLICY = "2.5.29.32.0"
MUST_STAPLE = 5
"""status_request as a TLS feature (RFC 7633 section 6)."""

_CA_ISSUERS = "1.3.6.1.5.5.7.48.2"
_OCSP = "1.3.6.1.5.5.7.48.1"

# Bits of keyUsage (RFC 5280 section 4.2.1.3)
DIGITAL_SIGNATURE, KEY_ENCIPHERMENT, KEY_AGREEMENT, KEY_CERT_SIGN, CRL_SIGN = 0, 2, 4, 5, 6

# GeneralName choices (RFC 5280 section 4.2.1.6)
_EMAIL = 0x81
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
    email: tuple[str, ...] = ()
    uri: tuple[str, ...] = ()
    other_tags: frozenset[int] = frozenset()
    """Tags of the types of names that are not processed."""

    @property
    def count(self) -> int:
        """Of subtrees that names are held against."""
        return len(self.dns) + len(self.ip) + len(self.directory) + len(self.email) + len(self.uri)


@dataclass(frozen=True, slots=True)
class NameConstraints:
    """RFC 5280 section 4.2.1.10."""

    permitted: Subtrees
    excluded: Subtrees
    critical: bool = True


@dataclass(frozen=True, slots=True)
class PolicyFacts:
    """What a certificate says of policies (RFC 5280 sections 4.2.1.4, 4.2.1.5, 4.2.1.11 and 4.2.1.14)."""

    policies: tuple[str, ...] | None = None
    mappings: tuple[tuple[str, str], ...] = ()
    """issuerDomainPolicy and subjectDomainPolicy."""

    require_explicit_policy: int | None = None
    inhibit_policy_mapping: int | None = None
    inhibit_any_policy: int | None = None


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

    @property
    def may_sign_certificates(self) -> bool | None:
        """keyCertSign of keyUsage."""
        return None if self.key_usage is None else KEY_CERT_SIGN in self.key_usage


def read_raw_extensions(octets: bytes) -> tuple[RawExtension, ...]:
    """Split Extensions; DecodeError where one extension stands twice (section 4.2)."""
    reader = DerReader(octets, "Extensions")
    sequence = reader.nested(der.SEQUENCE, "Extensions")
    reader.end()
    found: dict[str, RawExtension] = {}
    while sequence:
        fields = sequence.nested(der.SEQUENCE, "Extension")
        oid = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "extnID")
        critical = fields.optional(der.BOOLEAN)
        value = fields.next(der.OCTET_STRING).content
        fields.end()
        if oid in found:
            raise DecodeError("Extensions", 0, f"extension {oid} stands twice")
        found[oid] = RawExtension(oid, critical is not None and critical.content != b"\x00", value)
    return tuple(found.values())


def read_extension_facts(extensions: tuple[RawExtension, ...]) -> ExtensionFacts:
    """Read every extension that path validation, identity or building needs."""
    values = {extension.oid: extension.value for extension in extensions}
    critical = {extension.oid for extension in extensions if extension.critical}
    names = _read_names(values.get(SUBJECT_ALT_NAME))
    access = _read_access(values.get(AUTHORITY_INFO_ACCESS))
    is_ca, path_length = _read_basic_constraints(values.get(BASIC_CONSTRAINTS))
    return ExtensionFacts(
        dns_names=tuple(_text(entry) for entry in names if entry.tag == _DNS_NAME),
        ip_addresses=tuple(entry.content for entry in names if entry.tag == _IP_ADDRESS),
        email_addresses=tuple(_text(entry) for entry in names if entry.tag == _EMAIL),
        uris=tuple(_text(entry) for entry in names if entry.tag == _URI),
        directory_names=tuple(
            read_distinguished_name(entry.content) for entry in names if entry.tag == _DIRECTORY_NAME
        ),
        other_name_tags=frozenset(entry.tag for entry in names) - _PROCESSED_NAMES,
        has_subject_alt_name=SUBJECT_ALT_NAME in values,
        is_ca=is_ca,
        path_length=path_length,
        key_usage=_read_key_usage(values.get(KEY_USAGE)),
        purposes=_read_purposes(values.get(EXTENDED_KEY_USAGE)),
        name_constraints=_read_name_constraints(values.get(NAME_CONSTRAINTS), critical=NAME_CONSTRAINTS in critical),
        policy=_read_policy_facts(values),
        subject_key_identifier=_read_subject_key_identifier(values.get(SUBJECT_KEY_IDENTIFIER)),
        authority_key_identifier=_read_authority_key_identifier(values.get(AUTHORITY_KEY_IDENTIFIER)),
        ca_issuers=tuple(location for method, location in access if method == _CA_ISSUERS),
        ocsp_responders=tuple(location for method, location in access if method == _OCSP),
        crl_uris=_read_crl_uris(values.get(CRL_DISTRIBUTION_POINTS)),
        tls_features=_read_tls_features(values.get(TLS_FEATURE)),
        signed_timestamps=_read_signed_timestamps(values.get(SIGNED_CERTIFICATE_TIMESTAMPS)),
        is_precertificate=PRECERTIFICATE_POISON in values,
        has_ocsp_no_check=OCSP_NO_CHECK in values,
    )


_PROCESSED_NAMES = frozenset({_EMAIL, _DNS_NAME, _DIRECTORY_NAME, _URI, _IP_ADDRESS})


def _text(entry: der.Element) -> str:
    return entry.content.decode("latin-1")


def _read_names(value: bytes | None) -> list[der.Element]:
    if value is None:
        return []
    sequence = DerReader(value, "subjectAltName").nested(der.SEQUENCE, "subjectAltName")
    found: list[der.Element] = []
    while sequence:
        found.append(sequence.next())
    return found


def _read_basic_constraints(value: bytes | None) -> tuple[bool | None, int | None]:
    if value is None:
        return None, None
    fields = DerReader(value, "basicConstraints").nested(der.SEQUENCE, "basicConstraints")
    flag = fields.optional(der.BOOLEAN)
    length = fields.optional(der.INTEGER)
    fields.end()
    is_ca = flag is not None and flag.content != b"\x00"
    return is_ca, der.read_count(length.content, "pathLenConstraint") if length is not None else None


def _read_key_usage(value: bytes | None) -> frozenset[int] | None:
    if value is None:
        return None
    _, octets = der.read_bits(DerReader(value, "keyUsage").next(der.BIT_STRING).content, "keyUsage")
    return frozenset(bit for bit in range(min(len(octets), 2) * 8) if octets[bit // 8] & (0x80 >> bit % 8))


def _read_purposes(value: bytes | None) -> tuple[str, ...] | None:
    if value is None:
        return None
    sequence = DerReader(value, "extendedKeyUsage").nested(der.SEQUENCE, "extendedKeyUsage")
    found: list[str] = []
    while sequence:
        found.append(der.read_oid(sequence.next(der.OBJECT_IDENTIFIER).content, "KeyPurposeId"))
    return tuple(found)


def _read_name_constraints(value: bytes | None, *, critical: bool) -> NameConstraints | None:
    if value is None:
        return None
    fields = DerReader(value, "nameConstraints").nested(der.SEQUENCE, "nameConstraints")
    permitted, excluded = fields.optional(0xA0), fields.optional(0xA1)
    fields.end()
    return NameConstraints(
        _read_subtrees(permitted.content if permitted else b""),
        _read_subtrees(excluded.content if excluded else b""),
        critical,
    )


def _read_subtrees(octets: bytes) -> Subtrees:
    reader = DerReader(octets, "GeneralSubtrees")
    dns: list[str] = []
    ip: list[bytes] = []
    directory: list[DistinguishedName] = []
    email: list[str] = []
    uri: list[str] = []
    other_tags: set[int] = set()
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
        elif base.tag == _EMAIL:
            email.append(_text(base))
        elif base.tag == _URI:
            uri.append(_text(base))
        else:
            other_tags.add(base.tag)
    return Subtrees(tuple(dns), tuple(ip), tuple(directory), tuple(email), tuple(uri), frozenset(other_tags))


def _read_subject_key_identifier(value: bytes | None) -> bytes | None:
    return None if value is None else DerReader(value, "subjectKeyIdentifier").next(der.OCTET_STRING).content


def _read_authority_key_identifier(value: bytes | None) -> bytes | None:
    if value is None:
        return None
    identifier = (
        DerReader(value, "authorityKeyIdentifier").nested(der.SEQUENCE, "authorityKeyIdentifier").optional(0x80)
    )
    return identifier.content if identifier is not None else None


def _read_access(value: bytes | None) -> list[tuple[str, str]]:
    """accessMethod and URI of each AccessDescription that has one."""
    if value is None:
        return []
    sequence = DerReader(value, "authorityInfoAccess").nested(der.SEQUENCE, "authorityInfoAccess")
    found: list[tuple[str, str]] = []
    while sequence:
        fields = sequence.nested(der.SEQUENCE, "AccessDescription")
        method = der.read_oid(fields.next(der.OBJECT_IDENTIFIER).content, "accessMethod")
        location = fields.next()
        if location.tag == _URI:
            found.append((method, _text(location)))
    return found


def _read_crl_uris(value: bytes | None) -> tuple[str, ...]:
    """Points of another CRL issuer are left out: such indirect CRLs are not for web clients."""
    if value is None:
        return ()
    points = DerReader(value, "cRLDistributionPoints").nested(der.SEQUENCE, "cRLDistributionPoints")
    found: list[str] = []
    while points:
        fields = points.nested(der.SEQUENCE, "DistributionPoint")
        name = fields.optional(0xA0)
        fields.optional(0x81)
        if name is None or fields:
            continue
        found += read_full_name_uris(name.content)
    return tuple(dict.fromkeys(found))


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


def _read_tls_features(value: bytes | None) -> tuple[int, ...]:
    if value is None:
        return ()
    sequence = DerReader(value, "TLS feature").nested(der.SEQUENCE, "TLS feature")
    found: list[int] = []
    while sequence:
        found.append(der.read_count(sequence.next(der.INTEGER).content, "TLS feature"))
    return tuple(found)


def _read_signed_timestamps(value: bytes | None) -> bytes | None:
    return None if value is None else DerReader(value, "SignedCertificateTimestampList").next(der.OCTET_STRING).content


def _read_policy_facts(values: dict[str, bytes]) -> PolicyFacts:
    explicit, mapping = _read_policy_constraints(values.get(POLICY_CONSTRAINTS))
    inhibit_any = values.get(INHIBIT_ANY_POLICY)
    return PolicyFacts(
        policies=_read_policies(values.get(CERTIFICATE_POLICIES)),
        mappings=_read_policy_mappings(values.get(POLICY_MAPPINGS)),
        require_explicit_policy=explicit,
        inhibit_policy_mapping=mapping,
        inhibit_any_policy=None
        if inhibit_any is None
        else der.read_count(DerReader(inhibit_any, "inhibitAnyPolicy").next(der.INTEGER).content, "inhibitAnyPolicy"),
    )


def _read_policies(value: bytes | None) -> tuple[str, ...] | None:
    if value is None:
        return None
    sequence = DerReader(value, "certificatePolicies").nested(der.SEQUENCE, "certificatePolicies")
    found: list[str] = []
    while sequence:
        information = sequence.nested(der.SEQUENCE, "PolicyInformation")
        found.append(der.read_oid(information.next(der.OBJECT_IDENTIFIER).content, "policyIdentifier"))
    return tuple(found)


def _read_policy_mappings(value: bytes | None) -> tuple[tuple[str, str], ...]:
    if value is None:
        return ()
    sequence = DerReader(value, "policyMappings").nested(der.SEQUENCE, "policyMappings")
    found: list[tuple[str, str]] = []
    while sequence:
        pair = sequence.nested(der.SEQUENCE, "policyMapping")
        issuer, subject = (
            der.read_oid(pair.next(der.OBJECT_IDENTIFIER).content, side)
            for side in ("issuerDomainPolicy", "subjectDomainPolicy")
        )
        found.append((issuer, subject))
    return tuple(found)


def _read_policy_constraints(value: bytes | None) -> tuple[int | None, int | None]:
    if value is None:
        return None, None
    fields = DerReader(value, "policyConstraints").nested(der.SEQUENCE, "policyConstraints")
    explicit, mapping = fields.optional(0x80), fields.optional(0x81)
    fields.end()
    return (
        der.read_count(explicit.content, "requireExplicitPolicy") if explicit is not None else None,
        der.read_count(mapping.content, "inhibitPolicyMapping") if mapping is not None else None,
    )
