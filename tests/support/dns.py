"""Answers of resolvers and name servers, put together by hand."""

from collections.abc import Mapping

from pewter.evidence import AskedServer, DnsSeen, Question, Record, Reply, Unanswered, Way

ZONE, WWW = "marram-ferries.example", "www.marram-ferries.example"
SOA = f"{ZONE} SOA 60 ns1.{ZONE} hostmaster.{ZONE} 7 7200 900 1209600 60"
SUFFIX_SOA = "example SOA 60 a.example b.example 1 7200 900 1209600 60"
ROOT_SOA = ". SOA 60 a b 1 7200 900 1209600 60"
NONE = f"NOERROR aa; !{SOA}"
SERVERS = {
    "r": AskedServer("192.0.2.250", is_resolver=True),
    "r2": AskedServer("192.0.2.251", is_resolver=True),
    "p": AskedServer("198.51.100.53", names=("a.example",)),
    "1": AskedServer("192.0.2.53", names=(f"ns1.{ZONE}",)),
    "2": AskedServer("192.0.2.54", names=(f"ns2.{ZONE}",)),
}
_ADDRESS = f"{WWW} A 300 5.5.5.10"
_AUTHORITATIVE = {
    f"{ZONE} SOA": f"NOERROR aa; {SOA}",
    f"{ZONE} NS": f"NOERROR aa; {ZONE} NS 300 ns1.{ZONE}; {ZONE} NS 300 ns2.{ZONE}",
    f"{ZONE} SOA tcp": f"NOERROR aa; {SOA}",
    f"{WWW} A": f"NOERROR aa; {_ADDRESS}",
    f"{WWW} AAAA": NONE,
    f"{WWW} CAA": NONE,
    f"{WWW} HTTPS": NONE,
    f"pewter-1.{ZONE} A random": f"NXDOMAIN aa; !{SOA}",
}
HEALTHY = {
    "r . SOA": f"NOERROR ra; {ROOT_SOA}",
    f"r {WWW} A": f"NOERROR ra; {_ADDRESS}",
    f"r {WWW} AAAA": f"NOERROR ra; !{SOA}",
    f"r {WWW} HTTPS": f"NOERROR ra; !{SOA}",
    f"r {WWW} CAA": f"NOERROR ra; !{SOA}",
    f"r {WWW} SOA": f"NOERROR ra; !{SOA}",
    f"r {ZONE} SOA": f"NOERROR ra; {SOA}",
    f"r {ZONE} CAA": f"NOERROR ra; !{SOA}",
    f"r {ZONE} NS": f"NOERROR ra; {ZONE} NS 300 ns1.{ZONE}; {ZONE} NS 300 ns2.{ZONE}",
    f"r {ZONE} DS": f"NOERROR ra; !{SUFFIX_SOA}",
    "r example SOA": f"NOERROR ra; {SUFFIX_SOA}",
    "r example CAA": f"NOERROR ra; !{SUFFIX_SOA}",
    "r example NS": "NOERROR ra; example NS 300 a.example",
    **{
        f"r ns{n}.{ZONE} {kind}": f"NOERROR ra; ns{n}.{ZONE} A 300 192.0.2.{52 + n}"
        if kind == "A"
        else f"NOERROR ra; !{SOA}"
        for n in (1, 2)
        for kind in ("A", "AAAA")
    },
    f"p {ZONE} NS": f"NOERROR; !{ZONE} NS 300 ns1.{ZONE}; !{ZONE} NS 300 ns2.{ZONE}; "
    f"+ns1.{ZONE} A 300 192.0.2.53; +ns2.{ZONE} A 300 192.0.2.54",
    f"p {ZONE} DS": f"NOERROR aa; !{SUFFIX_SOA}",
    **{f"{server} {asked}": said for server in "12" for asked, said in _AUTHORITATIVE.items()},
}
"""One name in a zone with two servers below a suffix: ``SERVER NAME TYPE [WAY]`` and what is answered."""


def reply(text: str) -> Reply:
    """``NOERROR aa; owner TYPE ttl data; !of the authority section; +of the additional one``."""
    head, *records = (part.strip() for part in text.split(";"))
    rcode, *flags = head.split()
    sections: dict[str, list[Record]] = {"": [], "!": [], "+": []}
    for record in filter(None, records):
        sign = record[0] if record[0] in "!+" else ""
        owner, kind, ttl, data = record[len(sign) :].split(" ", 3)
        sections[sign].append(Record(owner, kind, int(ttl), data))
    return Reply(rcode, " ".join(flags), *map(tuple, sections.values()), has_edns=True)


def dns_seen(answers: Mapping[str, str | Unanswered | tuple[str, ...] | None], milliseconds: int = 20) -> DnsSeen:
    """What came of the questions; None: it was not asked; several: it was asked again."""
    names, replies, questions = list(SERVERS), list[Reply](), list[Question]()
    for asked, given in answers.items():
        server, name, kind, *way = asked.split(" ", 3)
        is_resolver = SERVERS[server].is_resolver
        how = Way(way[0]) if way else Way.RESOLVED if is_resolver else Way.DIRECT
        for position, said in enumerate(given if isinstance(given, tuple) else (given,)):
            again = Way.AGAIN if position else how
            if isinstance(said, Unanswered):
                questions.append(Question(names.index(server), name, kind, again, milliseconds, None, said))
            elif said is not None:
                replies.append(reply(said))
                questions.append(Question(names.index(server), name, kind, again, milliseconds, len(replies) - 1))
    return DnsSeen(tuple(SERVERS.values()), tuple(replies), tuple(questions))


def changed(*changes: Mapping[str, str | Unanswered | tuple[str, ...] | None], milliseconds: int = 20) -> DnsSeen:
    """The healthy zone with these answers in place of its own; ``12 ...`` is said by both servers."""
    answers: dict[str, str | Unanswered | tuple[str, ...] | None] = dict(HEALTHY)
    for change in changes:
        for asked, given in change.items():
            server, _, rest = asked.partition(" ")
            for each in server if server == "12" else (server,):
                answers[f"{each} {rest}"] = given
    return dns_seen(answers, milliseconds)
