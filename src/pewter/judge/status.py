"""What is known of revocation and logging: facts that several rules and the prediction share."""

from dataclasses import dataclass

from pewter.evidence import Handshake, Seen, Unseen
from pewter.octets import DecodeError
from pewter.pki import (
    Certificate,
    FaultKind,
    Log,
    PathFault,
    StatusKind,
    StatusVerdict,
    judge_crl,
    judge_ocsp,
    life_of,
)
from pewter.pki.ocsp import timestamps_in
from pewter.pki.signatures import SignatureVerdict
from pewter.pki.timestamps import by_log_id, read_timestamps, verify_timestamp

from .case import Case, ServedChain


@dataclass(frozen=True, slots=True)
class Status:
    """One statement about one certificate's revocation."""

    certificate: Certificate
    source: str
    """``stapled``, ``OCSP at http://...``, ``CRL at http://...``."""

    verdict: StatusVerdict | None
    """None where the CA gave no answer."""

    reason: str = ""
    """Why not."""

    @property
    def way(self) -> str:
        """``stapled``, ``OCSP`` or ``CRL``."""
        return self.source.partition(" ")[0]


def staples_of(case: Case, chain: ServedChain) -> tuple[tuple[Handshake, StatusVerdict], ...]:
    """Each distinct stapled response of the endpoint for this leaf, judged."""
    if chain.assessment is None or not isinstance(chain.leaf, Certificate):
        return ()
    issuer = chain.assessment.best.issuer
    found: dict[bytes, tuple[Handshake, StatusVerdict]] = {}
    for handshake in chain.endpoint.handshakes:
        if handshake.staple is None or handshake.chain[0] != chain.fingerprints[0] or handshake.staple in found:
            continue
        if issuer is None:
            verdict = StatusVerdict(StatusKind.UNCHECKED, "the issuer is not at hand")
        else:
            verdict = judge_ocsp(handshake.staple, chain.leaf, issuer, case.at)
        found[handshake.staple] = handshake, verdict
    return tuple(found.values())


def statuses_of(case: Case, chain: ServedChain) -> tuple[Status, ...]:
    """Every statement about the certificates of the chain's best path, the leaf's first."""
    if chain.assessment is None or not isinstance(chain.leaf, Certificate):
        return ()
    leaf = chain.leaf
    found = [Status(leaf, "stapled", verdict) for _, verdict in staples_of(case, chain)]
    path = chain.assessment.best
    for certificate, issuer in zip(path.certificates, path.certificates[1:], strict=False):
        found += _asked(case, certificate, issuer)
    return tuple(found)


def _asked(case: Case, certificate: Certificate, issuer: Certificate) -> list[Status]:
    """Once for each certificate: a list can hold a million entries."""
    what = f"statuses of {certificate.sha256} by {issuer.sha256}"
    return case.once(what, lambda: _judge_asked(case, certificate, issuer))


def _judge_asked(case: Case, certificate: Certificate, issuer: Certificate) -> list[Status]:
    found: list[Status] = []
    facts = certificate.extensions
    for answer in case.evidence.status_answers:
        is_ours = answer.of == certificate.sha256 if answer.method == "OCSP" else answer.url in facts.crl_uris
        if not is_ours:
            continue
        source = f"{answer.method} at {answer.url}"
        match answer.answer:
            case Unseen(reason=reason):
                found.append(Status(certificate, source, None, reason))
            case Seen(value=octets):
                judge = judge_ocsp if answer.method == "OCSP" else judge_crl
                found.append(Status(certificate, source, judge(octets, certificate, issuer, case.at)))
    return found


def revocation_of(case: Case, chain: ServedChain) -> Status | None:
    """The first statement that says revoked."""
    return next(
        (each for each in statuses_of(case, chain) if each.verdict and each.verdict.kind is StatusKind.REVOKED), None
    )


def is_public(case: Case, chain: ServedChain) -> bool:
    """Whether a browser's own store trusts the chain: the rules for public CAs hold then.

    Dates do not decide: an expired certificate of a public CA is one still.
    """
    verdict = next((each for each in case.store_verdicts(chain.fingerprints) if each.is_public), None)
    return verdict is not None and verdict.path.anchor is not None and not _severe(verdict.path.faults)


def _severe(faults: tuple[PathFault, ...]) -> bool:
    kinds = {fault.kind for fault in faults}
    return bool(kinds - {FaultKind.EXPIRED_ISSUER, FaultKind.ISSUER_NOT_YET_VALID})


@dataclass(frozen=True, slots=True)
class Logging:
    """How many logs vouch for a certificate."""

    logs: frozenset[bytes]
    """Ids of the distinct logs whose timestamps count."""

    by_way: tuple[tuple[str, int], ...]
    """``embedded``, ``stapled``, ``handshake``, and how many timestamps came by it."""

    faults: tuple[str, ...]
    """Timestamps that do not count, and why."""

    verified: int = 0
    """Of those whose log's key was given."""


def _logging(
    octets: tuple[tuple[str, bytes], ...], certificate: str, issuer: str, logs: tuple[Log, ...], case: Case
) -> Logging:
    leaf, above = case.certificate(certificate), case.certificate(issuer)
    known = by_log_id(logs)
    found: set[bytes] = set()
    by_way: dict[str, int] = {}
    faults: list[str] = []
    verified = 0
    for way, timestamps in octets:
        try:
            items = read_timestamps(timestamps)
        except DecodeError as exc:
            faults.append(f"{way}: {exc}")
            continue
        by_way[way] = by_way.get(way, 0) + len(items)
        for item in items:
            log = known.get(item.log_id)
            if log is not None and isinstance(leaf, Certificate):
                embedded_in = above if way == "embedded" and isinstance(above, Certificate) else None
                if way == "embedded" and embedded_in is None:
                    found.add(item.log_id)  # the issuer is not at hand, so nothing can be said against it
                    continue
                if verify_timestamp(item, log, leaf, embedded_in) is not SignatureVerdict.VERIFIED:
                    faults.append(f"{way}: the timestamp of {log.title} does not verify")
                    continue
                verified += 1
            found.add(item.log_id)
    return Logging(frozenset(found), tuple(by_way.items()), tuple(faults), verified)


def logging_of(case: Case, chain: ServedChain) -> Logging:
    """By all three ways (RFC 6962 section 3.3)."""
    assert isinstance(chain.leaf, Certificate)
    issuer = chain.assessment.best.issuer if chain.assessment is not None else None
    octets: dict[tuple[str, bytes], None] = {}
    if chain.leaf.extensions.signed_timestamps is not None:
        octets["embedded", chain.leaf.extensions.signed_timestamps] = None
    for handshake in chain.endpoint.handshakes:
        if handshake.chain[0] != chain.fingerprints[0]:
            continue
        if handshake.signed_timestamps is not None:
            octets["handshake", handshake.signed_timestamps] = None
        if handshake.staple is not None and issuer is not None:
            stapled = timestamps_in(handshake.staple, chain.leaf, issuer)
            if stapled is not None:
                octets["stapled", stapled] = None
    logs = tuple(Log(each.title, each.spki) for each in case.evidence.given_logs)
    return _logging(tuple(octets), chain.leaf.sha256, issuer.sha256 if issuer else "", logs, case)


@dataclass(frozen=True, slots=True)
class LogCount:
    """The logs that vouch for a publicly trusted certificate, held against what browsers ask for."""

    found: int
    wanted: int
    seen: str
    verified: int

    @property
    def is_enough(self) -> bool:
        return self.found >= self.wanted


def count_logs(case: Case, chain: ServedChain) -> LogCount | None:
    """None where browsers ask for no logs: the chain is not publicly trusted."""
    if not isinstance(chain.leaf, Certificate) or not is_public(case, chain):
        return None
    expect, logging = case.expect, logging_of(case, chain)
    long_lived = life_of(chain.leaf).length > expect.timestamps_long_life
    ways = ", ".join(f"{count} {way}" for way, count in logging.by_way) or "none"
    faults = "".join(f"; {each}" for each in logging.faults)
    seen = f"signed timestamps of {len(logging.logs)} logs ({ways}){faults}"
    wanted = expect.timestamps_long if long_lived else expect.timestamps
    return LogCount(len(logging.logs), wanted, seen, logging.verified)
