"""The chains of certificates that are sent, or would be, held against the root stores."""

import datetime
import functools
from collections.abc import Iterator, Sequence
from typing import Protocol

import msgspec

from pewter.evidence import FetchedIssuer, GivenLog, Handshake, Hop, StatusAnswer, StoredCertificate
from pewter.expectations import Expectations
from pewter.pki import (
    Certificate,
    ChainAssessment,
    FaultKind,
    MalformedCertificate,
    Path,
    Store,
    assess_chain,
    build_paths,
    read_certificate,
)
from pewter.places import Place

from .once import WorksOutOnce
from .unseen import UnseenAt


class StoreVerdict(msgspec.Struct, frozen=True):
    """What one root store makes of one chain."""

    title: str
    path: Path
    """The best one, with what could be obtained elsewhere."""

    is_public: bool = False
    """The store is a browser's own."""

    is_given: bool = False
    """It holds what the reviewer gave."""

    @property
    def trusts(self) -> bool:
        return self.path.is_valid


class SentChain(msgspec.Struct, frozen=True):
    """Certificates as one endpoint sends them, or as a server would send a file."""

    where: Place
    host: str
    """The name for which it is sent."""

    fingerprints: tuple[str, ...]
    """SHA-256 of each, leaf first."""

    handshakes: tuple[Handshake, ...] = ()
    """Those in which its leaf came; none for a file."""

    is_of_site: bool = True
    """False where it was met on a host that is no name of the site."""


class Chain(msgspec.Struct, frozen=True):
    """One chain that is sent, and what was read in it."""

    sent: SentChain
    leaf: Certificate | MalformedCertificate
    malformed: tuple[MalformedCertificate, ...]
    """Of the others that were sent."""

    assessment: ChainAssessment | None
    """None where the leaf cannot be read."""

    @property
    def where(self) -> Place:
        return self.sent.where

    @property
    def host(self) -> str:
        return self.sent.host

    @property
    def fingerprints(self) -> tuple[str, ...]:
        return self.sent.fingerprints

    @property
    def handshakes(self) -> tuple[Handshake, ...]:
        return self.sent.handshakes


class Trust(msgspec.Struct, frozen=True):
    """By whom a certificate may be vouched for."""

    stores: tuple[Store, ...]
    """Those that came with the program and the machine."""

    given: tuple[str, ...] = ()
    """Fingerprints of anchors that the reviewer gave."""

    given_only: bool = False
    """They stand in place of every other store."""


class Sources(msgspec.Struct, frozen=True):
    """What was obtained beside the chains."""

    certificates: tuple[StoredCertificate, ...]
    fetched: tuple[FetchedIssuer, ...] = ()
    given: tuple[str, ...] = ()
    """Fingerprints of certificates in files, to be held against what is served."""

    status_answers: tuple[StatusAnswer, ...] = ()
    logs: tuple[GivenLog, ...] = ()


class Chains(WorksOutOnce):
    """All chains of one case.  Iterated over, it gives those of the site's own names."""

    def __init__(
        self,
        sent: Sequence[SentChain],
        unseen: Sequence[UnseenAt],
        sources: Sources,
        trust: Trust,
        at: datetime.datetime,
        status_at: datetime.datetime,
    ) -> None:
        self._sent = tuple(sent)
        self.unseen = tuple(unseen)
        """One for each endpoint of the site that showed no certificate."""

        self.sources = sources
        self.at = at
        """The moment for which certificates are judged."""

        self.status_at = status_at
        """The moment of the look: a statement of a CA that was in date when it came stays good."""

        read = (self.certificate(sha256) for sha256 in trust.given)
        anchors = tuple(each for each in read if isinstance(each, Certificate))
        self.own_stores = () if trust.given_only else trust.stores
        """Those that came with the program and the machine."""

        title = "--trust-only" if trust.given_only else "--trust"
        self.given_store = Store(title, anchors, is_examined=True) if anchors else None
        self.stores = (*self.own_stores, *([self.given_store] if self.given_store else []))

    @functools.cached_property
    def _certificates(self) -> dict[str, Certificate | MalformedCertificate]:
        return {stored.sha256: read_certificate(stored.der) for stored in self.sources.certificates}

    def certificate(self, sha256: str) -> Certificate | MalformedCertificate:
        """A certificate at hand by its fingerprint."""
        found = self._certificates.get(sha256)
        return found if found is not None else MalformedCertificate(sha256, b"", "it is not in the evidence")

    def _readable(self, fingerprints: Sequence[str]) -> tuple[Certificate, ...]:
        return tuple(each for each in map(self.certificate, fingerprints) if isinstance(each, Certificate))

    @property
    def at_hand(self) -> tuple[Certificate, ...]:
        """All certificates that can be read, wherever they are from."""
        return tuple(each for each in self._certificates.values() if isinstance(each, Certificate))

    @functools.cached_property
    def all(self) -> tuple[Chain, ...]:
        """Those of hosts that are no names of the site too."""
        return tuple(map(self._chain, self._sent))

    def __iter__(self) -> Iterator[Chain]:
        return (each for each in self.all if each.sent.is_of_site)

    def __bool__(self) -> bool:
        return any(each.is_of_site for each in self._sent)

    def first(self) -> Chain:
        return next(iter(self))

    def at_endpoint(self, host: str, address: str) -> tuple[Chain, ...]:
        return tuple(each for each in self.all if (each.host, each.where.address) == (host, address))

    def addresses_of(self, host: str) -> frozenset[str]:
        """Where a host is served, whether it showed certificates there or not."""
        served = (each.where.address for each in self._sent if each.host == host)
        return frozenset(served) | {each.where.address for each in self.unseen if each.where.host == host}

    def leaves(self) -> Iterator[tuple[Chain, Certificate]]:
        """Chains of the site whose leaf can be read."""
        for chain in self:
            if isinstance(chain.leaf, Certificate):
                yield chain, chain.leaf

    def _chain(self, sent: SentChain) -> Chain:
        leaf = self.certificate(sent.fingerprints[0])
        others = (self.certificate(each) for each in sent.fingerprints[1:])
        malformed = tuple(each for each in others if isinstance(each, MalformedCertificate))
        return Chain(sent, leaf, malformed, self.assess(sent.fingerprints))

    def assess(self, fingerprints: tuple[str, ...], *, by_aia_alone: bool = False) -> ChainAssessment | None:
        """A chain held against the stores, with the help of all that was obtained elsewhere.

        ``by_aia_alone`` leaves out what only other endpoints sent: that is what a browser can fetch.
        None where the leaf cannot be read.
        """
        sent = self._readable(fingerprints)
        if not sent or sent[0].sha256 != fingerprints[0]:
            return None
        whole = self.once(
            ("assessment", fingerprints), lambda: assess_chain(sent, self._elsewhere, self.stores, self.at)
        )
        if not by_aia_alone or whole.alone.is_valid:
            return whole
        key = ("assessment by AIA alone", fingerprints)
        return self.once(key, lambda: assess_chain(sent, self._fetched, self.stores, self.at))

    def store_verdicts(self, fingerprints: tuple[str, ...]) -> tuple[StoreVerdict, ...]:
        """Each root store's word on a chain, by itself; empty where the leaf cannot be read."""
        return self.once(("store verdicts", fingerprints), lambda: tuple(self._ask_stores(fingerprints)))

    def _ask_stores(self, fingerprints: tuple[str, ...]) -> Iterator[StoreVerdict]:
        sent = self._readable(fingerprints)
        if sent and sent[0].sha256 == fingerprints[0]:
            for store in self.stores:
                best = build_paths(sent[0], [*sent, *self._elsewhere], (store,), self.at)[0]
                yield StoreVerdict(store.title, best, store.is_public, store is self.given_store)

    def octets(self, chain: Chain) -> int:
        """Of the Certificate message, as it came or as it would be (RFC 8446 section 4.4.2)."""
        came = max((each.certificate_octets for each in chain.handshakes), default=0)
        return came or 4 + sum(self._sizes.get(each, 0) + 5 for each in chain.fingerprints)

    @functools.cached_property
    def _sizes(self) -> dict[str, int]:
        """Octets of each certificate."""
        return {stored.sha256: len(stored.der) for stored in self.sources.certificates}

    @functools.cached_property
    def given_certificates(self) -> tuple[Certificate, ...]:
        """From files, to be held against what is served."""
        return self._readable(self.sources.given)

    @functools.cached_property
    def _fetched(self) -> tuple[Certificate, ...]:
        answers = (fetched.answer for fetched in self.sources.fetched)
        fingerprints = dict.fromkeys(each for answer in answers if isinstance(answer, tuple) for each in answer)
        return self._readable(tuple(fingerprints))

    @functools.cached_property
    def _elsewhere(self) -> tuple[Certificate, ...]:
        """All certificates at hand that may be issuers."""
        return tuple(each for each in self.at_hand if each.extensions.is_ca)

    def where_to_get(self, certificate: Certificate) -> str:
        """Where a certificate is to be had that was not sent, in words."""
        for fetched in self.sources.fetched:
            if certificate.sha256 in fetched.answer:
                return f"{certificate.title} is {'at' if '://' in fetched.url else 'in'} {fetched.url}"
        for sent in self._sent:
            if certificate.sha256 in sent.fingerprints:
                return f"{certificate.title} is sent by {sent.where}"
        if certificate.sha256 in self.sources.given:
            return f"{certificate.title} is among the files given"
        return f"{certificate.title} is to be had from its CA"


class HasChains(Protocol):
    """What rules on chains, names and dates are given: a case of a site, or of a bundle."""

    @property
    def chains(self) -> Chains: ...

    @property
    def expect(self) -> Expectations: ...

    @property
    def at(self) -> datetime.datetime: ...

    @property
    def resolving_names(self) -> tuple[str, ...]: ...

    def hops_of(self, host: str) -> Sequence[Hop]: ...


def certificates_to_judge(chain: Chain) -> tuple[Certificate, ...]:
    """Those of the path without its root, whose own signature and key a client takes on trust."""
    if chain.assessment is None:
        return ()
    path = chain.assessment.best
    return tuple(each for each in path.certificates if each is not path.anchor) or (chain.assessment.sent[0],)


UNCHECKED = "unchecked"


def path_problem(chain: Chain) -> str:
    """The one thing to say of a chain's path: the slug of the rule that says it, an empty text for a good path,
    :data:`UNCHECKED` for one that was not looked at to its end."""
    assessment = chain.assessment
    if assessment is None:
        return "malformed"
    if assessment.alone.is_valid:
        return ""
    if assessment.helped is not None:
        return "incomplete"
    if assessment.is_self_signed:
        return "self-signed"
    if issuer_not_to_be_had(chain) is not None:
        return "incomplete"
    kinds = [fault.kind for fault in assessment.alone.faults]
    if assessment.alone.anchor is not None and set(kinds) <= {FaultKind.WORK_LIMIT}:
        return UNCHECKED
    return next((slug for kind, slug in _SLUGS.items() if kind in kinds), "untrusted")


_SLUGS = {
    FaultKind.BAD_SIGNATURE: "bad-signature",
    FaultKind.NO_ANCHOR: "untrusted",
    FaultKind.UNSUPPORTED_SIGNATURE: "untrusted",
    FaultKind.WORK_LIMIT: "untrusted",
    FaultKind.NOT_A_CA: "not-a-ca",
    FaultKind.POLICY: "not-a-ca",
    FaultKind.NOT_FOR_SERVERS: "not-for-servers",
    FaultKind.WEAK_SIGNATURE: "weak-signature",
    FaultKind.MALFORMED: "malformed",
    FaultKind.ANCHOR_REFUSED: "anchor-refused",
    FaultKind.ANCHOR_OUT_OF_DATE: "anchor-refused",
    FaultKind.EXPIRED_ISSUER: "expired-issuer",
    FaultKind.ISSUER_NOT_YET_VALID: "expired-issuer",
}
"""Which rule speaks of which fault, in the order in which one hides the others."""


def issuer_not_to_be_had(chain: Chain) -> Certificate | None:
    """The server's certificate, where its issuer is an intermediate that is neither sent nor to be had elsewhere.

    A certificate that says where its issuer's can be fetched, or that names a responder or a list, is a CA's that
    issues from intermediates: what is missing is one of these, not a root that nobody trusts.
    """
    if chain.assessment is None:
        return None
    path = chain.assessment.best
    top = path.certificates[-1]
    facts = top.extensions
    is_public_form = bool(facts.ca_issuers or facts.ocsp_responders or facts.signed_timestamps)
    alone = len(path.certificates) == 1 and not top.is_self_issued and not facts.is_ca
    no_anchor = {fault.kind for fault in path.faults} <= {FaultKind.NO_ANCHOR}
    return top if alone and path.anchor is None and no_anchor and is_public_form else None


def told_apart(certificate: Certificate) -> str:
    """By issuer, dates and fingerprint, since two certificates of one name look alike in all else."""
    span = f"{certificate.not_before:%Y-%m-%d} to {certificate.not_after:%Y-%m-%d}"
    return f"{span} by {certificate.issuer.title}, {certificate.key}, SHA-256 {certificate.sha256[:8]}"
