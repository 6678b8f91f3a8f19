"""A case: evidence, terms, a date and the root stores, with what rules derive from them worked out once."""

import datetime
import functools
from collections.abc import Iterator, Sequence

import msgspec

from pewter.evidence import (
    Alert,
    DnsSeen,
    Ended,
    Endpoint,
    Evidence,
    Handshake,
    Hop,
    Journey,
    Landed,
    NoConnection,
    NotTls,
    Page,
    Redirected,
    Reply,
    Unseen,
    WayIn,
)
from pewter.expectations import Terms
from pewter.names.answers import Answers, records_of
from pewter.names.comparison import new_addresses, old_addresses
from pewter.names.spread import ttl_of
from pewter.names.zones import apex_of
from pewter.pki import Store
from pewter.places import Place, of_endpoint
from pewter.web.sites import are_siblings, work_out_canonical
from pewter.web.urls import Url, place_of, read_url

from .chains import Chains, SentChain, Sources, Trust
from .once import WorksOutOnce
from .unseen import UnseenAt


def accepted_versions(endpoint: Endpoint) -> frozenset[int]:
    """Versions that were agreed on, in a whole handshake or in a search."""
    searched = endpoint.protocol.accepted if endpoint.protocol is not None else frozenset()
    return frozenset(handshake.version for handshake in endpoint.handshakes) | searched


class Case(WorksOutOnce):
    """What every rule is given."""

    def __init__(
        self,
        evidence: Evidence,
        terms: Terms,
        at: datetime.datetime,
        stores: Sequence[Store],
        earlier: DnsSeen | None = None,
    ) -> None:
        self.evidence = evidence
        self.earlier = Answers(earlier) if earlier is not None else None
        """What name servers and resolvers answered in an earlier review."""

        self.terms = terms
        self.expect = terms.expect
        self.at = at
        """The moment for which it is judged."""

        self.own_stores = tuple(stores)
        """Those that came with the program and the machine."""

    @functools.cached_property
    def answers(self) -> Answers:
        """Of name servers and resolvers."""
        return Answers(self.evidence.dns)

    @functools.cached_property
    def site_names(self) -> frozenset[str]:
        """The names under review: declared ones and siblings that resolve."""
        return frozenset(name.name for name in self.evidence.names if name.declared or name.addresses)

    @functools.cached_property
    def resolving_names(self) -> tuple[str, ...]:
        """Those of the site's names that have an address, in the order of the alphabet."""
        return tuple(sorted(name.name for name in self.evidence.names if name.addresses))

    @functools.cached_property
    def names_in_order(self) -> tuple[str, ...]:
        """Every name of the look, as given, each with its sibling behind it."""
        return tuple(name.name for name in self.evidence.names)

    @functools.cached_property
    def _endpoints(self) -> tuple[Endpoint, ...]:
        """Every endpoint, with what was found of its front end where that was looked at by another name."""
        found = {(each.name, each.address, each.port): each.protocol for each in self.evidence.endpoints}
        shared = {
            (name, front_end.address, front_end.port): found.get((front_end.first, front_end.address, front_end.port))
            for front_end in self.evidence.front_ends
            for name in front_end.alike
        }
        return tuple(
            msgspec.structs.replace(each, protocol=protocol) if protocol is not None else each
            for each in self.evidence.endpoints
            for protocol in [shared.get((each.name, each.address, each.port))]
        )

    @functools.cached_property
    def endpoints(self) -> tuple[Endpoint, ...]:
        """The https endpoints of the site's own names."""
        return tuple(each for each in self._endpoints if each.name in self.site_names)

    def endpoints_of(self, name: str) -> tuple[Endpoint, ...]:
        return tuple(each for each in self._endpoints if each.name == name)

    def is_spot_checked(self, endpoint: Endpoint) -> bool:
        """Whether its suites and groups were found by another name, and held against it by spot checks."""
        return any(
            (each.address, each.port) == (endpoint.address, endpoint.port) and endpoint.name in each.alike
            for each in self.evidence.front_ends
        )

    def place(self, endpoint: Endpoint) -> Place:
        """Where an endpoint stands: readers are told its name alone where the name has one address."""
        name, address, port = endpoint.name, endpoint.address, endpoint.port

        def work_out() -> Place:
            is_alone = len({each.address for each in self.endpoints_of(name)}) < 2
            return of_endpoint(name, address, port, is_alone=is_alone, is_old=address in self._old_addresses(name))

        return self.once(("place", name, address, port), work_out)

    def _old_addresses(self, name: str) -> frozenset[str]:
        """Of a name, those that only an old copy of its zone still gives."""

        def work_out() -> frozenset[str]:
            zone = apex_of(self.answers, name)
            return old_addresses(self.answers, name, zone) if zone is not None else frozenset()

        return self.once(f"old addresses of {name}", work_out)

    def why_not_of_site(self, where: Place) -> str:
        """Of what was seen at an address that only an old copy of the zone still gives, why it says nothing.

        It is one thing, of which dns/still-cached and dns/servers-disagree speak, however much is wrong there.
        """
        if not where.host:
            return ""
        old = self._old_addresses(where.host)
        if not old:
            return ""
        seen_at = (where.address,) if where.address else self.addresses_of(where.host)
        if not seen_at or not set(seen_at) <= old:
            return ""
        return self.once(f"old copy of {where.host} {sorted(seen_at)}", lambda: self._old_copy(where.host, seen_at))

    def _old_copy(self, host: str, addresses: Sequence[str]) -> str:
        answers = self.answers
        reply = answers.resolved(host, "A")
        left = ttl_of(records_of(reply, "A")) if isinstance(reply, Reply) else None
        until = f" until {self.evidence.begun + datetime.timedelta(seconds=left):%Y-%m-%d %H:%M} UTC" if left else ""
        zone = apex_of(answers, host)
        new = new_addresses(answers, host, zone) if zone is not None else frozenset[str]()
        right = f"; the name servers give {', '.join(sorted(new))}" if new else ""
        return f"seen at the old address {', '.join(sorted(addresses))}, which an old copy still gives{until}{right}"

    @functools.cached_property
    def chains(self) -> Chains:
        """Every distinct chain of every endpoint."""
        evidence = self.evidence
        sources = Sources(
            evidence.certificates,
            evidence.fetched_issuers,
            evidence.given_certificates,
            evidence.status_answers,
            evidence.given_logs,
        )
        unseen = (
            UnseenAt(self.place(endpoint), why_no_handshake(endpoint))
            for endpoint in self.endpoints
            if not endpoint.handshakes
        )
        sent = (chain for endpoint in evidence.endpoints for chain in self._sent_by(endpoint))
        trust = Trust(self.own_stores, evidence.given_trust, evidence.trusts_given_only)
        return Chains(tuple(sent), tuple(unseen), sources, trust, self.at, evidence.begun)

    def _sent_by(self, endpoint: Endpoint) -> Iterator[SentChain]:
        for fingerprints in dict.fromkeys(handshake.chain for handshake in endpoint.handshakes):
            of_leaf = tuple(each for each in endpoint.handshakes if each.chain[0] == fingerprints[0])
            is_of_site = endpoint.name in self.site_names
            yield SentChain(self.place(endpoint), endpoint.name, fingerprints, of_leaf, is_of_site)

    @functools.cached_property
    def canonical(self) -> str:
        """The canonical origin: as wished, else worked out from where the first name's home page lands.

        A host that is no name of the site is never one, wherever a redirect leads.
        """
        if self.terms.canonical is not None:
            return self.terms.canonical
        first = self.evidence.plan.first
        landings = []
        for journey in self.evidence.journeys:
            start = read_url(journey.start)
            if start.path == "/" and (start.host == first or are_siblings(start.host, first)):
                landing = landing_of(journey)
                if landing is not None and landing.is_https and landing.host in self.site_names:
                    landings.append(landing.origin)
        return work_out_canonical(landings, first)

    def expected_hosts(self, name: str) -> tuple[str, ...]:
        """Where a way in to ``name`` may land, best first.

        The canonical host and its sibling lead to the canonical host; another name of the site may keep
        its visitors, or hand them to its own sibling or to the canonical host.
        """
        host = read_url(self.canonical).host
        if name == host or are_siblings(name, host):
            return (host,)
        siblings = (each for each in sorted(self.site_names) if are_siblings(each, name))
        return (name, *siblings, host)

    def ways_in(self, scheme: str | None = None, *, absent: bool = False) -> Iterator[tuple[Journey, Url]]:
        """Journeys from the site's names and their first URLs, those made to go to one address among them.

        With ``absent`` also those to a page that does not exist.  Of recorded ones only navigations count:
        those that show a page or lead on.
        """
        for journey, start in self._all_ways_in:
            if (scheme is None or start.scheme == scheme) and (absent or journey.reason is not WayIn.ABSENT):
                yield journey, start

    @functools.cached_property
    def _all_ways_in(self) -> tuple[tuple[Journey, Url], ...]:
        """Without the rest of another way in."""
        read = ((each, read_url(each.start)) for each in self.evidence.journeys if each.reason is not WayIn.MOVED)
        return tuple(
            (journey, start)
            for journey, start in read
            if journey.reason is not WayIn.RECORDED or (start.host in self.site_names and _is_navigation(journey))
        )

    def addresses_of(self, name: str) -> tuple[str, ...]:
        """At which it was looked at."""
        return next((each.addresses for each in self.evidence.names if each.name == name), ())

    @functools.cached_property
    def redirected_parts(self) -> dict[str, Redirected]:
        return {each.url: each for each in self.evidence.redirected_parts}

    @functools.cached_property
    def _pages(self) -> dict[tuple[str, str], Page]:
        return {(page.url, page.sha256): page for page in self.evidence.pages}

    def page_of(self, hop: Hop) -> Page | None:
        """The page that the hop showed."""
        return self._pages.get((hop.url, hop.page)) if hop.page is not None else None

    def shown_pages(self) -> Iterator[tuple[Journey, Hop, Page]]:
        """Each page on which a journey landed, once for each URL and content."""
        seen: set[tuple[str, str]] = set()
        for journey in self.evidence.journeys:
            hop = journey.hops[-1] if journey.hops and isinstance(journey.end, Landed) else None
            page = self.page_of(hop) if hop is not None else None
            if hop is None or page is None or read_url(hop.url).host not in self.site_names:
                continue
            if (page.url, page.sha256) not in seen:
                seen.add((page.url, page.sha256))
                yield journey, hop, page

    def onward(self, url: str) -> Journey | None:
        """What followed where a page moved its visitors to ``url``."""
        return next((each for each in self.evidence.journeys if each.reason is WayIn.MOVED and each.start == url), None)

    def sheets_of(self, page: Page) -> tuple[Page, ...]:
        """The page's own style sheets that were fetched, and those that they import."""
        found: dict[str, Page] = {}
        wanted = list(page.style_sheets)
        while wanted:
            url = wanted.pop()
            for each in self.evidence.pages:
                if each.url == url and each.sha256 not in found:
                    found[each.sha256] = each
                    wanted += each.style_sheets
        return tuple(each for each in self.evidence.pages if each.sha256 in found)

    def place_of_way_in(self, journey: Journey) -> Place:
        """Its URL; with the address where the same URL goes otherwise at another address."""
        is_alike = len(self._courses[journey.start]) < 2
        return place_of(journey.start, journey.by_address or "", is_alike=is_alike)

    @functools.cached_property
    def _courses(self) -> dict[str, set[object]]:
        """The different courses that journeys from one URL take."""
        found: dict[str, set[object]] = {}
        for journey in self.evidence.journeys:
            course = (tuple((hop.url, hop.status, hop.certificate) for hop in journey.hops), journey.end)
            found.setdefault(journey.start, set()).add(course)
        return found

    @functools.cached_property
    def _hops(self) -> dict[str, list[Hop]]:
        found: dict[str, list[Hop]] = {}
        for journey in self.evidence.journeys:
            for hop in journey.hops:
                found.setdefault(read_url(hop.url).host, []).append(hop)
        return found

    def server_given(self, host: str) -> str:
        """The kind of server that the reviewer named for a host; empty where none was."""
        return self.terms.servers.get(host, self.terms.server)

    def hops_of(self, host: str) -> Sequence[Hop]:
        """Every answer that ``host`` gave, in the order of the journeys."""
        return self._hops.get(host, ())

    def https_answers(self, name: str) -> tuple[Hop, ...]:
        """Answers that ``name`` gave over https, home page first."""
        hops = [hop for hop in self.hops_of(name) if read_url(hop.url).is_https]
        return tuple(sorted(hops, key=lambda hop: read_url(hop.url).path != "/"))

    def why_no_https_answer(self, name: str) -> str:
        """Why no answer of ``name`` over https was seen."""
        for journey, start in self.ways_in("https"):
            if start.host == name and not journey.hops and not isinstance(journey.end, Landed):
                return journey.end.reason if isinstance(journey.end, Unseen) else journey.end.detail
        return "no https answer was seen"


def _is_navigation(journey: Journey) -> bool:
    """Whether a recorded journey ended at a page; a recording holds every image and script too."""
    return journey.hops[-1].page is not None


def landing_of(journey: Journey) -> Url | None:
    """Where the journey landed; None where it did not."""
    if not isinstance(journey.end, Landed) or not journey.hops:
        return None
    return read_url(journey.hops[-1].url)


def why_no_handshake(endpoint: Endpoint) -> str:
    """In words, from the first probe that tells."""
    for probe in endpoint.probes:
        match probe.answer:
            case Unseen(reason=reason):
                return reason
            case NoConnection(detail=detail) | Ended(detail=detail):
                return detail
            case NotTls():
                return "it does not answer in TLS"
            case Alert():
                return "it refused the hello with an alert"
            case Handshake():
                break
    return "no hello was answered"
