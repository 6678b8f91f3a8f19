"""Asking the name service."""

import asyncio

import dns.asyncresolver
import dns.exception
import dns.rcode
import dns.rdatatype
import dns.resolver

from pewter.errors import UsageError
from pewter.evidence import Answer, Lookup, Seen, Unseen, is_ip_address

RECORD_TYPES = ("A", "AAAA")


class NameService:
    """Looks each name up once in a look, at one resolver, without any cache from before."""

    def __init__(self, resolver: tuple[str, int] | None, step_seconds: float) -> None:
        self._step_seconds = step_seconds
        self._tasks: dict[str, tuple[asyncio.Task[Lookup], ...]] = {}
        try:
            self._resolver = dns.asyncresolver.Resolver(configure=resolver is None)
        except dns.resolver.NoResolverConfiguration as exc:
            raise UsageError("This machine names no DNS resolver. Give one with --resolver ADDRESS[:PORT].") from exc
        if resolver is not None:
            self._resolver.nameservers = [resolver[0]]
            self._resolver.port = resolver[1]

    async def look_up(self, name: str) -> tuple[Lookup, ...]:
        """The A and AAAA answers for ``name``; none for an IP address."""
        return tuple([await each for each in self.ask(name)])

    def ask(self, name: str) -> tuple[asyncio.Future[Lookup], ...]:
        """The A and the AAAA answer, each as it comes; none for an IP address."""
        if is_ip_address(name):
            return ()
        if name not in self._tasks:
            self._tasks[name] = tuple(asyncio.create_task(self._ask(name, kind)) for kind in RECORD_TYPES)
        return tuple(map(asyncio.shield, self._tasks[name]))

    async def _ask(self, name: str, record_type: str) -> Lookup:
        try:
            answer = await self._resolver.resolve(
                name + ".", record_type, raise_on_no_answer=False, search=False, lifetime=self._step_seconds
            )
        except dns.resolver.NXDOMAIN:
            return Lookup(record_type, Seen(Answer("NXDOMAIN")))
        except dns.exception.Timeout:
            return Lookup(record_type, Unseen(f"the name service did not answer within {self._step_seconds:g} s"))
        except dns.resolver.NoNameservers as exc:
            return Lookup(record_type, Unseen(f"the name service failed: {_why(exc)}"))
        except (dns.exception.DNSException, OSError, ValueError) as exc:
            return Lookup(record_type, Unseen(f"the name service could not be asked: {exc}"))
        return lookup_of(record_type, answer)


def lookup_of(record_type: str, answer: dns.resolver.Answer) -> Lookup:
    """What an answer of the name service says of one name."""
    aliases = tuple(str(rdata.target).rstrip(".").lower() for rrset in answer.chaining_result.cnames for rdata in rrset)
    # Name servers rotate the order from one answer to the next: it says nothing.
    addresses = tuple(sorted(str(rdata) for rdata in answer.rrset or ()))
    return Lookup(record_type, Seen(Answer("NOERROR", aliases, addresses)))


def _why(exc: dns.resolver.NoNameservers) -> str:
    """The servers' last word, without their addresses."""
    errors = exc.kwargs.get("errors") or []
    return str(errors[-1][3]) if errors else "no server answered"
