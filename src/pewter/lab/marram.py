"""Marram Ferries, a small island ferry operator, as a reviewer finds it and after it was mended.

All of it is made up: the operator, its hosts, the certificate authority Skerry Trust.  Addresses are
documentation addresses, and every date is relative to the moment of start.
"""

import datetime
import enum
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

import dns.zone

from pewter.tls import Version

from .authority import DAY, Issued, PrivateKey, issue_ca, issue_server, make_key
from .name_server import TTL, read_zone, sign
from .revocation import answer_ocsp, make_crl
from .web_server import Handler, Request, Response, VirtualHost
from .world import Mend, Scenario

APEX = "marram-ferries.example"
WWW = f"www.{APEX}"
TICKETS = f"tickets.{APEX}"
WWW_TICKETS = f"www.tickets.{APEX}"
TIMETABLE = f"timetable.{APEX}"
FREIGHT = f"freight.{APEX}"
STAFF = f"staff.{APEX}"
WEBMAIL = f"old-webmail.{APEX}"
STATUS = f"status.{APEX}"
BOOKING = f"booking.{APEX}"
CA_DOMAIN = "skerry-trust.example"
CA_HOST = f"ca.{CA_DOMAIN}"
CA_ADDRESS = "198.51.100.20"
STAFF_ORIGIN = "198.51.100.60"
"""Behind the edge service: it speaks plain HTTP, and asks for https again."""

REGISTRY = "ns.registry.example"
REGISTRY_ADDRESS, FIRST_SERVER, SECOND_SERVER = "198.51.100.53", "192.0.2.53", "192.0.2.54"
"""Of the name servers: of the root and the suffix, and the two of the zone."""

_ROOT_ZONE = f"@ NS {REGISTRY}.\nexample. NS {REGISTRY}.\n{REGISTRY}. A {REGISTRY_ADDRESS}"
_OWN_SERVERS = f"@ NS ns1.{APEX}.\n@ NS ns2.{APEX}.\nns1 A {FIRST_SERVER}\nns2 A {SECOND_SERVER}"
_SUFFIX_ZONE = f"""@ NS {REGISTRY}.
{REGISTRY}. A {REGISTRY_ADDRESS}
{CA_DOMAIN}. NS {REGISTRY}.
{APEX}. NS ns1.{APEX}.
{APEX}. NS ns2.{APEX}.
ns1.{APEX}. A {FIRST_SERVER}
ns2.{APEX}. A {SECOND_SERVER}"""
_CAA_AS_FOUND = '@ CAA 0 issue "harbour-certificates.example"'
_CAA_MENDED = f'@ CAA 0 issue "{CA_DOMAIN}"'
_HTTPS_AS_FOUND = "status HTTPS 1 . alpn=h2 ipv4hint=192.0.2.71"
_BOOKING_AS_FOUND = "booking CNAME marram.island-bookings.example."

NAMES = (WWW, TICKETS, WWW_TICKETS, TIMETABLE, FREIGHT, STAFF, WEBMAIL, STATUS, BOOKING)
"""The names under review; the apex is looked at as the sibling of the first."""

PATHS = (
    "/",
    f"{WWW}/timetable?day=sat",
    f"{TICKETS}/account/login",
    f"{FREIGHT}/track?consignment=MF-2041",
)

Fields = tuple[tuple[str, str], ...]

_HSTS = ("Strict-Transport-Security", "max-age=31536000; includeSubDomains")
_OLD_VERSIONS = frozenset({int(Version.TLS_1_0), int(Version.TLS_1_1)})


class Stage(enum.Enum):
    """Before and after."""

    AS_FOUND = "as-found"
    MENDED = "mended"


@dataclass(frozen=True)
class _Authority:
    root: Issued
    issuing: Issued
    now: datetime.datetime
    issued: dict[int, Issued] = field(default_factory=dict)
    revoked: dict[int, datetime.datetime] = field(default_factory=dict)

    def server(self, *names: str, left: int, life: int = 90, key: PrivateKey | None = None) -> tuple[Issued, Issued]:
        """A chain for names with ``left`` days left of ``life``, and its intermediate."""
        end = self.now + left * DAY + DAY / 2
        leaf = issue_server(
            names,
            self.issuing,
            end - life * DAY,
            end,
            key=key,
            ca_issuers=f"http://{CA_HOST}/issuing-ca-3.crt",
            ocsp=f"http://{CA_HOST}/ocsp",
            crl=f"http://{CA_HOST}/issuing-ca-3.crl",
        )
        self.issued[leaf.certificate.serial_number] = leaf
        return leaf, self.issuing

    def revoke(self, issued: Issued, days_ago: int) -> None:
        self.revoked[issued.certificate.serial_number] = self.now - days_ago * DAY


def marram_ferries(stage: Stage, now: datetime.datetime) -> Scenario:
    """The scenario at a stage, and as found with what is mended one after the other; ``now`` is aware."""
    root = issue_ca("Skerry Trust Root R1", None, now - 3000 * DAY, now + 4000 * DAY)
    issuing = issue_ca(
        "Skerry Trust Issuing CA 3", root, now - 700 * DAY, now + 1100 * DAY, path_length=0, organization="Skerry Trust"
    )
    authority = _Authority(root, issuing, now)
    mended = _mended(authority)
    zones = _zones_mended(mended)
    servers = mended
    mending: tuple[Mend, ...] = ()
    if stage is Stage.AS_FOUND:
        servers = _as_found(authority)
        mending = tuple(_mends(mended, zones))
        zones = _zones_as_found(servers)
    published = {CA_HOST: VirtualHost(_publish(authority), server="")}
    return Scenario(
        {},
        {**servers, (CA_ADDRESS,): published},
        root,
        zones.resolved,
        {REGISTRY_ADDRESS: zones.above, FIRST_SERVER: (zones.first,), SECOND_SERVER: (zones.second,)},
        _files(authority, servers),
        mending,
    )


@dataclass(frozen=True)
class _Zones:
    """The root and the suffix, and the zone at its two servers."""

    above: tuple[dns.zone.Zone, dns.zone.Zone]
    first: dns.zone.Zone
    second: dns.zone.Zone

    @property
    def resolved(self) -> tuple[dns.zone.Zone, ...]:
        """What a resolver comes to."""
        return (*self.above, self.first, read_zone(CA_DOMAIN, f"@ NS {REGISTRY}.\n{CA_HOST}. A {CA_ADDRESS}"))


def _mends(mended: "Servers", zones: _Zones) -> Iterator[Mend]:
    """What the operator's staff does, in the order in which it is safe."""
    at = {address: hosts for addresses, hosts in mended.items() for address in addresses}
    unsigned_above = _above()
    yield Mend(
        "the first name server has the new zone; the second, and copies at the resolver, are behind",
        name_servers={FIRST_SERVER: (zones.first,)},
        resolver=_Zones(unsigned_above, zones.first, zones.second).resolved,
        copies_last=TTL,
    )
    for words, addresses in (
        ("freight: whole chain, current TLS versions, no debug output", ("192.0.2.40",)),
        ("timetable: both servers have the new certificate", ("192.0.2.30", "192.0.2.31")),
        ("old webmail: a certificate of its own, and a redirect", ("192.0.2.60",)),
        (
            "tickets: a certificate for both names, every page redirected, cookies with their attributes",
            ("192.0.2.20",),
        ),
    ):
        yield Mend(words, servers={address: at[address] for address in addresses})
    yield Mend("the second name server has the new zone", name_servers={SECOND_SERVER: (zones.second,)})
    for words, addresses in (
        ("staff: TLS at the origin, and the edge speaks it", ("192.0.2.50", STAFF_ORIGIN)),
        ("booking and status: both at the status server", ("192.0.2.70",)),
        ("www: permanent redirects, HSTS for a year, https in the pages", ("192.0.2.10",)),
    ):
        yield Mend(words, servers={address: at[address] for address in addresses})
    yield Mend(
        "the registry vouches for the zone's signatures",
        name_servers={REGISTRY_ADDRESS: zones.above},
        resolver=zones.resolved,
    )


def _above() -> tuple[dns.zone.Zone, dns.zone.Zone]:
    return read_zone(".", _ROOT_ZONE), read_zone("example", _SUFFIX_ZONE)


def _address_records(servers: "Servers") -> dict[str, list[str]]:
    """Lines of the zone for each name."""
    found: dict[str, list[str]] = {}
    for at, hosts in servers.items():
        if at == (STAFF_ORIGIN,):
            continue  # nobody's name leads there
        for name in hosts:
            found.setdefault(name, []).extend(f"{name}. {'AAAA' if ':' in each else 'A'} {each}" for each in at)
    return found


def _zones_as_found(servers: "Servers") -> _Zones:
    """The second server is behind."""
    found = _address_records(servers)
    lines = [_OWN_SERVERS, _CAA_AS_FOUND, _HTTPS_AS_FOUND, _BOOKING_AS_FOUND]
    now = [*lines, *(each for of in found.values() for each in of)]
    found[STATUS] = [f"{STATUS}. A 192.0.2.71"]
    before = [*lines, *(each for of in found.values() for each in of)]
    first, second = (
        read_zone(APEX, "\n".join(each), serial) for each, serial in ((now, 2026112402), (before, 2026111901))
    )
    return _Zones(_above(), first, second)


def _zones_mended(servers: "Servers") -> _Zones:
    """Signed, and the same at both."""
    above = _above()
    lines = [_OWN_SERVERS, _CAA_MENDED, *(each for of in _address_records(servers).values() for each in of)]
    zone = read_zone(APEX, "\n".join(lines), 2026112601)
    sign(zone, above[1])
    return _Zones(above, zone, zone)


def _files(ca: _Authority, servers: "Servers") -> dict[str, bytes]:
    """What the operator's staff has lying about for the freight portal, to try ``pewter bundle`` on."""
    leaf = next(host.chain[0] for hosts in servers.values() for name, host in hosts.items() if name == FREIGHT)
    return {
        "freight.key": leaf.key_pem,
        "freight-bundle.pem": b"Bag Attributes: freight portal\r\n" + (ca.root.pem + leaf.pem).replace(b"\n", b"\r\n"),
        "skerry-issuing-ca.pem": ca.issuing.pem,
    }


Servers = dict[tuple[str, ...], Mapping[str, VirtualHost]]


def _as_found(ca: _Authority) -> Servers:
    site = ca.server(APEX, WWW, left=71)
    tickets = ca.server(TICKETS, left=55, key=make_key("RSA 2048"))
    timetable_new, timetable_old = ca.server(TIMETABLE, left=86), ca.server(TIMETABLE, left=-4)
    freight_leaf, _ = ca.server(FREIGHT, left=64, key=make_key("RSA 2048"))
    webmail = ca.server(f"mail.{APEX}", left=49)
    ca.revoke(webmail[0], days_ago=20)
    timetable = _site({"/": _TIMETABLE}, fields=(_HSTS,), error_fields=())
    return {
        ("192.0.2.10", "2001:db8:10::10"): {
            APEX: VirtualHost(_move_to(WWW, status=302), site, server="nginx"),
            WWW: VirtualHost(_site(_WWW_AS_FOUND, fields=(_SHORT_HSTS,)), site, server="nginx"),
        },
        ("192.0.2.20",): {
            TICKETS: VirtualHost(_tickets_as_found, tickets, server="Apache"),
            WWW_TICKETS: VirtualHost(_move_to(TICKETS, directly=True), tickets, server="Apache"),
        },
        ("192.0.2.30",): {TIMETABLE: VirtualHost(timetable, timetable_new, server="nginx")},
        ("192.0.2.31",): {TIMETABLE: VirtualHost(timetable, timetable_old, server="nginx")},
        ("192.0.2.40",): {
            FREIGHT: VirtualHost(
                _freight_as_found,
                (freight_leaf,),
                old_versions=_OLD_VERSIONS,
                server="Microsoft-IIS/10.0",
                is_modern=False,
            )
        },
        ("192.0.2.50",): {STAFF: VirtualHost(_circle, ca.server(STAFF, left=12))},
        ("192.0.2.60",): {WEBMAIL: VirtualHost(_plain_pages({"/": _WEBMAIL}), webmail, server="Apache", any_host=True)},
        ("192.0.2.70",): {STATUS: VirtualHost(_site({"/": _STATUS}), ca.server(STATUS, left=77))},
        ("192.0.2.71",): {},  # where the status page was before
        (STAFF_ORIGIN,): {STAFF: VirtualHost(_site({"/": _STAFF}), server="nginx")},
    }


def _mended(ca: _Authority) -> Servers:
    site = ca.server(APEX, WWW, left=71)
    tickets = ca.server(TICKETS, WWW_TICKETS, left=89, key=make_key("RSA 2048"))
    timetable = ca.server(TIMETABLE, left=86)
    cookies = (
        ("Set-Cookie", "ticket_session=4f1c9a7be2; Path=/; Secure; HttpOnly; SameSite=Lax"),
        ("Set-Cookie", "csrftoken=81fe; Path=/; Secure; HttpOnly; SameSite=Strict"),
    )
    return {
        ("192.0.2.10", "2001:db8:10::10"): {
            APEX: VirtualHost(_move_to(WWW, fields=(_HSTS,)), site, server="nginx"),
            WWW: VirtualHost(_site(_WWW_MENDED), site, server="nginx"),
        },
        ("192.0.2.20",): {
            TICKETS: VirtualHost(_site(_TICKETS_PAGES, cookies=cookies), tickets, server="Apache"),
            WWW_TICKETS: VirtualHost(_move_to(TICKETS, fields=(_HSTS,)), tickets, server="Apache"),
        },
        ("192.0.2.30", "192.0.2.31"): {TIMETABLE: VirtualHost(_site({"/": _TIMETABLE}), timetable, server="nginx")},
        ("192.0.2.40",): {
            FREIGHT: VirtualHost(_site(_FREIGHT_PAGES), ca.server(FREIGHT, left=64), server="Microsoft-IIS")
        },
        ("192.0.2.50",): {STAFF: VirtualHost(_site({"/": _STAFF}), ca.server(STAFF, left=89))},
        (STAFF_ORIGIN,): {STAFF: VirtualHost(_refuse, ca.server(STAFF, left=88), server="nginx")},
        ("192.0.2.60",): {WEBMAIL: VirtualHost(_site({"/": _WEBMAIL}), ca.server(WEBMAIL, left=88), server="Apache")},
        ("192.0.2.70",): {
            STATUS: VirtualHost(_site({"/": _STATUS}), ca.server(STATUS, left=77)),
            BOOKING: VirtualHost(_site({"/": _BOOKING}), ca.server(BOOKING, left=80)),
        },
    }


# What the hosts show

Pages = Mapping[str, str]
"""HTML bodies by path; the query does not count."""

_TIMETABLE = "<h1>Timetable</h1><p>Saturday: 07:10, 12:40, 18:25.</p>"
_WEBMAIL = "<h1>Webmail has moved</h1>"
_STATUS = "<h1>Service status</h1><p>All sailings on time.</p>"
_STAFF = "<h1>Staff</h1>"
_BOOKING = "<h1>Booking</h1>"
_WWW_HEAD = '<link rel="canonical" href="{scheme}://www.marram-ferries.example/">'
_WWW_BODY = """<h1>Marram Ferries</h1>
<img src="{scheme}://www.marram-ferries.example/harbour.jpg" alt="The harbour">
<script src="{scheme}://{widgets}/weather.js"></script>
<form method="post" action="{scheme}://www.marram-ferries.example/newsletter"><input name="mail"></form>
<p><a href="/timetable?day=sat">Timetable</a> <a href="/islands/marram/beaches">The beaches of Marram</a>
<a href="{scheme}://tickets.marram-ferries.example/">Tickets</a></p>"""
_WWW_PAGES = ("/timetable", "<h1>Saturday</h1>"), ("/islands/marram/beaches", "<h1>The beaches of Marram</h1>")
_WWW_AS_FOUND = {
    "/": (_WWW_HEAD + _WWW_BODY).format(scheme="http", widgets="widgets.skerry-weather.example"),
    **dict(_WWW_PAGES),
}
_WWW_MENDED = {
    "/": (_WWW_HEAD + _WWW_BODY).format(scheme="https", widgets=WWW),
    **dict(_WWW_PAGES),
}
_TICKETS_PAGES = {
    "/": '<h1>Tickets</h1><a href="/account/login">Log in</a>',
    "/account/login": '<h1>Log in</h1><form method="post" action="/account/login"><input name="password"></form>',
}
_FREIGHT_PAGES = {"/": "<h1>Freight</h1>", "/track": "<h1>Consignment MF-2041</h1>"}
_ERROR = "<h1>Not found</h1>"
_ASP_NET_ERROR = """<h1>Server Error in '/Portal' Application.</h1>
<p>The resource cannot be found.</p><p><b>Stack Trace:</b></p><pre>
[HttpException: The file '/Portal/Missing.aspx' does not exist.]
   at Marram.Freight.Routing.Resolve(String path) in D:\\Portal\\Routing.cs:line 48
</pre>"""
_SHORT_HSTS = ("Strict-Transport-Security", "max-age=86400")


def _page(body: str, fields: Fields = (), status: int = 200) -> Response:
    html = f"<!doctype html><html lang=en><meta charset=utf-8><title>Marram Ferries</title>{body}</html>\n"
    return Response(status, (("Content-Type", "text/html; charset=utf-8"), *fields), html.encode())


def _shown(pages: Pages, target: str, fields: Fields, error_fields: Fields, error: str = _ERROR) -> Response:
    body = pages.get(target.partition("?")[0])
    return _page(body, fields) if body is not None else _page(error, error_fields, 404)


def _redirect(status: int, location: str, fields: Fields = ()) -> Response:
    return Response(status, (("Location", location), *fields))


def _site(pages: Pages, fields: Fields = (_HSTS,), error_fields: Fields | None = None, cookies: Fields = ()) -> Handler:
    """http moves to https on the same host, path kept; https shows the pages."""

    def handle(request: Request) -> Response:
        if request.scheme == "http":
            return _redirect(301, f"https://{request.host}{request.target}")
        of_errors = fields if error_fields is None else error_fields
        return _shown(pages, request.target, (*fields, *cookies), of_errors)

    return handle


def _move_to(host: str, *, status: int = 301, fields: Fields = (), directly: bool = False) -> Handler:
    """http moves to https on the same host (or ``directly`` to ``host``), https to ``host``; one status for both."""

    def handle(request: Request) -> Response:
        if request.scheme == "http" and not directly:
            return _redirect(status, f"https://{request.host}{request.target}")
        return _redirect(status, f"https://{host}{request.target}", fields if request.scheme == "https" else ())

    return handle


def _plain_pages(pages: Pages) -> Handler:
    return lambda request: _shown(pages, request.target, (), ())


def _tickets_as_found(request: Request) -> Response:
    if request.scheme == "http" and request.target == "/":
        return _redirect(301, f"https://{TICKETS}/")
    cookies = (
        ("Set-Cookie", "ticket_session=4f1c9a7be2; Path=/; HttpOnly"),
        ("Set-Cookie", "csrftoken=81fe; Path=/; Secure"),
    )
    return _shown(_TICKETS_PAGES, request.target, cookies, ())


def _freight_as_found(request: Request) -> Response:
    if request.scheme == "http":
        return _redirect(301, f"https://{FREIGHT}/")
    return _shown(_FREIGHT_PAGES, request.target, (_HSTS,), (_HSTS,), _ASP_NET_ERROR)


def _circle(request: Request) -> Response:
    """A proxy that talks plain HTTP to an origin which asks for https, and an https side that leads back."""
    other = "https" if request.scheme == "http" else "http"
    return _redirect(302, f"{other}://{request.host}{request.target}")


def _refuse(request: Request) -> Response:
    """An origin that only its edge may ask."""
    return Response(403)


def _publish(ca: _Authority) -> Callable[[Request], Response]:
    """The CA's own web server: its certificate, its revocation list and its OCSP responder."""

    def handle(request: Request) -> Response:
        if request.target.startswith("/ocsp/"):
            asked = request.target.removeprefix("/ocsp/")
            octets = answer_ocsp(ca.issuing, ca.issued, ca.revoked, asked)
            return Response(200, (("Content-Type", "application/ocsp-response"),), octets)
        match request.target:
            case "/issuing-ca-3.crt":
                return Response(200, (("Content-Type", "application/pkix-cert"),), ca.issuing.der)
            case "/issuing-ca-3.crl":
                return Response(200, (("Content-Type", "application/pkix-crl"),), make_crl(ca.issuing, ca.revoked))
            case _:
                return Response(404)

    return handle
