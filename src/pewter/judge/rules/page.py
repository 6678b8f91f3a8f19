"""What the page says once it is there."""

from collections.abc import Iterator, Sequence

from pewter.evidence import Hop, Landed, Page, Reference, StatementKind, Step, Unseen, Use, WayIn
from pewter.facts.blocked_parts import parts_by_treatment, parts_unseen, upgrades_requests
from pewter.facts.case import Case
from pewter.judge.nature import OF_PLACES, GoesBy, Matter, MendedBy
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.phrases import counted, shortened
from pewter.places import of_name
from pewter.web.debug_pages import ON_ANY_PAGE, versions_in_field
from pewter.web.mixed_content import Treatment
from pewter.web.urls import InvalidUrl, https_origin, place_of, read_url

_SHOWN = 4


def _secure_pages(case: Case) -> Iterator[tuple[Hop, Page]]:
    for journey, hop, page in case.shown_pages():
        if hop.is_https and journey.reason is not WayIn.ABSENT:
            yield hop, page


def _unseen(case: Case) -> Iterator[Unknown]:
    """Home pages over https that were not reached in time."""
    for journey, start in case.ways_in("https"):
        if start.path == "/" and isinstance(journey.end, Unseen):
            yield Unknown(case.place_of_way_in(journey), journey.end.reason)


def _listing(url: str, found: Sequence[str], expected: str, cause: str = "", about: str = "") -> Gap:
    """A gap of several pieces."""
    parts = shortened(found, _SHOWN)
    return Gap(place_of(url), "; ".join(parts), expected, cause=cause, parts=parts, about=about)


def _by_fault(found: Sequence[tuple[Hop, Sequence[Reference]]], expected: str, good: str) -> Iterator[RuleOutcome]:
    """One gap a page, or two: what several pages have in common is one fault of their template, and one entry."""
    on: dict[Reference, list[str]] = {}
    for hop, references in found:
        for reference in references:
            on.setdefault(reference, []).append(hop.url)
    for hop, references in found:
        if not references:
            yield Holds(place_of(hop.url), good)
        shared: dict[tuple[str, ...], list[Reference]] = {}
        for reference in references:
            shared.setdefault(tuple(sorted(set(on[reference]))), []).append(reference)
        for parts in shared.values():
            words = [f"{each.use.value} {each.url} ({each.place})" for each in parts]
            yield _listing(hop.url, words, expected, about=parts[0].url)


def _with_treatment(case: Case, treatments: frozenset[Treatment], expected: str) -> Iterator[RuleOutcome]:
    found = [
        (hop, [each for treatment in Treatment if treatment in treatments for each in parts[treatment]])
        for hop, page in _secure_pages(case)
        for parts in [parts_by_treatment(case, hop, page)]
    ]
    words = " or ".join(treatment.value for treatment in Treatment if treatment in treatments)
    yield from _by_fault(found, expected, f"no part is {words}")
    yield from _unseen(case)


@rule(
    "page/blocked-content",
    level=Level.BREAKS,
    sources=("W3C Mixed Content section 4", "W3C Mixed Content section 3.2"),
    nature=OF_PLACES.but(matter=Matter.OWN_ADDRESS),
)
def blocked_content(case: Case) -> Iterator[RuleOutcome]:
    """Scripts, styles, frames, fonts and fetches over http are blocked in an https page."""
    in_doubt = {
        place_of(hop.url): f"whether {part.url} is redirected to http: {part.why_unseen}"
        for hop, page in _secure_pages(case)
        for part in parts_unseen(case, page)
    }
    for each in _with_treatment(case, frozenset({Treatment.BLOCKED}), "https for all that the page fetches"):
        if isinstance(each, Holds) and each.where in in_doubt:
            yield Unknown(each.where, in_doubt[each.where])
        else:
            yield each


@rule(
    "page/upgraded-content",
    level=Level.WEAKENS,
    sources=("W3C Mixed Content section 3.1",),
    nature=OF_PLACES.but(matter=Matter.OWN_ADDRESS),
)
def upgraded_content(case: Case) -> Iterator[RuleOutcome]:
    """Images, audio and video over http are asked for over https, and are missing where that fails.

    By an IP address one browser asks for them over http, with a warning.
    """
    shown = frozenset({Treatment.UPGRADED, Treatment.WARNED})
    yield from _with_treatment(case, shown, "https for all that the page shows")


@rule(
    "page/insecure-form",
    level=Level.EXPOSES,
    sources=("HTML section 4.10.21", "W3C Mixed Content section 6.2"),
    nature=OF_PLACES.but(matter=Matter.OWN_ADDRESS),
)
def insecure_form(case: Case) -> Iterator[RuleOutcome]:
    """What is typed into a form must not leave the page unencrypted."""
    found = [
        (hop, [each for each in page.references if each.use is Use.FORM and not upgrades_requests(hop, page)])
        for hop, page in _secure_pages(case)
    ]
    yield from _by_fault(found, "https in every form's action", "no form leads to http")
    yield from _unseen(case)


@rule(
    "page/plain-links",
    level=Level.NOTE,
    sources=("RFC 6797 section 7.2",),
    nature=OF_PLACES.but(matter=Matter.OWN_ADDRESS, goes_by=frozenset({GoesBy.ALL_NAMES})),
)
def plain_links(case: Case) -> Iterator[RuleOutcome]:
    """Links to the site's own names over http cost a redirect, and a visit in the clear where HSTS is missing."""
    found = [
        (hop, [each for each in page.references if each.use is Use.LINK and _host(each.url) in case.site_names])
        for hop, page in _secure_pages(case)
    ]
    yield from _by_fault(found, "https in links to the site's own names", "no link to the site over http")


def _host(url: str) -> str:
    try:
        return read_url(url).host
    except InvalidUrl:
        return ""


@rule(
    "page/canonical-tag",
    level=Level.WEAKENS,
    sources=("RFC 6596 section 3", "HTML section 4.6.7"),
    nature=OF_PLACES.but(matter=Matter.OWN_ADDRESS, goes_by=frozenset({GoesBy.ALL_NAMES})),
)
def canonical_tag(case: Case) -> Iterator[RuleOutcome]:
    """What the page claims as its address has to be https and on a host where its visitors land."""
    shown = [page for _, page in _secure_pages(case)]
    maps = [page for page in case.evidence.pages if any(each.kind is StatementKind.SITEMAP for each in page.statements)]
    for page in (*shown, *maps):
        if not page.statements:
            continue
        hosts = case.expected_hosts(read_url(page.url).host)
        wrong = [
            f"{each.kind.value} {each.url}"
            for each in page.statements
            if each.url.startswith("http:")
            or (each.kind in _OF_THE_PAGE and _host(each.url) in case.site_names - set(hosts))
        ]
        if wrong:
            kinds = " ".join(dict.fromkeys(f"{each.kind.value} {_host(each.url)}" for each in page.statements))
            yield _listing(page.url, wrong, f"{https_origin(hosts[0])} in each", kinds)
        else:
            yield Holds(place_of(page.url), f"{len(page.statements)} statements are https")


_OF_THE_PAGE = frozenset({StatementKind.CANONICAL, StatementKind.OG_URL, StatementKind.SITEMAP})
"""Statements that have to be of a host where visitors land."""


@rule(
    "page/no-upgrade-policy", level=Level.NOTE, sources=("W3C Upgrade Insecure Requests section 3.1",), nature=OF_PLACES
)
def no_upgrade_policy(case: Case) -> Iterator[RuleOutcome]:
    """Where parts are still called over http, a policy can have browsers upgrade them all."""
    for hop, page in _secure_pages(case):
        parts = parts_by_treatment(case, hop, page)
        count = len(parts[Treatment.BLOCKED]) + len(parts[Treatment.UPGRADED]) + len(parts[Treatment.WARNED])
        if count:
            seen = f"{counted(count, 'part')} over http, no upgrade-insecure-requests"
            yield Gap(place_of(hop.url), seen, "upgrade-insecure-requests", cause="no policy")
        elif upgrades_requests(hop, page):
            yield Holds(place_of(hop.url), "upgrade-insecure-requests")


@rule("page/blank", level=Level.WEAKENS, sources=("RFC 9110 section 15.3.1",), nature=OF_PLACES)
def blank(case: Case) -> Iterator[RuleOutcome]:
    """A home page of no octets shows visitors nothing, and no error."""
    for journey, start in case.ways_in():
        last = journey.hops[-1] if journey.hops and isinstance(journey.end, Landed) else None
        if last is None or start.target != "/" or last.status != _OK or read_url(last.url).host not in case.site_names:
            continue
        where = case.place_of_way_in(journey)
        page = case.page_of(last)
        if page is None and last.values("Content-Length") == ("0",):
            yield Gap(where, f"200 at {last.url}, and nothing in it", "a page", cause=read_url(last.url).origin)
        elif page is not None:
            yield Holds(where, f"{page.octets} octets" + (" and more" if page.truncated else ""))


_OK = 200


@rule(
    "page/debug-output",
    level=Level.EXPOSES,
    sources=("RFC 9110 section 17.3",),
    nature=OF_PLACES.but(mended_by=MendedBy.EITHER),
)
def debug_output(case: Case) -> Iterator[RuleOutcome]:
    """Pages must not show tracebacks, settings, source or consoles.

    An ordinary page may quote a traceback: there only what is no quotation counts.
    """
    for journey, hop, page in case.shown_pages():
        is_error = hop.status >= 400 or journey.reason is WayIn.ABSENT
        signs = [each for each in page.debug_signs if is_error or each in ON_ANY_PAGE]
        if signs:
            seen = f"{hop.status}: {', '.join(signs)}"
            cause = f"{read_url(hop.url).host} {signs[0]}"
            yield Gap(place_of(hop.url), seen, "an error page without inner workings", cause=cause)
        elif hop.status >= 400:
            yield Holds(place_of(hop.url), f"{hop.status}: nothing of the kind")


@rule("page/names-version", level=Level.NOTE, sources=("RFC 9110 section 10.2.4",), nature=OF_PLACES)
def names_version(case: Case) -> Iterator[RuleOutcome]:
    """Error pages and fields that name the exact version of the server's software."""
    pages: dict[str, list[str]] = {}
    for _, hop, page in case.shown_pages():
        if hop.status >= 400:
            pages.setdefault(read_url(hop.url).host, []).extend(page.versions)
    for name in case.resolving_names:
        hops = case.hops_of(name)
        fields = [
            f"{field}: {value}"
            for hop in hops
            for field in _NAMING
            for value in hop.values(field)
            if versions_in_field(value)
        ]
        named = [f"its error page says {version}" for version in pages.get(name, ())]
        found = list(dict.fromkeys((*fields, *named)))
        if found:
            yield Gap(of_name(name), "; ".join(found[:_SHOWN]), "the product's name at most", cause="; ".join(found))
        elif hops:
            yield Holds(of_name(name), "no exact version is named")


_NAMING = ("Server", "X-Powered-By", "X-AspNet-Version", "X-AspNetMvc-Version")


STEPS: tuple[Step, ...] = (Step.SIBLINGS, Step.WAYS_IN, Step.ABSENT, Step.FOUND, Step.STYLE_SHEETS)
"""What has to be asked for its rules."""

RULES = (
    blocked_content,
    upgraded_content,
    insecure_form,
    plain_links,
    canonical_tag,
    no_upgrade_policy,
    blank,
    debug_output,
    names_version,
)
