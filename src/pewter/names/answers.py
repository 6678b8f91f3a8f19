"""The answers of a look, by server, name, type and way of asking."""

from collections.abc import Iterator

from pewter.evidence import AskedServer, DnsSeen, Question, Record, Reply, Unanswered, Unseen, Way

_ASKED_PLAINLY = frozenset({"FORMERR", "NOTIMP", "BADVERS"})
NOT_ASKED = Unseen("it was not asked")
ROOT = "."


def parent_of(name: str) -> str:
    """One label less; the root's is the root."""
    return name.partition(".")[2] or ROOT


def ancestors(name: str, most: int = 10) -> tuple[str, ...]:
    """The name and those above it, without the root: the last ``most`` of them."""
    labels = name.split(".")
    return tuple(".".join(labels[start:]) for start in range(max(0, len(labels) - most), len(labels)))


def is_at_or_below(name: str, zone: str) -> bool:
    return zone in (ROOT, name) or name.endswith("." + zone)


class Answers:
    """An index of what was asked; servers by their number."""

    def __init__(self, seen: DnsSeen) -> None:
        self.seen = seen
        self._by: dict[tuple[int, str, str, Way], list[Question]] = {}
        for question in seen.questions:
            self._by.setdefault((question.server, question.name, question.type, question.way), []).append(question)
        self.resolvers = tuple(number for number, server in enumerate(seen.servers) if server.is_resolver)
        self._by_name: dict[str, list[int]] = {}
        for number, server in enumerate(seen.servers):
            for name in server.names:
                self._by_name.setdefault(name, []).append(number)

    def server(self, number: int) -> AskedServer:
        return self.seen.servers[number]

    def numbers_of(self, name: str) -> tuple[int, ...]:
        """Of the addresses of a name server that were asked."""
        return tuple(self._by_name.get(name, ()))

    def questions(self, server: int, name: str, record_type: str, way: Way) -> tuple[Question, ...]:
        return tuple(self._by.get((server, name, record_type, way), ()))

    def reply(self, server: int, name: str, record_type: str, way: Way = Way.DIRECT) -> Reply | Unseen:
        """The first answer, or why there is none; where it had to be asked for in another way, that answer."""
        why = NOT_ASKED
        for question in self._by.get((server, name, record_type, way), ()):
            if question.reply is None:
                why = Unseen(question.why.value if question.why is not None else NOT_ASKED.reason)
                if question.why is Unanswered.SILENT and way is Way.DIRECT:
                    whole = self.reply(server, name, record_type, Way.TCP)
                    if isinstance(whole, Reply):
                        return whole
                continue
            reply = self.seen.replies[question.reply]
            over_tcp = Way.SIGNED_TCP if way is Way.SIGNED else Way.TCP
            other = over_tcp if reply.is_truncated else Way.PLAIN if reply.rcode in _ASKED_PLAINLY else None
            if other is None or way.is_over_tcp or way is Way.PLAIN:
                return reply
            instead = self.reply(server, name, record_type, other)
            return reply if instead is NOT_ASKED else instead
        return why

    def replies(self, server: int, name: str, record_type: str, *ways: Way) -> Iterator[Reply]:
        """Every answer in these ways; in place of one that was cut off or did not come, what came over TCP."""
        for way in ways:
            for question in self._by.get((server, name, record_type, way), ()):
                reply = self.seen.replies[question.reply] if question.reply is not None else None
                if reply.is_truncated if reply is not None else question.why is Unanswered.SILENT:
                    whole = self.reply(server, name, record_type, Way.TCP)
                    reply = whole if isinstance(whole, Reply) and not whole.is_truncated else None
                if reply is not None:
                    yield reply

    def why(self, server: int, name: str, record_type: str, way: Way = Way.DIRECT) -> Unanswered | None:
        """Why the last question of this kind has no answer; None where it has one, or was not asked."""
        asked = self._by.get((server, name, record_type, way), ())
        return asked[-1].why if asked else None

    def resolved(self, name: str, record_type: str, way: Way = Way.RESOLVED) -> Reply | Unseen:
        """The answer of the first resolver that decides: the first that was given."""
        if not self.resolvers:
            return NOT_ASKED
        return self.reply(self.resolvers[0], name, record_type, way)

    def replies_of(self, server: int) -> Iterator[tuple[Question, Reply]]:
        for question in self.seen.questions:
            if question.server == server and question.reply is not None:
                yield question, self.seen.replies[question.reply]


def records_of(reply: Reply, record_type: str, owner: str | None = None) -> tuple[Record, ...]:
    """Of the answer section: those of a type, each once."""
    found = (each for each in reply.answer if each.type == record_type and owner in {None, each.owner})
    return tuple({(each.owner, each.data): each for each in found}.values())


def data_of(reply: Reply, record_type: str, owner: str | None = None) -> frozenset[str]:
    return frozenset(each.data for each in records_of(reply, record_type, owner))


def final_data(reply: Reply, name: str, record_type: str) -> frozenset[str]:
    """What records of a type say, at the end of the aliases that the answer holds."""
    return data_of(reply, record_type, end_of_aliases(reply, name))


def end_of_aliases(reply: Reply, name: str) -> str:
    """Where the aliases of one answer lead; they are followed once each."""
    targets = {each.owner: each.data for each in reply.answer if each.type == "CNAME"}
    seen = {name}
    while name in targets and targets[name] not in seen:
        name = targets[name]
        seen.add(name)
    return name


def soa_above(reply: Reply, name: str) -> Record | None:
    """The SOA that says whose zone a name is in: in the answer for an apex, else beside a negative answer.

    RFC 2308 section 3.  Only an owner that is the name or above it: a server may add what it likes.
    """
    for record in (*records_of(reply, "SOA", name), *reply.authority):
        if record.type == "SOA" and is_at_or_below(name, record.owner):
            return record
    return None


def serial_of(soa: Record) -> int:
    return int(soa.data.split()[2])


def is_nodata(reply: Reply, name: str, record_type: str) -> bool:
    """The name exists and has no such record (RFC 2308 section 2.2); a referral is none."""
    return (
        reply.rcode == "NOERROR"
        and not final_data(reply, name, record_type)
        and not is_referral(reply)
        and end_of_aliases(reply, name) == name
    )


def is_referral(reply: Reply) -> bool:
    """Another zone's servers are named instead of an answer."""
    return (
        reply.rcode == "NOERROR"
        and not reply.answer
        and any(each.type == "NS" for each in reply.authority)
        and not any(each.type == "SOA" for each in reply.authority)
    )
