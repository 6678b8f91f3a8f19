"""Asking the name service for addresses."""

import asyncio
import contextlib
import functools
import sys
from collections.abc import Iterator
from pathlib import Path

from pewter.errors import UsageError
from pewter.evidence import (
    THIS_MACHINE,
    Answer,
    Lookup,
    Reply,
    Seen,
    Unanswered,
    Unseen,
    Way,
    is_ip_address,
    is_this_machine,
    read_ip_address,
)
from pewter.names.aliases import targets_in
from pewter.names.answers import final_data

from .dns_asking import TRIES, Asker

RECORD_TYPES = ("A", "AAAA")


class NameService:
    """Looks each name up once in a look, at the first resolver, without any cache from before."""

    def __init__(self, resolvers: tuple[tuple[str, int], ...], step_seconds: float, asker: Asker) -> None:
        self.asker = asker
        self._step_seconds = step_seconds
        self._tasks: dict[str, tuple[asyncio.Task[Lookup], ...]] = {}
        for resolver in resolvers:
            asker.add_resolver((resolver,))
        self.were_given = bool(resolvers)
        if not resolvers:
            asker.add_resolver(_of_this_machine())

    async def look_up(self, name: str) -> tuple[Lookup, ...]:
        """The A and AAAA answers for ``name``; none for an IP address."""
        return tuple([await each for each in self.ask(name)])

    def ask(self, name: str) -> tuple[asyncio.Future[Lookup], ...]:
        """The A and the AAAA answer, each as it comes; none for an IP address."""
        if is_ip_address(name):
            return ()
        if is_this_machine(name):
            return tuple(map(_done, _OF_THIS_MACHINE))
        if name not in self._tasks:
            self._tasks[name] = tuple(self.asker.errands.begin(self._ask(name, kind)) for kind in RECORD_TYPES)
        return tuple(map(asyncio.shield, self._tasks[name]))

    async def _ask(self, name: str, record_type: str) -> Lookup:
        reply = await self.asker.ask(0, name, record_type, Way.RESOLVED, self._step_seconds)
        if isinstance(reply, Reply):
            return lookup_of(name, record_type, reply)
        if reply is Unanswered.SILENT:
            return Lookup(record_type, Unseen(f"the name service did not answer within {self._step_seconds:g} s"))
        return Lookup(record_type, Unseen(f"the name service could not be asked: {reply.value}"))


_OF_THIS_MACHINE = (
    Lookup("A", Seen(Answer("NOERROR", (), (THIS_MACHINE,)))),
    Lookup("AAAA", Seen(Answer("NOERROR"))),
)
"""Of localhost no name server is asked: what one says of it is not to be believed (RFC 6761 section 6.3)."""


def _done(lookup: Lookup) -> asyncio.Future[Lookup]:
    future: asyncio.Future[Lookup] = asyncio.get_running_loop().create_future()
    future.set_result(lookup)
    return future


def lookup_of(name: str, record_type: str, reply: Reply) -> Lookup:
    """What an answer of the name service says of one name."""
    if reply.rcode not in {"NOERROR", "NXDOMAIN"}:
        return Lookup(record_type, Unseen(f"the name service failed: it answered {reply.rcode}"))
    targets = targets_in(reply)
    aliases: list[str] = []
    at = name
    while at in targets and targets[at] not in {name, *aliases}:
        at = targets[at]
        aliases.append(at)
    return Lookup(
        record_type, Seen(Answer(reply.rcode, tuple(aliases), tuple(sorted(final_data(reply, name, record_type)))))
    )


RESOLV_CONF = Path("/etc/resolv.conf")
MAX_RESOLV_CONF = 1 << 16
PORT = 53


@functools.cache
def _of_this_machine() -> tuple[tuple[str, int], ...]:
    """The resolvers that this machine is set to."""
    found = tuple(_of_the_registry() if sys.platform == "win32" else resolvers_in(_resolv_conf()))
    if not found:
        raise UsageError("This machine names no DNS resolver. Give one with --resolver ADDRESS[:PORT].")
    return tuple((each, PORT) for each in found[: 2 * TRIES])


def _resolv_conf() -> str:
    try:
        with RESOLV_CONF.open("rb") as file:
            return file.read(MAX_RESOLV_CONF).decode("utf-8", "replace")
    except OSError:
        return ""


def resolvers_in(text: str) -> Iterator[str]:
    """The addresses that the lines ``nameserver`` of a ``resolv.conf`` name, in its order; what is none is left out."""
    for line in text.splitlines():
        words = line.split()
        if len(words) > 1 and words[0] == "nameserver":
            with contextlib.suppress(ValueError):
                yield read_ip_address(words[1])


def _of_the_registry() -> Iterator[str]:
    import dns.exception  # noqa: PLC0415
    import dns.resolver  # noqa: PLC0415

    with contextlib.suppress(dns.exception.DNSException):
        yield from map(str, dns.resolver.Resolver().nameservers)
