"""The area bundle: files before they are installed."""

from cryptography import x509
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from pewter.facts.bundle import Bundle, BundleCase, LiveChain
from pewter.judge.rules import bundle
from pewter.lab.authority import DAY, issue_server
from pewter.pki import read_certificate
from pewter.pki.files import read_file
from pewter.places import of_name
from support.cases import outcomes, table
from support.certificates import HOST, NOW, intermediate, key, leaf, root, store

SIBLINGS = issue_server([HOST, "marram-ferries.example"], intermediate(), NOW - DAY, NOW + DAY, key=key("leaf"))
APEX_ALONE = issue_server(["marram-ferries.example"], intermediate(), NOW - DAY, NOW + DAY, key=key("leaf"))
OTHER = issue_server(["shop.example"], intermediate(), NOW - 2 * DAY, NOW + DAY, key=key("other"))
REQUEST = b"-----BEGIN CERTIFICATE REQUEST-----\nMAA=\n-----END CERTIFICATE REQUEST-----\n"


def pem(*issued) -> bytes:
    return b"".join(each.pem for each in issued)


def private(issued) -> bytes:
    return issued.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())


def request(issued) -> bytes:
    named = x509.CertificateSigningRequestBuilder().subject_name(x509.Name([]))
    return named.sign(issued.key, SHA256()).public_bytes(Encoding.PEM)


def files(*contents: bytes, live=(), names=()) -> BundleCase:
    """Files named 1.pem, 2.pem ..., beside what a running server sends."""
    read = tuple(read_file(f"{number}.pem", content) for number, content in enumerate(contents, start=1))
    return BundleCase(Bundle(read, names, live), NOW, (store(root()),))


def serving(*issued, reason: str = "") -> tuple[LiveChain, ...]:
    return (LiveChain(of_name(HOST), tuple(read_certificate(each.der) for each in issued), reason),)


WHOLE = pem(leaf(), intermediate())
CASES = {
    bundle.no_certificate: {
        "whole": files(WHOLE),
        "cas-alone": files(pem(intermediate())),
        "request": files(REQUEST),
        "key": files(private(leaf())),
        "nothing": files(b"hello"),
    },
    bundle.unreadable: {"whole": files(WHOLE), "cut": files(WHOLE[:-40]), "text": files(b"hello")},
    bundle.key_mismatch: {
        "its-own": files(WHOLE, private(leaf())),
        "another": files(WHOLE, private(OTHER)),
        "no-certificate": files(private(leaf())),
        "of-a-ca": files(pem(intermediate()), private(leaf())),
        "of-a-request": files(WHOLE, private(OTHER), request(OTHER)),
        "of-another-request": files(WHOLE, private(OTHER), request(leaf())),
    },
    bundle.leaf_not_first: {
        "first": files(WHOLE),
        "issuer-first": files(pem(intermediate(), leaf())),
        "two-servers": files(pem(OTHER, leaf()), private(leaf())),
    },
    bundle.issuer_missing: {"whole": files(WHOLE), "missing": files(pem(leaf())), "none": files(b"hello")},
    bundle.in_parts: {"one-file": files(WHOLE), "two-files": files(pem(leaf()), pem(intermediate()))},
    bundle.without_sibling: {
        "one-of-two": files(pem(APEX_ALONE)),
        "both": files(pem(SIBLINGS)),
        "asked-for": files(pem(APEX_ALONE), names=(HOST,)),
        "wildcard-alone": files(pem(issue_server(["*.marram-ferries.example"], intermediate(), NOW - DAY, NOW + DAY, key=key("leaf")))),
        "no-sibling": files(pem(issue_server(["mail.x.example"], intermediate(), NOW - DAY, NOW + DAY, key=key("leaf")))),
    },
    bundle.live_differs: {
        "same": files(WHOLE, live=serving(leaf(), intermediate())),
        "same-without-its-issuer": files(WHOLE, live=serving(leaf())),
        "another": files(WHOLE, live=serving(OTHER)),
        "none-came": files(WHOLE, live=serving(reason="refused")),
    },
}  # fmt: skip


@table(CASES)
def test_rule(told, rule, looked):
    told(outcomes(rule, looked))
