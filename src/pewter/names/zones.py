"""Zones and their servers: where the cuts are, who is named where, and which servers do not serve."""

import enum

import msgspec

from pewter.evidence import Reply, Unseen, Way

from .answers import ROOT, Answers, ancestors, data_of, is_at_or_below, is_referral, parent_of, records_of, soa_above


def apex_of(answers: Answers, name: str) -> str | None:
    """The apex of the zone that a name is in; None where it cannot be told.

    A failure is no step of the climb: a zone that is bogus, lame or without glue would be taken for its parent.
    """
    for above in ancestors(name):
        reply = answers.resolved(above, "SOA")
        if isinstance(reply, Reply) and reply.rcode == "SERVFAIL":
            reply = answers.resolved(above, "SOA", Way.CHECKING_DISABLED)
        if isinstance(reply, Unseen) or reply.rcode not in {"NOERROR", "NXDOMAIN"}:
            return cut_by_referral(answers, above) or _enclosing(answers, above)
        if data_of(reply, "CNAME", above):
            continue  # an alias owner is no apex; the SOA beside it is its target's
        soa = soa_above(reply, above)
        if soa is not None:
            return soa.owner
        ns = answers.resolved(above, "NS")  # some forwarders drop the authority section
        if isinstance(ns, Reply) and data_of(ns, "NS", above):
            return above
    return None


def cut_by_referral(answers: Answers, name: str) -> str | None:
    """The cut that the servers of the zone above tell, where the resolver fails."""
    for number, server in enumerate(answers.seen.servers):
        if server.is_resolver:
            continue
        reply = answers.reply(number, name, "NS")
        if isinstance(reply, Reply) and is_referral(reply):
            owners = {each.owner for each in reply.authority if each.type == "NS"}
            found = [owner for owner in owners if is_at_or_below(name, owner)]
            if found:
                return max(found, key=len)
    return None


def parent_zone_of(answers: Answers, apex: str) -> str | None:
    """The zone above a cut: not "the name less one label"."""
    if apex == ROOT:
        return None
    above = parent_of(apex)
    return ROOT if above == ROOT else apex_of(answers, above)


def _enclosing(answers: Answers, name: str) -> str | None:
    """The zone above, where its servers answer for the name themselves: an alias at which the resolver fails."""
    zone = apex_of(answers, parent_of(name)) if "." in name else None
    ns = answers.resolved(zone, "NS") if zone is not None else None
    for server in sorted(data_of(ns, "NS", zone)) if isinstance(ns, Reply) else ():
        for number in answers.numbers_of(server):
            reply = answers.reply(number, name, "NS")
            if isinstance(reply, Reply) and reply.is_authoritative and not is_referral(reply):
                return zone
    return None


class Lame(enum.Enum):
    """Why a server does not serve a zone (RFC 9499 section 7)."""

    SILENT = "does not answer"
    REFUSED = "refuses (REFUSED)"
    FAILS = "fails (SERVFAIL)"
    NOT_AUTHORITATIVE = "answers without authority"
    RESOLVER = "answers as a resolver, without authority"
    REFERS = "refers elsewhere"
    TRUNCATED = "answers only that its answer is cut off, over TCP too"
    OTHER = "answers with an error"
    NO_ADDRESS = "has no address"
    NOT_PUBLIC = "has only addresses that lead nowhere on the internet"


class Delegation(msgspec.Struct, frozen=True):
    """What the parent's servers say of a zone."""

    servers: frozenset[str]
    glue: dict[str, frozenset[str]]
    """Addresses by server name, as far as the name lies at or below the zone."""


def delegation_in(reply: Reply, zone: str) -> Delegation | None:
    """A referral to a zone, read; None for any other answer."""
    if not is_referral(reply):
        return None
    servers = frozenset(each.data for each in reply.authority if each.type == "NS" and each.owner == zone)
    if not servers:
        return None
    glue: dict[str, frozenset[str]] = {}
    for record in reply.additional:
        # Addresses for names outside the zone are none of the parent's business.
        if record.owner in servers and is_at_or_below(record.owner, zone):
            glue[record.owner] = glue.get(record.owner, frozenset()) | {record.data}
    return Delegation(servers, glue)


def lameness(answers: Answers, server: int, zone: str) -> Lame | Unseen | None:
    """Why the server at an address does not serve a zone; None where it does.

    Judged by the SOA of the apex, asked over UDP, twice, without EDNS and over TCP; never by A, which a looping alias
    lets fail.
    """
    worst: Lame | Unseen = Unseen("it was not asked")
    for way in (Way.DIRECT, Way.AGAIN, Way.PLAIN, Way.TCP):
        for question in answers.questions(server, zone, "SOA", way):
            if question.reply is None:
                if isinstance(worst, Unseen) and question.why is not None:
                    worst = Lame.SILENT if question.why.is_of_server else Unseen(question.why.value)
                continue
            found = _of_soa(answers.seen.replies[question.reply], zone)
            if found is None:
                return None
            worst = found
    return worst


def _of_soa(reply: Reply, zone: str) -> Lame | None:
    match reply.rcode:
        case "NOERROR" if reply.is_truncated:
            return Lame.TRUNCATED
        case "NOERROR" if records_of(reply, "SOA", zone):
            if reply.is_authoritative:
                return None
            return Lame.RESOLVER if reply.is_of_resolver else Lame.NOT_AUTHORITATIVE
        case "NOERROR" if is_referral(reply):
            return Lame.REFERS
        case "REFUSED":
            return Lame.REFUSED
        case "SERVFAIL":
            return Lame.FAILS
        case "NOERROR":
            return Lame.NOT_AUTHORITATIVE
    return Lame.OTHER


def is_fresh(answers: Answers, zone: str) -> bool:
    """Whether the resolver told of a label at random in the zone, of which it had no copy: somebody answers it."""
    return any(
        question.way is Way.RANDOM and is_at_or_below(question.name, zone) and reply.rcode in {"NOERROR", "NXDOMAIN"}
        for number in answers.resolvers
        for question, reply in answers.replies_of(number)
    )


def is_intercepted(answers: Answers) -> bool:
    """Whether every server, of parent and zone alike, offers recursion and none answers with authority.

    Then something on the way answers in their place, and nothing direct may be concluded.
    """
    direct = [
        reply
        for number, server in enumerate(answers.seen.servers)
        if not server.is_resolver
        for _, reply in answers.replies_of(number)
    ]
    return bool(direct) and all(each.is_of_resolver and not each.is_authoritative for each in direct)


def is_blocked(answers: Answers) -> bool:
    """Whether authoritative servers were asked and none answered at all: port 53 is closed outward."""
    asked = [number for number, server in enumerate(answers.seen.servers) if not server.is_resolver]
    return bool(asked) and not any(True for number in asked for _ in answers.replies_of(number))
