"""One look at one site: what is asked, in which order, and what is kept of it.

The longest chain of waits decides how long a look takes, so nothing waits that need not:

    name --> way in, hop by hop ------------------------------------> journeys
          -> four hellos to each address --> issuers that were not sent --> endpoints, certificates
                                         --> suites, groups and options (protocol.py)

Names do not wait for each other, nor journeys for handshakes.  Where an address has no slot left,
journeys go first, since they are the longest chains.  A host that a journey leads to and that is no
name of the site gets one hello, so that the judge can tell what a browser makes of its certificate.
"""

import asyncio
import concurrent.futures
import contextlib
import datetime
import functools
import itertools
import os
import re
import time
from collections.abc import Callable, Coroutine, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import msgspec

from pewter.evidence import (
    Alert,
    Ended,
    Endpoint,
    Evidence,
    Fault,
    FetchedIssuer,
    GivenLog,
    Handshake,
    Hop,
    HostProbe,
    HowEnded,
    Lookup,
    Name,
    NotContacted,
    Offer,
    Page,
    Plan,
    Probe,
    Seen,
    StatusAnswer,
    StatusMethod,
    StoredCertificate,
    Target,
    Tries,
    Unseen,
    WayIn,
    is_ip_address,
)
from pewter.pki import MUST_STAPLE, Certificate, MalformedCertificate, Store, build_paths, read_certificate
from pewter.places import socket_text
from pewter.tls import Version, fingerprint, version_name
from pewter.tls.codepoints import AlertDescription
from pewter.tls.offers import MODERN, OPTIONAL_EXTENSIONS
from pewter.web.further_ways import ABSENT_PATH, SITEMAP_PATH, UNKNOWN_HOST, choose_ways_in
from pewter.web.pages import read_page, read_sitemap, read_style_sheet
from pewter.web.sites import are_siblings, paths_for, sibling_of
from pewter.web.suffixes import is_apex
from pewter.web.urls import Url, read_url, why_unresolvable

from .exchanges import Answered, fetch_once, off_the_loop
from .guard import Guard, why_not_public
from .hellos import send_hello
from .issuers import IssuerFetcher
from .journeys import Surroundings, Walk
from .names import NameService
from .protocol import ProtocolLook
from .revocation import Question as StatusQuestion
from .revocation import ask as ask_status
from .revocation import questions_for
from .routes import Destination, Routes
from .slots import CONNECTIONS_OF_A_NAME, MAX_CONNECTIONS, BudgetSpent, Priority, Slots

OFFERS = (MODERN, (int(Version.TLS_1_2),), (int(Version.TLS_1_1),), (int(Version.TLS_1_0),))
"""The hellos that every endpoint gets, each on a connection of its own."""

STAPLE_TRIES = 2
STAPLE_PAUSE_SECONDS = 0.5
_HOST_NAME = re.compile(r"(?=.{1,253}\Z)(?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9-]{2,63}")

MAX_MOVES = 20
"""Addresses to which pages move their visitors that are followed."""

WORKERS = 4
"""Threads that read what may take longer than the loop may stand still."""

MAX_ADDRESSES = 12
"""Of one name that are contacted."""

MAX_STYLE_SHEETS = 5
"""Of one page."""

FIRST_WALKS_SECONDS = 0.05
"""How long hellos let the journeys of names that are still being looked up go first."""

PROXY_VARIABLES = ("HTTPS_PROXY", "https_proxy", "HTTP_PROXY", "http_proxy", "ALL_PROXY", "all_proxy")


class Progress(Protocol):
    """Told what is being looked at."""

    def planned(self, what: str) -> None: ...

    def done(self, what: str) -> None: ...


@dataclass(frozen=True, slots=True)
class LookOptions:
    """What to look at, and how."""

    targets: tuple[tuple[str, int], ...]
    """Host names (A-labels) or addresses, each with its https port; the first decides the site."""

    paths: tuple[str, ...] = ("/",)
    routes: Routes = field(default_factory=Routes)
    resolver: tuple[str, int] | None = None
    stores: tuple[Store, ...] = ()
    """Root stores, to see which issuers need not be fetched."""

    given_trust: tuple[Certificate, ...] = ()
    """Anchors that the reviewer gave; they go into the evidence."""

    trusts_given_only: bool = False
    given_certificates: tuple[bytes, ...] = ()
    """DER of certificates in files, to be held against what is served."""

    given_logs: tuple[GivenLog, ...] = ()
    revocation: bool = False
    """Ask the CAs of the served certificates too."""

    certificates_only: bool = False
    """One hello to each address of the targets and no request: what certificates are there?"""

    max_covered_names: int = 20
    """Names of certificates that are not under review and are looked up."""

    chains: tuple[tuple[Certificate, ...], ...] = ()
    """Chains that nobody served, whose missing issuers are to be fetched."""

    protocol: bool = True
    """Look at versions, suites, groups and the rest of each endpoint of the targets, beyond the first hellos."""

    whole_seconds: float = 60.0
    step_seconds: float = 10.0
    connections_per_address: int = 8


@dataclass
class _EndpointLook:
    name: str
    destination: Destination
    planned: tuple[tuple[int, ...], ...]
    probes: dict[tuple[int, ...], Probe] = field(default_factory=dict)
    more_probes: list[Probe] = field(default_factory=list)
    """Beyond the planned ones: asked again for a staple."""

    look: ProtocolLook | None = None
    minds: tuple[int, ...] = ()
    tries: list[Tries] = field(default_factory=list)


async def look(options: LookOptions, progress: Progress) -> Evidence:
    """Take one look; never raises for what the site does.

    What the deadline or an interruption leaves open is Unseen in the evidence.
    """
    workers = concurrent.futures.ThreadPoolExecutor(WORKERS, "pewter")
    asyncio.get_running_loop().set_default_executor(workers)
    try:
        return await _Look(options, progress).run()
    finally:
        # What still waits to be read is read no more: the deadline ends the look.
        workers.shutdown(wait=False, cancel_futures=True)


class _Look:
    def __init__(self, options: LookOptions, progress: Progress) -> None:
        self._options = options
        self._progress = progress
        self._names: dict[str, Name] = {}
        self._ports = dict(options.targets)
        self._walks: list[Walk] = []
        self._pages: dict[tuple[str, str], Page] = {}
        self._host_probes: list[HostProbe] = []
        self._searched: set[str] = set()
        self._walking: set[str] = set()
        self._endpoints: dict[tuple[str, str, int], _EndpointLook] = {}
        self._certificates: dict[str, bytes] = {each.sha256: each.der for each in options.given_trust}
        self._certificates.update((fingerprint(each), each) for each in options.given_certificates)
        self._covered: dict[str, Name] = {}
        self._statuses: dict[tuple[str, str], StatusAnswer] = {}
        self._asked_statuses: set[tuple[str, str]] = set()
        self._fetched: list[FetchedIssuer] = []
        self._not_contacted: dict[tuple[str, str], NotContacted] = {}
        self._added: set[str] = set()
        self._faults: list[Fault] = []
        most = max(MAX_CONNECTIONS, CONNECTIONS_OF_A_NAME * len(options.targets))
        self._slots = Slots(options.connections_per_address, most)
        self._service = NameService(options.resolver, options.step_seconds)
        self._why_unseen = f"not reached before the deadline of {options.whole_seconds:g} s"
        self._interrupted = False
        self._sheets: set[str] = set()
        self._moved_to: set[str] = set()
        self._around = self._surroundings()
        given = Store("given", options.given_trust)
        self._stores = (given,) if options.trusts_given_only else (*options.stores, given)
        self._issuers = IssuerFetcher(self._around, self._stores)
        self._group: asyncio.TaskGroup

    async def run(self) -> Evidence:
        begun, clock = datetime.datetime.now(datetime.UTC), time.monotonic()
        await asyncio.to_thread(is_apex, "x.example")  # reads the list of public suffixes, once
        for name, _ in self._options.targets:
            self._names[name] = Name(name)
        try:
            async with asyncio.timeout(self._options.whole_seconds), asyncio.TaskGroup() as self._group:
                for chain in self._options.chains:
                    self._certificates.update((each.sha256, each.der) for each in chain)
                    fingerprints = tuple(each.sha256 for each in chain)
                    failed = functools.partial(self._issuers_failed, fingerprints[0])
                    self._start(self._fetch_issuers(chain), f"issuers of {chain[0].title}", failed)
                for name in list(self._names):
                    self._start(self._look_at_name(name, declared=True), name)
        except TimeoutError:
            pass
        except asyncio.CancelledError:
            # Interrupted from the keyboard: what was seen so far is the answer.
            task = asyncio.current_task()
            if task is not None:
                task.uncancel()
            self._interrupted, self._why_unseen = True, "interrupted before it was reached"
        return self._evidence(begun, time.monotonic() - clock)

    def _start(self, work: Coroutine[None, None, None], what: str, failed: Callable[[str], None] | None = None) -> None:
        """Do ``work`` beside the rest.  A fault of ours in it costs no other result; ``failed`` tells of it."""
        self._progress.planned(what)

        async def run() -> None:
            try:
                await work
            except BudgetSpent as exc:
                if failed is not None:
                    failed(str(exc))
            except Exception as exc:
                self._faults.append(Fault.of(what, exc))
                if failed is not None:
                    failed(Fault.REASON)
            self._progress.done(what)

        self._group.create_task(run())

    # Names

    async def _look_at_name(self, name: str, *, declared: bool) -> None:
        if declared and not self._options.certificates_only:
            sibling = sibling_of(name, is_apex)
            if sibling is not None and sibling not in self._names:
                self._ports[sibling] = self._ports[name]
                self._added.add(sibling)
                self._names[sibling] = Name(sibling, declared=False)
                self._start(self._look_at_name(sibling, declared=False), sibling)
        port = self._ports[name]
        routed = self._options.routes.for_name(name, port)
        lookups = await self._service.look_up(name) if not self._is_wholly_routed(name) else ()
        addresses = tuple(dict.fromkeys(destination.address for destination in routed))
        if not lookups and not routed:
            addresses = (name,)  # an IP address that was typed as one
        self._names[name] = Name(name, declared, lookups, addresses)
        destinations = await self._open_destinations(Url("https", name, port, "/"))
        self._walking.add(name)
        if isinstance(destinations, str):
            return
        if self._options.certificates_only:
            for destination in destinations:
                self._look_at_endpoint(name, destination, (MODERN,))
            return
        self._start_walks(name, destinations)
        with contextlib.suppress(TimeoutError):
            # Names come back from the name service almost together: the journeys of all of them go first.
            async with asyncio.timeout(FIRST_WALKS_SECONDS):
                while self._walking != set(self._names):
                    await asyncio.sleep(0.002)
        for destination in destinations:
            self._look_at_endpoint(name, destination, OFFERS)

    def _is_wholly_routed(self, name: str) -> bool:
        return bool(self._options.routes.for_name(name, 80) and self._options.routes.for_name(name, self._ports[name]))

    def _start_walks(self, name: str, https_destinations: tuple[Destination, ...]) -> None:
        """Both schemes and every path, by a visitor's own choice of address; the home page by each address."""
        several = tuple(each.address for each in https_destinations) if len(https_destinations) > 1 else ()
        for path in paths_for(name, self._options.paths):
            self._walk_to(name, path, WayIn.TYPED, several if path == "/" else ())
        # What no visitor waits for goes to the last address, so that the first is free for journeys.
        self._walk_to(name, ABSENT_PATH, WayIn.ABSENT, several[-1:])
        for scheme, port in (("http", 80), ("https", self._ports[name])):
            url = Url(scheme, name, port, "/")
            failed = functools.partial(self._host_probe_failed, url)
            self._start(self._probe_host(url), f"{url} as {UNKNOWN_HOST}", failed)

    def _walk_to(
        self, name: str, path: str, reason: WayIn, addresses: tuple[str, ...] = (), looks_like: str = ""
    ) -> None:
        path, mark, query = path.partition("?")
        for scheme, port in (("http", 80), ("https", self._ports[name])):
            url = Url(scheme, name, port, path or "/", query if mark else None)
            for address in addresses or (None,):
                walk = Walk(url, self._around, reason, address, looks_like=looks_like)
                self._walks.append(walk)
                what = f"{url}" + (f" at {address}" if address else "")
                self._start(self._follow(walk), what, functools.partial(self._walk_failed, walk))

    async def _follow(self, walk: Walk) -> None:
        await walk.follow()
        if walk.start.target == "/" and walk.hops and walk.hops[-1].page is not None:
            self._find_ways_in(read_url(walk.hops[-1].url), walk.hops[-1].page)

    def _walk_failed(self, walk: Walk, reason: str) -> None:
        """A journey that had ended stays as it was: the fault came after it."""
        if walk.end is None:
            walk.end = Unseen(reason)

    def _moved(self, walk: Walk, url: Url) -> None:
        """Follow where a page moved its visitors, once for each address, with the cookies that they have by then."""
        if str(url) in self._moved_to or len(self._moved_to) >= MAX_MOVES:
            return
        self._moved_to.add(str(url))
        onward = Walk(url, self._around, WayIn.MOVED, as_browser=walk.as_browser, jar=walk.jar)
        self._walks.append(onward)
        self._start(self._follow(onward), f"{url}", functools.partial(self._walk_failed, onward))

    def _find_ways_in(self, url: Url, page: str) -> None:
        """Try what the home page of one of the site's names links to, once for each name."""
        if url.host not in self._names or url.host in self._searched:
            return
        self._searched.add(url.host)
        if url.is_https:
            sitemap = Url("https", url.host, url.port, SITEMAP_PATH)
            self._start(self._fetch_sheet(sitemap, read_sitemap), str(sitemap))
        taken = paths_for(url.host, self._options.paths)
        for path, look in choose_ways_in(self._pages[str(url), page].inner_links, taken):
            self._walk_to(url.host, path, WayIn.FOUND, looks_like=look)

    async def _probe_host(self, url: Url) -> None:
        """Ask an address of a name that answers for a host that cannot be the site's; the last one first."""
        destinations = await self._open_destinations(url)
        if isinstance(destinations, str):
            return
        failures: list[str] = []
        for destination in reversed(destinations):
            outcome = await fetch_once(url, destination, self._slots, self._options.step_seconds, UNKNOWN_HOST)
            if isinstance(outcome, Answered):
                shown = await self._keep_page(url, outcome) if outcome.body else None
                page = shown.sha256 if shown is not None else None
                self._host_answered(url, Seen(msgspec.structs.replace(outcome.hop, page=page)))
                return
            failures.append(outcome.detail)
        self._host_probe_failed(url, failures[0])

    def _host_probe_failed(self, url: Url, reason: str) -> None:
        self._host_answered(url, Unseen(reason))

    def _host_answered(self, url: Url, answer: Seen[Hop] | Unseen) -> None:
        self._host_probes.append(HostProbe(url.host, url.scheme, UNKNOWN_HOST, answer))

    # Pages

    async def _keep_page(self, url: Url, answered: Answered) -> Page:
        """Read a page, keep what it says, and fetch its own style sheets.

        In a thread: what a hostile page costs must not hold up the other looks, nor the deadline.
        """
        read = functools.partial(read_page, answered.body, url, answered.content_type, truncated=answered.truncated)
        page = await asyncio.to_thread(read)
        if (page.url, page.sha256) not in self._pages:
            self._pages[page.url, page.sha256] = page
            for sheet in page.style_sheets[:MAX_STYLE_SHEETS] if url.is_https else ():
                if sheet not in self._sheets:
                    self._sheets.add(sheet)
                    self._start(self._fetch_sheet(read_url(sheet)), sheet)
        return page

    async def _fetch_sheet(self, url: Url, read: Callable[..., Page] = read_style_sheet) -> None:
        """A file that belongs to a page: a style sheet, or the site's map."""
        destinations = await self._open_destinations(url)
        if isinstance(destinations, str):
            return
        outcome = await fetch_once(url, destinations[0], self._slots, self._options.step_seconds)
        if isinstance(outcome, Answered) and outcome.hop.status == 200 and outcome.body:
            sheet = await asyncio.to_thread(functools.partial(read, outcome.body, url, truncated=outcome.truncated))
            self._pages[sheet.url, sheet.sha256] = sheet

    async def _destinations(self, url: Url) -> tuple[Destination, ...] | str:
        """Every address at which a URL's host is reached on the URL's port, or why there is none."""
        routed = self._options.routes.for_name(url.host, url.port)
        if routed:
            return routed
        if not is_ip_address(url.host) and (reason := why_unresolvable(url.host)):
            return reason
        lookups = await self._service.look_up(url.host)
        addresses = list(Name(url.host, lookups=lookups).addresses) if lookups else [url.host]
        if not addresses:
            unseen = [lookup.answer.reason for lookup in lookups if isinstance(lookup.answer, Unseen)]
            rcodes = {lookup.answer.value.rcode for lookup in lookups if isinstance(lookup.answer, Seen)}
            return unseen[0] if unseen else f"{url.host} has no address ({', '.join(sorted(rcodes))})"
        if len(addresses) > MAX_ADDRESSES:
            where = f"{url.host} at {len(addresses) - MAX_ADDRESSES} of its {len(addresses)} addresses"
            reason = f"{MAX_ADDRESSES} addresses of a name are looked at"
            self._not_contacted.setdefault((url.host, reason), NotContacted(where, reason))
            addresses = _some_of_both_families(addresses)
        return tuple(self._options.routes.for_address(address, url.port) for address in addresses)

    # Journeys

    def _surroundings(self) -> Surroundings:
        return Surroundings(
            slots=self._slots,
            step_seconds=self._options.step_seconds,
            destinations=self._destinations,
            why_not_contact=self._refusal,
            met=self._met,
            keep_page=self._keep_page,
            moved=self._moved,
        )

    def _refusal(self, url: Url, destination: Destination) -> str | None:
        """What the guard has against a place; said once for each host."""
        reason = self._guard().why_not(url.host, destination)
        if reason is not None:
            self._not_contacted.setdefault((url.host, reason), NotContacted(str(url), reason))
        return reason

    def _guard(self) -> Guard:
        typed = frozenset(self._ports) - self._added
        return Guard(
            typed,
            frozenset(self._added),
            frozenset(self._own_addresses(typed)),
            frozenset(self._ports.values()),
            self._options.routes,
        )

    def _own_addresses(self, typed: frozenset[str]) -> Iterator[str]:
        for name in typed:
            found = self._found_addresses(self._names[name])
            if all(map(why_not_public, found)):
                yield from found

    @staticmethod
    def _found_addresses(name: Name) -> tuple[str, ...]:
        """Those of the name service, or the address that was typed; never those that a route leads to."""
        if not name.lookups:
            return (name.name,) if is_ip_address(name.name) else ()
        return Name(name.name, lookups=name.lookups).addresses

    async def _open_destinations(self, url: Url) -> tuple[Destination, ...] | str:
        """Those of :meth:`_destinations` that may be contacted, or why there is none."""
        found = await self._destinations(url)
        if isinstance(found, str):
            return found
        allowed = tuple(each for each in found if self._refusal(url, each) is None)
        return allowed or f"not contacted: {self._refusal(url, found[0])}"

    def _met(self, url: Url, destination: Destination, answered: Answered) -> None:
        if answered.certificate is None:
            return
        self._certificates.setdefault(fingerprint(answered.certificate), answered.certificate)
        if url.host not in self._names:
            self._look_at_endpoint(url.host, destination, (MODERN,))

    # Endpoints

    def _look_at_endpoint(self, name: str, destination: Destination, offers: tuple[tuple[int, ...], ...]) -> None:
        key = (name, destination.address, destination.port)
        if key in self._endpoints:
            return
        endpoint = self._endpoints[key] = _EndpointLook(name, destination, offers)
        place = f"{name} at {socket_text(destination.address, destination.port)}"
        for versions in offers:
            failed = functools.partial(self._probe_failed, endpoint, versions)
            self._start(self._probe(endpoint, versions), f"{version_name(versions[0])} to {place}", failed)

    async def _probe(self, endpoint: _EndpointLook, versions: tuple[int, ...]) -> None:
        probe = await self._hello(endpoint, Offer(versions, endpoint.name))
        if versions == MODERN and _may_mind_the_hello(probe):
            probe = await self._insist(endpoint, probe)
        endpoint.probes[versions] = probe
        self._look_at_protocol(endpoint)
        if isinstance(probe.answer, Handshake):
            self._start(
                self._look_into_chain(probe.answer.chain),
                f"issuers of {endpoint.name}",
                functools.partial(self._issuers_failed, probe.answer.chain[0]),
            )
            if Version.TLS_1_3 in versions and probe.answer.staple is None:
                await self._ask_for_staple_again(endpoint, probe.offer, probe.answer.chain[0])

    async def _hello(self, endpoint: _EndpointLook, offer: Offer) -> Probe:
        async with self._slots.connection(endpoint.destination.address, Priority.HANDSHAKE):
            result = await send_hello(offer, endpoint.destination, self._options.step_seconds)
        for sha256, der in result.certificates.items():
            self._certificates.setdefault(sha256, der)
        return Probe(offer, result.answer, round(result.elapsed_seconds, 6))

    async def _insist(self, endpoint: _EndpointLook, refused: Probe) -> Probe:
        """A refused first hello, again and without what need not be in it: which of these does the server mind?"""
        offer = refused.offer
        small = await self._hello(endpoint, msgspec.structs.replace(offer, without=OPTIONAL_EXTENSIONS))
        again = await self._hello(endpoint, offer)
        if isinstance(again.answer, Handshake):
            endpoint.tries.append(Tries("the hello for TLS 1.3 and TLS 1.2", 2, 1))
            return again
        if not isinstance(small.answer, Handshake):
            return refused
        for extension in OPTIONAL_EXTENSIONS:
            alone = await self._hello(endpoint, msgspec.structs.replace(offer, without=(extension,)))
            if isinstance(alone.answer, Handshake):
                endpoint.minds = (extension,)
                return alone
        endpoint.minds = OPTIONAL_EXTENSIONS
        return small

    def _look_at_protocol(self, endpoint: _EndpointLook) -> None:
        """Once every first hello is answered, and any in TLS."""
        probes = tuple(endpoint.probes[versions] for versions in endpoint.planned if versions in endpoint.probes)
        answered = any(isinstance(probe.answer, Handshake | Alert | Ended) for probe in probes)
        if not self._options.protocol or len(probes) < len(OFFERS) or not answered or endpoint.look is not None:
            return
        look = endpoint.look = ProtocolLook(
            endpoint.name,
            endpoint.destination,
            self._slots,
            self._options.step_seconds,
            probes,
            endpoint.minds,
            self._certificates,
        )

        async def run() -> None:
            await look.run()
            for probe in look.more_probes:
                if isinstance(probe.answer, Handshake):
                    await self._look_into_chain(probe.answer.chain)

        self._start(run(), f"suites and groups of {endpoint.name} at {endpoint.destination.address}")

    async def _ask_for_staple_again(self, endpoint: _EndpointLook, offer: Offer, leaf: str) -> None:
        """A server that fetches its own staple has none at first: absence needs more than one hello.

        Only where there may be one: the certificate names an OCSP responder, or demands a staple.
        """
        certificate = read_certificate(self._certificates[leaf])
        if not isinstance(certificate, Certificate) or not (
            MUST_STAPLE in certificate.extensions.tls_features or certificate.extensions.ocsp_responders
        ):
            return
        for _ in range(STAPLE_TRIES):
            await asyncio.sleep(STAPLE_PAUSE_SECONDS)
            probe = await self._hello(endpoint, offer)
            endpoint.more_probes.append(probe)
            if isinstance(probe.answer, Handshake) and probe.answer.staple is not None:
                return

    def _probe_failed(self, endpoint: _EndpointLook, versions: tuple[int, ...], reason: str) -> None:
        endpoint.probes[versions] = Probe(Offer(versions, endpoint.name), Unseen(reason))

    async def _look_into_chain(self, chain: Sequence[str]) -> None:
        """Ask for issuers that were not sent, as some browsers do; then look up its names and its revocation."""
        octets = [self._certificates[sha256] for sha256 in dict.fromkeys(chain)]
        read = await off_the_loop(sum(map(len, octets)) + 256 * len(octets), _read_all, octets)
        sent = [each for each in read if isinstance(each, Certificate)]
        await self._fetch_issuers(sent)
        if self._options.certificates_only:
            return
        if sent and sent[0].sha256 == chain[0]:
            for name in sent[0].extensions.dns_names:
                self._look_up_covered(name.lower())
            if self._options.revocation:
                self._ask_for_revocation(sent[0], sent)

    async def _fetch_issuers(self, sent: Sequence[Certificate]) -> None:
        if sent:
            async for fetched, certificates in self._issuers.missing(sent):
                self._certificates.update(certificates)
                self._fetched.append(fetched)

    def _look_up_covered(self, name: str) -> None:
        """A name that shares the certificate: does it resolve?"""
        if name in self._names or name in self._covered or len(self._covered) >= self._options.max_covered_names:
            return
        if not _HOST_NAME.fullmatch(name) or self._options.routes.for_name(name, 443):
            return
        self._covered[name] = Name(name, False)

        async def look_up() -> None:
            self._covered[name] = Name(name, False, await self._service.look_up(name))

        self._start(look_up(), name)

    def _ask_for_revocation(self, leaf: Certificate, sent: Sequence[Certificate]) -> None:
        """Along the best path from what is at hand."""
        answers = (one.answer for one in self._fetched if isinstance(one.answer, tuple))
        fetched = (read_certificate(self._certificates[each]) for answer in answers for each in answer)
        pool = [*sent, *(each for each in fetched if isinstance(each, Certificate))]
        now = datetime.datetime.now(datetime.UTC)
        for question in questions_for(build_paths(leaf, pool, self._stores, now)[0].certificates):
            method, url, _, of = question
            key = (url, of if method is StatusMethod.OCSP else "")
            if key not in self._asked_statuses:
                self._asked_statuses.add(key)
                failed = functools.partial(self._status_failed, question)
                self._start(self._ask_status(question), f"{method.value} at {url}", failed)

    async def _ask_status(self, question: StatusQuestion) -> None:
        self._statuses[question[1], question[3]] = await ask_status(question, self._around)

    def _status_failed(self, question: StatusQuestion, reason: str) -> None:
        method, url, _, of = question
        self._statuses[url, of] = StatusAnswer(method, url, of, Unseen(reason))

    def _issuers_failed(self, leaf: str, reason: str) -> None:
        self._fetched.append(FetchedIssuer("", leaf, reason))

    # What came of it

    def _evidence(self, begun: datetime.datetime, elapsed: float) -> Evidence:
        options = self._options
        # The order in which answers came is chance; the evidence has one order of its own.
        order = {name: position for position, name in enumerate(self._in_order())}
        last = len(order)
        walks = sorted(
            self._walks,
            key=lambda walk: (
                order.get(walk.start.host, last),
                walk.reason is not WayIn.TYPED,
                walk.reason.value,
                walk.looks_like,
            ),
        )
        endpoints = sorted(self._endpoints.values(), key=lambda each: order.get(each.name, len(order)))
        names = tuple(map(self._names.__getitem__, order))
        return Evidence(
            plan=Plan(
                targets=tuple(Target(name, port) for name, port in options.targets),
                paths=options.paths,
                routes=tuple(str(route) for route in options.routes.routes),
                resolver=socket_text(*options.resolver) if options.resolver else None,
                revocation=options.revocation,
                connections_per_address=options.connections_per_address,
                whole_seconds=options.whole_seconds,
                step_seconds=options.step_seconds,
            ),
            begun=begun,
            elapsed_seconds=round(elapsed, 3),
            names=tuple(self._with_unseen(name) for name in names),
            endpoints=tuple(map(self._endpoint, endpoints)),
            journeys=tuple(walk.journey(self._why_unseen) for walk in walks),
            pages=tuple(page for _, page in sorted(self._pages.items())),
            host_probes=tuple(sorted(self._host_probes, key=lambda each: (order.get(each.name, 0), each.scheme))),
            certificates=tuple(StoredCertificate(sha, der) for sha, der in sorted(self._certificates.items())),
            fetched_issuers=tuple(self._fetched),
            given_trust=tuple(each.sha256 for each in options.given_trust),
            trusts_given_only=options.trusts_given_only,
            given_certificates=tuple(map(fingerprint, options.given_certificates)),
            given_logs=options.given_logs,
            covered_names=tuple(each for text, each in sorted(self._covered.items()) if text not in self._names),
            revocation_asked=options.revocation,
            status_answers=tuple(answer for _, answer in sorted(self._statuses.items())),
            not_contacted=tuple(self._not_contacted.values()),
            faults=tuple(self._faults),
            connections=self._slots.made,
            environment_proxy=next((name for name in PROXY_VARIABLES if os.environ.get(name)), None),
            interrupted=self._interrupted,
        )

    def _in_order(self) -> list[str]:
        """Names as given, each with its sibling behind it."""
        found: dict[str, None] = {}
        for name, _ in self._options.targets:
            found[name] = None
            found.update(dict.fromkeys(each for each in self._names if are_siblings(each, name)))
        return list(found)

    def _with_unseen(self, name: Name) -> Name:
        """A name whose look-up did not end in time."""
        if name.addresses or name.lookups:
            return name
        lookups = tuple(Lookup(record_type, Unseen(self._why_unseen)) for record_type in ("A", "AAAA"))
        return Name(name.name, name.declared, lookups)

    def _endpoint(self, endpoint: _EndpointLook) -> Endpoint:
        probes = (
            endpoint.probes.get(versions) or Probe(Offer(versions, endpoint.name), Unseen(self._why_unseen))
            for versions in endpoint.planned
        )
        return Endpoint(
            name=endpoint.name,
            address=endpoint.destination.address,
            port=endpoint.destination.port,
            probes=(*probes, *endpoint.more_probes, *(endpoint.look.more_probes if endpoint.look is not None else ())),
            nameless=tuple(endpoint.look.nameless) if endpoint.look is not None else (),
            protocol=endpoint.look.protocol if endpoint.look is not None else None,
            reached_at=endpoint.destination.reached_at,
            minds=endpoint.minds,
            tries=tuple(endpoint.tries),
        )


def _read_all(chain: Sequence[bytes]) -> list[Certificate | MalformedCertificate]:
    return [read_certificate(each) for each in chain]


def _some_of_both_families(addresses: Sequence[str]) -> list[str]:
    by_family = ([each for each in addresses if ":" in each], [each for each in addresses if ":" not in each])
    in_turn = itertools.chain.from_iterable(itertools.zip_longest(*by_family))
    chosen = set(itertools.islice((each for each in in_turn if each is not None), MAX_ADDRESSES))
    return [each for each in addresses if each in chosen]


def _may_mind_the_hello(probe: Probe) -> bool:
    """Whether a refusal may be for something in the hello that need not be there, or for no reason at all."""
    match probe.answer:
        case Alert(description=description):
            return description != AlertDescription.PROTOCOL_VERSION
        case Ended(how=how):
            return how in {HowEnded.CLOSED, HowEnded.RESET}
        case _:
            return False
