"""Marram Ferries, a small island ferry operator, as a reviewer finds it and after it was mended.

All of it is made up: the operator, its hosts, the certificate authority Skerry Trust.  Addresses are
documentation addresses, and every date is relative to the moment of start.
"""

import datetime
import enum
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from pewter.tls import Version

from .authority import DAY, Issued, PrivateKey, issue_ca, issue_server, make_key
from .web_server import Handler, Request, Response, VirtualHost
from .world import Scenario

APEX = "marram-ferries.example"
WWW = f"www.{APEX}"
TICKETS = f"tickets.{APEX}"
WWW_TICKETS = f"www.tickets.{APEX}"
TIMETABLE = f"timetable.{APEX}"
FREIGHT = f"freight.{APEX}"
STAFF = f"staff.{APEX}"
WEBMAIL = f"old-webmail.{APEX}"
STATUS = f"status.{APEX}"
CA_HOST = "ca.skerry-trust.example"

NAMES = (WWW, TICKETS, WWW_TICKETS, TIMETABLE, FREIGHT, STAFF, WEBMAIL, STATUS)
"""The names under review; the apex is looked at as the sibling of the first."""

PATHS = (
    "/",
    f"{WWW}/timetable?day=sat",
    f"{TICKETS}/account/login",
    f"{FREIGHT}/track?consignment=MF-2041",
)

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

    def server(self, *names: str, left: int, life: int = 90, key: PrivateKey | None = None) -> tuple[Issued, Issued]:
        """A chain for names with ``left`` days left of ``life``, and its intermediate."""
        end = self.now + left * DAY + DAY / 2
        leaf = issue_server(
            names, self.issuing, end - life * DAY, end, key=key, ca_issuers=f"http://{CA_HOST}/issuing-ca-3.crt"
        )
        return leaf, self.issuing


def marram_ferries(stage: Stage, now: datetime.datetime) -> Scenario:
    """The scenario at a stage; ``now`` is aware."""
    root = issue_ca("Skerry Trust Root R1", None, now - 3000 * DAY, now + 4000 * DAY)
    issuing = issue_ca(
        "Skerry Trust Issuing CA 3", root, now - 700 * DAY, now + 1100 * DAY, path_length=0, organization="Skerry Trust"
    )
    build = _as_found if stage is Stage.AS_FOUND else _mended
    servers = build(_Authority(root, issuing, now))
    published = {CA_HOST: VirtualHost(_publish(issuing), server="")}
    zone: dict[str, tuple[str, ...]] = {CA_HOST: ("198.51.100.20",)}
    for addresses, hosts in servers.items():
        for name in hosts:
            zone[name] = (*zone.get(name, ()), *addresses)
    return Scenario(zone, {**servers, ("198.51.100.20",): published}, root)


Servers = dict[tuple[str, ...], Mapping[str, VirtualHost]]


def _as_found(ca: _Authority) -> Servers:
    site = ca.server(APEX, WWW, left=71)
    tickets = ca.server(TICKETS, left=55, key=make_key("RSA 2048"))
    timetable_new, timetable_old = ca.server(TIMETABLE, left=86), ca.server(TIMETABLE, left=-4)
    freight_leaf, _ = ca.server(FREIGHT, left=64, key=make_key("RSA 2048"))
    return {
        ("192.0.2.10", "2001:db8:10::10"): {
            APEX: VirtualHost(_move_to(WWW, status=302), site, server="nginx"),
            WWW: VirtualHost(
                _secure_site("Marram Ferries", ("Strict-Transport-Security", "max-age=86400")), site, server="nginx"
            ),
        },
        ("192.0.2.20",): {
            TICKETS: VirtualHost(_tickets_as_found, tickets, server="Apache"),
            WWW_TICKETS: VirtualHost(_move_to(TICKETS), tickets, server="Apache"),
        },
        ("192.0.2.30",): {TIMETABLE: VirtualHost(_secure_site("Timetable", _HSTS), timetable_new, server="nginx")},
        ("192.0.2.31",): {TIMETABLE: VirtualHost(_secure_site("Timetable", _HSTS), timetable_old, server="nginx")},
        ("192.0.2.40",): {
            FREIGHT: VirtualHost(
                _freight_as_found, (freight_leaf,), old_versions=_OLD_VERSIONS, server="Microsoft-IIS/10.0"
            )
        },
        ("192.0.2.50",): {STAFF: VirtualHost(_circle, ca.server(STAFF, left=12))},
        ("192.0.2.60",): {
            WEBMAIL: VirtualHost(_plain_page("Webmail has moved"), ca.server(f"mail.{APEX}", left=49), server="Apache")
        },
        ("192.0.2.70",): {STATUS: VirtualHost(_secure_site("Service status", _HSTS), ca.server(STATUS, left=77))},
    }


def _mended(ca: _Authority) -> Servers:
    site = ca.server(APEX, WWW, left=71)
    tickets = ca.server(TICKETS, WWW_TICKETS, left=89, key=make_key("RSA 2048"))
    timetable = ca.server(TIMETABLE, left=86)
    return {
        ("192.0.2.10", "2001:db8:10::10"): {
            APEX: VirtualHost(_move_to(WWW, fields=(_HSTS,)), site, server="nginx"),
            WWW: VirtualHost(_secure_site("Marram Ferries", _HSTS), site, server="nginx"),
        },
        ("192.0.2.20",): {
            TICKETS: VirtualHost(_secure_site("Tickets", _HSTS), tickets, server="Apache"),
            WWW_TICKETS: VirtualHost(_move_to(TICKETS, fields=(_HSTS,)), tickets, server="Apache"),
        },
        ("192.0.2.30", "192.0.2.31"): {
            TIMETABLE: VirtualHost(_secure_site("Timetable", _HSTS), timetable, server="nginx")
        },
        ("192.0.2.40",): {
            FREIGHT: VirtualHost(
                _secure_site("Freight", _HSTS), ca.server(FREIGHT, left=64), server="Microsoft-IIS/10.0"
            )
        },
        ("192.0.2.50",): {STAFF: VirtualHost(_secure_site("Staff", _HSTS), ca.server(STAFF, left=89))},
        ("192.0.2.60",): {
            WEBMAIL: VirtualHost(_secure_site("Webmail has moved", _HSTS), ca.server(WEBMAIL, left=88), server="Apache")
        },
        ("192.0.2.70",): {STATUS: VirtualHost(_secure_site("Service status", _HSTS), ca.server(STATUS, left=77))},
    }


# What the hosts answer


def _page(title: str, fields: tuple[tuple[str, str], ...] = ()) -> Response:
    html = f"<!doctype html><html lang=en><title>{title}</title><h1>{title}</h1><p>Marram Ferries</p></html>\n"
    return Response(200, (("Content-Type", "text/html; charset=utf-8"), *fields), html.encode())


def _redirect(status: int, location: str, fields: tuple[tuple[str, str], ...] = ()) -> Response:
    return Response(status, (("Location", location), *fields))


def _secure_site(title: str, hsts: tuple[str, str]) -> Handler:
    """http moves to https on the same host, path kept; https answers with a page."""

    def handle(request: Request) -> Response:
        if request.scheme == "http":
            return _redirect(301, f"https://{request.host}{request.target}")
        session = ("Set-Cookie", "session=4f1c9a7be2; Path=/; Secure; HttpOnly; SameSite=Lax")
        return _page(title, (hsts, session))

    return handle


def _move_to(host: str, *, status: int = 301, fields: tuple[tuple[str, str], ...] = ()) -> Handler:
    """http first moves to https on the same host, https to ``host``; one status for both."""

    def handle(request: Request) -> Response:
        if request.scheme == "http":
            return _redirect(status, f"https://{request.host}{request.target}")
        return _redirect(status, f"https://{host}{request.target}", fields)

    return handle


def _plain_page(title: str) -> Handler:
    return lambda request: _page(title)


def _tickets_as_found(request: Request) -> Response:
    if request.scheme == "http" and request.target == "/":
        return _redirect(301, f"https://{TICKETS}/")
    return _page("Tickets")


def _freight_as_found(request: Request) -> Response:
    if request.scheme == "http":
        return _redirect(301, f"https://{FREIGHT}/")
    return _page("Freight", (_HSTS,))


def _circle(request: Request) -> Response:
    """A proxy that talks plain HTTP to an origin which asks for https, and an https side that leads back."""
    other = "https" if request.scheme == "http" else "http"
    return _redirect(302, f"{other}://{request.host}{request.target}")


def _publish(issuing: Issued) -> Callable[[Request], Response]:
    def handle(request: Request) -> Response:
        if request.target != "/issuing-ca-3.crt":
            return Response(404)
        return Response(200, (("Content-Type", "application/pkix-cert"),), issuing.der)

    return handle
