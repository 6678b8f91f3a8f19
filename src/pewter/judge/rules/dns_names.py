"""Does everybody get the same, right answer?  Names, their addresses and aliases."""

from collections.abc import Iterator, Sequence

from pewter.evidence import Reply, Seen, Unanswered, Unseen, Way
from pewter.expectations import write_duration
from pewter.facts.case import Case
from pewter.facts.denials import denial_kept
from pewter.facts.naming import (
    Naming,
    Zone,
    addresses_at,
    chain_of,
    each_name,
    each_name_in_zone,
    naming,
    resolved_addresses,
)
from pewter.facts.unseen import UnseenAt
from pewter.judge.nature import OF_NAMES, Matter
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.names.addresses import why_not_public
from pewter.names.aliases import ChainEnd
from pewter.names.answers import data_of, end_of_aliases, final_data, is_nodata, records_of
from pewter.names.comparison import Said, disagree, said_of
from pewter.names.signatures import is_bogus
from pewter.names.spread import ttl_of
from pewter.phrases import counted, some
from pewter.places import of_name, the_site
from pewter.web.suffixes import registrable_domain

from .walks import over, unknown

TYPES = ("A", "AAAA", "CAA", "HTTPS")
_ADDRESS_TYPES = ("A", "AAAA")
_SHOWN = 6


def _listed(texts: Sequence[str] | frozenset[str]) -> str:
    return some(sorted(texts) if isinstance(texts, frozenset) else list(texts), _SHOWN)


@rule(
    "dns/does-not-resolve",
    level=Level.BREAKS,
    sources=("RFC 1034 section 5.2.2", "RFC 9520 section 3.2"),
    nature=OF_NAMES,
)
@over(each_name)
def does_not_resolve(case: Case, found: Naming, name: str) -> Iterator[RuleOutcome]:
    """The resolver has to answer for the name, if only that it does not exist."""
    lookups = next((known.lookups for known in case.evidence.names if known.name == name), ())
    if any(isinstance(lookup.answer, Seen) for lookup in lookups):
        yield Holds(of_name(name), "the resolver answers")
        return
    replies = [found.answers.resolved(name, kind) for kind in _ADDRESS_TYPES]
    why = next((reply.reason if isinstance(reply, Unseen) else reply.rcode for reply in replies), "")
    cause = _why_it_fails(found, name)
    seen = f"the resolver: {why}{f'; {cause}' if cause else ''}"
    yield Gap(of_name(name), seen, "an answer", cause=seen)


def _why_it_fails(found: Naming, name: str) -> str:
    if is_bogus(found.answers.resolved(name, "A"), found.answers.resolved(name, "A", Way.CHECKING_DISABLED)):
        return "it answers once it does not check signatures (DNSSEC)"
    chain = chain_of(found.answers, name)
    if not isinstance(chain, Unseen) and chain.end is ChainEnd.LOOP:
        return "the aliases go round in circles"
    zone = found.zone_of(name)
    if zone is not None and zone.servers and not zone.good and not found.why_not_direct:
        return f"no server answers for {zone.apex}"
    return ""


@rule("dns/type-fails", level=Level.WEAKENS, sources=("RFC 4074 section 4", "RFC 3597 section 3"), nature=OF_NAMES)
@over(each_name_in_zone)
def type_fails(case: Case, found: Naming, zone: Zone, name: str) -> Iterator[RuleOutcome]:
    """Where A is answered, other types have to be too: with the record, or that there is none."""
    failing = _failing(found, zone, name)
    a = [found.answers.reply(number, name, "A") for number in zone.good]
    if failing:
        seen = "; ".join(f"{words} at {_listed(servers)}" for words, servers in failing.items())
        is_answered = all(isinstance(reply, Reply) and reply.rcode in {"NOERROR", "NXDOMAIN"} for reply in a)
        remark = "A is answered; " if is_answered else ""
        yield Gap(of_name(name), f"{remark}{seen}", "the record, or that there is none", cause=seen)
    elif any(isinstance(reply, Reply) and reply.rcode == "NOERROR" for reply in a):
        replies = (found.answers.reply(number, name, kind) for number in zone.good for kind in TYPES)
        unseen = next((reply for reply in replies if isinstance(reply, Unseen)), None)
        if unseen is not None:
            yield Unknown(of_name(name), unseen.reason)
        else:
            yield Holds(of_name(name), "every type is answered")


def _failing(found: Naming, zone: Zone, name: str) -> dict[str, list[str]]:
    """Of servers that serve the zone: how they fail for a name, and at which of them."""
    failing: dict[str, list[str]] = {}
    chain = chain_of(found.answers, name)
    if not isinstance(chain, Unseen) and chain.end is ChainEnd.LOOP:
        return {}  # at which servers fail as well: dns/alias-loop speaks of it
    for number in zone.good:
        whys: dict[str, list[str]] = {}
        for kind in TYPES:
            why = _why_failed(found, zone, number, name, kind)
            if why:
                whys.setdefault(why, []).append(kind)
        for why, kinds in whys.items():
            words = f"{'every type' if len(kinds) == len(TYPES) else ', '.join(kinds)}: {why}"
            failing.setdefault(words, []).append(zone.title(number))
    return failing


def _why_failed(found: Naming, zone: Zone, number: int, name: str, kind: str) -> str:
    """Why a server that serves the zone gives no answer that can be used; empty where it does, or was not asked."""
    reply = found.answers.reply(number, name, kind)
    if isinstance(reply, Unseen):
        questions = found.answers.questions(number, name, kind, Way.DIRECT)
        why = questions[0].why if questions else None
        if why is Unanswered.SILENT and found.answers.why(number, zone.apex, "SOA") is Unanswered.SILENT:
            return ""  # it is silent over UDP altogether
        return why.value if why is not None and why.is_of_server else ""
    if reply.rcode == "NXDOMAIN" and end_of_aliases(reply, name) == name and kind != "A":
        a = found.answers.reply(number, name, "A")
        return "NXDOMAIN" if isinstance(a, Reply) and a.rcode == "NOERROR" else ""
    return reply.rcode if reply.rcode not in {"NOERROR", "NXDOMAIN"} else ""


@rule(
    "dns/servers-disagree",
    level=Level.WEAKENS,
    sources=("RFC 1034 section 4.3.5", "RFC 2182 section 2"),
    nature=OF_NAMES.but(matter=Matter.SPREADING),
)
@over(each_name_in_zone)
def servers_disagree(case: Case, found: Naming, zone: Zone, name: str) -> Iterator[RuleOutcome]:
    """Every server of the zone has to give the same answer about the site's names; rotation is none of that."""
    by_type = {kind: found.said(zone, name, kind) for kind in TYPES}
    if len(zone.good) < 2:
        return
    different = {kind: said for kind, said in by_type.items() if disagree(said)}
    if not different:
        if _failing(found, zone, name):
            return  # dns/type-fails speaks of these
        if lacking := [zone.title(n) for n in zone.good for kind in _ADDRESS_TYPES if not _compared(by_type[kind], n)]:
            yield Unknown(of_name(name), f"no answer that can be compared from {_listed(frozenset(lacking))}")
            return
        yield Holds(of_name(name), f"{max(map(len, by_type.values()))} servers agree")
        return
    parts = tuple(f"{kind}: {_who_gives_what(zone, said)}" for kind, said in different.items())
    yield Gap(of_name(name), "; ".join(parts), "one answer from every server", parts=parts, cause="; ".join(parts))


def _compared(said: Sequence[Said], server: int) -> bool:
    return any(each.server == server for each in said)


def _who_gives_what(zone: Zone, said: Sequence[Said]) -> str:
    groups: dict[frozenset[str], list[int]] = {}
    for each in said:
        groups.setdefault(each.union, []).append(each.server)
    ranked = sorted(
        groups.items(), key=lambda group: (all(number in zone.behind for number in group[1]), -len(group[1]))
    )
    words = []
    for given, numbers in ranked:
        who = _listed([zone.title(number) for number in numbers])
        late = all(number in zone.behind for number in numbers)
        serial = zone.serials.get(numbers[0])
        remark = f" (serial {serial}{', behind' if late else ''})" if serial is not None else ""
        words.append(f"{_shown(given)} from {who}{remark}")
    return "; ".join(words)


def _shown(given: frozenset[str]) -> str:
    """Octets of CAA and HTTPS records say nothing to a reader."""
    if not given:
        return "nothing"
    return _listed(frozenset(each if len(each) < 64 and not _is_hex(each) else "a record" for each in given))


def _is_hex(text: str) -> bool:
    return len(text) > 6 and all(each in "0123456789abcdef" for each in text)


@rule(
    "dns/still-cached",
    level=Level.NOTE,
    sources=("RFC 1035 section 3.2.1", "RFC 8767 section 4"),
    nature=OF_NAMES.but(matter=Matter.SPREADING),
)
@over(each_name_in_zone)
def still_cached(case: Case, found: Naming, zone: Zone, name: str) -> Iterator[RuleOutcome]:
    """A resolver that gives the earlier answer, while every server has a new one, has an old copy."""
    now = [number for number in zone.good if number not in zone.behind]
    for kind in _ADDRESS_TYPES:
        if disagree(found.said(zone, name, kind)):
            continue  # dns/servers-disagree tells them
        new = frozenset[str]().union(*(said.union for said in said_of(found.answers, now, name, kind)))
        old = frozenset[str]().union(*(said.union for said in said_of(found.answers, zone.behind, name, kind)))
        for resolver in found.answers.resolvers:
            reply = found.answers.reply(resolver, name, kind, Way.RESOLVED)
            if isinstance(reply, Reply) and (words := denial_kept(case, zone, reply, name, new)):
                yield Gap(
                    of_name(name), f"the resolver at {found.answers.server(resolver).address} {words}", _listed(new)
                )
            if isinstance(reply, Unseen) or reply.rcode != "NOERROR" or not new:
                continue
            given, at = final_data(reply, name, kind), found.answers.server(resolver).address
            if not given or given <= new or data_of(reply, "CNAME", name):
                continue
            left = ttl_of(records_of(reply, kind))
            if given <= old | _given_earlier(case, name, kind):
                seen = f"the resolver at {at} still gives {_listed(given)}, for {left} s more"
                yield Gap(of_name(name), seen, _listed(new))
            else:
                words = f"the resolver at {at} gives {_listed(given)}, the servers {_listed(new)}"
                yield Unknown(of_name(name), f"{words}: an old copy, an answer by place, or its own policy")


def _given_earlier(case: Case, name: str, kind: str) -> frozenset[str]:
    """What the resolver gave in the earlier review."""
    reply = case.earlier.resolved(name, kind) if case.earlier is not None else None
    return final_data(reply, name, kind) if isinstance(reply, Reply) else frozenset()


@rule("dns/unexpected-address", level=Level.WEAKENS, sources=("RFC 1035 section 3.4.1",), nature=OF_NAMES)
def unexpected_address(case: Case) -> Iterator[RuleOutcome]:
    """Every server and resolver has to give the addresses that the site expects (addresses)."""
    found = naming(case)
    for name, wished in case.expect.addresses.items():
        expected, zone = frozenset(wished), found.zone_of(name)
        who: dict[str, frozenset[str]] = {}
        for number in zone.good if zone is not None else ():
            who[zone.title(number) if zone else ""] = addresses_at(found.answers, (number,), name)
        for resolver in found.answers.resolvers:
            replies = [found.answers.reply(resolver, name, kind, Way.RESOLVED) for kind in _ADDRESS_TYPES]
            if any(isinstance(reply, Reply) for reply in replies):
                given = (
                    final_data(reply, name, kind)
                    for reply, kind in zip(replies, _ADDRESS_TYPES, strict=True)
                    if isinstance(reply, Reply)
                )
                who[f"the resolver at {found.answers.server(resolver).address}"] = frozenset[str]().union(*given)
        wrong = {title: given for title, given in who.items() if given != expected}
        if not who:
            yield Unknown(of_name(name), found.why_nothing or "no answer for it was seen")
        elif wrong:
            head = (
                f"{len(who) - len(wrong)} of {len(who)} already give it" if len(wrong) < len(who) else "none gives it"
            )
            parts = (head, *(f"{title} gives {_shown(given)}" for title, given in wrong.items()))
            yield Gap(of_name(name), "; ".join(parts), _listed(expected), parts=parts)
        else:
            yield Holds(of_name(name), f"{len(who)} give it")


@rule("dns/long-ttl", level=Level.NOTE, sources=("RFC 1035 section 3.2.1", "RFC 2181 section 8"), nature=OF_NAMES)
@over(each_name_in_zone)
def long_ttl(case: Case, found: Naming, zone: Zone, name: str) -> Iterator[RuleOutcome]:
    """A change takes as long as the TTL of the record before it."""
    longest = int(case.expect.longest_ttl.total_seconds())
    ttls: dict[str, int] = {}
    for number in zone.good:
        for owner, kind in ((name, "A"), (name, "AAAA"), (zone.apex, "NS")):
            reply = found.answers.reply(number, owner, kind)
            if isinstance(reply, Reply) and reply.is_authoritative:
                for of in (kind, "CNAME"):
                    ttl = ttl_of(records_of(reply, of, owner))
                    if ttl is not None:
                        what = f"{of} of {owner}"
                        ttls[what] = max(ttls.get(what, 0), ttl)
    long = {what: ttl for what, ttl in ttls.items() if ttl > longest}
    if long:
        parts = tuple(f"{what}: {ttl} s" for what, ttl in long.items())
        yield Gap(of_name(name), "; ".join(parts), f"at most {write_duration(case.expect.longest_ttl)}", parts=parts)
    elif ttls:
        yield Holds(of_name(name), "a change is everywhere in time")


@rule("dns/dangling-alias", level=Level.WEAKENS, sources=("RFC 1034 section 3.6.2",), nature=OF_NAMES)
@over(each_name)
def dangling_alias(case: Case, found: Naming, name: str) -> Iterator[RuleOutcome]:
    """An alias has to lead to a name with addresses; where it leads outside, somebody else may be given that name."""
    chain = chain_of(found.answers, name)
    if isinstance(chain, Unseen) or not chain.aliases:
        return
    shown = " -> ".join(chain.links)
    if chain.end is ChainEnd.ADDRESSES:
        yield Holds(of_name(name), shown)
    elif chain.end in {ChainEnd.NO_SUCH_NAME, ChainEnd.NOTHING}:
        if not _is_confirmed(found, chain.last):
            yield Unknown(of_name(name), f"only the resolver says that {chain.last} has no address")
            return
        yield _dangling(case, found, name, shown, chain.last, chain.end)


def _dangling(case: Case, found: Naming, name: str, shown: str, end: str, how: ChainEnd) -> Gap:
    own = {registrable_domain(each) for each in case.site_names}
    domain = registrable_domain(end)
    if domain in own:
        return Gap(of_name(name), f"{shown}: {how.value}", "an end with addresses", cause=shown)
    soa = found.answers.resolved(domain, "SOA") if domain is not None else Unseen("")
    gone = isinstance(soa, Reply) and soa.rcode == "NXDOMAIN"
    detail = f"The domain {domain} does not exist: anyone may register it." if gone else ""
    return Gap(of_name(name), f"{shown}: {how.value}", "an end with addresses", shown, Level.EXPOSES, detail)


def _is_confirmed(found: Naming, end: str) -> bool:
    """Said by a server of the zone, or by two resolvers."""
    sayers = 0
    for number, server in enumerate(found.answers.seen.servers):
        way = Way.RESOLVED if server.is_resolver else Way.DIRECT
        for question, reply in found.answers.replies_of(number):
            is_about = question.way is way and (question.name == end or end_of_aliases(reply, question.name) == end)
            if not is_about or question.type not in _ADDRESS_TYPES:
                continue
            if not (reply.rcode == "NXDOMAIN" or is_nodata(reply, end, question.type)):
                continue
            if server.is_resolver:
                sayers += 1
                break
            if reply.is_authoritative and question.name == end:
                return True
    return sayers > 1


@rule(
    "dns/alias-at-apex",
    level=Level.WEAKENS,
    sources=("RFC 1034 section 3.6.2", "RFC 9460 section 2.4.2"),
    nature=OF_NAMES,
)
def alias_at_apex(case: Case) -> Iterator[RuleOutcome]:
    """The apex has SOA and NS, so it never can be an alias: what a resolver says depends on what it asked first."""
    found = naming(case)
    for zone in found.zones:
        if found.why_not_direct:
            yield Unknown(zone.place, found.why_not_direct)
            continue
        targets: set[str] = set()
        for number in zone.good:
            for kind in ("NS", *TYPES):
                reply = found.answers.reply(number, zone.apex, kind)
                if isinstance(reply, Reply) and reply.is_authoritative:
                    targets |= data_of(reply, "CNAME", zone.apex)
        if targets:
            reply = found.answers.resolved(zone.apex, "A")
            lost = isinstance(reply, Reply) and not final_data(reply, zone.apex, "A")
            level = Level.BREAKS if lost else None
            yield Gap(
                zone.place,
                f"{zone.apex} is an alias of {_listed(frozenset(targets))}",
                "A and AAAA records",
                level=level,
            )
        elif zone.good:
            yield Holds(zone.place, "the apex is no alias")


@rule(
    "dns/alias-beside-records",
    level=Level.WEAKENS,
    sources=("RFC 1034 section 3.6.2", "RFC 2181 section 10.1"),
    nature=OF_NAMES,
)
@over(each_name_in_zone)
def alias_beside_records(case: Case, found: Naming, zone: Zone, name: str) -> Iterator[RuleOutcome]:
    """An alias has no other data beside it."""
    if name == zone.apex:
        return
    beside: set[str] = set()
    is_alias = False
    for number in zone.good:
        replies = {kind: found.answers.reply(number, name, kind) for kind in TYPES}
        aliased = [kind for kind, reply in replies.items() if _has(reply, "CNAME", name)]
        is_alias |= bool(aliased)
        if aliased:
            beside |= {kind for kind, reply in replies.items() if _has(reply, kind, name)}
    if beside:
        yield Gap(of_name(name), f"an alias, and {', '.join(sorted(beside))} at the same name", "one of them")
    elif is_alias:
        yield Holds(of_name(name), "nothing beside the alias")


def _has(reply: Reply | Unseen, kind: str, name: str) -> bool:
    return isinstance(reply, Reply) and bool(data_of(reply, kind, name))


@rule("dns/alias-loop", level=Level.BREAKS, sources=("RFC 1034 section 3.6.2",), nature=OF_NAMES)
@over(each_name)
def alias_loop(case: Case, found: Naming, name: str) -> Iterator[RuleOutcome]:
    """Aliases must not come round again."""
    chain = chain_of(found.answers, name)
    if isinstance(chain, Unseen) or not chain.aliases:
        return
    shown = " -> ".join(chain.links[:_SHOWN]) + (" ..." if len(chain.links) > _SHOWN else "")
    if chain.end is ChainEnd.LOOP:
        yield Gap(of_name(name), shown, "an end with addresses", cause=" ".join(sorted(set(chain.links))))
    elif chain.end is ChainEnd.OPEN:
        yield Unknown(of_name(name), f"the aliases were followed no further than {chain.last}")
    else:
        yield Holds(of_name(name), "the aliases end")


@rule("dns/long-alias-chain", level=Level.NOTE, sources=("RFC 1034 section 3.6.2",), nature=OF_NAMES)
@over(each_name)
def long_alias_chain(case: Case, found: Naming, name: str) -> Iterator[RuleOutcome]:
    """Each alias may cost a further question, and some resolvers stop early."""
    chain = chain_of(found.answers, name)
    if isinstance(chain, Unseen) or not chain.aliases or chain.end is ChainEnd.LOOP:
        return
    if chain.aliases > case.expect.longest_alias_chain:
        yield Gap(
            of_name(name),
            f"{chain.aliases}: {' -> '.join(chain.links)}",
            f"at most {case.expect.longest_alias_chain}",
        )
    else:
        yield Holds(of_name(name), counted(chain.aliases, "alias", "es"))


@rule("dns/private-address", level=Level.WEAKENS, sources=("RFC 6890 section 2.2",), nature=OF_NAMES)
def private_address(case: Case) -> Iterator[RuleOutcome]:
    """Public records must not hold an address that is not on the public internet."""
    told_of_lab = False
    for each in each_name_in_zone(case):
        if isinstance(each, UnseenAt):
            yield from unknown([each])
            continue
        found, zone, name = each
        resolver = found.answers.server(found.answers.resolvers[0])
        told = addresses_at(found.answers, zone.good, name)
        # An address that a route leads elsewhere stands for another.
        led = {
            route.partition("=")[0].strip("[]").rpartition(":")[0].strip("[]") for route in case.evidence.plan.routes
        }
        wrong = {each: why for each in sorted(told - led) if (why := why_not_public(each))}
        if case.evidence.plan.resolvers and why_not_public(resolver.address) is not None:
            if wrong and not told_of_lab:
                told_of_lab = True
                yield Unknown(the_site("addresses"), "the resolver was itself given off the public internet: a lab")
        elif wrong:
            seen = ", ".join(f"{address} is {why}" for address, why in wrong.items())
            others = told - set(wrong)
            yield Gap(of_name(name), seen, "public addresses", level=None if others else Level.BREAKS)
        elif told:
            yield Holds(of_name(name), "public addresses")
        elif any(why_not_public(address) for address in resolved_addresses(case, name)):
            yield Unknown(of_name(name), "only the resolver gives private addresses: it may answer for the inside")
