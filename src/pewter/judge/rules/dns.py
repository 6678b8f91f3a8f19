"""Does everybody get the same, right answer?  Zones and their servers."""

from collections.abc import Iterator

from pewter.evidence import Reply, Step, Unseen, Way
from pewter.facts.case import Case
from pewter.facts.naming import Naming, Zone, ZoneServer, each_server, each_zone, naming, sets_told
from pewter.judge.nature import OF_NAMES, GoesBy
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import Rule, rule
from pewter.levels import Level
from pewter.names.answers import data_of, final_data, is_at_or_below
from pewter.names.comparison import disagree
from pewter.names.zones import Delegation, Lame
from pewter.phrases import some
from pewter.places import the_site

from . import dns_https, dns_names, dns_records
from .walks import over

_ADDRESS_TYPES = ("A", "AAAA")
_SHOWN = 6


def _listed(names: frozenset[str]) -> str:
    return some(sorted(names), _SHOWN)


@rule("dns/lame-server", level=Level.WEAKENS, sources=("RFC 9499 section 7", "RFC 1912 section 2.8"), nature=OF_NAMES)
@over(each_zone)
def lame_server(case: Case, found: Naming, zone: Zone) -> Iterator[RuleOutcome]:
    """Every server that the zone, or the zone above, names has to answer for the zone with authority."""
    none_left = not zone.good and not any(isinstance(server.lame, Unseen) for server in zone.servers)
    for server in zone.servers:
        match server.lame:
            case None:
                yield Holds(server.place, "answers with authority")
            case Unseen(reason=reason):
                yield Unknown(server.place, reason)
            case Lame() as lame if zone.is_closed_to_us and lame not in {Lame.NO_ADDRESS, Lame.NOT_PUBLIC}:
                words = f"asked from here, it {lame.value}; the resolver gets fresh answers from {zone.apex}"
                yield Unknown(server.place, words)
            case Lame() as lame:
                more = "; no other server is left" if none_left else ""
                yield Gap(
                    server.place,
                    f"{lame.value}{more}",
                    f"an answer for {zone.apex} with authority",
                    level=Level.BREAKS if none_left else None,
                    cause=f"{zone.apex} {server.name} {lame.value}",
                )


@rule("dns/delegation", level=Level.WEAKENS, sources=("RFC 1034 section 4.2.2",), nature=OF_NAMES)
@over(each_zone)
def delegation(case: Case, found: Naming, zone: Zone) -> Iterator[RuleOutcome]:
    """The zone above and the zone itself have to name the same servers: names are compared, not order or TTL."""
    if isinstance(zone.delegation, Unseen):
        yield Unknown(zone.place, zone.delegation.reason)
    elif not zone.own:
        yield Unknown(zone.place, "no server of the zone told its own set")
    elif len(told := sets_told(found, zone)) > 1:
        parts = [
            f"{_listed(names)} by {_listed(frozenset(map(zone.title, numbers)))}" for names, numbers in told.items()
        ]
        yield Gap(zone.place, f"its servers tell different sets: {'; '.join(parts)}", "the same set from every server")
    elif zone.delegation.servers == zone.own:
        yield Holds(zone.place, f"both name {_listed(zone.own)}")
    else:
        above, below = zone.delegation.servers - zone.own, zone.own - zone.delegation.servers
        words = [f"only the zone above names {_listed(above)}"] if above else []
        words += [f"only the zone itself names {_listed(below)}"] if below else []
        yield Gap(zone.place, "; ".join(words), "the same servers in both")


@rule("dns/unexpected-servers", level=Level.EXPOSES, sources=("RFC 1034 section 4.2.2",), nature=OF_NAMES)
def unexpected_servers(case: Case) -> Iterator[RuleOutcome]:
    """The servers that the registrar's side names have to be those that the site expects (name_servers)."""
    expected = frozenset(each.lower().rstrip(".") for each in case.expect.name_servers)
    if not expected:
        return
    found = naming(case)
    zone = found.zone_of(case.evidence.plan.first) or next(iter(found.zones), None)
    if zone is None:
        yield Unknown(the_site("names"), found.why_nothing or "the zone of the site was not found")
        return
    is_above = isinstance(zone.delegation, Delegation)
    servers = zone.delegation.servers if isinstance(zone.delegation, Delegation) else zone.own
    if not servers:
        yield Unknown(zone.place, "the set of servers was not seen")
    elif servers == expected:
        yield Holds(zone.place, _listed(servers))
    else:
        yield Gap(
            zone.place, f"{'the zone above' if is_above else 'the zone'} names {_listed(servers)}", _listed(expected)
        )


@rule("dns/glue", level=Level.WEAKENS, sources=("RFC 1034 section 4.2.1", "RFC 9471 section 3"), nature=OF_NAMES)
@over(each_zone)
def glue(case: Case, found: Naming, zone: Zone) -> Iterator[RuleOutcome]:
    """A server whose name lies in the zone is found by the addresses that the zone above holds for it."""
    if isinstance(zone.delegation, Unseen):
        yield Unknown(zone.place, zone.delegation.reason)
        return
    needed = sorted(name for name in zone.delegation.servers if is_at_or_below(name, zone.apex))
    missing = [name for name in needed if not zone.delegation.glue.get(name)]
    no_way_in = len(missing) == len(zone.delegation.servers)
    for name in needed:
        place = next((server.place for server in zone.servers if server.name == name), zone.place)
        held = zone.delegation.glue.get(name, frozenset())
        own = _addresses(found, zone, name)
        if name in missing:
            level = Level.BREAKS if no_way_in else None
            seen = f"the zone above holds no address of {name}, which lies in the zone itself"
            yield Gap(place, seen, "its addresses as glue", level=level)
        elif own and held - own:
            yield Gap(place, f"the zone above holds {_listed(held)}, the zone has {_listed(own)}", "the same addresses")
        else:
            yield Holds(place, f"glue {_listed(held)}")


def _addresses(found: Naming, zone: Zone, name: str) -> frozenset[str]:
    """Of a server, as the zone itself says; the resolver may have kept the glue."""
    own: set[str] = set()
    for kind in _ADDRESS_TYPES:
        for reply in (found.answers.resolved(name, kind), *(found.answers.reply(n, name, kind) for n in zone.good)):
            if isinstance(reply, Reply):
                own |= final_data(reply, name, kind)
    return frozenset(own)


@rule(
    "dns/server-alias", level=Level.WEAKENS, sources=("RFC 2181 section 10.3", "RFC 1912 section 2.4"), nature=OF_NAMES
)
def server_alias(case: Case) -> Iterator[RuleOutcome]:
    """The name of a server must not be an alias."""
    found = naming(case)
    for zone in found.zones:
        for name in sorted({server.name for server in zone.servers}):
            place = next(server.place for server in zone.servers if server.name == name)
            reply = found.answers.resolved(name, "A")
            if isinstance(reply, Unseen):
                continue
            target = data_of(reply, "CNAME", name)
            if target:
                yield Gap(place, f"{name} is an alias of {_listed(target)}", "a name with addresses of its own")
            else:
                yield Holds(place, "a name with addresses of its own")


@rule("dns/one-server", level=Level.NOTE, sources=("RFC 1034 section 4.1", "RFC 2182 section 5"), nature=OF_NAMES)
def one_server(case: Case) -> Iterator[RuleOutcome]:
    """One server, or all at one address: when it fails, the site cannot be found."""
    for zone in naming(case).zones:
        names = {server.name for server in zone.servers}
        addresses = {server.address for server in zone.servers if server.address}
        if not names:
            continue
        if len(names) < case.expect.name_server_minimum:
            yield Gap(
                zone.place, f"{len(names)}: {_listed(frozenset(names))}", f"{case.expect.name_server_minimum} or more"
            )
        elif len(addresses) == 1 and all(server.address for server in zone.servers):
            yield Gap(zone.place, f"all at {next(iter(addresses))}", "servers on different networks")
        else:
            yield Holds(zone.place, f"{len(names)} servers")


@rule("dns/no-tcp", level=Level.WEAKENS, sources=("RFC 7766 section 5", "RFC 9210 section 3"), nature=OF_NAMES)
@over(each_server)
def no_tcp(case: Case, found: Naming, zone: Zone, server: ZoneServer, number: int) -> Iterator[RuleOutcome]:
    """A server has to answer over TCP too: large answers cannot be had otherwise."""
    asked = found.answers.questions(number, zone.apex, "SOA", Way.TCP)
    if any(question.reply is not None for question in asked):
        yield Holds(server.place, "answers over TCP")
    elif asked and asked[0].why is not None and asked[0].why.is_of_server:
        cut = [question for question, reply in found.answers.replies_of(number) if reply.is_truncated]
        more = f"; its answer for {cut[0].name} {cut[0].type} does not fit a datagram" if cut else ""
        seen = f"over TCP {asked[0].why.value}{more}"
        yield Gap(server.place, seen, "answers over UDP and TCP", level=Level.BREAKS if cut else None)
    else:
        yield Unknown(server.place, asked[0].why.value if asked and asked[0].why else "it was not asked over TCP")


@rule("dns/edns", level=Level.WEAKENS, sources=("RFC 6891 section 7", "RFC 8906 section 4"), nature=OF_NAMES)
@over(each_server)
def edns(case: Case, found: Naming, zone: Zone, server: ZoneServer, number: int) -> Iterator[RuleOutcome]:
    """A question with EDNS has to be answered; without an OPT record is no fault."""
    with_edns = found.answers.questions(number, zone.apex, "SOA", Way.DIRECT)
    plain = found.answers.questions(number, zone.apex, "SOA", Way.PLAIN)
    answers_plainly = any(question.reply is not None for question in plain)
    reply = next((found.answers.seen.replies[q.reply] for q in with_edns if q.reply is not None), None)
    if reply is None and answers_plainly:
        yield Gap(server.place, "silent to a question with EDNS, and answers one without", "an answer to both")
    elif reply is not None and reply.rcode in {"FORMERR", "NOTIMP", "BADVERS"} and answers_plainly:
        yield Gap(server.place, f"{reply.rcode} to a question with EDNS", "an answer to both")
    elif reply is not None:
        yield Holds(server.place, "answers with EDNS" if reply.has_edns else "answers; without EDNS, which is no fault")


@rule("dns/slow-server", level=Level.NOTE, sources=("Pewter's baseline (name_server_seconds)",), nature=OF_NAMES)
@over(each_server)
def slow_server(case: Case, found: Naming, zone: Zone, server: ZoneServer, number: int) -> Iterator[RuleOutcome]:
    """The best answer of a server should come soon: visitors wait for it."""
    limit = case.expect.name_server_seconds
    took = [question.milliseconds for question, _ in found.answers.replies_of(number)]
    if len(took) < 2:
        yield Unknown(server.place, "fewer than two answers came")
    elif min(took) > limit * 1000:
        yield Gap(server.place, f"{min(took) / 1000:.1f} s for the best of {len(took)} answers", f"at most {limit:g} s")
    else:
        yield Holds(server.place, f"answers within {limit:g} s")


@rule("dns/serials-differ", level=Level.NOTE, sources=("RFC 1982 section 3",), nature=OF_NAMES)
@over(each_zone)
def serials_differ(case: Case, found: Naming, zone: Zone) -> Iterator[RuleOutcome]:
    """Serials that differ while all answers agree: a transfer is under way, or each server counts for itself."""
    if len(zone.serials) < 2:
        return
    if any(disagree(found.said(zone, name, kind)) for name in zone.names for kind in dns_names.TYPES):
        return  # dns/servers-disagree tells them
    if len(set(zone.serials.values())) == 1:
        yield Holds(zone.place, f"serial {next(iter(zone.serials.values()))} at every server")
    else:
        shown = ", ".join(f"{zone.title(number)} {serial}" for number, serial in zone.serials.items())
        yield Gap(zone.place, shown, "one serial, or servers that count for themselves")


@rule(
    "dns/wildcard",
    level=Level.NOTE,
    sources=("RFC 4592 section 2.2",),
    nature=OF_NAMES.but(goes_by=frozenset({GoesBy.SERVED})),
)
@over(each_zone)
def wildcard(case: Case, found: Naming, zone: Zone) -> Iterator[RuleOutcome]:
    """Where every name exists, so does every typing error, under the site's domain."""
    asked = (each.name for each in found.answers.seen.questions if each.way is Way.RANDOM)
    labels = {name for name in asked if name.partition(".")[2] == zone.apex}
    replies = [
        reply
        for label in labels
        for number in zone.good
        if isinstance(reply := found.answers.reply(number, label, "A", Way.RANDOM), Reply)
    ]
    given = frozenset[str]().union(*(_given(reply) for reply in replies))
    if not replies:
        yield Unknown(zone.place, "no server answered for a name at random")
    elif given:
        yield Gap(zone.place, f"a name at random leads to {_listed(given)}", "only names that are set up")
    else:
        yield Holds(zone.place, "a name at random does not exist")


def _given(reply: Reply) -> frozenset[str]:
    return data_of(reply, "A") or data_of(reply, "CNAME")


STEPS: tuple[Step, ...] = (Step.SIBLINGS, Step.WAYS_IN, Step.CERTIFICATES, Step.COVERED_NAMES, Step.ISSUERS, Step.DNS)
"""What has to be asked for its rules."""

RULES: tuple[Rule[Case], ...] = (
    dns_names.does_not_resolve,
    lame_server,
    delegation,
    unexpected_servers,
    glue,
    server_alias,
    one_server,
    no_tcp,
    edns,
    slow_server,
    dns_names.type_fails,
    dns_names.servers_disagree,
    dns_names.still_cached,
    dns_names.unexpected_address,
    serials_differ,
    dns_names.long_ttl,
    dns_names.dangling_alias,
    dns_names.alias_at_apex,
    dns_names.alias_beside_records,
    dns_names.alias_loop,
    dns_names.long_alias_chain,
    dns_names.private_address,
    wildcard,
    *dns_records.RULES,
    *dns_https.RULES,
)
