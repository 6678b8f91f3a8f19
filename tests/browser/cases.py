"""The cases on which Pewter is held against a real browser: hosts, fields and pages made for the purpose."""

import datetime
import gzip
import tomllib
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import brotli
import zstandard
from cryptography import x509
from cryptography.x509.oid import ExtendedKeyUsageOID

from pewter.lab.authority import DAY, Issued, issue_ca, issue_server, make_key
from pewter.lab.web_server import Request, Response, VirtualHost

ZONE = "agree.example"
CA_HOST = f"ca.{ZONE}"
PARTS = f"parts.{ZONE}"
"""Where the pages' parts are."""

GIVEN = tomllib.loads((Path(__file__).parent / "cases.toml").read_text(encoding="utf-8"))
COOKIES, PARTS_OF_PAGES = GIVEN["cookies"], GIVEN["parts"]
STS: list[list[str]] = GIVEN["policies"]

PAGE = (("Content-Type", "text/html"),)


def page(body: str = "<h1>page</h1>", *fields: tuple[str, str]) -> Response:
    return Response(200, (*PAGE, *fields), f"<!doctype html><title>x</title>{body}".encode())


@dataclass(frozen=True)
class Authority:
    """The root that the browser trusts, and what hangs below it."""

    now: datetime.datetime
    root: Issued
    issuing: Issued
    key: object = field(default_factory=make_key)

    def server(
        self, *names: str, issuer: Issued | None = None, left: float = 60, life: float = 90, **options
    ) -> Issued:
        end = self.now + left * DAY
        return issue_server(names, issuer or self.issuing, end - life * DAY, end, key=self.key, **options)

    def ca(self, title: str, issuer: Issued | None, left: float = 900, **options) -> Issued:
        return issue_ca(title, issuer, self.now - 1000 * DAY, self.now + left * DAY, **options)


def make_authority(now: datetime.datetime) -> Authority:
    root = issue_ca("Agreement Root", None, now - 1000 * DAY, now + 1000 * DAY)
    issuing = issue_ca("Agreement Issuing", root, now - 1000 * DAY, now + 1000 * DAY)
    return Authority(now, root, issuing)


# What a visitor meets: each host with its chain and handler; both schemes are typed.


def visit_hosts(ca: Authority) -> dict[str, VirtualHost]:
    def to_https(request: Request) -> Response:
        if request.scheme == "http":
            return Response(301, (("Location", f"https://{request.host}{request.target}"),))
        return page()

    def plain(request: Request) -> Response:
        return page()

    def circle(request: Request) -> Response:
        other = "https" if request.scheme == "http" else "http"
        return Response(302, (("Location", f"{other}://{request.host}/"),))

    def to(location: str) -> Callable[[Request], Response]:
        return lambda request: Response(302, (("Location", location),))

    def cookie_gate(request: Request) -> Response:
        if "seen=1" in request.cookie:
            return page()
        return Response(302, (("Location", "/"), ("Set-Cookie", "seen=1")))

    def n(slug: str) -> str:
        return f"{slug}.visit.{ZONE}"

    foreign = ca.ca("Foreign Root", None)
    expired = ca.ca("Expired Issuer", ca.root, left=-1)
    no_ca = ca.ca("No CA", ca.root, is_ca=False)
    mail = ca.ca("Mail Issuer", ca.root, purposes=[ExtendedKeyUsageOID.EMAIL_PROTECTION])
    constrained = ca.ca("Constrained Issuer", ca.root, permitted_dns=["other.example"])
    short = ca.ca("Short Issuer", ca.root, path_length=0)
    below_short = ca.ca("Below Short", short)
    impostor = ca.ca("Agreement Issuing", ca.root)
    unknown = x509.UnrecognizedExtension(x509.ObjectIdentifier("1.3.6.1.4.1.99999.1"), b"\x05\x00")

    def good(slug: str) -> tuple[Issued, Issued]:
        return ca.server(n(slug)), ca.issuing

    def own(slug: str, issuer: Issued, *more: Issued, **options) -> tuple[Issued, ...]:
        return (ca.server(n(slug), issuer=issuer, **options), issuer, *more)

    self_signed = issue_server([n("self-signed")], None, ca.now - DAY, ca.now + 60 * DAY, key=ca.key)
    leaf = ca.server(n("damaged"))
    damaged = Issued(x509.load_der_x509_certificate(leaf.der[:-1] + bytes((leaf.der[-1] ^ 1,))), leaf.key)
    chains: dict[str, tuple[Issued, ...]] = {
        "good": good("good"),
        "expired": own("expired", ca.issuing, left=-1),
        "future": own("future", ca.issuing, left=95),
        "wrong-name": (ca.server(f"other.{ZONE}"), ca.issuing),
        "wildcard": (ca.server(f"*.visit.{ZONE}"), ca.issuing),
        "two-labels": (ca.server(f"*.{ZONE}"), ca.issuing),
        "common-name": (ca.server(common_name=n("common-name")), ca.issuing),
        "self-signed": (self_signed,),
        "foreign-root": own("foreign-root", foreign),
        "root-sent": own("root-sent", ca.issuing, ca.root),
        "reversed": (ca.server(n("reversed"), issuer=short), ca.root, short),
        "twice": own("twice", ca.issuing, ca.issuing),
        "unrelated": own("unrelated", ca.issuing, foreign),
        "missing-with-aia": (ca.server(n("missing-with-aia"), ca_issuers=f"http://{CA_HOST}/issuing.crt"),),
        "missing-without-aia": (ca.server(n("missing-without-aia"), issuer=short),),
        "expired-issuer": own("expired-issuer", expired),
        "issuer-no-ca": own("issuer-no-ca", no_ca),
        "issuer-for-mail": own("issuer-for-mail", mail),
        "constrained": own("constrained", constrained),
        "path-too-long": own("path-too-long", below_short, short),
        "same-name-other-key": (ca.server(n("same-name-other-key"), issuer=short), impostor),
        "damaged": (damaged, ca.issuing),
        "for-clients": own("for-clients", ca.issuing, purposes=[ExtendedKeyUsageOID.CLIENT_AUTH]),
        "critical-extension": own("critical-extension", ca.issuing, extra=[(unknown, True)]),
        "expired-and-wrong-name": (ca.server(f"other.{ZONE}", left=-1), ca.issuing),
        "foreign-and-expired": own("foreign-and-expired", foreign, left=-1),
    }
    hosts = {n(slug): VirtualHost(to_https, chain) for slug, chain in chains.items()}
    handlers: dict[str, Callable[[Request], Response]] = {
        "plain": plain,
        "circle": circle,
        "cookie-gate": cookie_gate,
        "not-found": lambda request: Response(404, PAGE, b"<h1>not found</h1>"),
        "choices": lambda request: Response(300, (*PAGE, ("Location", f"https://{n('good')}/")), b"<h1>choose</h1>"),
    }
    named = {slug: n(slug) for slug in ("good", "expired", "wrong-name", "plain")}
    handlers |= {slug: to(location.format(**named)) for slug, location in GIVEN["locations"].items()}
    answers = {slug: answer.format(**named).encode("latin-1") for slug, answer in GIVEN["answers"].items()}
    handlers |= {slug: lambda request, octets=octets: Response(200, octets=octets) for slug, octets in answers.items()}
    handlers |= http_handlers(n)
    hosts |= {n(slug): VirtualHost(handler, good(slug)) for slug, handler in handlers.items()}
    return hosts


INTERIM = b"HTTP/1.1 103 Early Hints\r\nX: y\r\n\r\n"
WHOLE = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 35\r\n\r\n<!doctype html><title>x</title>page"
_BODY = b"<!doctype html><title>x</title>page"
CODINGS = (
    ("gzip-good", "gzip", gzip.compress(_BODY)),
    ("gzip-and-rubbish", "gzip", gzip.compress(_BODY) + b"rubbish behind it"),
    ("gzip-twice", "gzip", gzip.compress(_BODY) + gzip.compress(b"<p>more")),
    ("gzip-cut", "gzip", gzip.compress(_BODY)[:-9]),
    ("gzip-bad-sum", "gzip", gzip.compress(_BODY)[:-8] + bytes(8)),
    ("gzip-none", "gzip", b""),
    ("deflate-good", "deflate", zlib.compress(_BODY)),
    ("deflate-raw", "deflate", zlib.compress(_BODY)[2:-4]),
    ("deflate-plain", "deflate", _BODY),
    ("br-good", "br", brotli.compress(_BODY)),
    ("br-plain", "br", _BODY),
    ("br-and-rubbish", "br", brotli.compress(_BODY) + b"rubbish"),
    ("br-gzip", "br", gzip.compress(_BODY)),
    ("zstd-good", "zstd", zstandard.compress(_BODY)),
    ("zstd-plain", "zstd", _BODY),
    ("zstd-and-rubbish", "zstd", zstandard.compress(_BODY) + b"rubbish"),
    ("unknown", "squeezed", _BODY),
    ("two", "gzip, br", brotli.compress(gzip.compress(_BODY))),
    ("two-plain", "gzip, br", _BODY),
    ("identity", "identity", _BODY),
)
"""Bodies that are in the coding that they say, and such as are not."""


def http_handlers(n: Callable[[str], str]) -> dict[str, Callable[[Request], Response]]:
    """Redirects with cookies, pages that move on, errors and heads as no standard has them."""
    long_ago = "Expires=Thu, 01 Jan 1970 00:00:00 GMT"

    def steps(*answers: Response) -> Callable[[Request], Response]:
        """``/`` answers with the first, ``/1`` with the second and so on; the last for good."""

        def handle(request: Request) -> Response:
            number = int(request.target[1:]) if request.target[1:].isdigit() else 0
            return answers[min(number, len(answers) - 1)]

        return handle

    def on(target: str, *cookies: str) -> Response:
        return Response(302, (("Location", target), *(("Set-Cookie", each) for each in cookies)))

    def gate(request: Request, wanted: str) -> Response:
        return page() if wanted in request.cookie else on("/", "x=1")

    def until_gone(*deletion: str) -> Callable[[Request], Response]:
        """A cookie is set, then deleted; the page is shown to who no longer has it."""

        def handle(request: Request) -> Response:
            if request.target == "/":
                return on("/1", "step=one; Path=/")
            if request.target == "/1":
                return on("/2", *deletion)
            return page() if "step=" not in request.cookie else on("/2")

        return handle

    def overwritten(*fields: str) -> Callable[[Request], Response]:
        def handle(request: Request) -> Response:
            if "a=last" in request.cookie:
                return page()
            return on("/", *fields)

        return handle

    def by_scheme(plain: Response, secure: Response) -> Callable[[Request], Response]:
        return lambda request: secure if request.scheme == "https" else plain

    def refresh(content: str) -> Response:
        return page(f"<meta http-equiv=refresh content='{content}'>")

    body = b"<!doctype html><title>x</title>page"
    gzip_field = ("Content-Encoding", "gzip")
    handlers: dict[str, Callable[[Request], Response]] = {
        "hops-18": steps(*(on(f"/{number}") for number in range(1, 19)), page()),
        "hops-25": steps(*(on(f"/{number}") for number in range(1, 26)), page()),
        "cookie-deleted-by-age": until_gone("step=; Max-Age=0; Path=/"),
        "cookie-deleted-by-date": until_gone(f"step=; {long_ago}; Path=/"),
        "cookie-deleted-elsewhere": until_gone("step=; Max-Age=0; Path=/other"),
        "cookie-overwritten": overwritten("a=first; Path=/", "a=last; Path=/"),
        "cookie-two-secure": overwritten("a=last; Secure; Path=/", "a=first; Path=/"),
        "cookie-two-secure-last": overwritten("a=first; Path=/", "a=last; Secure; Path=/"),
        "cookie-two-paths": overwritten("a=last; Path=/", "a=first; Path=/deep"),
        "cookie-from-http": by_scheme(on(f"https://{n('cookie-from-http')}/", "x=1"), on("/")),
        "cookie-host-wide": lambda request: gate(request, "x=1"),
        "cookie-quoted": overwritten('a="last"; Path=/', "a=last; Path=/"),
        "refresh-to-https": by_scheme(refresh(f"0;url=https://{n('refresh-to-https')}/"), page()),
        "refresh-to-http": by_scheme(page(), refresh(f"0; url=http://{n('refresh-to-http')}/")),
        "refresh-field-to-https": by_scheme(
            page("x", ("Refresh", f"0;url=https://{n('refresh-field-to-https')}/")), page()
        ),
        "refresh-field-to-http": by_scheme(
            page(), page("x", ("Refresh", f"0;url=http://{n('refresh-field-to-http')}/"))
        ),
        "refresh-without-url": lambda request: refresh("600"),
        "refresh-odd": by_scheme(refresh(f"0url=https://{n('refresh-odd')}/"), page()),
        "refresh-quoted": by_scheme(refresh(f'0; URL="https://{n("refresh-quoted")}/"x'), page()),
        "refresh-to-expired": by_scheme(refresh(f"0;url=https://{n('expired')}/"), page()),
        "script-to-https": by_scheme(
            page(f"<script>location.href = 'https://{n('script-to-https')}/'</script>"), page()
        ),
        "script-to-http": by_scheme(
            page(), page(f"<script>location.replace('http://{n('script-to-http')}/')</script>")
        ),
        "script-in-function": by_scheme(
            page(f"<script>function f() {{ location = 'https://{n('good')}/' }}</script>"), page()
        ),
        "gone": lambda request: Response(410, PAGE, b"gone"),
        "unavailable": lambda request: Response(503, PAGE, b"<h1>later</h1>"),
        "bad-request": lambda request: Response(400, PAGE, b"<h1>bad</h1>"),
        "empty-error": lambda request: Response(404),
        "gzip-broken": lambda request: page("x", gzip_field),
        **{
            f"coding-{title}": lambda request, octets=octets, coding=coding: Response(
                200, (*PAGE, ("Content-Encoding", coding)), octets
            )
            for title, coding, octets in CODINGS
        },
        **{
            f"interim-{count}": lambda request, count=count: Response(200, octets=INTERIM * count + WHOLE)
            for count in (7, 8, 9, 10, 11, 20)
        },
        **{
            f"hops-{count}": steps(*(on(f"/{number}") for number in range(1, count + 1)), page())
            for count in (19, 20, 21)
        },
        **{
            f"status-{status}": lambda request, status=status: Response(status, PAGE) for status in (204, 205, 304, 206)
        },
        "script-protocol": by_scheme(page("<script>location.protocol = 'https:'</script>"), page()),
        "script-protocol-checked": by_scheme(
            page("<script>if (location.protocol != 'https:') location.protocol = 'https:'</script>"), page()
        ),
        "script-replaces-scheme": by_scheme(
            page("<script>location.href = location.href.replace('http:', 'https:')</script>"), page()
        ),
        "created": lambda request: Response(201, (*PAGE, ("Location", "/1")), body),
        "two-locations": lambda request: Response(302, (("Location", "/1"), ("Location", "/2"))),
        "same-location-twice": steps(Response(302, (("Location", "/1"), ("Location", "/1"))), page()),
        "utf-8-location": lambda request: page() if request.target == "/caf%C3%A9" else on("/caf\u00c3\u00a9"),
        "octet-location": lambda request: page() if request.target == "/caf%E9" else on("/caf\u00e9"),
        "dots-location": lambda request: page() if request.target == "/b" else on("/a/%2e%2e/b"),
        "tab-location": lambda request: page() if request.target == "/ab" else on("/a\tb"),
    }
    return handlers
