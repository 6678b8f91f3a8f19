"""Building and validating certification paths (RFC 5280 section 6, as web clients apply it).

Building is a depth-first search from the leaf: the issuers of a certificate are all the anchors and
all the certificates at hand whose subject matches its issuer, so cross-signed certificates, one name
with two keys and one key with two certificates are all tried.  Key identifiers only decide the order
in which candidates are tried (section 4.2.1.1); a mismatch rejects nothing.  A candidate whose key
does not verify the signature is another holder of the name while a better one exists, and a broken
link when none does.

Validation then looks at each path from the anchor down, and keeps every fault with the certificate at
which it lies.  The anchor counts as name, key and name constraints only: its dates and its own
signature are not examined (section 6.1.1 (d)), but for anchors of a store that says so: browsers examine roots that
were added to them.  All anchors of one name and key are tried.  The leaf's dates are left to the rules on dates, since
"not trusted" and "expired" are two findings with two mends.

All work is bounded, for a server chooses what it sends: at most MAX_SIGNATURE_WORK of checking signatures
(a slow key counts for several), MAX_DEPTH certificates in a path and MAX_PATHS paths.
"""

import datetime
import enum
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from pewter.crypto import SignatureVerdict

from .certificates import Certificate
from .constraints import TooMany, violated_constraint
from .extensions import DIGITAL_SIGNATURE, KEY_AGREEMENT, KEY_ENCIPHERMENT
from .forms import form_faults
from .identifiers import ANY_EXTENDED_KEY_USAGE, SERVER_AUTH, TOLERATED
from .policies import violated_policy
from .signatures import verify_signature, weak_hash
from .stores import Store

MAX_DEPTH = 16
MAX_PATHS = 64
CHROMIUM, FIREFOX = "Chromium", "Firefox"
_KNOWN_TO_FIREFOX = frozenset({"1.3.6.1.5.5.7.1.1", "1.3.6.1.5.5.7.48.1.5"})
"""authorityInfoAccess and id-pkix-ocsp-nocheck, which it knows also where they are critical."""

MAX_SIGNATURE_WORK = 500
"""Counted in checks by an ordinary key, of RSA 2048 or P-256."""


class FaultKind(enum.Enum):
    """Why a path is rejected."""

    NO_ANCHOR = "no anchor"
    """The last certificate's issuer is neither at hand nor in a store, or it is its own issuer."""

    BAD_SIGNATURE = "bad signature"
    UNSUPPORTED_SIGNATURE = "unsupported signature"
    EXPIRED_ISSUER = "expired issuer"
    ISSUER_NOT_YET_VALID = "issuer not yet valid"
    NOT_A_CA = "not a CA"
    NOT_FOR_SERVERS = "not for servers"
    WEAK_SIGNATURE = "weak signature"
    """SHA-1 or MD5, which current web clients refuse on all but the anchor."""

    MALFORMED = "malformed"
    """A breach of form for which current web clients refuse the certificate."""

    ANCHOR_REFUSED = "anchor refused"
    ANCHOR_OUT_OF_DATE = "anchor out of date"

    POLICY = "policy"
    WORK_LIMIT = "work limit"


class PathFault(msgspec.Struct, frozen=True):
    """One reason, and the certificate at which it lies."""

    kind: FaultKind
    certificate: Certificate
    detail: str
    opens_in: str = ""
    """The one browser that passes over it: ``Chromium`` or ``Firefox``; other programs do not."""


class Path(msgspec.Struct, frozen=True):
    """One way from the leaf up."""

    certificates: tuple[Certificate, ...]
    """Leaf first; the anchor last where the path reaches one."""

    anchor: Certificate | None
    faults: tuple[PathFault, ...]

    @property
    def issuer(self) -> Certificate | None:
        """Of the leaf, where it is at hand."""
        return self.certificates[1] if len(self.certificates) > 1 else None

    @property
    def intermediates(self) -> tuple[Certificate, ...]:
        """Between the leaf and the anchor, or up to the end of a path that reaches none."""
        return self.certificates[1:-1] if self.anchor is not None else self.certificates[1:]

    @property
    def is_valid(self) -> bool:
        return self.anchor is not None and not self.faults


def build_paths(
    leaf: Certificate, pool: Sequence[Certificate], stores: Sequence[Store], at: datetime.datetime
) -> tuple[Path, ...]:
    """Every path from ``leaf``, best first: valid ones, then those with the fewest faults, then the shortest.

    ``pool`` holds the certificates at hand in any order (the leaf may be among them).  Never empty:
    where nothing issues the leaf, the one path is the leaf alone with a NO_ANCHOR fault.
    """
    paths = [_validated(path, at) for path in _Search(pool, stores, at).paths_from(leaf)]
    reaching = [path for path in paths if path.anchor is not None]
    return tuple(
        sorted(reaching, key=lambda path: (len(path.faults), len(path.certificates)))
        + sorted((path for path in paths if path.anchor is None), key=_rank_unanchored)
    )


def _rank_unanchored(path: Path) -> tuple[bool, int, int]:
    broken = any(fault.kind is FaultKind.BAD_SIGNATURE for fault in path.faults)
    return broken, len(path.faults), -len(path.certificates)


class _Search:
    def __init__(self, pool: Sequence[Certificate], stores: Sequence[Store], at: datetime.datetime) -> None:
        self._stores = stores
        self._at = at
        self._by_subject: dict[object, list[Certificate]] = {}
        for certificate in {each.sha256: each for each in pool}.values():
            self._by_subject.setdefault(certificate.subject.comparable, []).append(certificate)
        self._checked: set[tuple[str, bytes]] = set()
        self._work = 0
        self._found = 0

    def paths_from(self, leaf: Certificate) -> Iterator[Path]:
        yield from self._climb((leaf,))

    def _climb(self, climbed: tuple[Certificate, ...]) -> Iterator[Path]:
        top = climbed[-1]
        anchors = self._anchors_like(top)
        if anchors:
            for anchor, is_examined in anchors:
                faults = _anchor_faults(anchor, climbed, self._at) if is_examined else ()
                yield self._path((*climbed[:-1], anchor), anchor, *faults)
            return
        if len(climbed) == MAX_DEPTH:
            yield self._path(climbed, None, PathFault(FaultKind.WORK_LIMIT, top, f"more than {MAX_DEPTH} certificates"))
            return
        broken: list[PathFault] = []
        went_on = False
        for candidate in self._candidates(top, climbed):
            if self._found >= MAX_PATHS:
                return
            verdict = self._verify(top, candidate)
            if verdict is None:
                limit = f"more than {MAX_SIGNATURE_WORK} signatures would have to be checked"
                yield self._path(climbed, None, PathFault(FaultKind.WORK_LIMIT, top, limit))
                return
            if verdict is SignatureVerdict.VERIFIED:
                went_on = True
                yield from self._climb((*climbed, candidate))
            else:
                broken.append(_link_fault(top, candidate, verdict))
        if not went_on:
            yield self._path(climbed, None, broken[0] if broken else _no_anchor(top))

    def _path(self, certificates: tuple[Certificate, ...], anchor: Certificate | None, *faults: PathFault) -> Path:
        self._found += 1
        return Path(certificates, anchor, faults)

    def _anchors_like(self, certificate: Certificate) -> list[tuple[Certificate, bool]]:
        """Each anchor of that name and key once, and whether it is examined: not where any store takes it as it is."""
        found: dict[str, tuple[Certificate, bool]] = {}
        for store in self._stores:
            for anchor in store.anchors_like(certificate):
                _, examined = found.get(anchor.sha256, (anchor, True))
                found[anchor.sha256] = anchor, examined and store.is_examined
        return list(found.values())

    def _candidates(self, top: Certificate, climbed: tuple[Certificate, ...]) -> list[Certificate]:
        wanted = top.issuer.comparable
        anchors = [anchor for store in self._stores for anchor in store.by_subject.get(wanted, ())]
        # A path never crosses one name and key twice: else two cross certificates go round for ever.
        crossed = {(each.subject.comparable, each.spki) for each in climbed}
        at_hand = [
            each
            for each in self._by_subject.get(wanted, ())
            if (each.subject.comparable, each.spki) not in crossed and not self._anchors_like(each)
        ]
        identifier = top.extensions.authority_key_identifier
        at_hand.sort(
            key=lambda each: (
                identifier is None or each.extensions.subject_key_identifier != identifier,
                not each.extensions.is_ca,
            )
        )
        # One for each key: the others of its name and key are found from it.
        return list({anchor.spki: anchor for anchor in anchors}.values()) + at_hand

    def _verify(self, certificate: Certificate, issuer: Certificate) -> SignatureVerdict | None:
        """None once the limit is reached."""
        key = (certificate.sha256, issuer.spki)
        if key not in self._checked:
            if self._work >= MAX_SIGNATURE_WORK:
                return None
            self._checked.add(key)
            # A key's octets tell its cost: 0.3 KB for RSA 2048, 2 KB for RSA 16384, which takes 60 times as long.
            self._work += max(1, (len(issuer.spki) // 300) ** 2)
        return verify_signature(certificate, issuer)


def _link_fault(certificate: Certificate, issuer: Certificate, verdict: SignatureVerdict) -> PathFault:
    bad = verdict is SignatureVerdict.BAD
    kind = FaultKind.BAD_SIGNATURE if bad else FaultKind.UNSUPPORTED_SIGNATURE
    words = f"the signature on {certificate.title} {verdict.value} by the key of {issuer.title}"
    if not bad:
        words = f"the signature on {certificate.title} {verdict.value}"
    return PathFault(kind, certificate, words)


def _no_anchor(top: Certificate) -> PathFault:
    if top.is_self_issued:
        return PathFault(FaultKind.NO_ANCHOR, top, f"{top.title} is its own issuer and is in no store looked at")
    return PathFault(FaultKind.NO_ANCHOR, top, f"{top.issuer.title}, the issuer of {top.title}, is not at hand")


def _validated(path: Path, at: datetime.datetime) -> Path:
    return Path(path.certificates, path.anchor, (*path.faults, *_faults(path, at)))


def _faults(path: Path, at: datetime.datetime) -> Iterator[PathFault]:
    leaf = path.certificates[0]
    for position, issuer in enumerate(path.intermediates, start=1):
        below = path.certificates[1:position]
        yield from _date_faults(issuer, at)
        yield from _authority_faults(issuer, sum(1 for each in below if not each.is_self_issued))
        yield from _purpose_faults(issuer)
        yield from _extension_faults(issuer)
        yield from _hash_faults(issuer)
        yield from _form_faults(issuer)
    if leaf is not path.anchor:
        yield from _purpose_faults(leaf)
        yield from _usage_faults(leaf)
        yield from _extension_faults(leaf, is_leaf=True)
        yield from _hash_faults(leaf)
        yield from _form_faults(leaf)
    yield from _constraint_faults(path.certificates)
    if path.anchor is not None and (violation := violated_policy(path.certificates[::-1])) is not None:
        certificate, words = violation
        yield PathFault(FaultKind.POLICY, certificate, f"{certificate.title}: {words}", FIREFOX)


def _date_faults(issuer: Certificate, at: datetime.datetime) -> Iterator[PathFault]:
    if at > issuer.not_after:
        yield PathFault(FaultKind.EXPIRED_ISSUER, issuer, f"{issuer.title} expired on {issuer.not_after:%Y-%m-%d}")
    if at < issuer.not_before:
        words = f"{issuer.title} is not valid before {issuer.not_before:%Y-%m-%d}"
        yield PathFault(FaultKind.ISSUER_NOT_YET_VALID, issuer, words)


def _authority_faults(issuer: Certificate, intermediates_below: int) -> Iterator[PathFault]:
    """RFC 5280 section 6.1.4 (k) to (n)."""
    facts = issuer.extensions

    def fault(words: str) -> PathFault:
        return PathFault(FaultKind.NOT_A_CA, issuer, f"{issuer.title} {words}")

    if issuer.version != 3 or not facts.is_ca:
        yield fault("is no CA certificate (basicConstraints does not say cA)")
    if facts.may_sign_certificates is False:
        yield fault("may not sign certificates (keyUsage lacks keyCertSign)")
    if facts.path_length is not None and intermediates_below > facts.path_length:
        yield fault(
            f"allows {facts.path_length} intermediates below it (pathLenConstraint), and has {intermediates_below}"
        )


def _purpose_faults(certificate: Certificate) -> Iterator[PathFault]:
    """On an intermediate this is no rule of RFC 5280, but browsers and the Baseline Requirements apply it."""
    purposes = certificate.extensions.purposes
    if purposes is not None and not {SERVER_AUTH, ANY_EXTENDED_KEY_USAGE} & set(purposes):
        words = f"extendedKeyUsage of {certificate.title} leaves out server authentication"
        yield PathFault(FaultKind.NOT_FOR_SERVERS, certificate, words)


def _usage_faults(leaf: Certificate) -> Iterator[PathFault]:
    """RFC 5280 section 4.2.1.3: a key that may do none of these can serve no TLS handshake."""
    usage = leaf.extensions.key_usage
    if usage is not None and not usage & {DIGITAL_SIGNATURE, KEY_ENCIPHERMENT, KEY_AGREEMENT}:
        words = f"keyUsage of {leaf.title} allows neither signatures nor key exchange"
        yield PathFault(FaultKind.NOT_FOR_SERVERS, leaf, words)


def _hash_faults(certificate: Certificate) -> Iterator[PathFault]:
    hash_name = weak_hash(certificate.signature_algorithm)
    if hash_name is not None:
        words = f"{certificate.title} is signed with {hash_name}"
        yield PathFault(FaultKind.WEAK_SIGNATURE, certificate, words)


def _form_faults(certificate: Certificate) -> Iterator[PathFault]:
    for fault in form_faults(certificate):
        if fault.stops and not fault.opens_in:
            yield PathFault(FaultKind.MALFORMED, certificate, f"{certificate.title}: {fault.words}")


def _anchor_faults(
    anchor: Certificate, climbed: tuple[Certificate, ...], at: datetime.datetime
) -> tuple[PathFault, ...]:
    """What browsers ask of a root that was added to them; Firefox takes a server's own certificate as it is."""
    if anchor.not_after < at or at < anchor.not_before:
        words = (
            f"the given root {anchor.title} is not in date: {anchor.not_before:%Y-%m-%d} to {anchor.not_after:%Y-%m-%d}"
        )
        return (PathFault(FaultKind.ANCHOR_OUT_OF_DATE, anchor, words),)
    depth = sum(1 for each in climbed[1:-1] if not each.is_self_issued)
    found = (
        *(_authority_faults(anchor, depth) if anchor.extensions.is_ca is not None else ()),
        *_purpose_faults(anchor),
        *_extension_faults(anchor),
    )
    opens_in = FIREFOX if len(climbed) == 1 else ""
    return tuple(
        PathFault(FaultKind.ANCHOR_REFUSED, anchor, f"the given root: {fault.detail}", opens_in) for fault in found
    )


def _extension_faults(certificate: Certificate, *, is_leaf: bool = False) -> Iterator[PathFault]:
    for extension in certificate.raw_extensions:
        if extension.critical and extension.oid not in TOLERATED:
            words = f"{certificate.title} has the critical extension {extension.oid}, which web clients do not know"
            opens_in = FIREFOX if is_leaf and extension.oid in _KNOWN_TO_FIREFOX else ""
            yield PathFault(FaultKind.NOT_A_CA, certificate, words, opens_in)


def _constraint_faults(certificates: Iterable[Certificate]) -> Iterator[PathFault]:
    """Name constraints of each issuer, its anchor included, on all that is below (RFC 5280 section 4.2.1.10)."""
    below: list[Certificate] = []
    for position, certificate in enumerate(certificates):
        constraints = certificate.extensions.name_constraints
        if constraints is not None and position > 0:
            for named in below:
                if named.is_self_issued and named is not below[0]:
                    continue
                try:
                    problem = violated_constraint(constraints, named)
                except TooMany as exc:
                    words = f"the name constraints of {certificate.title} were not held against {named.title}: {exc}"
                    yield PathFault(FaultKind.WORK_LIMIT, named, words)
                    continue
                if problem is not None:
                    words = f"{certificate.title} does not allow {problem.name} (nameConstraints)"
                    yield PathFault(FaultKind.NOT_A_CA, named, words, CHROMIUM if problem.is_by_dot else "")
        below.append(certificate)
