"""What a look saw, and whether a later look saw it again: only then can anything be called closed.

A rule that finds nothing is silent for one of three reasons: what it looks at is in order, it is not there any more, or
it was not looked at.  The first two close a gap, the third never does.  So the sights of a look, each a question with
an answer, are counted apart from what rules make of them.  A gap may be closed by a later look that has every sight
of the earlier one that the rule's area asks for at the gap's hosts, but for those whose place is surely gone.
"""

import functools
from collections.abc import Iterator

import msgspec

from pewter.evidence import (
    DnsSeen,
    Endpoint,
    Evidence,
    Journey,
    Landed,
    NoConnection,
    Step,
    StopCause,
    Stopped,
    Unseen,
    WayIn,
)
from pewter.facts.case import why_no_handshake
from pewter.names.answers import final_data
from pewter.places import Place, PlaceKind
from pewter.web.sites import are_siblings
from pewter.web.urls import read_url

from .nature import GoesBy
from .rules import AREA_STEPS, RULE_OF, chosen_rules

_ENDS = frozenset({StopCause.LOOP, StopCause.TOO_MANY_HOPS, StopCause.BAD_LOCATION})
"""Ends of a journey at which nothing was left to be seen."""

_WITH_NAMES_BELOW = frozenset({"hsts", "redirect", "reach", "cookie", "name"})
"""Areas that judge a name by others: its sibling, and the names below it."""

_OF_PAGES = frozenset({"page", "cookie"})
"""Areas to which an error page in place of a page shows nothing."""


class Sight(msgspec.Struct, frozen=True):
    """One question of a look."""

    kind: str
    """``way``, ``hello``, ``protocol`` ...: by :data:`_STEP_OF`."""

    host: str
    what: str
    """What of the host: a URL, a port."""

    address: str = ""
    """At which alone; empty for a visitor's own choice."""

    def __str__(self) -> str:
        words = self.what or self.host
        return f"{words} at {self.address}" if self.address else words


_STEP_OF = {
    "way": Step.WAYS_IN,
    "absent": Step.ABSENT,
    "found": Step.FOUND,
    "page": Step.WAYS_IN,
    "sheet": Step.STYLE_SHEETS,
    "host": Step.HOSTS,
    "hello": Step.CERTIFICATES,
    "versions": Step.VERSIONS,
    "protocol": Step.PROTOCOLS,
    "status": Step.REVOCATION,
    "origin": Step.ORIGINS,
    "dns": Step.DNS,
}
"""By which step each kind of question is asked."""

_ONLY_FOR = {
    "host": GoesBy.UNKNOWN_HOST,
    "page": GoesBy.PAGES,
    "origin": GoesBy.ORIGIN,
    "status": GoesBy.STATUS,
}
"""Kinds of questions that only the rules of an area go by that say so."""

_KIND_OF = {WayIn.TYPED: "way", WayIn.ABSENT: "absent", WayIn.FOUND: "found"}


class Sights:
    """What one look asked, and what was answered."""

    def __init__(self, evidence: Evidence) -> None:
        self.evidence = evidence
        self.seen: set[Sight] = set()
        self.why_not: dict[Sight, str] = {}
        """Of what was asked and not answered, why."""

        for sight, why in _sights(evidence):
            if why:
                self.why_not.setdefault(sight, why)
            else:
                self.seen.add(sight)
        self.why_not = {sight: why for sight, why in self.why_not.items() if sight not in self.seen}

    @functools.cached_property
    def _in_order(self) -> list[Sight]:
        return sorted(self.seen, key=lambda each: (each.kind, each.host, each.what, each.address))

    @functools.cached_property
    def names(self) -> frozenset[str]:
        """Under review."""
        return frozenset(each.name for each in self.evidence.names)

    @functools.cached_property
    def rules(self) -> frozenset[str]:
        """Those that were judged."""
        return frozenset(rule.name for rule in chosen_rules(self.evidence.plan.only, self.evidence.plan.skip))

    @functools.cached_property
    def addresses(self) -> dict[str, frozenset[str]]:
        """Of each name whose addresses were all learnt."""
        return {
            each.name: frozenset(each.addresses)
            for each in self.evidence.names
            if each.addresses and not any(isinstance(lookup.answer, Unseen) for lookup in each.lookups)
        }

    def _has_left(self, host: str, address: str, later: "Sights") -> bool:
        """Whether an address of a name is none any more: another resolver may merely give others."""
        addresses = later.addresses.get(host)
        if addresses is None or address in addresses:
            return False
        return later.resolvers == self.resolvers or address not in later.told_by_servers.get(host, {address})

    @functools.cached_property
    def resolvers(self) -> frozenset[str]:
        """Addresses of the resolvers that were asked."""
        return frozenset(server.address for server in self.evidence.dns.servers if server.is_resolver)

    @functools.cached_property
    def told_by_servers(self) -> dict[str, frozenset[str]]:
        """Addresses of names, as the servers of their zones gave them."""
        found: dict[str, set[str]] = {}
        for question in self.evidence.dns.questions:
            if question.reply is None or question.type not in {"A", "AAAA"}:
                continue
            if not self.evidence.dns.servers[question.server].is_resolver:
                reply = self.evidence.dns.replies[question.reply]
                found.setdefault(question.name, set()).update(final_data(reply, question.name, question.type))
        return {name: frozenset(addresses) for name, addresses in found.items()}

    @functools.cached_property
    def _bad_pages(self) -> frozenset[str]:
        """Ways in that ended at an error page."""
        return frozenset(
            journey.start
            for journey in self.evidence.journeys
            if journey.hops and isinstance(journey.end, Landed) and journey.hops[-1].status >= 400
        )

    @functools.cached_property
    def _pages(self) -> frozenset[str]:
        return frozenset(page.url for page in self.evidence.pages)

    def is_by_route(self, host: str) -> bool:
        """Whether the host was looked at where a route led, and not where visitors go."""
        return any(each.name == host and each.routed and each.routed != (host,) for each in self.evidence.names)

    def why_not_again(self, rule: str, host: str, where: Place, later: "Sights", *, holds_there: bool) -> str:
        """Why a later look cannot say that a gap of this rule is closed; empty where it saw all that this one saw.

        ``holds_there``: the check was made at this very place and holds; at a URL or an address, what the look saw
        elsewhere then does not matter.
        """
        if rule not in later.rules:
            return _why_not_judged(later.evidence)
        area, goes_by = RULE_OF[rule].area, RULE_OF[rule].nature.goes_by
        hosts = self._concerned(area, host, where)
        for each in hosts:
            if each in self.names and self.is_by_route(each) != later.is_by_route(each):
                there = "where a route leads" if later.is_by_route(each) else "where visitors go, not by the route"
                return f"{each} was looked at {there} this time"
        if GoesBy.ALL_NAMES in goes_by and self.names - later.names:
            return f"{min(self.names - later.names)} was not looked at with it this time"
        steps = frozenset(AREA_STEPS[area])
        for sight in self._in_order:
            if sight.host not in hosts or _STEP_OF[sight.kind] not in steps:
                continue
            if holds_there and _is_elsewhere(sight, where):
                continue
            if area == "dns" and sight.kind != "dns" and GoesBy.SERVED not in goes_by:
                continue
            if area != "page" and (only := _ONLY_FOR.get(sight.kind)) is not None and only not in goes_by:
                continue
            if sight not in later.seen:
                if not self._is_gone(sight, later):
                    return later.why_not_seen(sight)
            elif area in _OF_PAGES and sight.kind in {"way", "found"}:
                newly_bad = later._bad_pages - self._bad_pages
                if sight.what in newly_bad:
                    return f"{sight.what} shows an error page this time"
        return ""

    def why_not_seen(self, sight: Sight) -> str:
        """Why this look did not see something."""
        if sight in self.why_not:
            return self.why_not[sight]
        plan = self.evidence.plan
        name = next((each for each in self.evidence.names if each.name == sight.host), None)
        if _STEP_OF[sight.kind] not in plan.steps:
            return f"{_STEP_OF[sight.kind].value} were not asked for this time"
        if sight.kind == "dns":
            return f"{sight.what} was not asked this time"
        if name is None:
            return f"{sight.host} was not looked at this time"
        if not name.addresses:
            reasons = (each.answer.reason for each in name.lookups if isinstance(each.answer, Unseen))
            return next(reasons, f"{sight.host} has no address this time")
        if self.evidence.interrupted:
            return "the look was interrupted"
        if sight.kind == "found":
            path = read_url(sight.what).target
            return f"{sight.what} is not linked from the home page this time, and was not looked at (--path {path})"
        if sight.address and sight.address not in name.addresses:
            return f"{sight.address} was not looked at: another resolver gave other addresses of {sight.host} this time"
        return f"{sight} was not looked at this time"

    def _concerned(self, area: str, host: str, where: Place) -> frozenset[str]:
        """Hosts that a rule of the area judges together with this one."""
        if not host or where.kind is PlaceKind.SITE:
            return self.names
        hosts = {host, where.host} - {""}
        if not hosts & self.names and where.kind is PlaceKind.NAME:
            hosts |= self.names  # of a name in their certificates
        if area == "dns":
            of_zone = where.kind in {PlaceKind.ZONE, PlaceKind.NAME_SERVER}
            asked = {sight.host for sight in self.seen if sight.kind == "dns"}
            hosts |= {each for each in asked if host.endswith(f".{each}") or (of_zone and each.endswith(f".{host}"))}
        elif area in _WITH_NAMES_BELOW and where.kind is PlaceKind.NAME:
            hosts |= {each for each in self.names if each.endswith(f".{host}") or are_siblings(each, host)}
        return frozenset(hosts)

    def _is_gone(self, sight: Sight, later: "Sights") -> bool:
        """Whether what was asked here is surely there no longer, so that nobody meets it."""
        if sight.address and sight.kind != "dns":
            return self._has_left(sight.host, sight.address, later)
        match sight.kind:
            case "page":
                hops = (hop for journey in later.evidence.journeys for hop in journey.hops)
                return all(hop.url != sight.what or hop.page is None for hop in hops)
            case "sheet":
                linked = any(sight.what in page.style_sheets for page in later.evidence.pages)
                shown = any(page.style_sheets and sight.what in page.style_sheets for page in self.evidence.pages)
                of_page = {page.url for page in self.evidence.pages if sight.what in page.style_sheets}
                return shown and not linked and of_page <= later._pages
            case "dns":
                if sight.host not in later.dns_hosts and not self._is_above_a_name(sight.host):
                    return True  # of a certificate that is not served any more
                servers = later.dns_servers
                return bool(servers) and bool(sight.address) and sight.address not in servers
        return False

    def _is_above_a_name(self, host: str) -> bool:
        return any(each == host or each.endswith(f".{host}") for each in self.names)

    @functools.cached_property
    def dns_hosts(self) -> frozenset[str]:
        """Names of which anything was asked, whether it was answered or not."""
        return frozenset(sight.host for sight in (*self.seen, *self.why_not) if sight.kind == "dns")

    @functools.cached_property
    def dns_servers(self) -> frozenset[str]:
        """Authoritative servers that were asked and answered."""
        return frozenset(sight.address for sight in self.seen if sight.kind == "dns" and sight.address)


def _is_elsewhere(sight: Sight, where: Place) -> bool:
    if where.kind in {PlaceKind.URL, PlaceKind.COOKIE}:
        return sight.kind in {"way", "absent", "found"} and sight.what != (where.url or where.text)
    return where.kind is PlaceKind.ENDPOINT and bool(sight.address) and sight.address != where.address


def _why_not_judged(evidence: Evidence) -> str:
    plan = evidence.plan
    how = f"--only {' '.join(plan.only)}" if plan.only else f"--skip {' '.join(plan.skip)}"
    return "it was not asked for this time" + (f" ({how})" if len(how) <= _LONGEST_HOW else "")


_LONGEST_HOW = 60


def _sights(evidence: Evidence) -> Iterator[tuple[Sight, str]]:
    """Every question, and why it has no answer; empty where it has one."""
    for journey in evidence.journeys:
        if journey.reason in _KIND_OF:
            start = read_url(journey.start)
            sight = Sight(_KIND_OF[journey.reason], start.host, journey.start, journey.by_address or "")
            yield sight, _why_not_followed(journey)
    kept = {(page.url, page.sha256) for page in evidence.pages}
    for journey in evidence.journeys:
        for hop in journey.hops:
            if hop.page is not None:
                why = "" if (hop.url, hop.page) in kept else f"the page at {hop.url} was not read this time"
                yield Sight("page", read_url(hop.url).host, hop.url), why
    fetched = {page.url for page in evidence.pages}
    for page in evidence.pages:
        for url in page.style_sheets:
            why = "" if url in fetched else f"{url} was not read this time"
            yield Sight("sheet", read_url(page.url).host, url), why
    for probe in evidence.host_probes:
        why = probe.answer.reason if isinstance(probe.answer, Unseen) and not probe.is_refused else ""
        yield Sight("host", probe.name, f"{probe.scheme} for another host at {probe.name}"), why
    shared = {
        (name, each.address, each.port): each.first
        for each in evidence.front_ends
        for name in (*each.alike, *each.unlike)
    }
    looked_at = {(each.name, each.address, each.port) for each in evidence.endpoints if each.protocol is not None}
    for endpoint in evidence.endpoints:
        yield from _of_endpoint(endpoint)
        key = (endpoint.name, endpoint.address, endpoint.port)
        first = shared.get(key, endpoint.name)
        if key in looked_at or (first, endpoint.address, endpoint.port) in looked_at:
            yield Sight("protocol", endpoint.name, str(endpoint.port), endpoint.address), ""
    for origin in evidence.origins:
        answers = (origin.secure, origin.plain, origin.probe.answer if origin.probe is not None else None)
        unseen = [each.reason for each in answers if isinstance(each, Unseen)]
        yield Sight("origin", origin.name, f"the origin of {origin.name}"), unseen[0] if unseen else ""
    said = {answer.of for answer in evidence.status_answers if not isinstance(answer.answer, Unseen)}
    for endpoint in evidence.endpoints:
        sent = {each for handshake in endpoint.handshakes for each in handshake.chain}
        why = "" if said & sent else "its CA did not say this time whether it is revoked"
        yield Sight("status", endpoint.name, f"whether the certificate of {endpoint.name} is revoked"), why
    yield from _of_names(evidence.dns)


def _why_not_followed(journey: Journey) -> str:
    """Why a way in was not seen to its end."""
    match journey.end:
        case Unseen(reason=reason):
            return reason
        case Stopped(cause=cause, detail=detail, at=at) if cause not in _ENDS:
            return f"{at}: {detail}"
    return "" if journey.hops else "no answer was seen"


def _of_endpoint(endpoint: Endpoint) -> Iterator[tuple[Sight, str]]:
    def sight(kind: str) -> Sight:
        port = f"{endpoint.name}:{endpoint.port}" if kind == "hello" else f"versions at {endpoint.name}:{endpoint.port}"
        return Sight(kind, endpoint.name, port, endpoint.address)

    yield sight("hello"), "" if endpoint.handshakes else why_no_handshake(endpoint)
    versions = sight("versions")
    for probe in endpoint.probes:
        if probe.offer.without or probe.offer.options:
            continue
        numbered = msgspec.structs.replace(versions, what=f"{versions.what} {probe.offer.versions}")
        match probe.answer:
            case Unseen(reason=reason) | NoConnection(detail=reason):
                yield numbered, reason
            case _:
                yield numbered, ""


def _of_names(dns: DnsSeen) -> Iterator[tuple[Sight, str]]:
    """Of a resolver the address does not count: another one may be in use."""
    for question in dns.questions:
        server = dns.servers[question.server]
        address = "" if server.is_resolver else server.address
        why = "" if question.reply is not None else question.why.value if question.why is not None else "no answer"
        who = "the resolver" if server.is_resolver else server.address
        # How it was asked (over TCP, once more) goes by what came before: that it was answered is what counts.
        yield (
            Sight("dns", question.name, f"{question.type} of {question.name}", address),
            f"{who}: {why}" if why else "",
        )
