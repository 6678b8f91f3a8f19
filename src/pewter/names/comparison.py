"""Do the servers of a zone give one answer?  Rotation, geography and an old copy are told apart."""

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from pewter.evidence import Reply, Way

from .answers import Answers, data_of, end_of_aliases, final_data, records_of, serial_of

REPEATED = (Way.DIRECT, Way.AGAIN)


class Said(msgspec.Struct, frozen=True):
    """What one server said of one name and type, over all repeats."""

    server: int
    answers: tuple[frozenset[str], ...]
    """Each distinct one, in the order in which it was first given."""

    @property
    def is_steady(self) -> bool:
        return len(self.answers) == 1

    @property
    def union(self) -> frozenset[str]:
        return frozenset[str]().union(*self.answers)


def content(reply: Reply, name: str, record_type: str) -> frozenset[str]:
    """What an answer says of a name: the records at the name itself, or the alias there, or that there is none."""
    if reply.rcode == "NXDOMAIN" and end_of_aliases(reply, name) == name:
        return frozenset({"no such name"})
    alias = data_of(reply, "CNAME", name)
    if alias:
        return frozenset(f"alias to {target}" for target in alias)
    return final_data(reply, name, record_type)


def said_of(answers: Answers, servers: Iterable[int], name: str, record_type: str) -> tuple[Said, ...]:
    """By each server that answered with authority, without failure."""
    found = []
    for server in servers:
        contents: dict[frozenset[str], None] = {}
        for reply in answers.replies(server, name, record_type, *REPEATED):
            # Of a set beyond our bound only a part was read.
            if reply.is_authoritative and reply.rcode in {"NOERROR", "NXDOMAIN"} and not reply.left_out:
                contents[content(reply, name, record_type)] = None
        if contents:
            found.append(Said(server, tuple(contents)))
    return tuple(found)


def disagree(said: Sequence[Said]) -> bool:
    """Whether servers, each steady over its repeats, give different answers.

    A server that gives now this and now that takes turns: of such, the unions are held against each other.
    """
    if len(said) < 2:
        return False
    if all(each.is_steady for each in said):
        return len({each.union for each in said}) > 1
    # Turns over one pool: what a steady one gives has to lie in it.
    pool = frozenset[str]().union(*(each.union for each in said if not each.is_steady))
    return any(not each.union <= pool for each in said)


def differs_at_first(answers: Answers, servers: Iterable[int], name: str, record_type: str) -> bool:
    """Whether first answers differ, so that asking again is worth it."""
    return len({each.union for each in said_of(answers, servers, name, record_type)}) > 1


def serials(answers: Answers, servers: Iterable[int], zone: str) -> dict[int, int]:
    """The zone's serial at each server that told it with authority."""
    found: dict[int, int] = {}
    for server in servers:
        for way in (Way.DIRECT, Way.AGAIN, Way.PLAIN, Way.TCP):
            for question in answers.questions(server, zone, "SOA", way):
                reply = answers.seen.replies[question.reply] if question.reply is not None else None
                soa = records_of(reply, "SOA", zone) if reply is not None and reply.is_authoritative else ()
                if soa:
                    found.setdefault(server, serial_of(soa[0]))
    return found


def old_addresses(answers: Answers, name: str, zone: str) -> frozenset[str]:
    """Addresses that only an old copy still gives: a server that is behind, or a resolver's.

    Empty where no server that is up to date told the name's addresses itself.
    """
    old, now = _old_and_new(answers, name, zone)
    return old - now if now else frozenset()


def new_addresses(answers: Answers, name: str, zone: str) -> frozenset[str]:
    """Those that servers give which are up to date."""
    return _old_and_new(answers, name, zone)[1]


def _old_and_new(answers: Answers, name: str, zone: str) -> tuple[frozenset[str], frozenset[str]]:
    asked = tuple(number for number, server in enumerate(answers.seen.servers) if not server.is_resolver)
    late = behind(serials(answers, asked, zone))
    now, old = frozenset[str](), frozenset[str]()
    for kind in ("A", "AAAA"):
        for said in said_of(answers, asked, name, kind):
            if said.server in late:
                old |= said.union
            elif any(" " in each for each in said.union):
                return frozenset(), frozenset()  # an alias, or that there is no such name
            else:
                now |= said.union
        reply = answers.resolved(name, kind)
        old |= final_data(reply, name, kind) if isinstance(reply, Reply) and late else frozenset()
    return old, now


def is_later(one: int, other: int) -> bool:
    """Whether serial ``one`` comes after ``other``, in 32-bit circular arithmetic (RFC 1982 section 3.2)."""
    return one != other and (one - other) % (1 << 32) < 1 << 31


def behind(found: Mapping[int, int]) -> frozenset[int]:
    """Servers whose serial comes before another's.  No fault by itself: operators may number each server apart."""
    distinct = frozenset(found.values())
    late = frozenset(serial for serial in distinct if any(is_later(other, serial) for other in distinct))
    return frozenset(server for server, serial in found.items() if serial in late)
