"""Certificates made for a test, the fault stated in the call."""

import datetime
import functools

from pewter.lab.authority import DAY, Issued, PrivateKey, issue_ca, issue_server, make_key
from pewter.pki import Certificate, Store, read_certificate

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
