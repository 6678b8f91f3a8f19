"""Object identifiers of extensions and of what they hold (RFC 5280, RFC 6962, RFC 7633)."""

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

CA_ISSUERS = "1.3.6.1.5.5.7.48.2"
OCSP = "1.3.6.1.5.5.7.48.1"

_TITLES = {
    SUBJECT_ALT_NAME: "subjectAltName",
    BASIC_CONSTRAINTS: "basicConstraints",
    KEY_USAGE: "keyUsage",
    EXTENDED_KEY_USAGE: "extendedKeyUsage",
    NAME_CONSTRAINTS: "nameConstraints",
    SUBJECT_KEY_IDENTIFIER: "subjectKeyIdentifier",
    AUTHORITY_KEY_IDENTIFIER: "authorityKeyIdentifier",
    AUTHORITY_INFO_ACCESS: "authorityInfoAccess",
    CRL_DISTRIBUTION_POINTS: "cRLDistributionPoints",
    CERTIFICATE_POLICIES: "certificatePolicies",
    POLICY_MAPPINGS: "policyMappings",
    POLICY_CONSTRAINTS: "policyConstraints",
    INHIBIT_ANY_POLICY: "inhibitAnyPolicy",
    TLS_FEATURE: "TLS feature",
    SIGNED_CERTIFICATE_TIMESTAMPS: "the list of signed timestamps",
}


def extension_title(oid: str) -> str:
    """``subjectAltName``; an unknown one by its identifier."""
    return _TITLES.get(oid, oid)
