"""What a report draws of the site's zones."""

import datetime
from collections.abc import Iterator

import msgspec

from pewter.evidence import Record, Reply, Unseen, Way
from pewter.facts.case import Case
from pewter.facts.naming import Naming, Zone, chain_of, naming
from pewter.names.aliases import ChainEnd
from pewter.names.answers import final_data, records_of
from pewter.names.caa import RelevantSet, climb, may_issue
from pewter.names.comparison import disagree
from pewter.names.https_records import read_set
from pewter.names.issuers import domains_of
from pewter.names.signatures import delegated_tags, validates
from pewter.names.spread import spread_by, ttl_of
from pewter.names.zones import Delegation
from pewter.phrases import all_of, whole
from pewter.pki import Certificate

_TYPES = ("A", "AAAA", "CAA", "HTTPS")


class AliasDrawn(msgspec.Struct, frozen=True):
    """A chain of aliases; a dead end is marked."""

    links: tuple[str, ...]
    dead_end: str
    """How it ends, where it ends badly; empty where it leads to addresses."""


class ZoneDrawn(msgspec.Struct, frozen=True, omit_defaults=True):
    """One zone in words."""

    apex: str
    names: tuple[str, ...]
    servers: tuple[str, ...]
    """A line each: those that agree together, then each that is behind, differs or does not serve."""

    above: str
    kept: str
    """How long answers are kept, and when a change has spread."""

    caa: str
    https: tuple[str, ...]
    signatures: str
    aliases: tuple[AliasDrawn, ...]
    is_sound: bool
    """Nothing here needs a look."""

    unknown: str = ""
    """Why nothing can be told of the servers."""


def draw_zones(case: Case) -> tuple[ZoneDrawn, ...]:
    found = naming(case)
    return tuple(_drawn(case, found, zone) for zone in found.zones)


def _drawn(case: Case, found: Naming, zone: Zone) -> ZoneDrawn:
    servers, sound = _servers(found, zone)
    aliases = tuple(_aliases(found, zone))
    is_same = isinstance(zone.delegation, Delegation) and zone.delegation.servers == zone.own
    sound = sound and (is_same or isinstance(zone.delegation, Unseen)) and not any(each.dead_end for each in aliases)
    return ZoneDrawn(
        zone.apex,
        zone.names,
        servers,
        _above(zone),
        _kept(case, found, zone),
        _caa(case, found, zone),
        tuple(_https(found, zone)),
        _signatures(found, zone),
        aliases,
        sound and not found.why_not_direct,
        found.why_not_direct,
    )


def _servers(found: Naming, zone: Zone) -> tuple[tuple[str, ...], bool]:
    """The lines, and whether all serve and agree."""
    good = {server.number: server for server in zone.servers if server.serves and server.number is not None}
    late = {number for number in good if number in zone.behind and _differences(found, zone, number)}
    unlike = {number for number in good if number not in late and _is_alone(found, zone, number, len(good))}
    agreeing = [number for number in good if number not in late | unlike]
    lines = []
    if agreeing:
        serials = {zone.serials.get(number) for number in agreeing}
        serial = f", serial {serials.pop()}" if len(serials) == 1 else ""
        who = all_of(zone.title(number) for number in agreeing)
        agree = "agree" if len(agreeing) > 1 else "answers"
        lines.append(f"{who} {agree}{serial}")
    for number in (*sorted(late), *sorted(unlike)):
        serial = f"serial {zone.serials[number]}" if number in zone.serials else ""
        state = "is behind" if number in late else "differs"
        gives = "; ".join(_differences(found, zone, number))
        lines.append(f"{zone.title(number)} {state}: {', '.join(each for each in (serial, gives) if each)}")
    bad = [server for server in zone.servers if not server.serves]
    for server in bad:
        why = server.lame.reason if isinstance(server.lame, Unseen) else server.lame.value if server.lame else ""
        lines.append(f"{server.place.text}{':' if isinstance(server.lame, Unseen) else ''} {why}")
    return tuple(lines), not late and not unlike and not bad


def _is_alone(found: Naming, zone: Zone, number: int, of: int) -> bool:
    """Whether a server of several differs, where no serial tells which is behind."""
    differs = bool(_differences(found, zone, number))
    return differs and of > 1 and not zone.behind and number != min(zone.good)


def _differences(found: Naming, zone: Zone, number: int) -> list[str]:
    """What a server gives that the others do not, where they disagree."""
    words = []
    for name in zone.names:
        for kind in _TYPES:
            said = found.said(zone, name, kind)
            own = next((each.union for each in said if each.server == number), None)
            others = [each.union for each in said if each.server != number]
            if own is not None and disagree(said) and any(own != each for each in others):
                shown = ", ".join(sorted(own)) if kind in {"A", "AAAA"} else f"another {kind} record"
                words.append(f"gives {shown or 'no address'} for {name}")
    return words[:4]


def _above(zone: Zone) -> str:
    match zone.delegation:
        case Unseen(reason=reason):
            return f"not known: {reason}"
        case Delegation(servers=servers) if servers == zone.own:
            return "names the same servers"
        case Delegation(servers=servers):
            own = all_of(sorted(zone.own)) if zone.own else "nobody"
            return f"names {all_of(sorted(servers))}; the zone itself {own}"


def _kept(case: Case, found: Naming, zone: Zone) -> str:
    ttls = [ttl for number in zone.good for name in zone.names for ttl in _ttls(found, number, name)]
    if not ttls:
        return ""
    words = f"up to {whole(max(ttls))} by resolvers"
    differing = [name for name in zone.names for kind in _TYPES if disagree(found.said(zone, name, kind))]
    if differing:
        old = [ttl_of(_records(found, number, name)) for number in zone.behind for name in differing]
        old += [ttl for name in differing for ttl in _earlier_ttls(case, name)]
        longest = max((each for each in old if each is not None), default=None)
        if longest is None:
            return f"{words}; when the change has spread is not known: no server tells the old TTL"
        return f"{words}; a change has surely spread {whole(longest)} after the last server has it"
    # A copy of before a lower TTL lasts as long as the old one says.
    ttls += [ttl for name in zone.names for ttl in _earlier_ttls(case, name)]
    at = spread_by(case.evidence.begun, [max(ttls)])
    return f"{words}; what changed just before this look is everywhere by {_clock(at)}" if at is not None else words


def _records(found: Naming, number: int, name: str) -> Iterator[Record]:
    for kind in ("A", "AAAA"):
        reply = found.answers.reply(number, name, kind)
        if isinstance(reply, Reply):
            yield from (each for of in (kind, "CNAME") for each in records_of(reply, of, name))


def _ttls(found: Naming, number: int, name: str) -> Iterator[int]:
    ttl = ttl_of(_records(found, number, name))
    if ttl is not None:
        yield ttl


def _earlier_ttls(case: Case, name: str) -> Iterator[int]:
    """As the name servers told them in an earlier review."""
    for number, server in enumerate(case.earlier.seen.servers if case.earlier is not None else ()):
        for kind in ("A", "AAAA"):
            reply = case.earlier.reply(number, name, kind) if case.earlier is not None else None
            records = records_of(reply, kind) if isinstance(reply, Reply) and not server.is_resolver else ()
            if (ttl := ttl_of(records)) is not None:
                yield ttl


def _clock(at: datetime.datetime) -> str:
    return f"{at:%Y-%m-%d %H:%M} UTC"


def _caa(case: Case, found: Naming, zone: Zone) -> str:
    words: dict[str, None] = {}
    for name in zone.names:
        relevant = climb(name, lambda above: found.answers.resolved(above, "CAA"))
        words[_caa_words(relevant) + _present_issuer(case, relevant, name)] = None
    # Of names that differ only in having no certificate, the others tell more.
    return "; ".join(each for each in words if not any(more != each and more.startswith(each) for more in words))


def _present_issuer(case: Case, relevant: RelevantSet | Unseen | None, name: str) -> str:
    """Whether the CA of the certificate that the name has now is among them."""
    leaves = (chain.leaf for chain in case.chains if chain.host == name)
    leaf = next((each for each in leaves if isinstance(each, Certificate)), None)
    if leaf is None or not isinstance(relevant, RelevantSet) or relevant.issuers(wildcard=False) is None:
        return ""
    issuer = leaf.issuer.owner
    verdict = may_issue(relevant, name, case.expect.caa_domains or domains_of(issuer))
    among = {True: "is among them", False: "is not among them", None: "may be among them or not"}
    return f" ({issuer}, of the present certificate, {among[verdict.allowed]})"


def _caa_words(relevant: RelevantSet | Unseen | None) -> str:
    if relevant is None:
        return "none: any CA may issue"
    if isinstance(relevant, Unseen):
        return f"not known: {relevant.reason}"
    issuers = relevant.issuers(wildcard=False)
    if issuers is None:
        return f"at {relevant.owner}, without issue: any CA may issue"
    named = [each.issuer for each in issuers if each.issuer]
    return f"at {relevant.owner}: {all_of(named)} may issue" if named else f"at {relevant.owner}: nobody may issue"


def _https(found: Naming, zone: Zone) -> Iterator[str]:
    for name in zone.names:
        reply = found.answers.resolved(name, "HTTPS")
        data = final_data(reply, name, "HTTPS") if isinstance(reply, Reply) else frozenset[str]()
        if data:
            read = read_set(sorted(data))
            shown = read.problem or (f"alias to {read.alias}" if read.alias else "; ".join(map(str, read.services)))
            yield f"{name}: {shown}"


def _signatures(found: Naming, zone: Zone) -> str:
    reply = found.answers.resolved(zone.apex, "DS")
    checks = validates(found.answers.resolved(".", "SOA"))
    resolver = {True: "the resolver validates", False: "the resolver does not validate", None: ""}[checks]
    if isinstance(reply, Unseen) or reply.rcode != "NOERROR":
        return "not known"
    if not delegated_tags(reply, zone.apex):
        return "unsigned"
    soa = found.answers.resolved(zone.apex, "SOA", Way.RESOLVED)
    said = ", and finds it good" if isinstance(soa, Reply) and soa.is_validated else ""
    return f"signed; {resolver}{said}" if resolver else "signed"


def _aliases(found: Naming, zone: Zone) -> Iterator[AliasDrawn]:
    for name in zone.names:
        chain = chain_of(found.answers, name)
        if not isinstance(chain, Unseen) and chain.aliases:
            yield AliasDrawn(chain.links, "" if chain.end is ChainEnd.ADDRESSES else chain.end.value)
