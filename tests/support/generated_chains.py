"""Chains of every kind, several hundred, for holding our verdict against ``openssl verify``."""

import ipaddress
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from pewter.lab.authority import DAY, Issued, SignedWith, issue_ca, issue_server
from support.certificates import FAR_OFF, HOST, LONG_AGO, NOW, key

KEY_KINDS = ("RSA 2048", "P-256", "P-384", "Ed25519")
PAST, AHEAD = NOW - 10 * DAY, NOW + 10 * DAY
SERVER, CLIENT = ExtendedKeyUsageOID.SERVER_AUTH, ExtendedKeyUsageOID.CLIENT_AUTH
UNKNOWN = x509.UnrecognizedExtension(x509.ObjectIdentifier("1.3.6.1.4.1.55555.1"), b"\x05\x00")
POLICY = x509.ObjectIdentifier("1.3.6.1.4.1.55555.2.1")


def _directory(organization: str) -> x509.DirectoryName:
    return x509.DirectoryName(x509.Name([x509.NameAttribute(NameOID.ORGANIZATION_NAME, organization)]))


def _constraints(
    permitted: list[x509.GeneralName] | None, excluded: list[x509.GeneralName] | None = None
) -> tuple[x509.ExtensionType, bool]:
    return x509.NameConstraints(permitted, excluded), True


def _policies(*oids: x509.ObjectIdentifier) -> tuple[x509.ExtensionType, bool]:
    return x509.CertificatePolicies([x509.PolicyInformation(oid, None) for oid in oids]), False


# What can be wrong with (or odd about) one CA certificate, and with a server's certificate: keyword arguments.
CA_TWISTS: dict[str, dict[str, object]] = {
    "good": {},
    "expired": {"not_after": PAST},
    "not-yet-valid": {"not_before": AHEAD},
    "ends-now": {"not_after": NOW},
    "begins-now": {"not_before": NOW},
    "not-a-ca": {"is_ca": False},
    "no-cert-sign": {"key_cert_sign": False},
    "no-key-usage": {"key_cert_sign": None},
    "path-length-0": {"path_length": 0},
    "path-length-1": {"path_length": 1},
    "for-clients": {"purposes": (CLIENT,)},
    "for-servers": {"purposes": (SERVER, CLIENT)},
    "for-anything": {"purposes": (ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE,)},
    "unknown-critical": {"extra": ((UNKNOWN, True),)},
    "unknown-plain": {"extra": ((UNKNOWN, False),)},
    "permits-name": {"extra": (_constraints([x509.DNSName("marram-ferries.example")]),)},
    "permits-other-name": {"extra": (_constraints([x509.DNSName("gannet.example")]),)},
    "excludes-name": {"extra": (_constraints(None, [x509.DNSName("www.marram-ferries.example")]),)},
    "excludes-other-name": {"extra": (_constraints(None, [x509.DNSName("ww.marram-ferries.example")]),)},
    "permits-address": {"extra": (_constraints([x509.IPAddress(ipaddress.ip_network("192.0.2.0/24"))]),)},
    "excludes-address": {"extra": (_constraints(None, [x509.IPAddress(ipaddress.ip_network("192.0.2.0/28"))]),)},
    "excludes-directory": {"extra": (_constraints(None, [_directory("Gannet Island")]),)},
    "permits-directory": {"extra": (_constraints([_directory("Gannet Island")]),)},
    "explicit-policy": {"extra": ((x509.PolicyConstraints(0, None), True),)},
    "explicit-policy-carried": {"extra": ((x509.PolicyConstraints(0, None), True), _policies(POLICY))},
    "carries-any-policy": {"extra": (_policies(x509.ObjectIdentifier("2.5.29.32.0")),)},
    "inhibits-any-policy": {"extra": ((x509.InhibitAnyPolicy(0), True), _policies(POLICY))},
    "signed-by-another": {"signed_with": SignedWith(key=key("stranger"))},
    "signed-sha-384": {"signed_with": SignedWith(hashes.SHA384())},
}  # fmt: skip
LEAF_TWISTS: dict[str, dict[str, object]] = {
    "good": {},
    "expired": {"not_after": PAST},
    "not-yet-valid": {"not_before": AHEAD},
    "for-clients": {"purposes": (CLIENT,)},
    "no-purpose": {"purposes": ()},
    "with-address": {"names": (HOST, "192.0.2.10")},
    "unknown-critical": {"extra": ((UNKNOWN, True),)},
    "carries-policy": {"extra": (_policies(POLICY),)},
    "signed-by-another": {"signed_with": SignedWith(key=key("stranger"))},
}

Rearrange = Callable[["Generated"], list[Issued]]


@dataclass(frozen=True)
class Generated:
    """One chain: what is sent, and the anchor."""

    title: str
    leaf: Issued
    authorities: tuple[Issued, ...]
    """Root side first, the root itself not among them."""

    root: Issued
    sent: tuple[Issued, ...] = ()
    """Beside the leaf."""


def _ca(title: str, issuer: Issued | None, kind: str, twist: dict[str, object]) -> Issued:
    given = {"not_before": LONG_AGO, "not_after": FAR_OFF, **twist}
    return issue_ca(title, issuer, key=key(f"{title} {kind}", kind), **given)  # type: ignore[arg-type]


def _leaf(issuer: Issued, kind: str, twist: dict[str, object]) -> Issued:
    given = {"names": (HOST,), "not_before": NOW - 30 * DAY, "not_after": NOW + 60 * DAY, **twist}
    names = given.pop("names")
    return issue_server(names, issuer, key=key(f"leaf {kind}", kind), **given)  # type: ignore[arg-type]


def chain(kind: str, twists: tuple[str, ...], leaf_twist: str = "good", root_twist: str = "good") -> Generated:
    """A root, a CA for each twist, and a leaf."""
    root = issuer = _ca("Root", None, kind, CA_TWISTS[root_twist])
    made: list[Issued] = []
    for position, twist in enumerate(twists, start=1):
        issuer = _ca(f"CA {position}", issuer, kind, CA_TWISTS[twist])
        made.append(issuer)
    leaf = _leaf(issuer, kind, LEAF_TWISTS[leaf_twist])
    title = f"{kind}: {root_twist} / {' / '.join(twists) or '-'} / leaf {leaf_twist}"
    return Generated(title, leaf, tuple(made), root, tuple(reversed(made)))


def _resent(of: Generated, how: str, *sent: Issued) -> Generated:
    return Generated(f"{of.title}, {how}", of.leaf, of.authorities, of.root, sent)


def _arrangements(kind: str) -> Iterator[Generated]:
    """One good chain, sent in every way in which servers get it wrong."""
    good = chain(kind, ("good", "good"))
    one, two = good.authorities
    stranger = _ca("Stranger", None, kind, {})
    impostor = _ca("CA 2", _ca("Root", None, "P-384", {}), "P-384", {})
    newer_one = _ca("CA 1", good.root, kind, {"not_before": NOW - DAY})
    old_two = _ca("CA 2", one, kind, {"not_after": PAST})
    cross = _ca("Root", stranger, kind, {})
    yield _resent(good, "reversed", one, two)
    yield _resent(good, "with the root", two, one, good.root)
    yield _resent(good, "twice", two, one, two, one)
    yield _resent(good, "without the first", one)
    yield _resent(good, "without the second", two)
    yield _resent(good, "nothing but the leaf")
    yield _resent(good, "with a stranger", stranger, two, one)
    yield _resent(good, "with an impostor behind", two, one, impostor)
    yield _resent(good, "an impostor alone", impostor, one)
    yield _resent(good, "two certificates of one CA", two, newer_one, one)
    yield _resent(good, "an expired twin behind", two, old_two, one)
    yield _resent(good, "an expired twin alone", old_two, one)
    yield _resent(good, "with a cross certificate of the root", two, one, cross)
    by_stranger = Generated(
        f"{kind}: by another root through a cross certificate", good.leaf, good.authorities, stranger, (two, one, cross)
    )
    yield by_stranger
    yield Generated(f"{kind}: another root alone", good.leaf, good.authorities, stranger, (two, one))
    yield Generated(f"{kind}: leaf is the anchor's sibling", _leaf(good.root, kind, {}), (), good.root, ())
    rollover = issue_ca("CA 1", one, LONG_AGO, FAR_OFF, key=key(f"CA 1 new {kind}", kind))
    yield Generated(f"{kind}: self-issued", _leaf(rollover, kind, {}), (one, rollover), good.root, (rollover, one))
    limited = chain(kind, ("path-length-0",)).authorities[0]
    same_name = issue_ca("CA 1", limited, LONG_AGO, FAR_OFF, key=key(f"CA 1 new {kind}", kind))
    yield Generated(
        f"{kind}: self-issued below path length 0",
        _leaf(same_name, kind, {}),
        (limited, same_name),
        good.root,
        (same_name, limited),
    )


def generate() -> Iterator[Generated]:
    """Every chain, each under a title of its own."""
    for kind in KEY_KINDS:
        for twist in CA_TWISTS:
            yield chain(kind, (twist,))
            if kind in {"RSA 2048", "P-256"}:
                yield chain(kind, (twist, "good"))
                yield chain(kind, ("good", twist))
                yield chain(kind, (twist, "good"), "carries-policy")
        for leaf_twist in LEAF_TWISTS:
            yield chain(kind, ("good",), leaf_twist)
            yield chain(kind, (), leaf_twist)
        yield from _arrangements(kind)
    for twist in CA_TWISTS:
        yield chain("P-256", (twist,), "with-address")
        if twist not in {"signed-by-another", "not-a-ca"}:
            yield chain("P-256", ("good",), root_twist=twist)
    for pss in (False, True):
        for algorithm in (hashes.SHA256(), hashes.SHA384(), hashes.SHA512()):
            root = _ca("Root", None, "RSA 2048", {})
            leaf = _leaf(root, "RSA 2048", {"signed_with": SignedWith(algorithm, pss)})
            yield Generated(f"RSA {algorithm.name} {'PSS' if pss else 'PKCS #1'}", leaf, (), root, ())
