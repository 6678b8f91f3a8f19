"""Where does each way in land?"""

from collections.abc import Iterator

from pewter.evidence import Hop, Journey, Landed, StopCause, Stopped, Unseen
from pewter.web.redirects import PERMANENT
from pewter.web.urls import Url, read_url

from .case import Case, landing_of
from .outcomes import Gap, Holds, Level, RuleOutcome, Unknown
from .rules import rule

_LOGIN_WALLS = frozenset({401, 403})
"""Answers that keep strangers out on purpose."""


_CIRCLES = frozenset({StopCause.LOOP, StopCause.TOO_MANY_HOPS})


def _asks_to_log_in(status: int) -> bool:
    return status in _LOGIN_WALLS


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
    return True if last.status < 400 or _asks_to_log_in(last.status) else None


def _plain_ways_in(case: Case) -> Iterator[tuple[str, list[tuple[Journey, Url, bool | None]]]]:
    """Each name with its http ways in."""
    ways = [(journey, start, _stays_plain(journey)) for journey, start in case.ways_in("http")]
    for name in dict.fromkeys(start.host for _, start, _ in ways):
        yield name, [way for way in ways if way[1].host == name]


@rule("redirect/missing", level=Level.EXPOSES, sources=("RFC 6797 section 7.2", "RFC 9110 section 15.4"))
def missing(case: Case) -> Iterator[RuleOutcome]:
    """No http way in of a name may be answered with content; redirect/partial speaks where only some are."""
    for _, ways in _plain_ways_in(case):
        mixed = {False, True} <= {stays for _, _, stays in ways}
        for journey, _, stays in ways:
            where = case.place_of_way_in(journey)
            if stays is None and isinstance(journey.end, Unseen):
                yield Unknown(where, journey.end.reason)
            elif stays and not mixed:
                yield Gap(where, f"{journey.hops[-1].status} over plain http", "a redirect to https")
            elif stays is False and journey.hops:
                yield Holds(where, "leaves plain http")


@rule("redirect/partial", level=Level.EXPOSES, sources=("RFC 6797 section 7.2",))
def partial(case: Case) -> Iterator[RuleOutcome]:
    """A name that redirects some of its pages has to redirect them all."""
    for name, ways in _plain_ways_in(case):
        seen = [
            (case.place_of_way_in(journey).removeprefix(start.origin), stays)
            for journey, start, stays in ways
            if stays is not None
        ]
        unseen = [journey.end for journey, _, _ in ways if isinstance(journey.end, Unseen)]
        plain = list(dict.fromkeys(target for target, stays in seen if stays))
        moved = list(dict.fromkeys(target for target, stays in seen if not stays))
        if plain and moved:
            yield Gap(
                name,
                f"answered in plain http: {', '.join(plain)}; redirected to https: {', '.join(moved)}",
                "every path redirected to https",
            )
        elif unseen and len(moved) > 0:
            yield Unknown(name, unseen[0].reason)
        elif len(moved) > 1:
            yield Holds(name, f"{len(moved)} paths redirected")


@rule("redirect/temporary", level=Level.WEAKENS, sources=("RFC 9110 sections 15.4.2, 15.4.3 and 15.4.8",))
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
        if isinstance(journey.end, Stopped) and journey.end.cause in _CIRCLES:
            continue
        for hop, here, there in passing:
            seen = f"{hop.status} from {here.origin} to {there.origin}"
            yield Gap(where, seen, "301 or 308", cause=f"temporary at {here.host}")
        if moves and not passing:
            yield Holds(where, ", ".join(str(hop.status) for hop, _, _ in moves))


@rule("redirect/downgrade", level=Level.EXPOSES, sources=("RFC 9110 section 17.9", "RFC 6797 section 7.2"))
def downgrade(case: Case) -> Iterator[RuleOutcome]:
    """No https address may lead back to http; redirect/loop speaks where that goes round in circles."""
    for journey, _ in case.ways_in():
        where = case.place_of_way_in(journey)
        if isinstance(journey.end, Stopped) and journey.end.cause in _CIRCLES:
            continue
        downward = [(hop, here, there) for hop, here, there in _moves(journey) if here.is_https and not there.is_https]
        if downward:
            hop, here, there = downward[0]
            cause = f"{here.origin} to {there.origin}"
            yield Gap(where, f"{hop.status} from {here} to {there}", "https all the way", cause=cause)
        elif any(read_url(hop.url).is_https for hop in journey.hops):
            yield Holds(where, "https to the end")


@rule("redirect/loop", level=Level.BREAKS, sources=("RFC 9110 section 15.4",))
def loop(case: Case) -> Iterator[RuleOutcome]:
    """A journey has to end."""
    for journey, start in case.ways_in():
        where = case.place_of_way_in(journey)
        if isinstance(journey.end, Unseen):
            yield Unknown(where, journey.end.reason)
        elif isinstance(journey.end, Stopped) and journey.end.cause in _CIRCLES:
            circle = _circle(journey, journey.end.at)
            seen = " → ".join([*circle[:4], "…" if len(circle) > 4 else circle[0]])
            schemes = {read_url(url).scheme for url in circle}
            detail = ""
            if len(schemes) == 2:
                detail = (
                    "A circle between https and http is the mark of a proxy that ends TLS and talks plain HTTP to an "
                    "origin server which does not know it: the origin asks for https again and again."
                )
            yield Gap(where, seen, "a page", cause=f"circle at {start.host}", detail=detail)
        elif journey.hops:
            yield Holds(where, f"{len(journey.hops)} hop" + ("s" if len(journey.hops) > 1 else ""))


def _circle(journey: Journey, again: str) -> list[str]:
    """The URLs that come round, from the first in the alphabet, so that one circle reads alike from every way in."""
    urls = [hop.url for hop in journey.hops]
    circle = urls[urls.index(again) :] if again in urls else urls
    first = circle.index(min(circle))
    return circle[first:] + circle[:first]


@rule("redirect/wrong-place", level=Level.WEAKENS, sources=("RFC 6596 section 3",))
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
            wanted = " or ".join(f"https://{host}" for host in dict.fromkeys(expected))
            yield Gap(where, f"lands on {landing}", wanted, cause=f"{start.host} lands on {landing.origin}")


@rule("redirect/drops-path", level=Level.WEAKENS, sources=("RFC 9110 section 15.4",))
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
            yield Gap(where, f"{here} leads to {there}", f"{there.origin}{here.target}", cause=f"{here.origin} drops")
        else:
            yield Holds(where, "path and query kept")


def _loses(here: Url, there: Url) -> bool:
    if here.path != "/" and there.path == "/":
        return True
    return here.query is not None and here.query not in (there.query or "")


@rule("redirect/broken-target", level=Level.BREAKS, sources=("RFC 9110 sections 10.2.2 and 15.5",))
def broken_target(case: Case) -> Iterator[RuleOutcome]:
    """What a way in leads to has to be a page."""
    for journey, start in case.ways_in():
        where = case.place_of_way_in(journey)
        match journey.end:
            case Stopped(cause=StopCause.LOOP | StopCause.TOO_MANY_HOPS) | Unseen():
                continue
            case Stopped(cause=StopCause.NO_ADDRESS | StopCause.NO_CONNECTION | StopCause.NO_TLS) if not journey.hops:
                continue  # reach speaks of these
            case Stopped(at=at, detail=detail):
                yield Gap(where, f"{at}: {detail}", "a page", cause=f"{start.host}: {detail}")
            case Landed():
                status = journey.hops[-1].status
                if status >= 400 and not _asks_to_log_in(status):
                    yield Gap(where, f"{status} at {journey.hops[-1].url}", "a page", cause=f"{status} {start.host}")
                else:
                    yield Holds(where, str(status))


RULES = (missing, partial, temporary, downgrade, loop, wrong_place, drops_path, broken_target)
