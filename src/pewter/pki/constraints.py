"""Name constraints (RFC 5280 section 4.2.1.10)."""

from .certificates import Certificate
from .distinguished_names import DistinguishedName
from .extensions import NameConstraints


def violated_constraint(constraints: NameConstraints, certificate: Certificate) -> str | None:
    """The first name of ``certificate`` that the constraints forbid, or None.

    Excluded wins over permitted; a type of which the certificate has no name is no violation.
    """
    permitted, excluded = constraints.permitted, constraints.excluded
    for name in certificate.extensions.dns_names:
        if any(is_below(name, base) for base in excluded.dns):
            return name
        if permitted.dns and not any(is_below(name, base) for base in permitted.dns):
            return name
    for address in certificate.extensions.ip_addresses:
        if any(_is_within(address, base) for base in excluded.ip):
            return f"IP address {address.hex()}"
        if permitted.ip and not any(_is_within(address, base) for base in permitted.ip):
            return f"IP address {address.hex()}"
    subject = certificate.subject
    if not subject.is_empty:
        if any(_is_directory_below(subject, base) for base in excluded.directory):
            return f"subject {subject}"
        if permitted.directory and not any(_is_directory_below(subject, base) for base in permitted.directory):
            return f"subject {subject}"
    return None


def is_below(name: str, base: str) -> bool:
    """Whether a DNS name is the base or has it on its right; the empty base matches every name.

    A leading dot is not in the grammar, but stands in real CA certificates: it then asks for at
    least one more label, as browsers read it.  ``*.x.example`` is below what ``x.example`` is below.
    """
    name, base = name.lower().removeprefix("*."), base.lower()
    if base.startswith("."):
        return name.endswith(base)
    return not base or name == base or name.endswith("." + base)


def _is_within(address: bytes, base: bytes) -> bool:
    half = len(base) // 2
    if len(address) != half:
        return False
    network, mask = base[:half], base[half:]
    return all(a & m == n & m for a, n, m in zip(address, network, mask, strict=True))


def _is_directory_below(name: DistinguishedName, base: DistinguishedName) -> bool:
    return name.comparable[: len(base.comparable)] == base.comparable
