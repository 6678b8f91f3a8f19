"""A case: evidence, wishes, a date and the root stores, with what rules derive from them worked out once."""

import datetime
import functools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TypeVar, cast

from pewter.evidence import (
    Alert,
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
    Unseen,
)
from pewter.pki import (
    Certificate,
    ChainAssessment,
    MalformedCertificate,
    Path,
    Store,
    assess_chain,
    build_paths,
    read_certificate,
)
from pewter.web.sites import are_siblings, work_out_canonical
from pewter.web.urls import Url, read_url

from .expectations import Wishes
from .outcomes import Unknown

_T = TypeVar("_T")


@dataclass(frozen=True, slots=True)
class StoreVerdict:
    """What one root store makes of one chain."""

    title: str
    path: Path
    """The best one, with what could be obtained elsewhere."""

    is_public: bool = False
    """The store is a browser's own."""

    is_given: bool = False
    """It holds what the reviewer gave."""

    @property
    def trusts(self) -> bool:
        return self.path.is_valid


@dataclass(frozen=True)
class ServedChain:
    """One chain that one endpoint sent."""

    endpoint: Endpoint
    fingerprints: tuple[str, ...]
    leaf: Certificate | MalformedCertificate
    malformed: tuple[MalformedCertificate, ...]
    """Of the others that it sent."""

    assessment: ChainAssessment | None
    """None where the leaf cannot be read."""

    where: str


def certificates_to_judge(chain: ServedChain) -> tuple[Certificate, ...]:
    """Those of the path without its root, whose own signature and key a client takes on trust."""
    if chain.assessment is None:
        return ()
    path = chain.assessment.best
    return tuple(each for each in path.certificates if each is not path.anchor) or (chain.assessment.sent[0],)


def accepted_versions(endpoint: Endpoint) -> frozenset[int]:
    """Versions that were agreed on, in a whole handshake or in a search."""
    searched = endpoint.protocol.accepted if endpoint.protocol is not None else frozenset()
    return frozenset(handshake.version for handshake in endpoint.handshakes) | searched


class Case:
    """What every rule is given."""

    def __init__(self, evidence: Evidence, wishes: Wishes, at: datetime.datetime, stores: Sequence[Store]) -> None:
        self.evidence = evidence
        self.wishes = wishes
        self.expect = wishes.expect
        self.at = at
        """The moment for which it is judged."""

        given = (self.certificate(sha256) for sha256 in evidence.given_trust)
        anchors = tuple(each for each in given if isinstance(each, Certificate))
        self.own_stores = () if evidence.trusts_given_only else tuple(stores)
        """Those that came with the program and the machine."""

        title = "--trust-only" if evidence.trusts_given_only else "--trust"
        self.given_store = Store(title, anchors, is_examined=True) if anchors else None
        self.stores = (*self.own_stores, *([self.given_store] if self.given_store else []))
        self._store_verdicts: dict[tuple[str, ...], tuple[StoreVerdict, ...]] = {}
        self._worked_out: dict[str, object] = {}
        self._assessments: dict[tuple[tuple[str, ...], bool], ChainAssessment] = {}

    @functools.cached_property
    def _certificates(self) -> dict[str, Certificate | MalformedCertificate]:
        return {stored.sha256: read_certificate(stored.der) for stored in self.evidence.certificates}

    def certificate(self, sha256: str) -> Certificate | MalformedCertificate:
        """A certificate of the evidence by its fingerprint."""
        found = self._certificates.get(sha256)
        return found if found is not None else MalformedCertificate(sha256, b"", "it is not in the evidence")

    def once(self, what: str, work_out: Callable[[], _T]) -> _T:
        """What is worked out from the whole case, once for as long as the case lives."""
        if what not in self._worked_out:
            self._worked_out[what] = work_out()
        return cast(_T, self._worked_out[what])

    @functools.cached_property
    def site_names(self) -> frozenset[str]:
        """The names under review: declared ones and siblings that resolve."""
        return frozenset(name.name for name in self.evidence.names if name.declared or name.addresses)

    @functools.cached_property
    def resolving_names(self) -> tuple[str, ...]:
        """Those of the site's names that have an address, in the order of the alphabet."""
        return tuple(sorted(name.name for name in self.evidence.names if name.addresses))

    @functools.cached_property
    def endpoints(self) -> tuple[Endpoint, ...]:
        """The https endpoints of the site's own names."""
        return tuple(each for each in self.evidence.endpoints if each.name in self.site_names)

    def endpoints_of(self, name: str) -> tuple[Endpoint, ...]:
        return tuple(each for each in self.evidence.endpoints if each.name == name)

    def place(self, endpoint: Endpoint) -> str:
        """How a report names an endpoint: by its name alone where the name has one address."""
        port = "" if endpoint.port == 443 else f":{endpoint.port}"
        if len({each.address for each in self.endpoints_of(endpoint.name)}) < 2:
            return endpoint.name + port
        return f"{endpoint.name}{port} at {endpoint.address}"

    @functools.cached_property
    def chains(self) -> tuple[ServedChain, ...]:
        """Every distinct chain of every endpoint of the site's names."""
        return tuple(chain for endpoint in self.endpoints for chain in self.chains_of(endpoint))

    def without_chain(self) -> Iterator[Unknown]:
        """An outcome for each endpoint of the site that showed no certificate."""
        for endpoint in self.endpoints:
            if not endpoint.handshakes:
                yield Unknown(self.place(endpoint), why_no_handshake(endpoint))

    def chains_of(self, endpoint: Endpoint) -> tuple[ServedChain, ...]:
        distinct = dict.fromkeys(handshake.chain for handshake in endpoint.handshakes)
        return tuple(self._served(endpoint, chain) for chain in distinct)

    def _served(self, endpoint: Endpoint, fingerprints: tuple[str, ...]) -> ServedChain:
        leaf = self.certificate(fingerprints[0])
        others = (self.certificate(each) for each in fingerprints[1:])
        return ServedChain(
            endpoint=endpoint,
            fingerprints=fingerprints,
            leaf=leaf,
            malformed=tuple(each for each in others if isinstance(each, MalformedCertificate)),
            assessment=self.assess(fingerprints) if isinstance(leaf, Certificate) else None,
            where=self.place(endpoint),
        )

    def assess(self, fingerprints: tuple[str, ...], *, by_aia_alone: bool = False) -> ChainAssessment | None:
        """The chain held against the stores, with the help of all that was obtained elsewhere.

        ``by_aia_alone`` leaves out what only other endpoints sent: that is what a browser can fetch.
        None where the leaf cannot be read.
        """
        sent = [each for each in map(self.certificate, fingerprints) if isinstance(each, Certificate)]
        if not sent or sent[0].sha256 != fingerprints[0]:
            return None
        key = (fingerprints, by_aia_alone)
        if key not in self._assessments:
            elsewhere = self._fetched if by_aia_alone else self._elsewhere
            self._assessments[key] = assess_chain(sent, elsewhere, self.stores, self.at)
        return self._assessments[key]

    def store_verdicts(self, fingerprints: tuple[str, ...]) -> tuple[StoreVerdict, ...]:
        """Each root store's word on a chain, by itself; empty where the leaf cannot be read."""
        if fingerprints not in self._store_verdicts:
            found = []
            for store in self.stores:
                sent = [each for each in map(self.certificate, fingerprints) if isinstance(each, Certificate)]
                if not sent or sent[0].sha256 != fingerprints[0]:
                    break
                best = build_paths(sent[0], [*sent, *self._elsewhere], (store,), self.at)[0]
                found.append(StoreVerdict(store.title, best, store.is_public, store is self.given_store))
            self._store_verdicts[fingerprints] = tuple(found)
        return self._store_verdicts[fingerprints]

    @functools.cached_property
    def given_certificates(self) -> tuple[Certificate, ...]:
        """From files, to be held against what is served."""
        found = map(self.certificate, self.evidence.given_certificates)
        return tuple(each for each in found if isinstance(each, Certificate))

    @functools.cached_property
    def _fetched(self) -> tuple[Certificate, ...]:
        answers = (fetched.answer for fetched in self.evidence.fetched_issuers)
        fingerprints = dict.fromkeys(each for answer in answers if isinstance(answer, tuple) for each in answer)
        return tuple(each for each in map(self.certificate, fingerprints) if isinstance(each, Certificate))

    @functools.cached_property
    def _elsewhere(self) -> tuple[Certificate, ...]:
        """All certificates at hand that may be issuers."""
        return tuple(
            each for each in self._certificates.values() if isinstance(each, Certificate) and each.extensions.is_ca
        )

    @functools.cached_property
    def canonical(self) -> str:
        """The canonical origin: as wished, else worked out from where the first name's home page lands.

        A host that is no name of the site is never one, wherever a redirect leads.
        """
        if self.wishes.canonical is not None:
            return self.wishes.canonical
        targets = self.evidence.question.targets
        first = targets[0]
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
        for journey in self.evidence.journeys:
            start = read_url(journey.start)
            if journey.reason == "moved":
                continue  # the rest of another way in
            if journey.reason == "recorded" and (start.host not in self.site_names or not _is_navigation(journey)):
                continue
            if (scheme is None or start.scheme == scheme) and (absent or journey.reason != "absent"):
                yield journey, start

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
        return next((each for each in self.evidence.journeys if each.reason == "moved" and each.start == url), None)

    def sheets_of(self, page: Page) -> tuple[Page, ...]:
        """The page's own style sheets that were fetched."""
        return tuple(each for each in self.evidence.pages if each.url in page.style_sheets)

    def place_of_way_in(self, journey: Journey) -> str:
        """Its URL; with the address where the same URL goes otherwise at another address."""
        if journey.by_address is None or len(self._courses[journey.start]) < 2:
            return journey.start
        return f"{journey.start} at {journey.by_address}"

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
