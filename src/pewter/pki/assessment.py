"""What to say of the certificates that one server sent."""

import datetime
import itertools
from collections.abc import Sequence

import msgspec

from pewter.crypto import SignatureVerdict

from .certificates import Certificate
from .paths import FaultKind, Path, build_paths
from .signatures import verify_signature
from .stores import Store


class ChainAssessment(msgspec.Struct, frozen=True):
    """One served chain, held against the stores."""

    sent: tuple[Certificate, ...]
    alone: Path
    """The best path from what was sent and the anchors alone."""

    helped: Path | None
    """A valid path that also uses certificates obtained elsewhere; None where none was needed or found."""

    missing: tuple[Certificate, ...]
    """What ``helped`` uses and the server did not send, leaf side first."""

    is_self_signed: bool
    """The leaf verifies by its own key."""

    misplaced: tuple[Certificate, ...]
    """Certificates of the best path that stand before the one they certify (RFC 5246 section 7.4.2)."""

    superfluous: tuple[tuple[Certificate, str], ...]
    """Certificates that help no path, and why: a duplicate, the root itself, unrelated."""

    outdated_beside: tuple[Certificate, ...] = ()
    """Issuers out of date that were sent, and that a good path goes round."""

    @property
    def best(self) -> Path:
        """The path by which a client that can fetch missing certificates judges."""
        return self.helped or self.alone


def assess_chain(
    sent: Sequence[Certificate],
    elsewhere: Sequence[Certificate],
    stores: Sequence[Store],
    at: datetime.datetime,
) -> ChainAssessment:
    """Assess a chain as sent, leaf first; ``elsewhere`` holds what other servers sent or AIA gave."""
    leaf = sent[0]
    paths = build_paths(leaf, sent, stores, at)
    alone = paths[0]
    helped: Path | None = None
    missing: tuple[Certificate, ...] = ()
    if not alone.is_valid and elsewhere:
        best = build_paths(leaf, [*sent, *elsewhere], stores, at)[0]
        if best.is_valid:
            helped = best
            known = {each.sha256 for each in sent}
            missing = tuple(each for each in best.certificates[:-1] if each.sha256 not in known)
    return ChainAssessment(
        sent=tuple(sent),
        alone=alone,
        helped=helped,
        missing=missing,
        is_self_signed=leaf.is_self_issued and verify_signature(leaf, leaf) is SignatureVerdict.VERIFIED,
        misplaced=_misplaced(sent, helped or alone),
        superfluous=_superfluous(sent, paths, helped),
        outdated_beside=_outdated_beside(sent, paths) if alone.is_valid else (),
    )


def _outdated_beside(sent: Sequence[Certificate], paths: Sequence[Path]) -> tuple[Certificate, ...]:
    dated = {
        fault.certificate.sha256
        for path in paths
        for fault in path.faults
        if fault.kind in {FaultKind.EXPIRED_ISSUER, FaultKind.ISSUER_NOT_YET_VALID}
    }
    return tuple({each.sha256: each for each in sent if each.sha256 in dated}.values())


def _misplaced(sent: Sequence[Certificate], path: Path) -> tuple[Certificate, ...]:
    """Judged among the certificates on the path alone: an extra one in between is superfluous, not disorder."""
    on_path = [each.sha256 for each in path.certificates]
    positions: dict[str, int] = {}
    for position, each in enumerate(sent):
        if each.sha256 in on_path:
            positions.setdefault(each.sha256, position)
    in_order = sorted(positions, key=on_path.index)
    return tuple(
        sent[positions[after]] for before, after in itertools.pairwise(in_order) if positions[after] < positions[before]
    )


def _superfluous(
    sent: Sequence[Certificate], paths: Sequence[Path], helped: Path | None
) -> tuple[tuple[Certificate, str], ...]:
    # By name and key: a cross certificate of an anchor serves programs that trust another root.
    on_paths = (*(each for path in paths for each in path.certificates), *(helped.certificates if helped else ()))
    linked = {(each.subject.comparable, each.spki) for each in on_paths}
    anchors = {path.anchor.sha256 for path in (*paths, *((helped,) if helped else ())) if path.anchor}
    seen: set[str] = set()
    found: list[tuple[Certificate, str]] = []
    for position, each in enumerate(sent):
        if each.sha256 in seen:
            found.append((each, "was sent already"))
        elif position > 0 and each.sha256 in anchors:
            found.append((each, "is the root itself, which every client has to have already"))
        elif (each.subject.comparable, each.spki) not in linked:
            found.append((each, "is on no path from the server's certificate"))
        seen.add(each.sha256)
    return tuple(found)
