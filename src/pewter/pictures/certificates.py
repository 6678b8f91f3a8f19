"""Each distinct certificate with who serves it, its path link by link, and its life: what a report draws."""

import datetime
import enum

import msgspec

from pewter.facts.chains import Chain, HasChains, path_problem
from pewter.facts.lives import is_expiring, is_renewal_overdue
from pewter.facts.revocation import Status, staples_of, statuses_of
from pewter.phrases import until
from pewter.pki import MUST_STAPLE, Certificate, FaultKind, Life, Path, StatusKind, life_of, presented_names


class LinkState(enum.Enum):
    """How one certificate of a drawn path stands."""

    SENT = "sent"
    ANCHOR = "trusted root"
    NOT_SENT = "not sent"
    MISSING = "not to be had"
    """Neither sent nor to be had elsewhere."""

    UNTRUSTED = "not trusted"
    """The path ends at it, and it is in no store looked at."""

    BROKEN = "broken"
    """The fault of the path lies at this certificate."""


class Link(msgspec.Struct, frozen=True, omit_defaults=True):
    """One certificate of a drawn path."""

    title: str
    state: LinkState
    remark: str = ""


class LifeState(enum.Enum):
    """Where in its life a certificate is."""

    IN_DATE = "in date"
    RENEWAL_DUE = "renewal due"
    RENEWAL_OVERDUE = "renewal overdue"
    EXPIRING = "expiring"
    EXPIRED = "expired"
    NOT_YET_VALID = "not yet valid"


class LifeDrawn(msgspec.Struct, frozen=True, omit_defaults=True):
    """A certificate's life, with the point at which it is to be renewed."""

    state: LifeState
    not_before: datetime.datetime
    not_after: datetime.datetime
    days: int
    """Of the whole life."""

    days_left: int
    passed: float
    """The fraction that has passed, 0.0 to 1.0."""

    renewal: datetime.datetime
    renewal_at: float
    """As a fraction of its life."""

    is_endless: bool = False
    left: str = ""
    """What is left of it in words: ``12 days``, ``20 hours``."""


class ServedCertificate(msgspec.Struct, frozen=True, omit_defaults=True):
    """One distinct certificate that servers of the site send as their own."""

    sha256: str
    title: str
    places: tuple[str, ...]
    hosts: tuple[str, ...] = ()
    """The host names for which it is served."""

    names: tuple[str, ...] = ()
    """What it covers."""

    key: str = ""
    key_sha256: str = ""
    """The first 16 digits, of its SubjectPublicKeyInfo: the same for all certificates of one key."""

    issuer: str = ""
    links: tuple[Link, ...] = ()
    """From the leaf to the root; a path that reaches none ends in a BROKEN link."""

    problem: str = ""
    """The slug of the chain rule that speaks of the path; empty for a good one."""

    life: LifeDrawn | None = None
    stores: tuple[tuple[str, bool], ...] = ()
    """Each root store and whether it trusts the certificate."""

    twins: tuple[str, ...] = ()
    """SHA-256 of other certificates that are served for one of its places' names."""

    status: str = ""
    """What its CA says of revocation, where it said anything."""

    revoked: bool = False
    staple: str = ""
    """What the server staples, in words; empty where nothing came."""

    lacks_staple: bool = False
    """Nothing came, and it names a responder."""

    is_given: bool = False
    """It is the certificate of a file that the reviewer gave."""

    unreadable: str = ""
    """Why it cannot be read; all else is then empty."""


def served_certificates(case: HasChains) -> tuple[ServedCertificate, ...]:
    """In the order of the names; chains with one leaf are one entry, drawn by the worst of them."""
    groups: dict[str, list[Chain]] = {}
    for chain in case.chains:
        groups.setdefault(chain.fingerprints[0], []).append(chain)
    entries = [_entry(case, chains) for chains in groups.values()]
    names = {sha256: {chain.host for chain in chains} for sha256, chains in groups.items()}
    return tuple(
        msgspec.structs.replace(
            entry,
            hosts=tuple(sorted(names[entry.sha256])),
            is_given=entry.sha256 in case.chains.sources.given,
            twins=tuple(other for other in groups if other != entry.sha256 and names[other] & names[entry.sha256]),
        )
        for entry in entries
    )


def _entry(case: HasChains, chains: list[Chain]) -> ServedCertificate:
    worst = next((chain for chain in chains if path_problem(chain)), chains[0])
    places = _places(case, chains)
    leaf = worst.leaf
    if not isinstance(leaf, Certificate):
        return ServedCertificate(leaf.sha256, "unreadable", places, problem="malformed", unreadable=leaf.reason)
    answers = [each for each in statuses_of(case, worst) if each.verdict and each.verdict.kind.is_answer]
    bad = next((each for each in answers if each.verdict and each.verdict.kind is StatusKind.REVOKED), None)
    return ServedCertificate(
        sha256=leaf.sha256,
        title=leaf.title,
        names=presented_names(leaf),
        places=places,
        key=str(leaf.key),
        key_sha256=leaf.spki_sha256.hex()[:16],
        issuer=leaf.issuer.title,
        links=_links(case, worst),
        problem=path_problem(worst),
        life=_life(case, life_of(leaf)),
        stores=tuple((each.title, each.trusts) for each in case.chains.store_verdicts(worst.fingerprints)),
        status=_status_words(answers, bad, leaf),
        revoked=bad is not None,
        staple=(staple := _staple_words(case, worst, leaf)),
        lacks_staple=not staple and bool(leaf.extensions.ocsp_responders),
    )


def _staple_words(case: HasChains, chain: Chain, leaf: Certificate) -> str:
    staples = staples_of(case, chain)
    if staples:
        verdict = staples[-1][1]
        return f"the CA's word on revocation comes with the handshake: {verdict.detail}"
    demanded = MUST_STAPLE in leaf.extensions.tls_features
    return "demanded by the certificate, and nothing came" if demanded else ""


def _status_words(answers: list[Status], bad: Status | None, leaf: Certificate) -> str:
    """``not revoked (stapled, OCSP)``; of several answers a bad one counts."""
    if bad is not None and bad.verdict is not None:
        whose = "" if bad.certificate is leaf else f"{bad.certificate.title}: "
        return f"{whose}{bad.verdict.detail} ({bad.way})"
    ways = dict.fromkeys(each.way for each in answers if each.certificate is leaf)
    return f"not revoked ({', '.join(ways)})" if ways else ""


def _places(case: HasChains, chains: list[Chain]) -> tuple[str, ...]:
    """Endpoints; a name alone where all its addresses serve the certificate."""
    found: dict[str, None] = {}
    for chain in chains:
        here = {each.where.address for each in chains if each.host == chain.host}
        found[chain.host if here == case.chains.addresses_of(chain.host) else chain.where.text] = None
    return tuple(found)


def _life(case: HasChains, life: Life) -> LifeDrawn:
    return LifeDrawn(
        _state(case, life),
        life.not_before,
        life.not_after,
        life.length.days,
        life.days_left(case.at),
        life.passed(case.at),
        life.point(case.expect.renewal_point),
        case.expect.renewal_point if life.length else 1.0,
        life.is_endless,
        "" if life.is_endless or life.is_over(case.at) else until(life.left(case.at)),
    )


def _state(case: HasChains, life: Life) -> LifeState:
    if life.is_over(case.at):
        return LifeState.EXPIRED
    if life.is_ahead(case.at):
        return LifeState.NOT_YET_VALID
    if is_expiring(life, case.at, case.expect):
        return LifeState.EXPIRING
    if is_renewal_overdue(life, case.at, case.expect):
        return LifeState.RENEWAL_OVERDUE
    is_due = life.point(case.expect.renewal_point) < case.at and not life.is_endless
    return LifeState.RENEWAL_DUE if is_due else LifeState.IN_DATE


def _links(case: HasChains, chain: Chain) -> tuple[Link, ...]:
    assert chain.assessment is not None
    path = chain.assessment.best
    missing = {each.sha256 for each in chain.assessment.missing}
    faults = {fault.certificate.sha256: fault.detail for fault in path.faults if fault.kind is not FaultKind.NO_ANCHOR}
    links = []
    for certificate in path.certificates:
        state, remark = LinkState.SENT, ""
        if certificate.sha256 in faults:
            state, remark = LinkState.BROKEN, faults[certificate.sha256]
        elif certificate is path.anchor:
            state, remark = LinkState.ANCHOR, _store_of(case, path)
        elif certificate.sha256 in missing:
            state = LinkState.NOT_SENT
        links.append(Link(certificate.title, state, remark))
    top = path.certificates[-1]
    if path.anchor is None and not faults:
        if top.is_self_issued:
            links[-1] = Link(top.title, LinkState.UNTRUSTED, "its own issuer, in no store looked at")
        else:
            links.append(Link(top.issuer.title, LinkState.MISSING, "not sent, and not to be had"))
    return tuple(links)


def _store_of(case: HasChains, path: Path) -> str:
    for store in case.chains.stores:
        if path.anchor is not None and store.anchors_like(path.anchor):
            return store.title
    return ""
