"""Name constraints (RFC 5280 section 4.2.1.10)."""

from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

import msgspec

from .certificates import Certificate
from .distinguished_names import DistinguishedName
from .extensions import NameConstraints

MAX_COMPARISONS = 1 << 18
"""Names times subtrees: a hostile chain could make it millions."""

_Name = TypeVar("_Name", str, bytes, DistinguishedName)

_EMAIL_ADDRESS = "1.2.840.113549.1.9.1"


class TooMany(Exception):
    """More names and constraints than are held against each other; says how many."""


class Violation(msgspec.Struct, frozen=True):
    """A name that constraints forbid."""

    name: str
    is_by_dot: bool = False
    """Only for a wildcard and an excluded subtree that begins with a dot, which Chromium holds apart."""


def violated_constraint(constraints: NameConstraints, certificate: Certificate) -> Violation | None:
    """The first name of ``certificate`` that the constraints forbid, or None.  Raises TooMany.

    Excluded wins over permitted; a type of which the certificate has no name is no violation.
    """
    permitted, excluded, facts = constraints.permitted, constraints.excluded, certificate.extensions
    unprocessed = (permitted.other_tags | excluded.other_tags) & facts.other_name_tags
    if constraints.critical and unprocessed:
        return Violation("a name of a type that web clients do not process")
    emails = _emails(certificate)
    names = len(facts.dns_names) + len(facts.ip_addresses) + len(emails) + len(facts.uris) + len(facts.directory_names)
    if (names + 1) * (permitted.count + excluded.count) > MAX_COMPARISONS:
        raise TooMany(f"{names:,} names against {permitted.count + excluded.count:,} constraints")
    directories = [*facts.directory_names, *([certificate.subject] if not certificate.subject.is_empty else [])]
    checks: Iterator[Violation | None] = iter(
        (
            _violated(facts.dns_names, permitted.dns, excluded.dns, is_below, str, _may_be_below),
            _violated(facts.ip_addresses, permitted.ip, excluded.ip, _is_within, lambda each: f"address {each.hex()}"),
            _violated(directories, permitted.directory, excluded.directory, _is_directory_below, str),
            _violated(emails, permitted.email, excluded.email, _is_email_below, str),
            _violated(facts.uris, permitted.uri, excluded.uri, _is_uri_below, str),
        )
    )
    return next((violation for violation in checks if violation is not None), None)


def _violated(
    names: Sequence[_Name],
    permitted: Sequence[_Name],
    excluded: Sequence[_Name],
    matches: Callable[[_Name, _Name], bool],
    in_words: Callable[[_Name], str],
    may_match: Callable[[_Name, _Name], bool] | None = None,
) -> Violation | None:
    """``may_match``: whether something that a name stands for matches, where that is more."""
    for name in names:
        if any(matches(name, base) for base in excluded):
            return Violation(in_words(name))
        if permitted and not any(matches(name, base) for base in permitted):
            return Violation(in_words(name))
        may = [base for base in excluded if may_match is not None and may_match(name, base)]
        if may:
            return Violation(in_words(name), is_by_dot=all(str(base).startswith(".") for base in may))
    return None


def _emails(certificate: Certificate) -> tuple[str, ...]:
    """Those of the subject count only where subjectAltName has none (RFC 5280 section 4.2.1.10)."""
    if certificate.extensions.email_addresses:
        return certificate.extensions.email_addresses
    return tuple(each.text for rdn in certificate.subject.rdns for each in rdn if each.oid == _EMAIL_ADDRESS)


def is_below(name: str, base: str) -> bool:
    """Whether a DNS name is the base or has it on its right; the empty base matches every name.

    A leading dot is not in the grammar, but stands in real CA certificates: it then asks for at
    least one more label, as browsers read it.  ``*.x.example`` is below what ``x.example`` is below, and below
    ``.x.example``, as all that it stands for.
    """
    name, base = name.lower(), base.lower()
    if base.startswith("."):
        return name.endswith(base)
    name = name.removeprefix("*.")
    return not base or name == base or name.endswith("." + base)


def _may_be_below(name: str, base: str) -> bool:
    """Whether a name for which a wildcard stands is below the base: ``*.x.example``, and ``a.x.example``."""
    above = base.lower().removeprefix(".").partition(".")[2]
    return name.startswith("*.") and bool(above) and name.lower() == f"*.{above}"


def _is_email_below(address: str, base: str) -> bool:
    """``x@host`` is one mailbox, ``host`` all of that host, ``.domain`` all hosts below the domain."""
    mailbox, _, host = address.rpartition("@")
    if "@" in base:
        local, _, of_base = base.rpartition("@")
        return mailbox == local and host.lower() == of_base.lower()
    return _is_host_within(host, base)


def _is_uri_below(uri: str, base: str) -> bool:
    authority = uri.partition("://")[2].partition("/")[0].partition("?")[0].partition("#")[0]
    return _is_host_within(authority.rpartition("@")[2].partition(":")[0], base)


def _is_host_within(host: str, base: str) -> bool:
    host, base = host.lower(), base.lower()
    return host.endswith(base) if base.startswith(".") else host == base


def _is_within(address: bytes, base: bytes) -> bool:
    half = len(base) // 2
    if len(address) != half:
        return False
    network, mask = base[:half], base[half:]
    return all(a & m == n & m for a, n, m in zip(address, network, mask, strict=True))


def _is_directory_below(name: DistinguishedName, base: DistinguishedName) -> bool:
    return name.comparable[: len(base.comparable)] == base.comparable
