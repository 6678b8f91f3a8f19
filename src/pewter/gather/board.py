"""What is known so far in one look; at any time it can become the evidence."""

import asyncio
import datetime
import functools
import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import msgspec

from pewter.evidence import (
    DnsSeen,
    Endpoint,
    Evidence,
    Fault,
    FetchedIssuer,
    FrontEnd,
    GivenLog,
    HostProbe,
    Lookup,
    Name,
    NotContacted,
    Offer,
    Origin,
    Page,
    Plan,
    Probe,
    Redirected,
    Seen,
    Service,
    StatusAnswer,
    StatusMethod,
    StoredCertificate,
    Tries,
    Unseen,
    WayIn,
)
from pewter.pki import Certificate, Store, read_certificate
from pewter.pki.crls import condense_crl
from pewter.tls import fingerprint
from pewter.tls.doubt import Steadiness
from pewter.tls.refusals import Cause
from pewter.web.sites import are_siblings

from .front_end_look import FrontEndLook
from .journeys import OngoingJourney
from .routes import Destination

LONGEST_CRL_KEPT = 4096
"""Octets of a list of revoked certificates that is kept whole."""

PROXY_VARIABLES = ("HTTPS_PROXY", "https_proxy", "HTTP_PROXY", "http_proxy", "ALL_PROXY", "all_proxy")


class Given(msgspec.Struct, frozen=True):
    """What the reviewer's own files hold."""

    stores: tuple[Store, ...] = ()
    """Root stores, to see which issuers need not be fetched."""

    trust: tuple[Certificate, ...] = ()
    """Anchors that the reviewer gave; they go into the evidence."""

    trusts_given_only: bool = False
    certificates: tuple[bytes, ...] = ()
    """DER of certificates in files, to be held against what is served."""

    logs: tuple[GivenLog, ...] = ()
    chains: tuple[tuple[Certificate, ...], ...] = ()
    """Chains that nobody served, whose missing issuers are to be fetched."""


@dataclass
class EndpointLook:
    """One name at one address: its first hellos and what they led to."""

    name: str
    destination: Destination
    planned: tuple[tuple[int, ...], ...]
    probes: dict[tuple[int, ...], Probe] = field(default_factory=dict)
    more_probes: list[Probe] = field(default_factory=list)
    """Beyond the planned ones: asked again for a staple."""

    look: FrontEndLook | None = None
    """Of its own."""

    cause: Cause = field(default_factory=Cause)
    """For what the server refuses our first hello."""

    tries: list[Tries] = field(default_factory=list)
    steadiness: Steadiness = field(default_factory=Steadiness)

    def endpoint(self, why_unseen: str) -> Endpoint:
        look = self.look
        probes = (
            self.probes.get(versions) or Probe(Offer(versions, self.name), Unseen(why_unseen))
            for versions in self.planned
        )
        return Endpoint(
            name=self.name,
            address=self.destination.address,
            port=self.destination.port,
            probes=(
                *probes,
                *self.more_probes,
                *((*look.more_probes, *look.further_probes) if look is not None else ()),
            ),
            nameless=tuple(look.nameless) if look is not None else (),
            protocol=look.protocol if look is not None else None,
            reached_at=self.destination.reached_at,
            minds=self.cause.extensions,
            minds_besides="" if self.cause.extensions else self.cause.words,
            minds_octets=self.cause.octets,
            tries=tuple(self.tries),
        )


@dataclass
class FrontEndBoard:
    """One address and port, and the names behind it."""

    first: EndpointLook
    """The name of which everything is asked."""

    first_answered: asyncio.Event = field(default_factory=asyncio.Event)
    """Its first hellos were answered, or will not be."""

    alike: list[str] = field(default_factory=list)
    """Names whose spot checks showed the same as the first."""

    unlike: list[str] = field(default_factory=list)
    """Names with a look of their own."""


@dataclass
class Board:
    """Everything that steps have found."""

    plan: Plan
    given: Given
    names: dict[str, Name] = field(default_factory=dict)
    added: set[str] = field(default_factory=set)
    """Names that are the sibling of one that was asked for."""

    ports: dict[str, int] = field(default_factory=dict)
    """Of https, by name."""

    journeys: list[OngoingJourney] = field(default_factory=list)
    pages: dict[tuple[str, str], Page] = field(default_factory=dict)
    redirected_parts: dict[str, Redirected] = field(default_factory=dict)
    style_sheets: int = 0
    parts: int = 0
    """That were asked for."""
    host_probes: list[HostProbe] = field(default_factory=list)
    endpoints: dict[tuple[str, str, int], EndpointLook] = field(default_factory=dict)
    front_ends: dict[tuple[str, int], FrontEndBoard] = field(default_factory=dict)
    origins: dict[tuple[str, str, int | None], Origin] = field(default_factory=dict)
    services: dict[tuple[str, str, int], tuple[Service, ...]] = field(default_factory=dict)
    promised: set[tuple[str, int]] = field(default_factory=set)
    """Hosts and ports that HTTPS records of the site name."""

    certificates: dict[str, bytes] = field(default_factory=dict)
    covered: dict[str, Name] = field(default_factory=dict)
    statuses: dict[tuple[str, str], StatusAnswer] = field(default_factory=dict)
    fetched: list[FetchedIssuer] = field(default_factory=list)
    not_contacted: dict[tuple[str, str], NotContacted] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)
    why_unseen: str = ""
    interrupted: bool = False

    def __post_init__(self) -> None:
        self.ports.update((target.host, target.port) for target in self.plan.targets)
        self.certificates.update((each.sha256, each.der) for each in self.given.trust)
        self.certificates.update((fingerprint(each), each) for each in self.given.certificates)
        self.why_unseen = f"not reached before the deadline of {self.plan.whole_seconds:g} s"

    def leave_out(self, what: str, where: str, reason: str) -> None:
        """Say once what is not contacted, and why."""
        self.not_contacted.setdefault((what, reason), NotContacted(where, reason))

    def evidence(self, begun: datetime.datetime, elapsed: float, connections: int, dns: DnsSeen) -> Evidence:
        """What was seen, in an order of its own: that in which answers came is chance."""
        order = {name: position for position, name in enumerate(self._in_order())}
        last = len(order)
        journeys = sorted(
            self.journeys,
            key=lambda journey: (
                order.get(journey.start.host, last),
                journey.reason is not WayIn.TYPED,
                journey.reason.value,
                journey.looks_like,
            ),
        )
        endpoints = sorted(self.endpoints.values(), key=lambda each: order.get(each.name, last))
        given, plan = self.given, self.plan
        serials = functools.cache(self._serials)
        return Evidence(
            plan=plan,
            begun=begun,
            elapsed_seconds=round(elapsed, 3),
            dns=dns,
            names=tuple(self._with_unseen(self.names[name]) for name in order),
            endpoints=tuple(each.endpoint(self.why_unseen) for each in endpoints),
            front_ends=tuple(
                FrontEnd(address, port, found.first.name, tuple(found.alike), tuple(found.unlike))
                for (address, port), found in sorted(self.front_ends.items())
                if found.first.look is not None
            ),
            journeys=tuple(journey.seen_so_far(self.why_unseen) for journey in journeys),
            pages=tuple(page for _, page in sorted(self.pages.items())),
            redirected_parts=tuple(each for _, each in sorted(self.redirected_parts.items())),
            host_probes=tuple(sorted(self.host_probes, key=lambda each: (order.get(each.name, 0), each.scheme))),
            origins=tuple(self.origins.values()),
            services=tuple(each for _, found in sorted(self.services.items()) for each in found),
            certificates=tuple(StoredCertificate(sha, der) for sha, der in sorted(self.certificates.items())),
            fetched_issuers=tuple(self.fetched),
            given_trust=tuple(each.sha256 for each in given.trust),
            trusts_given_only=given.trusts_given_only,
            given_certificates=tuple(map(fingerprint, given.certificates)),
            given_logs=given.logs,
            covered_names=tuple(each for text, each in sorted(self.covered.items()) if text not in self.names),
            revocation_asked=plan.revocation,
            status_answers=tuple(self._condensed(answer, serials) for _, answer in sorted(self.statuses.items())),
            not_contacted=tuple(self.not_contacted.values()),
            faults=tuple(self.faults),
            connections=connections,
            environment_proxy=next((name for name in PROXY_VARIABLES if os.environ.get(name)), None),
            interrupted=self.interrupted,
        )

    def _serials(self) -> frozenset[int]:
        """Of every certificate at hand."""
        read = map(read_certificate, self.certificates.values())
        return frozenset(each.serial for each in read if isinstance(each, Certificate))

    def _condensed(self, answer: StatusAnswer, serials: Callable[[], frozenset[int]]) -> StatusAnswer:
        """A long list is kept with what was asked of it: the entries of the certificates at hand."""
        match answer:
            case StatusAnswer(method=StatusMethod.CRL, answer=Seen(value=octets)) if len(octets) > LONGEST_CRL_KEPT:
                condensed = condense_crl(octets, serials())
                if condensed is not None:
                    return msgspec.structs.replace(answer, answer=Seen(condensed[0]), signed_digest=condensed[1])
        return answer

    def _in_order(self) -> Sequence[str]:
        """Names as given, each with its sibling behind it."""
        found: dict[str, None] = {}
        for target in self.plan.targets:
            found[target.host] = None
            found.update(dict.fromkeys(each for each in self.names if are_siblings(each, target.host)))
        return list(found)

    def _with_unseen(self, name: Name) -> Name:
        """A name whose look-up did not end in time."""
        if name.addresses or name.lookups:
            return name
        lookups = tuple(Lookup(record_type, Unseen(self.why_unseen)) for record_type in ("A", "AAAA"))
        return Name(name.name, name.declared, lookups)
