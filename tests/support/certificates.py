"""Certificates made for a test, the fault stated in the call."""

import datetime
import functools
from dataclasses import dataclass

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec

from pewter.lab.authority import DAY, Issued, PrivateKey, issue_ca, issue_server, make_key
from pewter.pki import Certificate, Store, der, read_certificate
from pewter.pki.der import DerReader
from pewter.pki.pem import write_pem

NOW = datetime.datetime(2026, 11, 23, 12, 0, tzinfo=datetime.UTC)
LONG_AGO, FAR_OFF = NOW - 1000 * DAY, NOW + 1000 * DAY
HOST = "www.marram-ferries.example"


@functools.cache
def key(label: str, kind: str = "P-256") -> PrivateKey:
    """One key a label, made once: making keys is what takes time."""
    return make_key(kind)


@functools.cache
def root(title: str = "Root") -> Issued:
    return issue_ca(title, None, LONG_AGO, FAR_OFF, key=key(title))


@functools.cache
def intermediate(title: str = "Intermediate") -> Issued:
    return issue_ca(title, root(), LONG_AGO, FAR_OFF, key=key(title))


@functools.cache
def leaf(*names: str, left: float = 60, life: float = 90) -> Issued:
    """A server's certificate by the intermediate, with this many days left at NOW."""
    end = NOW + left * DAY
    return issue_server(names or (HOST,), intermediate(), end - life * DAY, end, key=key("leaf"))


def parsed(issued: Issued) -> Certificate:
    certificate = read_certificate(issued.der)
    assert isinstance(certificate, Certificate)
    return certificate


def store(*anchors: Issued, title: str = "test store") -> Store:
    return Store(title, tuple(map(parsed, anchors)))


@dataclass(frozen=True)
class Remade:
    """A certificate whose octets were put together by hand: what no library would issue."""

    der: bytes
    key: PrivateKey

    @property
    def pem(self) -> bytes:
        return write_pem(self.der)

    @property
    def key_pem(self) -> bytes:
        return Issued(None, self.key).key_pem  # type: ignore[arg-type]


def extension(oid: str, value: bytes, *, critical: bool = False, flag: bytes = b"\xff") -> bytes:
    """One Extension as DER; ``flag`` is the BOOLEAN's octet."""
    arcs = x509.ObjectIdentifier(oid)
    encoded = x509.ExtendedKeyUsage([arcs]).public_bytes()[2:]  # a SEQUENCE with the one identifier in it
    mark = der.build(der.BOOLEAN, flag) if critical else b""
    return der.build(der.SEQUENCE, encoded + mark + der.build(der.OCTET_STRING, value))


def remade(issued: Issued, issuer: Issued, *more: bytes, without: tuple[str, ...] = ()) -> Remade:
    """The certificate with these extensions added, and those of ``without`` left out, signed again by an EC key."""
    fields = DerReader(parsed(issued).tbs, "tbs").nested(der.SEQUENCE, "tbs")
    kept = []
    while fields:
        element = fields.next()
        if element.tag != 0xA3:
            kept.append(element.octets)
    old = [
        extension(each.oid, each.value, critical=each.critical)
        for each in parsed(issued).raw_extensions
        if each.oid not in without
    ]
    extensions = der.build(0xA3, der.build(der.SEQUENCE, b"".join((*old, *more))))
    tbs = der.build(der.SEQUENCE, b"".join((*kept, extensions)))
    signature = issuer.key.sign(tbs, ec.ECDSA(hashes.SHA256()))  # type: ignore[call-arg, union-attr]
    algorithm = parsed(issued).signature_algorithm
    whole = tbs + algorithm + der.build(der.BIT_STRING, b"\x00" + signature)
    return Remade(der.build(der.SEQUENCE, whole), issued.key)
