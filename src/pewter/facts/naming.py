"""The site's zones: their servers, what each gave, and what cannot be told from here."""

from collections.abc import Iterator, Sequence
from typing import TypeVarTuple

import msgspec

from pewter.evidence import Reply, Seen, Unanswered, Unseen, Way
from pewter.names.addresses import why_not_public
from pewter.names.aliases import Chain, follow, targets_in
from pewter.names.answers import ROOT, Answers, data_of, final_data, is_at_or_below
from pewter.names.comparison import Said, behind, said_of, serials
from pewter.names.zones import (
    Delegation,
    Lame,
    apex_of,
    delegation_in,
    is_blocked,
    is_fresh,
    is_intercepted,
    lameness,
    parent_zone_of,
)
from pewter.places import Place, of_name, of_name_server, of_zone, the_site

from .case import Case
from .unseen import UnseenAt

Ts = TypeVarTuple("Ts")

BLOCKED = "no name server answers a direct question from here: port 53 is closed outward"
INTERCEPTED = "something on the way answers in place of the name servers: all of them answer as resolvers"
NOTHING_RESOLVES = "the resolver answers nothing"


class ZoneServer(msgspec.Struct, frozen=True):
    """One address of one server of a zone."""

    name: str
    address: str
    """Empty where the name has none."""

    number: int | None
    """In the evidence; None where it was not asked."""

    lame: Lame | Unseen | None
    """Why it does not serve the zone; None where it does."""

    place: Place

    @property
    def serves(self) -> bool:
        return self.lame is None


class Zone(msgspec.Struct, frozen=True):
    """One zone with names of the site in it."""

    apex: str
    names: tuple[str, ...]
    parent: str | None
    delegation: Delegation | Unseen
    """What the servers of the zone above say."""

    own: frozenset[str]
    """The names of its servers, as the zone itself says; empty where it did not."""

    servers: tuple[ZoneServer, ...]
    serials: dict[int, int]
    behind: frozenset[int]
    """Servers with an earlier serial than others."""

    answers_resolvers: bool = False
    """The resolver gets answers of which it has no copy."""

    @property
    def place(self) -> Place:
        return of_zone(self.apex)

    @property
    def good(self) -> tuple[int, ...]:
        """The numbers of the servers that serve it."""
        return tuple(dict.fromkeys(each.number for each in self.servers if each.serves and each.number is not None))

    @property
    def is_closed_to_us(self) -> bool:
        """No server answers the reviewer, and all the same they answer resolvers."""
        return self.answers_resolvers and not self.good

    def title(self, number: int) -> str:
        """A server for readers."""
        return next((each.place.text for each in self.servers if each.number == number), "a server")


class Naming(msgspec.Struct, frozen=True):
    """All of it."""

    answers: Answers
    zones: tuple[Zone, ...]
    names: tuple[str, ...]
    """Of the site, that were asked for."""

    why_nothing: str
    """Why the resolver tells nothing at all; empty where it does."""

    why_not_direct: str
    """Why nothing can be told of the servers themselves; empty where something can."""

    kept: dict[tuple[str, str, str], tuple[Said, ...]] = msgspec.field(default_factory=dict)

    def said(self, zone: Zone, name: str, record_type: str) -> tuple[Said, ...]:
        """What each server that serves the zone says of a name, once for all that ask."""
        key = zone.apex, name, record_type
        if key not in self.kept:
            self.kept[key] = said_of(self.answers, zone.good, name, record_type)
        return self.kept[key]

    def zone_of(self, name: str) -> Zone | None:
        return next((zone for zone in self.zones if name in zone.names), None)


# What rules go over


def each_zone(case: Case) -> Iterator[tuple[Naming, Zone] | UnseenAt]:
    """Each zone, or why nothing can be told of its servers."""
    found = naming(case)
    if found.why_nothing and found.names:
        yield UnseenAt(the_site("names"), found.why_nothing)
    for zone in found.zones:
        if found.why_not_direct:
            yield UnseenAt(zone.place, found.why_not_direct)
        else:
            yield found, zone


def each_server(case: Case) -> Iterator[tuple[Naming, Zone, ZoneServer, int] | UnseenAt]:
    """Every server of every zone that answers at all."""
    for each in each_zone(case):
        if isinstance(each, UnseenAt):
            yield each
            continue
        found, zone = each
        for server in zone.servers:
            if server.number is not None and server.serves:
                yield found, zone, server, server.number


def each_name(case: Case) -> Iterator[tuple[Naming, str] | UnseenAt]:
    """Each name that was asked for, or why the resolver tells nothing."""
    found = naming(case)
    if found.why_nothing and found.names:
        yield UnseenAt(the_site("names"), found.why_nothing)
        return
    for name in found.names:
        yield found, name


def each_name_in_zone(case: Case) -> Iterator[tuple[Naming, Zone, str] | UnseenAt]:
    """Each name with its zone, where the zone's servers can be asked."""
    for each in each_name(case):
        if isinstance(each, UnseenAt):
            yield each
            continue
        found, name = each
        zone = found.zone_of(name)
        if zone is None:
            yield UnseenAt(of_name(name), "its zone was not found")
        elif found.why_not_direct:
            yield UnseenAt(of_name(name), found.why_not_direct)
        elif not zone.good:
            yield UnseenAt(of_name(name), f"no server answers for {zone.apex}")
        elif why := _why_not_asked(found.answers, zone, name):
            yield UnseenAt(of_name(name), why)
        else:
            yield found, zone, name


_LEFT_OUT = (Unanswered.TOO_MANY, Unanswered.LATE)


def _why_not_asked(answers: Answers, zone: Zone, name: str) -> str:
    """Why the zone's servers were asked nothing about a name, for want of questions or time; empty where one was."""
    whys = {answers.why(number, name, kind) for number in zone.good for kind in ("A", "AAAA")}
    answered = (answers.reply(number, name, kind) for number in zone.good for kind in ("A", "AAAA"))
    if any(isinstance(each, Reply) for each in answered):
        return ""
    return next((each.value for each in _LEFT_OUT if each in whys), "")


def naming(case: Case) -> Naming:
    return case.once("naming", lambda: _read(case))


def _read(case: Case) -> Naming:
    answers = case.answers
    asked = {question.name for question in answers.seen.questions if question.type == "A"}
    names = tuple(each.name for each in case.evidence.names if each.name in asked and each.name in case.site_names)
    if not _anything_resolves(answers):
        return Naming(answers, (), names if answers.seen.questions else (), NOTHING_RESOLVES, "")
    blocked, intercepted = is_blocked(answers), is_intercepted(answers)
    apexes: dict[str, list[str]] = {}
    for name in names:
        apex = apex_of(answers, name)
        if apex is not None and apex != ROOT:
            apexes.setdefault(apex, []).append(name)
    zones = tuple(_zone(answers, apex, tuple(found)) for apex, found in apexes.items())
    why = BLOCKED if blocked else INTERCEPTED if intercepted else ""
    return Naming(answers, zones, names, "", why)


def _anything_resolves(answers: Answers) -> bool:
    return any(
        question.reply is not None and answers.server(question.server).is_resolver
        for question in answers.seen.questions
    )


def _zone(answers: Answers, apex: str, names: tuple[str, ...]) -> Zone:
    parent = parent_zone_of(answers, apex)
    delegation = _delegation(answers, apex, parent)
    at_parent = delegation.servers if isinstance(delegation, Delegation) else frozenset[str]()
    own = _own_servers(answers, apex, at_parent)
    servers = tuple(
        server for name in sorted(own | at_parent) for server in _addresses(answers, apex, name, delegation)
    )
    numbers = [each.number for each in servers if each.number is not None and each.serves]
    found = serials(answers, numbers, apex)
    return Zone(apex, names, parent, delegation, own, servers, found, behind(found), is_fresh(answers, apex))


NO_SERVER_ABOVE = Unseen("no server of the zone above was asked")


def _delegation(answers: Answers, apex: str, parent: str | None) -> Delegation | Unseen:
    """The first referral that a server of the zone above gave."""
    why = NO_SERVER_ABOVE
    if parent is None:
        return why
    for number, server in enumerate(answers.seen.servers):
        if server.is_resolver or not _is_of(answers, number, parent):
            continue
        reply = answers.reply(number, apex, "NS")
        if isinstance(reply, Unseen):
            why = reply if why is NO_SERVER_ABOVE else why
            continue
        found = delegation_in(reply, apex)
        if found is not None:
            return found
        if reply.is_authoritative and data_of(reply, "NS", apex):
            why = Unseen("the servers of the zone above serve this zone too: what the zone above says does not show")
    return why


def _is_of(answers: Answers, number: int, parent: str) -> bool:
    """Whether a server was asked as one of the zone above: by a name that the resolver gives for it."""
    ns = answers.resolved(parent, "NS")
    return isinstance(ns, Reply) and bool(set(answers.server(number).names) & data_of(ns, "NS", parent))


def sets_told(found: Naming, zone: Zone) -> dict[frozenset[str], list[int]]:
    """The zone's own set as each of its servers tells it, and which tell it so."""
    told: dict[frozenset[str], list[int]] = {}
    for number in zone.good:
        reply = found.answers.reply(number, zone.apex, "NS")
        if isinstance(reply, Reply) and reply.is_authoritative and (names := data_of(reply, "NS", zone.apex)):
            told.setdefault(names, []).append(number)
    return told


def _own_servers(answers: Answers, apex: str, at_parent: frozenset[str]) -> frozenset[str]:
    """The zone's own set: from a server that has authority, else from the resolver."""
    for server in answers.seen.servers:
        if not server.is_resolver:
            number = answers.seen.servers.index(server)
            reply = answers.reply(number, apex, "NS")
            if isinstance(reply, Reply) and reply.is_authoritative and data_of(reply, "NS", apex):
                return data_of(reply, "NS", apex)
    reply = answers.resolved(apex, "NS")
    return data_of(reply, "NS", apex) if isinstance(reply, Reply) else at_parent


def _addresses(answers: Answers, apex: str, name: str, delegation: Delegation | Unseen) -> Iterator[ZoneServer]:
    asked = answers.numbers_of(name)
    for number in asked:
        address = answers.server(number).address
        place = of_name_server(apex, name, address)
        yield ZoneServer(name, address, number, lameness(answers, number, apex), place)
    if asked:
        return
    place = of_name_server(apex, name)
    replies = [answers.resolved(name, kind) for kind in ("A", "AAAA")]
    known = [
        each
        for reply, kind in zip(replies, ("A", "AAAA"), strict=True)
        if isinstance(reply, Reply)
        for each in final_data(reply, name, kind)
    ]
    glue = delegation.glue.get(name) if isinstance(delegation, Delegation) else None
    wrong = {why_not_public(each) for each in (known or glue or ())}
    if wrong and None not in wrong:
        yield ZoneServer(name, next(iter(known or glue or ())), None, Lame.NOT_PUBLIC, place)
    elif known or glue:
        yield ZoneServer(name, next(iter(known or glue or ())), None, Unseen("it was not asked"), place)
    elif _is_without_address(replies, apex, name, delegation):
        yield ZoneServer(name, "", None, Lame.NO_ADDRESS, place)
    else:
        yield ZoneServer(name, "", None, Unseen("its address could not be looked up"), place)


def _is_without_address(
    replies: Sequence[Reply | Unseen], apex: str, name: str, delegation: Delegation | Unseen
) -> bool:
    """Whether a server has no address for anybody: none in DNS, or none as glue where only glue leads to the zone."""
    if all(isinstance(reply, Reply) and reply.rcode in {"NOERROR", "NXDOMAIN"} for reply in replies):
        return True
    failing = all(isinstance(reply, Reply) and reply.rcode == "SERVFAIL" for reply in replies)
    return failing and isinstance(delegation, Delegation) and is_at_or_below(name, apex) and not delegation.glue


def chain_of(answers: Answers, name: str) -> Chain | Unseen:
    """The aliases of a name, as the resolver and then the servers tell them."""
    replies = [answers.resolved(name, kind) for kind in ("A", "AAAA")]
    seen = [each for each in replies if isinstance(each, Reply)]
    if not seen:
        return replies[0] if isinstance(replies[0], Unseen) else Unseen(NOTHING_RESOLVES)
    has = any(
        isinstance(reply, Reply) and final_data(reply, name, kind)
        for reply, kind in zip(replies, ("A", "AAAA"), strict=True)
    )
    targets = targets_in(*seen)
    failing = all(each.rcode not in {"NOERROR", "NXDOMAIN"} for each in seen)
    if failing:
        # A resolver fails at a loop: the servers tell it.
        targets |= targets_in(*_direct(answers, name))
    rcode = next((each.rcode for each in seen if each.rcode in {"NOERROR", "NXDOMAIN"}), seen[0].rcode)
    return follow(name, targets, rcode, has)


def _direct(answers: Answers, name: str) -> Iterator[Reply]:
    for number, server in enumerate(answers.seen.servers):
        if not server.is_resolver:
            for kind in ("A", "AAAA", "CAA", "HTTPS"):
                reply = answers.reply(number, name, kind)
                if isinstance(reply, Reply):
                    yield reply


def addresses_at(answers: Answers, servers: tuple[int, ...], name: str) -> frozenset[str]:
    """All addresses that the servers of the zone gave for a name, over all repeats."""
    found: set[str] = set()
    for number in servers:
        for kind in ("A", "AAAA"):
            for reply in answers.replies(number, name, kind, Way.DIRECT, Way.AGAIN):
                found |= final_data(reply, name, kind)
    return frozenset(found)


def resolved_addresses(case: Case, name: str) -> frozenset[str]:
    """Those by which the look went."""
    for each in case.evidence.names:
        if each.name == name:
            return frozenset(
                address
                for lookup in each.lookups
                if isinstance(lookup.answer, Seen)
                for address in lookup.answer.value.addresses
            )
    return frozenset()


def addresses_of(answers: Answers, name: str) -> frozenset[str] | None:
    """By the first resolver; None where it could not tell."""
    found: set[str] = set()
    told = 0
    for kind in ("A", "AAAA"):
        reply = answers.resolved(name, kind)
        if isinstance(reply, Reply) and reply.rcode in {"NOERROR", "NXDOMAIN"}:
            told += 1
            found |= final_data(reply, name, kind)
    return frozenset(found) if found or told == 2 else None
