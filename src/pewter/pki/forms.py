"""Forms that RFC 5280 lays down for a certificate, and which of their breaches browsers insist on."""

from collections.abc import Iterator

import msgspec

from .certificates import Certificate
from .extensions import KEY_CERT_SIGN
from .identifiers import SUBJECT_ALT_NAME, extension_title

MAX_SERIAL_OCTETS = 20


class FormFault(msgspec.Struct, frozen=True):
    """One breach."""

    words: str
    stops: bool
    """Browsers refuse the certificate for it."""

    opens_in: str = ""
    """The one browser that takes it all the same."""


def form_faults(certificate: Certificate) -> tuple[FormFault, ...]:
    """Every breach, those that stop visitors first."""
    return tuple(sorted(_faults(certificate), key=lambda fault: not fault.stops))


def _faults(certificate: Certificate) -> Iterator[FormFault]:
    facts = certificate.extensions
    for extension in facts.faults:
        verb = "does not conform" if extension.stops else "cannot be read, which browsers pass over"
        yield FormFault(f"{extension_title(extension.oid)} {verb}: {extension.words}", extension.stops)
    if facts.is_precertificate:
        yield FormFault("it is a precertificate, made for the logs and not for use (RFC 6962 section 3.1)", True)
    if certificate.raw_extensions and certificate.version != 3:
        yield FormFault(f"it has extensions, and version {certificate.version} in place of 3", True)
    if certificate.issuer.is_empty:
        yield FormFault("its issuer is empty (RFC 5280 section 4.1.2.4)", True)
    alt_names = next((each for each in certificate.raw_extensions if each.oid == SUBJECT_ALT_NAME), None)
    if certificate.subject.is_empty and alt_names is not None and not alt_names.critical:
        words = "its subject is empty, and subjectAltName is not critical (RFC 5280 section 4.2.1.6)"
        yield FormFault(words, True, "Firefox")
    # The sign takes a bit of its own: 160 bits need 21 octets.
    if certificate.serial > 0 and certificate.serial.bit_length() // 8 + 1 > MAX_SERIAL_OCTETS:
        yield FormFault(f"its serial number is longer than {MAX_SERIAL_OCTETS} octets", True)
    if certificate.serial <= 0:
        yield FormFault(f"its serial number is {'zero' if certificate.serial == 0 else 'negative'}", False)
    if certificate.not_after < certificate.not_before:
        yield FormFault("it ends before it begins", False)
    if facts.path_length is not None and not facts.is_ca:
        yield FormFault("it has a pathLenConstraint and is no CA", False)
    if facts.key_usage is not None and KEY_CERT_SIGN in facts.key_usage and not facts.is_ca:
        yield FormFault("its keyUsage has keyCertSign and it is no CA", False)
