"""What is known of revocation: facts that several rules and the prediction share.

A statement of a CA is judged at the moment of the look: one that was in date when it came stays good, and what was
revoked stays revoked, whatever day certificates are judged for.
"""

import msgspec

from pewter.evidence import Handshake, Seen, StatusMethod, Unseen
from pewter.pki import Certificate, FaultKind, PathFault, StatusKind, StatusVerdict, judge_crl, judge_ocsp

from .chains import Chain, HasChains


class Status(msgspec.Struct, frozen=True):
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


def staples_of(case: HasChains, chain: Chain) -> tuple[tuple[Handshake, StatusVerdict], ...]:
    """Each distinct stapled response of the endpoint for this leaf, judged."""
    if chain.assessment is None or not isinstance(chain.leaf, Certificate):
        return ()
    issuer = chain.assessment.best.issuer
    found: dict[bytes, tuple[Handshake, StatusVerdict]] = {}
    for handshake in chain.handshakes:
        if handshake.staple is None or handshake.staple in found:
            continue
        if issuer is None:
            verdict = StatusVerdict(StatusKind.UNCHECKED, "the issuer is not at hand")
        else:
            verdict = judge_ocsp(handshake.staple, chain.leaf, issuer, case.chains.status_at)
        found[handshake.staple] = handshake, verdict
    return tuple(found.values())


def statuses_of(case: HasChains, chain: Chain) -> tuple[Status, ...]:
    """Every statement about the certificates of the chain's best path, the leaf's first."""
    if chain.assessment is None or not isinstance(chain.leaf, Certificate):
        return ()
    leaf = chain.leaf
    found = [Status(leaf, "stapled", verdict) for _, verdict in staples_of(case, chain)]
    path = chain.assessment.best
    for certificate, issuer in zip(path.certificates, path.certificates[1:], strict=False):
        found += _asked(case, certificate, issuer)
    return tuple(found)


def _asked(case: HasChains, certificate: Certificate, issuer: Certificate) -> list[Status]:
    """Once for each certificate: a list can hold a million entries."""
    what = f"statuses of {certificate.sha256} by {issuer.sha256}"
    return case.chains.once(what, lambda: _judge_asked(case, certificate, issuer))


def _judge_asked(case: HasChains, certificate: Certificate, issuer: Certificate) -> list[Status]:
    found: list[Status] = []
    facts = certificate.extensions
    for answer in case.chains.sources.status_answers:
        is_ours = (
            answer.of == certificate.sha256 if answer.method is StatusMethod.OCSP else answer.url in facts.crl_uris
        )
        if not is_ours:
            continue
        source = f"{answer.method.value} at {answer.url}"
        match answer.answer:
            case Unseen(reason=reason):
                found.append(Status(certificate, source, None, reason))
            case Seen(value=octets):
                at = case.chains.status_at
                if answer.method is StatusMethod.OCSP:
                    verdict = judge_ocsp(octets, certificate, issuer, at)
                else:
                    verdict = judge_crl(octets, certificate, issuer, at, answer.signed_digest)
                found.append(Status(certificate, source, verdict))
    return found


def revocation_of(case: HasChains, chain: Chain) -> Status | None:
    """The first statement that says revoked."""
    return next(
        (each for each in statuses_of(case, chain) if each.verdict and each.verdict.kind is StatusKind.REVOKED), None
    )


def is_public(case: HasChains, chain: Chain) -> bool:
    """Whether a browser's own store trusts the chain: the rules for public CAs hold then.

    Dates do not decide: an expired certificate of a public CA is one still.
    """
    verdict = next((each for each in case.chains.store_verdicts(chain.fingerprints) if each.is_public), None)
    return verdict is not None and verdict.path.anchor is not None and not _severe(verdict.path.faults)


def _severe(faults: tuple[PathFault, ...]) -> bool:
    kinds = {fault.kind for fault in faults}
    return bool(kinds - {FaultKind.EXPIRED_ISSUER, FaultKind.ISSUER_NOT_YET_VALID})
