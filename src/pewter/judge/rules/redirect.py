"""Where does each way in land?"""

from collections.abc import Iterator

from pewter.evidence import (
    Hop,
    Journey,
    Landed,
    Move,
    Page,
    StatementKind,
    Step,
    Stopped,
    Unseen,
    Use,
    WayIn,
)
from pewter.facts.case import Case, landing_of
from pewter.facts.visits import LOGIN_WALLS
from pewter.judge.nature import OF_REDIRECTS, GoesBy, Matter, MendedBy, Safety
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.phrases import counted
from pewter.places import of_name
from pewter.web.redirects import FOLLOWED, PERMANENT
from pewter.web.refresh import moves_of
from pewter.web.urls import Url, https_origin, in_url, place_of, place_of_host, read_url

from . import redirect_ends


def _moves(journey: Journey) -> Iterator[tuple[Hop, Url, Url]]:
    """Each redirect of the journey: the hop that sent it, from where, to where."""
    urls = [read_url(hop.url) for hop in journey.hops]
    yield from zip(journey.hops, urls, urls[1:], strict=False)


def _stays_plain(journey: Journey) -> bool | None:
    """Whether an http way in is answered with content in the clear; None where it is not answered, or with an error."""
    if isinstance(journey.end, Unseen) or not journey.hops:
        return None
    if any(read_url(hop.url).is_https for hop in journey.hops) or not isinstance(journey.end, Landed):
        return False
    last = journey.hops[-1]
    return True if last.status < 400 or last.status in LOGIN_WALLS else None


def _plain_ways_in(case: Case) -> Iterator[tuple[str, list[tuple[Journey, Url, bool | None]]]]:
    """Each name with its http ways in."""
    ways = [(journey, start, _stays_plain(journey)) for journey, start in case.ways_in("http", absent=True)]
    for name in dict.fromkeys(start.host for _, start, _ in ways):
        yield name, [way for way in ways if way[1].host == name]


@rule(
    "redirect/missing",
    level=Level.EXPOSES,
    sources=("RFC 6797 section 7.2", "RFC 9110 section 15.4"),
    nature=OF_REDIRECTS.but(safety=Safety.LEADS, mended_by=MendedBy.EITHER, goes_by=frozenset({GoesBy.PAGES})),
)
def missing(case: Case) -> Iterator[RuleOutcome]:
    """No http way in of a name may be answered with content; redirect/partial speaks where only some are."""
    for _, ways in _plain_ways_in(case):
        mixed = {False, True} <= {stays for _, _, stays in ways}
        for journey, _, stays in ways:
            if journey.reason is WayIn.ABSENT:
                continue
            where = case.place_of_way_in(journey)
            if stays is None and isinstance(journey.end, Unseen):
                yield Unknown(where, journey.end.reason)
            elif stays and not mixed and not _moves_by_page(case, journey):
                yield Gap(where, f"{journey.hops[-1].status} over plain http", "a redirect to https")
            elif stays is False and journey.hops:
                yield Holds(where, "leaves plain http")


@rule(
    "redirect/partial",
    level=Level.EXPOSES,
    sources=("RFC 6797 section 7.2",),
    nature=OF_REDIRECTS.but(safety=Safety.LEADS),
)
def partial(case: Case) -> Iterator[RuleOutcome]:
    """A name that redirects some of its pages has to redirect them all."""
    for name, ways in _plain_ways_in(case):
        seen = [
            (case.place_of_way_in(journey).text.removeprefix(start.origin), stays)
            for journey, start, stays in ways
            if stays is not None
        ]
        unseen = [journey.end for journey, _, _ in ways if isinstance(journey.end, Unseen)]
        plain = list(dict.fromkeys(target for target, stays in seen if stays))
        moved = list(dict.fromkeys(target for target, stays in seen if not stays))
        if plain and moved:
            yield Gap(
                of_name(name),
                f"answered in plain http: {', '.join(plain)}; redirected to https: {', '.join(moved)}",
                "every path redirected to https",
                check_url=f"http://{in_url(name)}{plain[0]}",
            )
        elif unseen and len(moved) > 0:
            yield Unknown(of_name(name), unseen[0].reason)
        elif len(moved) > 1:
            yield Holds(of_name(name), f"{len(moved)} paths redirected")


@rule(
    "redirect/temporary",
    level=Level.WEAKENS,
    sources=("RFC 9110 sections 15.4.2, 15.4.3 and 15.4.8",),
    nature=OF_REDIRECTS,
)
def temporary(case: Case) -> Iterator[RuleOutcome]:
    """A move to https or to the canonical host is meant for good; redirect/loop speaks where it goes in circles."""
    canonical = read_url(case.canonical)
    for journey, _ in case.ways_in():
        moves = [
            (hop, here, there)
            for hop, here, there in _moves(journey)
            if (not here.is_https and there.is_https) or (there.host == canonical.host != here.host)
        ]
        passing = [(hop, here, there) for hop, here, there in moves if hop.status not in PERMANENT]
        where = case.place_of_way_in(journey)
        if isinstance(journey.end, Stopped) and journey.end.cause in redirect_ends.CIRCLES:
            continue
        for hop, here, there in passing:
            seen = f"{hop.status} from {here.origin} to {there.origin}"
            about = f"{here.origin} to {there.origin}"
            yield Gap(
                where,
                seen,
                "301 or 308",
                cause=f"temporary at {here.origin}",
                host=here.host,
                about=about,
                check_url=str(here),
            )
        if moves and not passing:
            yield Holds(where, ", ".join(str(hop.status) for hop, _, _ in moves))


@rule(
    "redirect/downgrade",
    level=Level.EXPOSES,
    sources=("RFC 9110 section 17.9", "RFC 6797 section 7.2"),
    nature=OF_REDIRECTS.but(
        safety=Safety.LEADS_BACK, mended_by=MendedBy.BOTH, matter=Matter.OWN_ADDRESS, goes_by=frozenset({GoesBy.PAGES})
    ),
)
def downgrade(case: Case) -> Iterator[RuleOutcome]:
    """No https address may lead back to http; redirect/loop speaks where that goes round in circles."""
    for journey, _ in case.ways_in():
        where = case.place_of_way_in(journey)
        if isinstance(journey.end, Stopped) and journey.end.cause in redirect_ends.CIRCLES:
            continue
        downward = [(hop, here, there) for hop, here, there in _moves(journey) if here.is_https and not there.is_https]
        by_page = _moved_by_page(case, journey, from_https=True)
        if downward:
            hop, here, there = downward[0]
            cause = f"{here.origin} to {there.origin}"
            seen = f"{hop.status} from {here} to {there}"
            yield Gap(where, seen, "https all the way", cause=cause, host=here.host, check_url=str(here))
        elif by_page is not None:
            last = journey.hops[-1]
            seen = f"{last.status} at {last.url}, then {by_page.how.value} to {by_page.url}"
            yield Gap(where, seen, "https all the way", cause=f"{by_page.how.value} to {read_url(by_page.url).origin}")
        elif any(read_url(hop.url).is_https for hop in journey.hops):
            yield Holds(where, "https to the end")


@rule(
    "redirect/wrong-place",
    level=Level.WEAKENS,
    sources=("RFC 6596 section 3",),
    nature=OF_REDIRECTS.but(goes_by=frozenset({GoesBy.ALL_NAMES})),
)
def wrong_place(case: Case) -> Iterator[RuleOutcome]:
    """Every way in lands on the canonical host, or on a host of the site that keeps its own visitors."""
    for journey, start in case.ways_in():
        landing = landing_of(journey)
        if landing is None or not landing.is_https or journey.hops[-1].status >= 400:
            continue  # redirect/missing, redirect/broken-target and reach speak of these
        expected = case.expected_hosts(start.host)
        where = case.place_of_way_in(journey)
        if landing.host in expected:
            yield Holds(where, f"lands on {landing.origin}")
        else:
            wanted = " or ".join(https_origin(host) for host in dict.fromkeys(expected))
            yield Gap(where, f"lands on {landing}", wanted, cause=f"{start.host} lands on {landing.origin}")


@rule("redirect/drops-path", level=Level.WEAKENS, sources=("RFC 9110 section 15.4",), nature=OF_REDIRECTS)
def drops_path(case: Case) -> Iterator[RuleOutcome]:
    """A move to another scheme or host keeps path and query."""
    for journey, start in case.ways_in():
        moves = [(here, there) for _, here, there in _moves(journey) if here.origin != there.origin]
        if start.target == "/" or not moves:
            continue
        where = case.place_of_way_in(journey)
        lost = [(here, there) for here, there in moves if _loses(here, there)]
        if lost:
            here, there = lost[0]
            expected = f"{there.origin}{here.target}"
            yield Gap(
                where,
                f"{here} leads to {there}",
                expected,
                cause=f"{here.origin} drops",
                host=here.host,
                check_url=str(here),
            )
        else:
            yield Holds(where, "path and query kept")


def _loses(here: Url, there: Url) -> bool:
    if here.path != "/" and there.path == "/":
        return True
    return here.query is not None and here.query not in (there.query or "")


def _moved_by_page(case: Case, journey: Journey, *, from_https: bool) -> Move | None:
    """The move to the other scheme that the landing page makes by itself."""
    last = journey.hops[-1] if journey.hops and isinstance(journey.end, Landed) else None
    if last is None or read_url(last.url).is_https is not from_https:
        return None
    found = moves_of(last.values("Refresh"), case.page_of(last), read_url(last.url))
    wanted = "http:" if from_https else "https:"
    return next((move for move in found if move.url.startswith(wanted) and (move.certain or not from_https)), None)


def _moves_by_page(case: Case, journey: Journey) -> str:
    """The https address to which the page that was shown over http moves its visitors by itself; else empty."""
    move = _moved_by_page(case, journey, from_https=False)
    return f"{move.how.value} to {move.url}" if move is not None else ""


@rule(
    "redirect/by-page",
    level=Level.EXPOSES,
    sources=("RFC 6797 section 7.2", "RFC 9110 section 15.4"),
    nature=OF_REDIRECTS.but(safety=Safety.LEADS, goes_by=frozenset({GoesBy.PAGES})),
)
def by_page(case: Case) -> Iterator[RuleOutcome]:
    """A move that the page makes itself comes after the page was sent in the clear."""
    for journey, _ in case.ways_in("http"):
        where = case.place_of_way_in(journey)
        moved = _moves_by_page(case, journey)
        if moved:
            yield Gap(where, f"{journey.hops[-1].status} over plain http, then {moved}", "an HTTP redirect to https")
        elif _stays_plain(journey) is False:
            yield Holds(where, "leaves plain http by an HTTP redirect")


@rule(
    "redirect/plain-hop",
    level=Level.EXPOSES,
    sources=("RFC 6797 section 7.2",),
    nature=OF_REDIRECTS.but(safety=Safety.LEADS),
)
def plain_hop(case: Case) -> Iterator[RuleOutcome]:
    """Each further hop over http, before the first over https, is one more that can be caught."""
    for journey, _ in case.ways_in("http"):
        moves = list(_moves(journey))
        if not any(there.is_https for _, _, there in moves):
            continue
        where = case.place_of_way_in(journey)
        plain = [(here, there) for _, here, there in moves if not here.is_https and not there.is_https]
        if plain:
            here, there = plain[0]
            yield Gap(where, f"{here} to {there}", "https at once", cause=f"{here.origin} to {there.origin}")
        else:
            yield Holds(where, "https at once")


@rule(
    "redirect/host-before-https",
    level=Level.WEAKENS,
    sources=("RFC 6797 section 7.2",),
    nature=OF_REDIRECTS.but(safety=Safety.LEADS),
)
def host_before_https(case: Case) -> Iterator[RuleOutcome]:
    """A host that sends its http visitors straight to another host's https can never set HSTS for itself."""
    for journey, _ in case.ways_in("http"):
        where = case.place_of_way_in(journey)
        crossing = [(here, there) for _, here, there in _moves(journey) if not here.is_https and there.is_https]
        if not crossing:
            continue
        here, there = crossing[0]
        if here.host != there.host:
            seen = f"{here.origin} to {there.origin}"
            yield Gap(where, seen, f"{https_origin(here.host)} first", cause=seen)
        else:
            yield Holds(where, f"{https_origin(here.host)} first")


@rule("redirect/many-hops", level=Level.WEAKENS, sources=("Pewter's baseline: maximum_redirects",), nature=OF_REDIRECTS)
def many_hops(case: Case) -> Iterator[RuleOutcome]:
    """Every redirect costs a visitor one or more round trips."""
    most = case.expect.maximum_redirects
    for journey, start in case.ways_in():
        if not isinstance(journey.end, Landed):
            continue
        where, count = case.place_of_way_in(journey), len(journey.hops) - 1
        if count > most:
            seen = f"{count} redirects: " + " → ".join(hop.url for hop in journey.hops[:6])
            yield Gap(where, seen, f"at most {most}", cause=f"{count} from {start.origin}")
        else:
            yield Holds(where, counted(count, "redirect"))


@rule(
    "redirect/reflects-host",
    level=Level.EXPOSES,
    sources=("RFC 9110 section 7.2",),
    nature=OF_REDIRECTS.but(goes_by=frozenset({GoesBy.UNKNOWN_HOST})),
)
def reflects_host(case: Case) -> Iterator[RuleOutcome]:
    """A Location built from whatever Host came lets a poisoned cache or link send visitors anywhere."""
    for probe in case.evidence.host_probes:
        where = place_of_host(probe.scheme, probe.name)
        if isinstance(probe.answer, Unseen):
            words = probe.answer.reason
            yield Holds(where, f"refused: {words}") if probe.is_refused else Unknown(where, words)
            continue
        locations = probe.answer.value.values("Location")
        if any(probe.asked in location for location in locations):
            seen = f"Host: {probe.asked} gave Location: {locations[0][:200]}"
            yield Gap(where, seen, "no redirect to a host that is not the site's", cause="Host is reflected")
        else:
            yield Holds(where, "Host is not reflected")


@rule(
    "redirect/no-canonical",
    level=Level.WEAKENS,
    sources=("RFC 6596 section 3",),
    nature=OF_REDIRECTS.but(goes_by=frozenset({GoesBy.PAGES})),
)
def no_canonical(case: Case) -> Iterator[RuleOutcome]:
    """Two names with one content split cookies, links and search results, where none leads to the other."""
    shown: dict[str, dict[str, Page]] = {}
    for journey, start in case.ways_in("https"):
        landing = landing_of(journey)
        page = case.page_of(journey.hops[-1]) if landing is not None else None
        if start.target == "/" and landing is not None and landing.host == start.host and page is not None:
            shown.setdefault(page.sha256, {})[start.host] = page
    canonical = read_url(case.canonical).host
    for by_host in shown.values():
        hosts = sorted(by_host, key=lambda host: (host == canonical, host))
        claims = {
            each.url for page in by_host.values() for each in page.statements if each.kind is StatementKind.CANONICAL
        }
        if len(hosts) > 1 and len(claims) != 1:
            seen = f"the same page at {', '.join(sorted(hosts))}"
            others = [host for host in hosts if host != canonical] or hosts[1:]
            for host in others:
                yield Gap(of_name(host), seen, f"one of them, as {case.canonical}")
        else:
            yield Holds(of_name(hosts[0]), "one name" if len(hosts) == 1 else f"canonical: {claims.pop()}")


@rule(
    "redirect/rewritten-method",
    level=Level.NOTE,
    sources=("RFC 9110 sections 15.4.2 and 15.4.9",),
    nature=OF_REDIRECTS.but(goes_by=frozenset({GoesBy.PAGES})),
)
def rewritten_method(case: Case) -> Iterator[RuleOutcome]:
    """A form posted to an address that answers 301 or 302 arrives as a GET without what was typed."""
    targets = {
        reference.url: hop.url
        for _, hop, page in case.shown_pages()
        if hop.is_https
        for reference in page.references
        if reference.use is Use.FORM and reference.post
    }
    moved = {
        start.host: hop.status
        for journey, start in case.ways_in("http")
        for hop in journey.hops[:1]
        if hop.status in FOLLOWED
    }
    for target, page_url in targets.items():
        status = moved.get(read_url(target).host)
        if status in {301, 302, 303}:
            yield Gap(
                place_of(page_url),
                f"form posts to {target}, which answers {status}",
                "the https address, or 307 or 308",
            )
        elif status is not None:
            yield Holds(place_of(page_url), f"{status} keeps the method")


STEPS: tuple[Step, ...] = (
    Step.SIBLINGS,
    Step.WAYS_IN,
    Step.ABSENT,
    Step.FOUND,
    Step.HOSTS,
    Step.CERTIFICATES,
    Step.ISSUERS,
)
"""What has to be asked for its rules."""

RULES = (
    missing,
    partial,
    by_page,
    temporary,
    plain_hop,
    host_before_https,
    downgrade,
    redirect_ends.loop,
    many_hops,
    drops_path,
    wrong_place,
    redirect_ends.through_bad_certificate,
    redirect_ends.lands_behind_warning,
    reflects_host,
    redirect_ends.off_site,
    no_canonical,
    redirect_ends.broken_target,
    rewritten_method,
)
