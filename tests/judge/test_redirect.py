"""The area redirect, and what an unknown Host is answered."""

from pewter.evidence import (
    HostProbe,
    HowFailed,
    Move,
    MoveKind,
    NoConnection,
    Origin,
    Reference,
    Seen,
    Statement,
    StatementKind,
    StopCause,
    Stopped,
    Unseen,
    Use,
)
from pewter.expectations import Expectations, Terms
from pewter.judge.rules import reach, redirect, redirect_ends
from pewter.web.further_ways import UNKNOWN_HOST
from support.cases import (
    case,
    endpoint,
    handshake,
    hop,
    journey,
    name,
    outcomes,
    page,
    probe,
    stopped,
    stored,
    table,
    unseen,
)
from support.certificates import HOST, intermediate, leaf

APEX, OTHER = "marram-ferries.example", "tickets.marram-ferries.example"
HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
HTTP_APEX, HTTPS_APEX = f"http://{APEX}/", f"https://{APEX}/"
NAMES = [name(HOST), name(APEX), name(OTHER)]
LOOP = Stopped(HTTP, StopCause.LOOP, "it comes round again")
DEEP = "timetable?day=sat"


def at(*journeys, names=NAMES, canonical=f"https://{HOST}", expectations=Expectations(), **evidence):  # noqa: B008
    return case(*journeys, names=names, terms=Terms(expectations, canonical=canonical), **evidence)


def moved(status, *urls):
    *first, last = urls
    hops = (hop(url, status, ("Location", after)) for url, after in zip(first, urls[1:], strict=True))
    return journey(*hops, hop(last))


def at_page(shown, way=None):
    return at(way or journey(hop(shown.url, page=shown.sha256)), pages=(shown,))


def ended(url, *stop, start=HTTPS, status=302):
    return at(journey(hop(start, status), end=Stopped(url, *stop)))


def through(issued, *hops):
    served = {"endpoints": [endpoint(handshake(issued, intermediate()))], "certificates": stored(issued)}
    return at(journey(*hops), **served)


def probed(answer, *ways, **evidence):
    return at(*ways, host_probes=(HostProbe(HOST, "http", UNKNOWN_HOST, answer),), **evidence)


def form(status, post):
    shown = page(HTTPS, references=(Reference(f"{HTTP}send", Use.FORM, "form action", post),))
    sent = journey(hop(HTTP, status, ("Location", HTTPS)), hop(HTTPS))
    return at(journey(hop(HTTPS, page=shown.sha256)), sent, pages=(shown,))


ENDLESS = journey(*(hop(f"{HTTPS}{n}", 302) for n in range(21)), end=Stopped(f"{HTTPS}21", StopCause.TOO_MANY_HOPS, ""))
THERE = journey(hop(HTTP, 302), hop(HTTPS, 302), end=Stopped(HTTP, StopCause.LOOP, ""))
REFUSED = probe(NoConnection(HowFailed.REFUSED, "the connection was refused"))
ASKS_AGAIN = Origin(HOST, "198.51.100.9", None, REFUSED, None, Seen(hop(HTTP, 301, ("Location", HTTPS))))
ROUND = journey(hop(HTTPS, 301), end=Stopped(HTTPS, StopCause.LOOP, ""))
BACK = journey(hop(HTTPS, 302), hop(HTTP, 302), end=Stopped(HTTPS, StopCause.LOOP, ""))
ABSENT = journey(f"{HTTP}pewter-no-such-page", hop(f"{HTTPS}pewter-no-such-page", 404), reason="absent")
MOVING = page(HTTP, moves=(Move(MoveKind.META_REFRESH, HTTPS),))
STAYING = page(HTTP, moves=(Move(MoveKind.SCRIPT, f"http://{HOST}/en"),))
HOME = page(HTTP, title="Marram Ferries")
HOME_SHOWN = {"pages": (HOME,)}
EXPIRED = leaf(HOST, left=-4)
ONE, APEX_TOO = page(HTTPS), page(HTTPS_APEX)
TWO_HOMES = (journey(hop(HTTPS, page=ONE.sha256)), journey(hop(HTTPS_APEX, page=APEX_TOO.sha256)))
CLAIM = (Statement(StatementKind.CANONICAL, HTTPS),)

CASES = {
    redirect.missing: {
        "holds": at(journey(HTTP, HTTPS)),
        "gap": at(journey(HTTP)),
        "password-asked-for": at(journey(hop(HTTP, 401))),
        "plain-to-plain": at(journey(HTTP, HTTP_APEX)),
        "unknown": at(unseen(HTTP)),
        "mixed-is-partial": at(journey(HTTP), journey(f"{HTTP}a", f"{HTTPS}a")),
        "closed-is-another-rule": at(stopped(HTTP, StopCause.NO_CONNECTION)),
        "error-page-is-another-rule": at(journey(hop(HTTP, 404))),
        "https-is-left-alone": at(journey(HTTPS)),
        "absent-page-counts-not": at(journey(HTTP, HTTPS), ABSENT),
    },
    redirect.partial: {
        "gap": at(journey(HTTP, HTTPS), journey(f"{HTTP}login")),
        "holds": at(journey(HTTP, HTTPS), journey(f"{HTTP}a", f"{HTTPS}a")),
        "unknown": at(journey(HTTP, HTTPS), unseen(f"{HTTP}a")),
        "none-redirected-is-missing": at(journey(HTTP), journey(f"{HTTP}a")),
        "one-path-tells-nothing": at(journey(HTTP, HTTPS)),
    },
    redirect.temporary: {
        "holds": at(moved(301, HTTP, HTTPS)),
        "308-holds": at(moved(308, HTTP, HTTPS)),
        "gap": at(moved(307, HTTP, HTTPS)),
        "to-the-canonical-host": at(moved(302, HTTPS_APEX, HTTPS)),
        "within-one-host-is-left-alone": at(moved(302, HTTPS, f"{HTTPS}login")),
        "loop-is-another-rule": at(journey(hop(HTTP, 302, ("Location", HTTPS)), hop(HTTPS, 302), end=LOOP)),
    },
    redirect.downgrade: {
        "holds": at(journey(HTTP, HTTPS)),
        "gap": at(journey(HTTPS, f"http://{OTHER}/")),
        "never-https-is-left-alone": at(journey(HTTP)),
        "loop-is-another-rule": at(journey(hop(HTTPS, 302), hop(HTTP, 302), end=LOOP)),
    },
    redirect_ends.loop: {
        "alike-from-every-way-in": at(THERE, BACK),
        "an-origin-that-asks-for-https-again": at(ROUND, origins=(ASKS_AGAIN,)),
        "an-origin-beside-another-circle": at(THERE, BACK, origins=(ASKS_AGAIN,)),
        "holds": at(journey(HTTP, HTTPS)),
        "unknown": at(unseen(HTTP)),
        "endless": at(ENDLESS),
        "no-answer-is-another-rule": at(stopped(HTTP, StopCause.NO_CONNECTION)),
    },
    redirect.wrong_place: {
        "holds": at(journey(HTTP_APEX, HTTPS)),
        "gap": at(journey(HTTP_APEX, HTTPS_APEX)),
        "another-service-keeps-its-visitors": at(journey(f"http://{OTHER}/", f"https://{OTHER}/")),
        "plain-http-is-another-rule": at(journey(HTTP)),
        "error-is-another-rule": at(journey(hop(HTTPS_APEX, 404))),
    },
    redirect.drops_path: {
        "holds": at(journey(HTTP + DEEP, HTTPS + DEEP)),
        "prefix-added": at(journey(HTTP + DEEP, HTTPS + "en/" + DEEP)),
        "path-and-query-lost": at(journey(HTTP + DEEP, HTTPS)),
        "query-lost": at(journey(HTTP + DEEP, HTTPS + "timetable")),
        "home-page-is-left-alone": at(journey(HTTP, HTTPS)),
        "within-one-origin-is-left-alone": at(journey(HTTPS + DEEP, HTTPS)),
    },
    redirect_ends.broken_target: {
        "holds": at(journey(HTTPS)),
        "closed-to-strangers": at(journey(hop(HTTPS, 403))),
        "error-without-a-redirect": at(journey(hop(HTTPS, 404))),
        "error-behind-a-redirect": at(journey(HTTP, hop(HTTPS, 404))),
        "bad-location": ended(HTTPS, StopCause.BAD_LOCATION, "no http", "file:///x"),
        "no-http": at(stopped(HTTPS, StopCause.NO_ANSWER, "the answer is no HTTP")),
        "first-hop-without-connection-is-reach": at(stopped(HTTPS, StopCause.NO_CONNECTION)),
        "so-is-a-later-one": ended(HTTPS, StopCause.NO_CONNECTION, "refused", start=HTTP),
        "a-foreign-host-is-not": ended("https://y.example/", StopCause.NO_CONNECTION, "refused", start=HTTP),
        "unseen": at(journey(hop(HTTP, 301), end=Unseen("late"))),
        "absent-page-counts-not": at(ABSENT),
    },
    (redirect.by_page, redirect.missing): {
        "redirected": at(journey(HTTP, HTTPS)),
        "page-that-moves-on": at_page(MOVING),
        "page-that-moves-within-http": at_page(STAYING),
    },
    redirect.plain_hop: {
        "holds": at(journey(HTTP, HTTPS)),
        "gap": at(journey(HTTP_APEX, HTTP, HTTPS)),
        "never-https-is-missing": at(journey(HTTP)),
    },
    redirect.host_before_https: {
        "holds": at(journey(HTTP_APEX, HTTPS_APEX, HTTPS)),
        "gap": at(journey(HTTP_APEX, HTTPS)),
        "https-is-left-alone": at(journey(HTTPS)),
    },
    redirect.many_hops: {
        "holds-at-the-limit": at(journey(*(f"{HTTPS}{n}" for n in range(3)))),
        "gap": at(journey(*(f"{HTTPS}{n}" for n in range(4)))),
        "the-limit-is-an-expectation": at(
            journey(*(f"{HTTPS}{n}" for n in range(4))), expectations=Expectations(maximum_redirects=9)
        ),
        "unseen": at(unseen(HTTP)),
    },
    redirect_ends.through_bad_certificate: {
        "holds": through(leaf(), hop(HTTPS, 301), hop(HTTPS_APEX)),
        "gap": through(EXPIRED, hop(HTTPS, 301, issued=EXPIRED), hop(HTTPS_APEX)),
        "the-last-is-another-rule": through(EXPIRED, hop(HTTP, 301), hop(HTTPS, issued=EXPIRED)),
    },
    redirect.reflects_host: {
        "holds": probed(Seen(hop(HTTP, 301, ("Location", HTTPS)))),
        "gap": probed(Seen(hop(HTTP, 301, ("Location", f"https://{UNKNOWN_HOST}/")))),
        "unknown": probed(Unseen("closed")),
    },
    reach.unknown_host: {
        "gap": probed(Seen(hop(HTTP, 200, page=HOME.sha256)), journey(hop(HTTP, page=HOME.sha256)), **HOME_SHOWN),
        "404-holds": probed(Seen(hop(HTTP, 404, page=HOME.sha256)), journey(hop(HTTP, page=HOME.sha256)), **HOME_SHOWN),
        "another-page-holds": probed(Seen(hop(HTTP, 200)), journey(hop(HTTP, page=HOME.sha256)), **HOME_SHOWN),
        "unknown": probed(Unseen("closed"), journey(hop(HTTP, page=HOME.sha256)), **HOME_SHOWN),
    },
    redirect_ends.off_site: {
        "holds": at(journey(HTTP, HTTPS_APEX)),
        "gap": at(journey(HTTP, "https://shop.other.example/")),
        "not-landed": at(unseen(HTTP)),
    },
    redirect.no_canonical: {
        "gap": at(*TWO_HOMES, pages=(ONE, APEX_TOO)),
        "claimed": at(*TWO_HOMES, pages=(page(HTTPS, statements=CLAIM), page(HTTPS_APEX, statements=CLAIM))),
        "moved": at(TWO_HOMES[0], journey(HTTPS_APEX, hop(HTTPS, page=ONE.sha256)), pages=(ONE,)),
    },
    redirect.rewritten_method: {
        "gap": form(301, True),
        "308-keeps-the-method": form(308, True),
        "get-form-is-left-alone": form(301, False),
    },
}


@table(CASES)
def test_rule(told, rule, looked):
    told(outcomes(rule, looked))
