"""Where does a way in end, and can its visitors get there?"""

from collections.abc import Iterator

from pewter.evidence import Hop, Journey, Landed, StopCause, Stopped, Unseen
from pewter.facts.browsers import Browser, demands_certificate, takes_hello_of, why_hello_refused
from pewter.facts.case import Case, accepted_versions, landing_of
from pewter.facts.legs import circle_of, origin_legs
from pewter.facts.visits import LOGIN_WALLS, certificate_prediction, why_no_page
from pewter.judge.nature import OF_REDIRECTS, GoesBy, MendedBy, Safety
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.phrases import counted
from pewter.tls import Version
from pewter.web.suffixes import registrable_domain
from pewter.web.urls import Url, https_origin, in_url, read_url

from .reach import CERTIFICATE_STATUSES

CIRCLES = frozenset({StopCause.LOOP, StopCause.TOO_MANY_HOPS})
"""Ends of a way in that has none."""


def of_origin(case: Case, hosts: list[str]) -> str:
    """Whether an origin that was looked at is the cause."""
    for leg in origin_legs(case):
        if leg.goes_round and leg.origin.name in hosts:
            return (
                f"The origin {leg.origin.address} asks for https again, since the edge speaks plain HTTP to it. Set "
                "the edge to connect by https, with a certificate at the origin; or have the origin trust the edge's "
                "X-Forwarded-Proto."
            )
    return ""


@rule(
    "redirect/loop",
    level=Level.BREAKS,
    sources=("RFC 9110 section 15.4",),
    nature=OF_REDIRECTS.but(safety=Safety.CIRCLES, mended_by=MendedBy.BOTH, goes_by=frozenset({GoesBy.ORIGIN})),
)
def loop(case: Case) -> Iterator[RuleOutcome]:
    """A journey has to end."""
    for journey, start in case.ways_in():
        where = case.place_of_way_in(journey)
        if isinstance(journey.end, Unseen):
            yield Unknown(where, journey.end.reason)
        elif isinstance(journey.end, Stopped) and journey.end.cause in CIRCLES:
            if journey.by_address is not None and _is_behind_a_warning(case, journey):
                continue  # redirect/through-bad-certificate speaks of it: at that address nobody goes round
            if journey.end.cause is StopCause.TOO_MANY_HOPS:
                urls = [hop.url for hop in journey.hops]
                seen = f"{len(urls)} redirects and no page: {' → '.join([*urls[:3], '…', urls[-1]])}"
                mend = "Let each redirect lead to where the visitor should land, in at most two steps."
                yield Gap(where, seen, "a page within 20 redirects", cause=f"many at {start.host}", mend=mend)
                continue
            circle = _circle(journey, journey.end.at)
            seen = " → ".join([*circle[:4], "…" if len(circle) > 4 else circle[0]])
            hosts = sorted({read_url(url).host for url in circle})
            plain = "" if any(url.startswith("https:") for url in circle) else "plain "
            yield Gap(
                where,
                seen,
                "a page",
                cause=f"{plain}circle of {', '.join(hosts)}",
                mend=of_origin(case, hosts) or _why_it_comes_round(circle),
                host=start.host if start.host in hosts else hosts[0],
            )
        elif journey.hops:
            yield Holds(where, counted(len(journey.hops), "hop"))


def _is_behind_a_warning(case: Case, journey: Journey) -> bool:
    """Whether a browser stops at the certificate of a hop."""
    secure = (hop for hop in journey.hops if hop.certificate is not None)
    return any(certificate_prediction(case, hop)[0] is not None for hop in secure)


def _why_it_comes_round(circle: list[str]) -> str:
    """The cause, by what was seen, and where to look for it."""
    urls = [read_url(url) for url in circle]
    schemes, hosts = {url.scheme for url in urls}, sorted({url.host for url in urls})
    host = in_url(hosts[0])
    if len(hosts) > 1:
        return (
            f"Two redirects disagree: each of {' and '.join(hosts[:3])} sends its visitors to the other. Decide which "
            "host is the canonical one, and take the redirect out of that one."
        )
    if len(schemes) == 2:
        return (
            f"http://{host} leads to https, and https://{host} leads back to http. Leave the first as it is. "
            "The way back is mostly a site address that says http:// in the application's settings, or a rule for "
            "single pages: take it out."
        )
    if schemes == {"https"}:
        return (
            f"https://{host} asks for https again. Mostly a proxy or CDN before it ends TLS and talks plain HTTP "
            "to the origin, which knows nothing of it: pass X-Forwarded-Proto and have the origin believe it, or have "
            "the proxy talk https to the origin. Where cookies decide, see that the cookie that is set comes back."
        )
    return f"http://{host} leads to itself. Let it lead to https on the same host, and nothing else."


def _circle(journey: Journey, again: str) -> list[str]:
    """The URLs that come round, from the first in the alphabet, so that one circle reads alike from every way in."""
    circle = circle_of(journey, again)
    first = circle.index(min(circle))
    return circle[first:] + circle[:first]


@rule("redirect/broken-target", level=Level.BREAKS, sources=("RFC 9110 sections 10.2.2 and 15.5",), nature=OF_REDIRECTS)
def broken_target(case: Case) -> Iterator[RuleOutcome]:
    """What a way in leads to has to be a page."""
    for journey, start in case.ways_in():
        where = case.place_of_way_in(journey)
        match journey.end:
            case Stopped(cause=StopCause.LOOP | StopCause.TOO_MANY_HOPS) | Unseen():
                continue
            case Stopped(at=at, cause=cause) if cause in _OF_REACH and read_url(at).host in case.site_names:
                if not _is_answered_otherwise(case, journey, at):
                    continue  # reach speaks of these
                yield Gap(where, f"{at}: {journey.end.detail}", "a page", cause=f"{start.host}: {journey.end.detail}")
            case Stopped(at=at, detail=detail, location=location):
                sent = f" (Location: {location[:100]})" if location is not None else ""
                yield Gap(where, f"{at}: {detail}{sent}", "a page", cause=f"{start.host}: {detail}")
            case Landed():
                last = journey.hops[-1]
                why = {browser: words for browser in Browser if (words := why_no_page(journey, browser))}
                if last.body_fault:
                    yield Gap(where, f"{last.url}: {last.body_fault}", "a body that unpacks", cause=last.body_fault)
                elif why:
                    only = f" ({next(iter(why)).value} shows nothing)" if len(why) == 1 else ""
                    words = f"{last.url}: {next(iter(why.values()))}{only}"
                    yield Gap(where, words, "a page", cause=f"{start.host}: {words}")
                elif last.status >= 400 and last.status not in LOGIN_WALLS:
                    if not _is_for_want_of_certificate(case, last):
                        mend = _NO_REDIRECT_HERE if len(journey.hops) == 1 else ""
                        if len(journey.hops) == 1 and _opens_over_https(case, start):
                            mend = _MISSING_HERE
                        one = f"{last.status} {start.host} {len(journey.hops) == 1}"
                        yield Gap(where, f"{last.status} at {last.url}", "a page", cause=one, mend=mend)
                else:
                    yield Holds(where, str(last.status))


def _is_answered_otherwise(case: Case, journey: Journey, at: str) -> bool:
    """Whether hellos are taken where the request got no connection, so that no rule on reach speaks of it."""
    url = read_url(at)
    endpoints = [
        each
        for each in case.endpoints_of(url.host)
        if each.port == url.port and journey.by_address in {None, each.address}
    ]
    if not url.is_https or not endpoints or not all(each.handshakes for each in endpoints):
        return False
    if any(map(demands_certificate, endpoints)) or any(why_hello_refused(each, Browser.CHROMIUM) for each in endpoints):
        return False  # reach/client-certificate and protocol/nothing-in-common do
    if any(takes_hello_of(each, Browser.CHROMIUM) for each in endpoints):
        # Where no request was ever answered, reach/refuses-hello does.
        addresses = {each.address for each in endpoints}
        return any(hop.address in addresses for hop in case.https_answers(url.host))
    return all(max(accepted_versions(each), default=0) >= Version.TLS_1_2 for each in endpoints)


_OF_REACH = frozenset({StopCause.NO_ADDRESS, StopCause.NO_CONNECTION, StopCause.NO_TLS})
_NO_REDIRECT_HERE = "Bring the page back, or correct the links that lead to it; no redirect is involved."


_MISSING_HERE = (
    "Over https the page is there: what is missing is the redirect. Answer every http request with a permanent "
    "redirect to https on the same host, path and query kept."
)


def _opens_over_https(case: Case, start: Url) -> bool:
    """Whether the same page is shown over https."""
    wanted = f"{https_origin(start.host)}{start.target}"
    return not start.is_https and any(
        isinstance(journey.end, Landed) and bool(journey.hops) and journey.hops[-1].status < 400
        for journey, url in case.ways_in("https")
        if str(url) == wanted
    )


def _is_for_want_of_certificate(case: Case, last: Hop) -> bool:
    """reach/client-certificate speaks of it."""
    endpoints = case.endpoints_of(read_url(last.url).host)
    return last.status in CERTIFICATE_STATUSES and any(map(demands_certificate, endpoints))


@rule("redirect/through-bad-certificate", level=Level.BREAKS, sources=("RFC 9110 section 4.3.4",), nature=OF_REDIRECTS)
def through_bad_certificate(case: Case) -> Iterator[RuleOutcome]:
    """A redirect from a host whose certificate a browser rejects is never seen."""
    for journey, _ in case.ways_in():
        redirecting = [hop for hop in journey.hops[:-1] if hop.certificate is not None]
        if not redirecting:
            continue
        where = case.place_of_way_in(journey)
        met = [(hop, *certificate_prediction(case, hop)) for hop in redirecting]
        bad = [(hop, prediction, words) for hop, prediction, words in met if prediction is not None]
        if bad:
            hop, prediction, words = bad[0]
            host = read_url(hop.url).host
            what = prediction.value if prediction.value.startswith("warning") else f"failure: {prediction.value}"
            seen = f"{hop.status} from {hop.url} behind a {what} ({words})"
            yield Gap(where, seen, f"a valid certificate at {host}", cause=f"{host} {words}", host=host)
        else:
            yield Holds(where, "valid certificates on the way")


@rule("redirect/lands-behind-warning", level=Level.BREAKS, sources=("RFC 9110 section 4.3.4",), nature=OF_REDIRECTS)
def lands_behind_warning(case: Case) -> Iterator[RuleOutcome]:
    """Where it lands on a host that is no name of the site; of the site's own, chain, name and date speak."""
    for journey, _ in case.ways_in():
        last = journey.hops[-1] if journey.hops and isinstance(journey.end, Landed) else None
        if last is None or last.certificate is None or read_url(last.url).host in case.site_names:
            continue
        where, host = case.place_of_way_in(journey), read_url(last.url).host
        prediction, words = certificate_prediction(case, last)
        if prediction is not None:
            seen = f"lands on {last.url}: {prediction.value} ({words})"
            yield Gap(
                where, seen, f"a valid certificate at {host}, or another landing", cause=f"{host} {words}", host=host
            )
        else:
            yield Holds(where, f"{host} has a valid certificate")


@rule("redirect/off-site", level=Level.NOTE, sources=("RFC 9110 section 15.4",), nature=OF_REDIRECTS)
def off_site(case: Case) -> Iterator[RuleOutcome]:
    """A way in that leaves the site's registrable domain hands its visitors over."""
    for journey, start in case.ways_in():
        landing = landing_of(journey)
        if landing is None:
            continue
        where = case.place_of_way_in(journey)
        if landing.host != start.host and registrable_domain(landing.host) != registrable_domain(start.host):
            yield Gap(where, f"lands on {landing.origin}", f"a landing within {start.host}", cause=landing.origin)
        else:
            yield Holds(where, "stays within the site")
