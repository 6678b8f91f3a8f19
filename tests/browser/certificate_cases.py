"""Certificates, anchors, suites, hellos and staples on which Pewter is held against real browsers."""

import contextlib
import datetime
import functools
import socket
import ssl
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from cryptography import x509
from cryptography.x509 import ocsp as x509_ocsp
from cryptography.x509.oid import ExtendedKeyUsageOID
from tlslite.api import X509, HandshakeSettings, TLSConnection, X509CertChain, parsePEMKey

from browser.cases import CA_HOST, PAGE, ZONE, Authority
from pewter.lab.authority import DAY, Issued, issue_ca, issue_server, make_key
from pewter.lab.web_server import Response, VirtualHost
from support.certificates import extension, remade

ANY_PURPOSE = x509.ObjectIdentifier("2.5.29.37.0")
MUST_STAPLE = x509.TLSFeature([x509.TLSFeatureType.status_request])


def page(request) -> Response:
    return Response(200, PAGE, b"<!doctype html><title>x</title>page")


def n(slug: str) -> str:
    return f"{slug}.certificate.{ZONE}"


def usage(*bits: str) -> x509.KeyUsage:
    names = (
        "digital_signature content_commitment key_encipherment data_encipherment key_agreement key_cert_sign crl_sign"
    )
    return x509.KeyUsage(**{name: name in bits for name in names.split()}, encipher_only=False, decipher_only=False)


def seclevel_0(context: ssl.SSLContext) -> None:
    context.set_ciphers("ALL:@SECLEVEL=0")


def tls(
    ciphers: str = "", curve: str = "", newest: ssl.TLSVersion = ssl.TLSVersion.TLSv1_2, oldest=ssl.TLSVersion.TLSv1_2
):
    def settings(context: ssl.SSLContext) -> None:
        context.set_ciphers((ciphers or "ALL") + ":@SECLEVEL=0")
        context.minimum_version, context.maximum_version = oldest, newest
        if curve:
            context.set_ecdh_curve(curve)

    return settings


TLS_1_3 = {"newest": ssl.TLSVersion.TLSv1_3}


def serve_octets(chain: tuple) -> int:
    """A TLS server on a loopback port that sends these certificates, whatever they are, and one page."""
    certificates = X509CertChain([X509().parseBinary(bytearray(each.der)) for each in chain])
    key = parsePEMKey(chain[0].key_pem.decode(), private=True)
    settings = HandshakeSettings()
    settings.minVersion = (3, 3)
    listener = socket.create_server(("127.0.0.1", 0))
    body = b"<!doctype html><title>x</title>page"
    answer = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: %d\r\nConnection: close\r\n\r\n" % len(
        body
    )

    def serve(connection: socket.socket) -> None:
        with contextlib.suppress(Exception):
            tls_connection = TLSConnection(connection)
            tls_connection.handshakeServer(certChain=certificates, privateKey=key, settings=settings)
            octets = b""
            while b"\r\n\r\n" not in octets:
                octets += bytes(tls_connection.recv(4096)) or b"\r\n\r\n"
            tls_connection.sendall(answer + body)
            tls_connection.close()
        connection.close()

    def accept() -> None:
        while True:
            connection, _ = listener.accept()
            threading.Thread(target=serve, args=(connection,), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    return listener.getsockname()[1]


@dataclass(frozen=True)
class Stapled:
    """A host whose TLS is spoken by ``openssl s_server`` with this response, which alone can staple whatever it is given."""

    chain: tuple[Issued, ...]
    response: bytes | None


def roots(now: datetime.datetime) -> dict[str, Issued]:
    """Roots that are added to the browsers' stores, with the fault of each."""
    far, long_ago = now + 1000 * DAY, now - 1000 * DAY
    unknown = x509.UnrecognizedExtension(x509.ObjectIdentifier("1.3.6.1.4.1.99999.1"), b"\x05\x00")
    renewed = make_key()
    return {
        "anchor-good": issue_ca("Anchor Good", None, long_ago, far),
        "anchor-expired": issue_ca("Anchor Expired", None, long_ago, now - DAY),
        "anchor-future": issue_ca("Anchor Future", None, now + DAY, far),
        "anchor-no-ca": issue_ca("Anchor No CA", None, long_ago, far, is_ca=False),
        "anchor-no-cert-sign": issue_ca("Anchor No Cert Sign", None, long_ago, far, key_cert_sign=False),
        "anchor-for-mail": issue_ca("Anchor Mail", None, long_ago, far, purposes=[ExtendedKeyUsageOID.EMAIL_PROTECTION]),
        "anchor-too-short": issue_ca("Anchor Short", None, long_ago, far, path_length=0),
        "anchor-critical": issue_ca("Anchor Critical", None, long_ago, far, extra=[(unknown, True)]),
        "anchor-bare": issue_ca("Anchor Bare", None, long_ago, far, has_basic_constraints=False),
        "anchor-renewed-old": issue_ca("Anchor Renewed", None, long_ago, now - DAY, key=renewed),
        "anchor-renewed": issue_ca("Anchor Renewed", None, now - 10 * DAY, far, key=renewed),
        **own_certificates(now),
    }  # fmt: skip


def anchor_chains(given: dict[str, Issued], now: datetime.datetime) -> Iterator[tuple[str, tuple[Issued, ...]]]:
    for slug, root in given.items():
        if slug == "anchor-renewed-old" or slug.startswith("own-"):
            continue
        issuing = issue_ca(f"Issuing of {slug}", root, now - 500 * DAY, now + 500 * DAY)
        chain: tuple[Issued, ...] = (issuing,)
        if slug == "anchor-too-short":
            chain = (issue_ca(f"Below {slug}", issuing, now - 500 * DAY, now + 500 * DAY), issuing)
        yield slug, (issue_server([n(slug)], chain[0], now - 30 * DAY, now + 60 * DAY), *chain)


def key_chains(ca: Authority) -> Iterator[tuple[str, tuple[Issued, ...]]]:
    start, end = ca.now - 30 * DAY, ca.now + 60 * DAY

    def own(slug: str, kind: str = "P-256", issuer: Issued | None = None, **options) -> tuple[str, tuple[Issued, ...]]:
        issuer = issuer or ca.issuing
        return slug, (issue_server([n(slug)], issuer, start, end, key=make_key(kind), **options), issuer)

    for kind in ("RSA 1024", "RSA 2048", "P-384", "P-521", "Ed25519"):
        yield own(f"key-{kind.lower().replace(' ', '-')}", kind)
    for kind in ("P-384", "P-521", "Ed25519", "RSA 1024", "RSA 2048"):
        issuer = ca.ca(f"Issuer {kind}", ca.root, key=make_key(kind))
        yield own(f"issuer-{kind.lower().replace(' ', '-')}", issuer=issuer)
    for slug, kind, bits in (
        ("rsa-encipher", "RSA 2048", ["key_encipherment"]),
        ("rsa-encipher-data", "RSA 2048", ["key_encipherment", "data_encipherment"]),
        ("rsa-both", "RSA 2048", ["key_encipherment", "digital_signature"]),
        ("rsa-sign", "RSA 2048", ["digital_signature"]),
        ("ec-agree", "P-256", ["key_agreement"]),
        ("ec-encipher", "P-256", ["key_encipherment"]),
        ("ec-sign", "P-256", ["digital_signature"]),
        ("ec-commit", "P-256", ["content_commitment"]),
    ):
        yield own(f"usage-{slug}", kind, extra=[(usage(*bits), True)])
    yield own("purpose-any", purposes=[ANY_PURPOSE])
    yield own("purpose-any-and-server", purposes=[ANY_PURPOSE, ExtendedKeyUsageOID.SERVER_AUTH])
    yield own("purpose-none", purposes=())
    yield own("leaf-is-ca", extra=[(x509.BasicConstraints(True, None), True)])
    yield own("leaf-says-no-ca", extra=[(x509.BasicConstraints(False, None), True)])
    anonymous = issue_server([n("no-subject")], ca.issuing, start, end, common_name="")
    yield "no-subject", (anonymous, ca.issuing)
    named = issue_server([n("no-subject-critical")], ca.issuing, start, end, common_name="", names_critical=True)
    yield "no-subject-critical", (named, ca.issuing)
    yield "dotted-name", (issue_server([n("dotted-name") + "."], ca.issuing, start, end, common_name="x"), ca.issuing)


def named_chains(ca: Authority) -> Iterator[tuple[str, tuple[Issued, ...]]]:
    """Name constraints and wildcards; how many intermediates; purposes and policies of intermediates."""
    within = f"certificate.{ZONE}"
    wildcard = f"*.{within}"

    def below(
        slug: str, name: str, permitted: str | None, excluded: str | None = None
    ) -> tuple[str, tuple[Issued, ...]]:
        bases = [[x509.DNSName(base)] if base is not None else None for base in (permitted, excluded)]
        issuer = ca.ca(f"Issuer {slug}", ca.root, extra=[(x509.NameConstraints(*bases), True)])
        return slug, (ca.server(name, issuer=issuer), issuer)

    yield below("constraint-dot-wildcard", wildcard, f".{within}")
    yield below("constraint-plain-wildcard", wildcard, within)
    yield below("constraint-dot-itself", n("constraint-dot-itself"), "." + n("constraint-dot-itself"))
    yield below("constraint-other-wildcard", wildcard, n("other"))
    yield below("constraint-excluded-wildcard", wildcard, None, n("other"))
    yield below("constraint-excluded-deeper", wildcard, None, n("a.other"))
    yield below("constraint-excluded-dot", wildcard, None, f".{within}")
    yield below("constraint-excluded-dot-deeper", wildcard, None, "." + n("other"))
    yield below("constraint-excluded-upper", wildcard, None, n("OTHER").upper())
    for depth in (5, 6, 7, 8, 9, 10):
        chain = [ca.ca(f"Depth {depth} 1", ca.root)]
        while len(chain) < depth:
            chain.insert(0, ca.ca(f"Depth {depth} {len(chain) + 1}", chain[0]))
        slug = f"depth-{depth}"
        yield slug, (ca.server(n(slug), issuer=chain[0]), *chain)
    explicit = x509.PolicyConstraints(0, None)
    for slug, options in {
        "issuer-purpose-any": {"purposes": [ANY_PURPOSE]},
        "issuer-purpose-any-and-server": {"purposes": [ANY_PURPOSE, ExtendedKeyUsageOID.SERVER_AUTH]},
        "issuer-needs-policy": {"extra": [(explicit, True)]},
    }.items():
        issuer = ca.ca(f"Issuer {slug}", ca.root, **options)
        yield slug, (ca.server(n(slug), issuer=issuer), issuer)
    access = x509.AuthorityInformationAccess(
        [
            x509.AccessDescription(
                x509.oid.AuthorityInformationAccessOID.OCSP, x509.UniformResourceIdentifier("http://x.invalid/")
            )
        ]
    )
    for slug, extra in {
        "access-critical": (access, True),
        "nocheck-critical": (x509.OCSPNoCheck(), True),
        "nocheck": (x509.OCSPNoCheck(), False),
    }.items():
        yield slug, (ca.server(n(slug), extra=[extra]), ca.issuing)


@functools.cache
def own_certificates(now: datetime.datetime) -> dict[str, Issued]:
    """Servers' own certificates, which their visitors put into their stores."""
    far, long_ago = now + 60 * DAY, now - 30 * DAY
    return {
        "own-no-ca": issue_server([n("own-no-ca")], None, long_ago, far, extra=[(x509.BasicConstraints(False, None), True)]),
        "own-bare": issue_server([n("own-bare")], None, long_ago, far),
        "own-ca": issue_server([n("own-ca")], None, long_ago, far, extra=[(x509.BasicConstraints(True, None), True)]),
    }  # fmt: skip


WILDCARDS = {
    "agree-test.co.uk": "*.co.uk", "agree-test.com.au": "*.com.au", "agree-test.github.io": "*.github.io",
    "agree-test.cloudfront.net": "*.cloudfront.net", "agree-test.herokuapp.com": "*.herokuapp.com", "agree-test.uk.com": "*.uk.com",
    "agree-name.test": "*.test", "a.agree.test": "*.agree.test",
}  # fmt: skip
"""Hosts and the one name in their certificates."""

SAN, BASIC, USAGE, POLICIES = "2.5.29.17", "2.5.29.19", "2.5.29.15", "2.5.29.32"
ACCESS, CONSTRAINTS, FEATURE = "1.3.6.1.5.5.7.1.1", "2.5.29.30", "1.3.6.1.5.5.7.1.24"


def seq(*parts: bytes) -> bytes:
    content = b"".join(parts)
    return b"\x30" + bytes((len(content),)) + content


def form_chains(ca: Authority) -> Iterator[tuple[str, tuple]]:
    """Leaves and intermediates with one extension that is not in the form laid down."""
    dns = lambda text: b"\x82" + bytes((len(text),)) + text  # noqa: E731
    oid = b"\x06\x03\x55\x1d\x20"  # 2.5.29.32, for want of a policy of our own
    leaves: dict[str, tuple[list[bytes], tuple[str, ...]]] = {
        "form-good": ([], ()),
        "form-twice": ([extension(USAGE, b"\x03\x02\x07\x80"), extension(USAGE, b"\x03\x02\x07\x80")], ()),
        "form-flag": ([extension(USAGE, b"\x03\x02\x07\x80", critical=True, flag=b"\x01")], ()),
        "form-boolean": ([extension(BASIC, seq(b"\x01\x01\x01"))], ()),
        "form-usage-trailing": ([extension(USAGE, b"\x03\x02\x07\x80\x00")], ()),
        "form-policies-empty": ([extension(POLICIES, seq())], ()),
        "form-policies-twice": ([extension(POLICIES, seq(seq(oid), seq(oid)))], ()),
        "form-access-not-ascii": ([extension(ACCESS, seq(seq(b"\x06\x08\x2b\x06\x01\x05\x05\x07\x30\x01", b"\x86\x03\xc3\xa9x")))], ()),
        "form-feature": ([extension(FEATURE, b"\x30\x03\x02\x05\x05")], ()),
        "form-timestamps": ([extension("1.3.6.1.4.1.11129.2.4.2", b"\x04\x05\x00")], ()),
        "form-crl-points": ([extension("2.5.29.31", b"\x30\x05\x01")], ()),
        "form-key-identifier": ([extension("2.5.29.14", b"\x05\x00")], ("2.5.29.14",)),
        "form-authority-identifier": ([extension("2.5.29.35", b"\x05\x00")], ("2.5.29.35",)),
        "form-purposes-empty": ([extension("2.5.29.37", seq())], ("2.5.29.37",)),
        "form-unknown": ([extension("1.3.6.1.4.1.99999.2", b"\x05\x00")], ()),
    }  # fmt: skip
    for slug, (more, without) in leaves.items():
        yield slug, (remade(ca.server(n(slug)), ca.issuing, *more, without=without), ca.issuing)
    for slug, other in {
        "form-name-not-ascii": dns(b"\xe9.example"),
        "form-mail-not-ascii": b"\x81\x03\xe9@x",
        "form-uri-not-ascii": b"\x86\x03\xe9:x",
        "form-address": b"\x87\x05\x7f\x00\x00\x01\x01",
        "form-names-trailing": b"",
    }.items():
        own = n(slug).encode()
        value = seq(dns(own), other) + (b"\x00" if slug.endswith("trailing") else b"")
        yield slug, (remade(ca.server(n(slug)), ca.issuing, extension(SAN, value), without=(SAN,)), ca.issuing)
    subtree = seq(dns(b"example"))
    for slug, value in {
        "form-constraints-empty": seq(),
        "form-constraints-minimum": seq(b"\xa0" + bytes((len(subtree) + 3,)) + seq(dns(b"example"), b"\x80\x01\x01")),
        "form-constraints-unknown": seq(b"\xa0\x05" + seq(b"\x8f\x01\x00")),
        "form-constraints-good": seq(b"\xa0" + bytes((len(subtree),)) + subtree),
    }.items():
        plain = ca.ca(f"CA {slug}", ca.root)
        issuer = remade(plain, ca.root, extension(CONSTRAINTS, value, critical=True))
        yield slug, (ca.server(n(slug), issuer=plain), issuer)


def suite_hosts(ca: Authority) -> Iterator[tuple[str, VirtualHost]]:
    start, end = ca.now - 30 * DAY, ca.now + 60 * DAY
    keys = {"rsa": make_key("RSA 2048"), "ec": make_key()}

    def host(slug: str, kind: str, settings: Callable[[ssl.SSLContext], None]) -> tuple[str, VirtualHost]:
        leaf = issue_server([n(slug)], ca.issuing, start, end, key=keys[kind])
        return n(slug), VirtualHost(page, (leaf, ca.issuing), is_modern=False, tls_settings=settings)

    for slug, kind, ciphers in (
        ("cbc-rsa", "rsa", "ECDHE-RSA-AES128-SHA"), ("cbc-sha2-rsa", "rsa", "ECDHE-RSA-AES128-SHA256"),
        ("cbc-ec-128", "ec", "ECDHE-ECDSA-AES128-SHA"), ("cbc-ec-256", "ec", "ECDHE-ECDSA-AES256-SHA"),
        ("cbc-sha2-ec", "ec", "ECDHE-ECDSA-AES128-SHA256"), ("dhe", "rsa", "DHE-RSA-AES128-GCM-SHA256"),
        ("static-rsa", "rsa", "AES128-GCM-SHA256"), ("static-rsa-cbc", "rsa", "AES256-SHA"), ("static-rsa-sha2", "rsa", "AES128-SHA256"),
        ("ccm", "ec", "ECDHE-ECDSA-AES128-CCM"), ("chacha", "rsa", "ECDHE-RSA-CHACHA20-POLY1305"), ("camellia", "rsa", "CAMELLIA128-SHA"),
        ("gcm-rsa", "rsa", "ECDHE-RSA-AES256-GCM-SHA384"), ("gcm-ec", "ec", "ECDHE-ECDSA-AES128-GCM-SHA256"),
    ):  # fmt: skip
        yield host(f"suite-{slug}", kind, tls(ciphers))
    encipher = issue_server(
        [n("suite-static-encipher")], ca.issuing, start, end, key=keys["rsa"], extra=[(usage("key_encipherment"), True)]
    )
    yield (
        n("suite-static-encipher"),
        VirtualHost(page, (encipher, ca.issuing), is_modern=False, tls_settings=tls("AES128-GCM-SHA256")),
    )
    for curve, name in (
        ("secp521r1", "p-521"),
        ("X448", "x448"),
        ("X25519", "x25519"),
        ("prime256v1", "p-256"),
        ("brainpoolP256r1", "brainpool"),
    ):
        yield host(f"group-{name}-1.2", "ec", tls("ECDHE-ECDSA-AES128-GCM-SHA256", curve))
        if name != "brainpool":
            yield host(f"group-{name}-1.3", "ec", tls("", curve, oldest=ssl.TLSVersion.TLSv1_3, **TLS_1_3))
    yield host("only-1.3", "ec", tls("", oldest=ssl.TLSVersion.TLSv1_3, **TLS_1_3))
    leaf = (ca.server(n("closes-on-size")), ca.issuing)
    yield n("closes-on-size"), VirtualHost(page, leaf, closes_on=lambda hello, octets: octets > 1500)
    leaf = (ca.server(n("closes-on-status")), ca.issuing)
    yield n("closes-on-status"), VirtualHost(page, leaf, closes_on=lambda hello, octets: hello.extension(5) is not None)
    leaf = (ca.server(n("closes-on-tickets")), ca.issuing)
    yield (
        n("closes-on-tickets"),
        VirtualHost(page, leaf, closes_on=lambda hello, octets: hello.extension(27) is not None),
    )


RESPONDER: dict[str, bytes] = {}
"""What the CA's own responder answers, by path: good for each of the stapling hosts."""


def _responder(slug: str, options: dict) -> str | None:
    if options.get("bare"):
        return None
    return "http://ocsp.gone.invalid/" if options.get("dead") else f"http://{CA_HOST}/ocsp/{slug}"


_MINUTES = datetime.timedelta(minutes=1)
NEAR_A_DAY = {"1h": 60 * _MINUTES, "23h": 23 * 60 * _MINUTES, "23h30": 1410 * _MINUTES, "25h": 1500 * _MINUTES}


def staples(ca: Authority) -> Iterator[tuple[str, Stapled]]:
    other = ca.server(n("someone-else"))
    now, day = ca.now, DAY
    good, gone, unheard = (
        x509_ocsp.OCSPCertStatus.GOOD,
        x509_ocsp.OCSPCertStatus.REVOKED,
        x509_ocsp.OCSPCertStatus.UNKNOWN,
    )
    cases: dict[str, tuple[x509_ocsp.OCSPCertStatus | None, dict]] = {
        "staple-good": (good, {}),
        "staple-none": (None, {}),
        "staple-revoked": (gone, {}),
        "staple-unknown": (unheard, {}),
        "staple-expired": (good, {"this": now - 9 * day, "next": now - 2 * day}),
        "staple-future": (good, {"this": now + 2 * day, "next": now + 9 * day}),
        **{
            f"staple-ahead-{title}": (good, {"this": now + span, "next": now + 9 * day})
            for title, span in NEAR_A_DAY.items()
        },
        **{
            f"staple-late-{title}-bare": (good, {"this": now - 9 * day, "next": now - span, "bare": True})
            for title, span in NEAR_A_DAY.items()
        },
        "staple-foreign": (good, {"of": other}),
        "staple-expired-dead-responder": (good, {"this": now - 9 * day, "next": now - 2 * day, "dead": True}),
        "staple-foreign-dead-responder": (good, {"of": other, "dead": True}),
        "staple-expired-without-responder": (good, {"this": now - 9 * day, "next": now - 2 * day, "bare": True}),
        "staple-foreign-without-responder": (good, {"of": other, "bare": True}),
        "staple-unknown-without-responder": (unheard, {"bare": True}),
        "staple-must": (None, {"must": True}),
        "staple-must-good": (good, {"must": True}),
        "staple-must-expired": (good, {"must": True, "this": now - 9 * day, "next": now - 2 * day}),
    }
    for slug, (status, options) in cases.items():
        extra = [(MUST_STAPLE, False)] if options.get("must") else []
        leaf = ca.server(n(slug), extra=extra, ocsp=_responder(slug, options))
        RESPONDER[f"/ocsp/{slug}"] = _response(ca, leaf, good, {})
        response = _response(ca, options.get("of") or leaf, status, options) if status is not None else None
        yield n(slug), Stapled((leaf, ca.issuing), response)


def _response(ca: Authority, of: Issued, status: x509_ocsp.OCSPCertStatus, options: dict) -> bytes:
    from cryptography.hazmat.primitives import hashes, serialization

    revoked = status is x509_ocsp.OCSPCertStatus.REVOKED
    builder = x509_ocsp.OCSPResponseBuilder().add_response(
        of.certificate, ca.issuing.certificate, hashes.SHA1(), status,
        options.get("this", ca.now - DAY), options.get("next", ca.now + 3 * DAY),
        ca.now - 3 * DAY if revoked else None, x509.ReasonFlags.key_compromise if revoked else None,
    )  # fmt: skip
    builder = builder.responder_id(x509_ocsp.OCSPResponderEncoding.NAME, ca.issuing.certificate)
    return builder.sign(ca.issuing.key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)


def certificate_hosts(ca: Authority, given: dict[str, Issued]) -> dict[str, VirtualHost]:
    """Every host of this module but the stapled ones."""
    hosts: dict[str, VirtualHost] = {}
    weak = {"key-rsa-1024", "issuer-rsa-1024"}
    for slug, chain in (*key_chains(ca), *anchor_chains(given, ca.now), *named_chains(ca)):
        hosts[n(slug)] = VirtualHost(page, chain, tls_settings=seclevel_0 if slug in weak else None)
    for slug, chain in form_chains(ca):
        # OpenSSL loads none of these: another server, which only looks at the key, sends them.
        hosts[n(slug)] = VirtualHost(page, chain, is_modern=False, tls_port=serve_octets(chain))
    for name, covered in WILDCARDS.items():
        hosts[name] = VirtualHost(page, (ca.server(covered), ca.issuing))
    hosts |= {n(slug): VirtualHost(page, (given[slug],)) for slug in own_certificates(ca.now)}
    hosts |= dict(suite_hosts(ca))
    www = f"www.pair.{ZONE}"
    hosts[www] = VirtualHost(page, (ca.server(www), ca.issuing))
    hosts[f"pair.{ZONE}"] = VirtualHost(page, (ca.server(www), ca.issuing))
    return hosts
