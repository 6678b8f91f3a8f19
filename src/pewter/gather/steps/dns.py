"""DNS: what the resolvers, the servers of the zone above and each server of the site's zones say.

In rounds, each of which asks everything at once: the resolvers; the resolver for what the answers named; the servers
directly; those again that were silent or differ.  The look at the site itself never waits for any of it.
"""

import itertools
from collections.abc import Coroutine, Sequence
from dataclasses import dataclass, field
from typing import Any

from pewter.evidence import Reply, Step, Unanswered, Way, is_ip_address, is_this_machine
from pewter.names.addresses import why_not_public
from pewter.names.aliases import MOST_ALIASES
from pewter.names.answers import (
    ROOT,
    Answers,
    ancestors,
    data_of,
    end_of_aliases,
    final_data,
    soa_above,
)
from pewter.names.comparison import differs_at_first
from pewter.names.https_records import AliasEnd, follow
from pewter.names.signatures import delegated_tags
from pewter.names.zones import apex_of, delegation_in, lameness, parent_zone_of
from pewter.places import HTTPS
from pewter.web.sites import sibling_of
from pewter.web.suffixes import is_apex, registrable_domain

from ..dns_asking import Asker
from ..hosts_file import in_hosts_file
from ..routes import Destination
from ..scene import Scene
from ..together import both, together
from . import services

MAX_SERVERS = 13
"""Of one zone, by name."""

MAX_ADDRESSES = 20
"""Of all servers of a zone that one set names."""

PARENT_SERVERS = 3
REPEATS = 3
ADDRESS_TYPES = ("A", "AAAA")
OF_A_NAME = ("A", "AAAA", "CAA", "HTTPS")
PORT = 53
MAX_SERVICES = 4
"""Of the HTTPS records of one name, in the order in which clients try them."""


def begin(scene: Scene) -> None:
    """For every target, and for siblings; not for those that routes alone lead to."""
    names = dict.fromkeys(each.host for each in scene.plan.targets if not is_this_machine(each.host))
    if scene.wants(Step.SIBLINGS):
        for name in tuple(names):
            sibling = sibling_of(name, is_apex)
            if sibling is not None:
                names.setdefault(sibling)
    scene.network.names.asker.hosts_file = in_hosts_file(names)
    scene.network.names.asker.own_domains = frozenset(registrable_domain(name) or name for name in names)
    asked = tuple(name for name in names if not is_ip_address(name) and not _is_routed(scene, name))
    if asked:
        scene.start(_DnsLook(scene, asked).run(), "name servers")


def _is_routed(scene: Scene, name: str) -> bool:
    routes = scene.network.routes
    host = name if name in scene.board.ports else next(iter(scene.board.ports))
    return bool(routes.for_name(name, 80) and routes.for_name(name, scene.board.ports[host]))


async def _nobody() -> list[int]:
    return []


@dataclass
class _DnsLook:
    """The questions of one site."""

    scene: Scene
    names: tuple[str, ...]
    looked_at: set[str] = field(default_factory=set)
    """Zones whose servers were asked."""

    @property
    def asker(self) -> Asker:
        return self.scene.network.names.asker

    def answers(self) -> Answers:
        return Answers(self.asker.seen())

    async def run(self) -> None:
        await self._resolvers()
        await self._what_was_named()
        # A zone at which the resolver fails is known only after the servers above it were asked.
        for _ in range(2):
            await self._servers()
        await self._dangling_ends()
        await self._again()

    # Round 1: the resolvers

    async def _resolvers(self) -> None:
        asker, service = self.asker, self.scene.network.names
        asked: list[Coroutine[Any, Any, object]] = [asker.ask(0, ROOT, "SOA", Way.RESOLVED)]
        for name in self.names:
            asked.append(service.look_up(name))
            asked.append(asker.ask(0, name, "HTTPS", Way.RESOLVED))
            for resolver, server in enumerate(asker.servers):
                if server.is_resolver and resolver:
                    asked += (asker.ask(resolver, name, kind, Way.RESOLVED) for kind in ADDRESS_TYPES)
        for level in dict.fromkeys(above for name in self.names for above in ancestors(name)):
            asked += (asker.ask(0, level, kind, Way.RESOLVED) for kind in ("SOA", "CAA"))
            if level not in self.names or is_apex(level):
                asked.append(asker.ask(0, level, "NS", Way.RESOLVED))
                if "." in level:
                    asked.append(asker.ask(0, level, "DS", Way.RESOLVED))
        await together(*asked)

    # Round 2: what these answers named

    async def _what_was_named(self) -> None:
        answers, asker = self.answers(), self.asker
        asked: list[Coroutine[Any, Any, object]] = []
        for name in self.names:
            for kind in ("A", "SOA", "AAAA", "CAA", "HTTPS"):
                reply = answers.resolved(name, kind)
                if isinstance(reply, Reply) and reply.rcode == "SERVFAIL":
                    asked.append(asker.ask(0, name, kind, Way.CHECKING_DISABLED))
            asked.append(self._https(name))
        for level in dict.fromkeys(above for name in self.names for above in ancestors(name)):
            soa = answers.resolved(level, "SOA")
            if isinstance(soa, Reply) and soa.rcode == "SERVFAIL":
                asked.append(asker.ask(0, level, "SOA", Way.CHECKING_DISABLED))
        for zone in self._zones(answers):
            asked += (asker.ask(0, zone, kind, Way.RESOLVED) for kind in ("NS", "DS"))
            parent = parent_zone_of(answers, zone)
            if parent is not None:
                asked.append(asker.ask(0, parent, "NS", Way.RESOLVED))
            asked += self._addresses_of_servers(answers, zone, MAX_SERVERS)
            asked += self._addresses_of_servers(answers, parent or "", PARENT_SERVERS)
        await together(*asked)

    async def _https(self, name: str) -> None:
        """Where HTTPS records lead: aliases are followed, and what is promised elsewhere is looked at."""
        found = follow(self.answers(), name)
        while found is not None and found.end is AliasEnd.UNKNOWN:
            reply = await self.asker.ask(0, found.last, "HTTPS", Way.RESOLVED)
            if not isinstance(reply, Reply) or reply.rcode not in {"NOERROR", "NXDOMAIN"}:
                break
            found = follow(self.answers(), name)
        if found is None:
            return
        promised = tuple(each for each in found.services if each.goes_over_tcp)[:MAX_SERVICES]
        targets = dict.fromkeys((*found.owners, *map(found.target_of, found.services[:MAX_SERVICES])))
        targets.pop(name)
        kinds = itertools.product(targets, ADDRESS_TYPES)
        await together(*(self.asker.ask(0, target, kind, Way.RESOLVED) for target, kind in kinds))
        for record in promised:
            services.begin(self.scene, name, found.target_of(record), record.port or HTTPS)

    def _addresses_of_servers(self, answers: Answers, zone: str, most: int) -> list[Coroutine[Any, Any, object]]:
        """Of those that are known already, so that the next round need not ask for them."""
        ns = answers.resolved(zone, "NS")
        names = sorted(data_of(ns, "NS", zone))[:most] if isinstance(ns, Reply) else []
        routes = self.scene.network.routes
        return [
            self.asker.ask(0, name, kind, Way.RESOLVED)
            for name in names
            if not routes.for_name(name, PORT)
            for kind in ADDRESS_TYPES
        ]

    def _zones(self, answers: Answers) -> tuple[str, ...]:
        found = (apex_of(answers, name) for name in self.names)
        return tuple(dict.fromkeys(each for each in found if each not in {None, ROOT}))

    def _names_in(self, answers: Answers, zone: str) -> tuple[str, ...]:
        return tuple(name for name in self.names if apex_of(answers, name) == zone)

    # Round 3: the servers themselves

    async def _servers(self) -> None:
        answers = self.answers()
        zones = tuple(zone for zone in self._zones(answers) if zone not in self.looked_at)
        lost = tuple(name for name in self.names if apex_of(answers, name) is None)
        await together(*(self._zone(answers, zone) for zone in zones), *(self._above(name) for name in lost))

    async def _above(self, name: str) -> None:
        """Where the resolver fails for a zone: ask the servers of the nearest one above that it knows."""
        answers = self.answers()
        for above in ancestors(name)[1:]:
            zone = apex_of(answers, above)
            if zone is not None:
                await self._ask_parent(zone, name)
                return

    async def _zone(self, answers: Answers, zone: str) -> None:
        self.looked_at.add(zone)
        names = self._names_in(answers, zone)
        parent = parent_zone_of(answers, zone)
        ns = answers.resolved(zone, "NS")
        servers = sorted(data_of(ns, "NS", zone)) if isinstance(ns, Reply) else []
        label = self._random_label(zone)
        asked_above, _ = await both(
            self._ask_parent(parent, zone) if parent is not None else _nobody(),
            self._ask_all(servers, {}, zone, names, label),
        )
        glue: dict[str, frozenset[str]] = {}
        if parent is not None:
            for number in asked_above or ():
                told = self.answers().reply(number, zone, "NS")
                delegation = delegation_in(told, zone) if isinstance(told, Reply) else None
                if delegation is not None:
                    glue = delegation.glue
                    servers = sorted(delegation.servers - set(servers))
                    break
            else:
                servers = []
            # Named by the zone above alone, or where the resolver knows of no server.
            await self._ask_all(servers, glue, zone, names, label)

    def _random_label(self, zone: str) -> str:
        return f"pewter-{self.scene.network.random(6).hex()}.{zone}"

    async def _ask_parent(self, parent: str, zone: str) -> list[int]:
        """Two or three servers of the zone above, for the referral and the DS; those that were asked."""
        ns = await self.asker.ask(0, parent, "NS", Way.RESOLVED)
        names = sorted(data_of(ns, "NS", parent))[:PARENT_SERVERS] if isinstance(ns, Reply) else []
        found = await together(*(self._destinations(name, ()) for name in names))
        numbers = [self.asker.add_server(each[0], name) for name, each in zip(names, found, strict=True) if each]
        await together(*(self.asker.ask(number, zone, kind, Way.DIRECT) for number in numbers for kind in ("NS", "DS")))
        return numbers

    async def _ask_all(
        self, servers: Sequence[str], glue: dict[str, frozenset[str]], zone: str, names: Sequence[str], label: str
    ) -> None:
        if len(servers) > MAX_SERVERS:
            left = len(servers) - MAX_SERVERS
            self.asker.not_asked[f"{left} of the {len(servers)} name servers of {zone}: {MAX_SERVERS} are asked"] = None
        asked: set[str] = set()
        tasks = (self._ask_by_name(server, glue, zone, names, label, asked) for server in servers[:MAX_SERVERS])
        await together(*tasks)

    async def _ask_by_name(
        self, server: str, glue: dict[str, frozenset[str]], zone: str, names: Sequence[str], label: str, asked: set[str]
    ) -> None:
        for destination in await self._destinations(server, sorted(glue.get(server, ()))):
            asked.add(destination.address)
            if len(asked) > MAX_ADDRESSES:
                self.asker.not_asked[f"more than {MAX_ADDRESSES} addresses of the name servers of {zone}"] = None
                return
            await self._ask_server(self.asker.add_server(destination, server), zone, names, label)

    async def _ask_server(self, number: int, zone: str, names: Sequence[str], label: str) -> None:
        asker = self.asker
        signed = any(
            delegated_tags(reply, zone) for reply in (self.answers().resolved(zone, "DS"),) if isinstance(reply, Reply)
        )
        asked = [asker.ask(number, zone, "SOA", Way.DIRECT), asker.ask(number, zone, "NS", Way.DIRECT)]
        asked += (asker.ask(number, name, kind, Way.DIRECT) for name in names for kind in OF_A_NAME)
        asked += [asker.ask(number, label, "A", Way.RANDOM), asker.ask(number, zone, "SOA", Way.TCP)]
        if signed:
            asked += (asker.ask(number, zone, kind, Way.SIGNED) for kind in ("SOA", "DNSKEY"))
            asked += (asker.ask(number, name, "A", Way.SIGNED) for name in names if name != zone)
        if zone not in names:
            asked.append(asker.ask(number, zone, "CAA", Way.DIRECT))
        await together(*asked)

    async def _destinations(self, server: str, glue: Sequence[str]) -> list[Destination]:
        """Where a name server is reached, as far as the guard lets it; IPv4 first."""
        routes = self.scene.network.routes
        routed = routes.for_name(server, PORT)
        if routed:
            return list(routed)
        found = await together(*(self.asker.ask(0, server, kind, Way.RESOLVED) for kind in ADDRESS_TYPES))
        addresses = [
            each
            for kind, reply in zip(ADDRESS_TYPES, found, strict=True)
            if isinstance(reply, Reply)
            for each in sorted(final_data(reply, server, kind))
        ]
        allowed = []
        for address in dict.fromkeys(addresses or glue):
            destination = routes.for_address(address, PORT)
            kind_of = why_not_public(destination.connect_address)
            if kind_of is None or destination.reached_at is not None or self._is_inside():
                allowed.append(destination)
            else:
                self.asker.not_asked[f"the name server {server}: {address} is {kind_of}"] = None
        return allowed

    def _is_inside(self) -> bool:
        """Whether the reviewer gave a resolver that is itself off the public internet."""
        service = self.scene.network.names
        return service.were_given and why_not_public(self.asker.servers[0].address) is not None

    # Round 4: where it needs more

    async def _dangling_ends(self) -> None:
        """Absence is claimed only after a server of the zone said so."""
        answers = self.answers()
        await together(*(self._end(answers, name) for name in self.names))

    async def _end(self, answers: Answers, name: str) -> None:
        replies = [answers.resolved(name, kind) for kind in ADDRESS_TYPES]
        seen = [each for each in replies if isinstance(each, Reply)]
        if not seen or any(final_data(reply, name, kind) for reply, kind in zip(seen, ADDRESS_TYPES, strict=False)):
            return
        end = end_of_aliases(seen[0], name)
        soa = soa_above(seen[0], end)
        if end == name or soa is None or len(seen[0].answer) > MOST_ALIASES:
            return
        domain = registrable_domain(end)
        if domain is not None and domain != end:
            await self.asker.ask(0, domain, "SOA", Way.RESOLVED)
        ns = await self.asker.ask(0, soa.owner, "NS", Way.RESOLVED)
        servers = sorted(data_of(ns, "NS", soa.owner))[:PARENT_SERVERS] if isinstance(ns, Reply) else []
        found = await together(*(self._destinations(each, ()) for each in servers))
        for server, destinations in zip(servers, found, strict=True):
            if destinations:
                number = self.asker.add_server(destinations[0], server)
                await together(*(self.asker.ask(number, end, kind, Way.DIRECT) for kind in ADDRESS_TYPES))
                return

    async def _again(self) -> None:
        answers, asker = self.answers(), self.asker
        asked: list[Coroutine[Any, Any, object]] = []
        for zone in self.looked_at:
            servers = self._servers_of(answers, zone)
            if servers and all(lameness(answers, number, zone) is not None for number in servers):
                # They may answer resolvers alone: of a label at random no resolver has a copy.
                asked.append(asker.ask(0, self._random_label(zone), "A", Way.RANDOM))
            for number in servers:
                if answers.why(number, zone, "SOA") is Unanswered.SILENT:
                    asker.revive(number)
                    asked += (asker.ask(number, zone, "SOA", way) for way in (Way.AGAIN, Way.PLAIN))
            for name in self._names_in(answers, zone):
                for kind in OF_A_NAME:
                    if differs_at_first(answers, servers, name, kind):
                        asked += (
                            asker.ask(number, name, kind, Way.AGAIN) for number in servers for _ in range(REPEATS)
                        )
        await together(*asked)

    def _servers_of(self, answers: Answers, zone: str) -> tuple[int, ...]:
        """Those that were asked as servers of the zone."""
        return tuple(
            number
            for number, server in enumerate(answers.seen.servers)
            if not server.is_resolver and answers.questions(number, zone, "SOA", Way.TCP)
        )
