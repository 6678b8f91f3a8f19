"""Each distinct certificate with who serves it, its path link by link, and its life: what a report draws."""

import dataclasses
import datetime
import enum
from dataclasses import dataclass

from pewter.pki import MUST_STAPLE, Certificate, FaultKind, Life, Path, StatusKind, life_of, presented_names

from .case import Case, ServedChain
from .chain import path_problem
from .date import is_expiring, is_renewal_overdue
from .status import Status, staples_of, statuses_of

NOT_STAPLED = "not stapled"


class LinkState(enum.Enum):
    """How one certificate of a drawn path stands."""

    SENT = "sent"
    ANCHOR = "trusted root"
    NOT_SENT = "not sent"
    BROKEN = "broken"
    """The fault of the path lies at this certificate."""


@dataclass(frozen=True, slots=True)
class Link:
    """One certificate of a drawn path."""

    title: str
    state: LinkState
    remark: str = ""


@dataclass(frozen=True, slots=True)
class ServedCertificate:
    """One distinct certificate that servers of the site send as their own."""

    sha256: str
    title: str
    names: tuple[str, ...]
    """What it covers."""

    places: tuple[str, ...]
    key: str
    issuer: str
    links: tuple[Link, ...]
    """From the leaf to the root; a path that reaches none ends in a BROKEN link."""

    problem: str
    """The slug of the chain rule that speaks of the path; empty for a good one."""

    life: Life | None
    days_left: int
    passed: float
    renewal: datetime.datetime | None
    state: str
    """``in date``, ``renewal due``, ``renewal overdue``, ``expiring``, ``expired`` or ``not yet valid``."""

    issued: datetime.datetime | None = None
    stores: tuple[tuple[str, bool], ...] = ()
    """Each root store and whether it trusts the certificate."""

    twins: tuple[str, ...] = ()
    """SHA-256 of other certificates that are served for one of its places' names."""

    status: str = ""
    """What its CA says of revocation, where it said anything."""

    revoked: bool = False
    staple: str = ""
    """What the server staples, in words; empty where the certificate names no responder and demands nothing."""

    is_given: bool = False
    """It is the certificate of a file that the reviewer gave."""

    unreadable: str = ""
    """Why it cannot be read; all else is then empty."""


def served_certificates(case: Case) -> tuple[ServedCertificate, ...]:
    """In the order of the names; chains with one leaf are one entry, drawn by the worst of them."""
    groups: dict[str, list[ServedChain]] = {}
    for chain in case.chains:
        groups.setdefault(chain.fingerprints[0], []).append(chain)
    entries = [_entry(case, chains) for chains in groups.values()]
    names = {sha256: {chain.endpoint.name for chain in chains} for sha256, chains in groups.items()}
    return tuple(
        dataclasses.replace(
            entry,
            is_given=entry.sha256 in case.evidence.given_certificates,
            twins=tuple(other for other in groups if other != entry.sha256 and names[other] & names[entry.sha256]),
        )
        for entry in entries
    )


def _entry(case: Case, chains: list[ServedChain]) -> ServedCertificate:
    worst = next((chain for chain in chains if path_problem(chain)), chains[0])
    places = _places(case, chains)
    leaf = worst.leaf
    if not isinstance(leaf, Certificate):
        return ServedCertificate(
            leaf.sha256,
            "unreadable",
            (),
            places,
            "",
            "",
            (),
            "malformed",
            None,
            0,
            0.0,
            None,
            "",
            unreadable=leaf.reason,
        )
    life = life_of(leaf)
    answers = [each for each in statuses_of(case, worst) if each.verdict and each.verdict.kind.is_answer]
    bad = next((each for each in answers if each.verdict and each.verdict.kind is StatusKind.REVOKED), None)
    return ServedCertificate(
        sha256=leaf.sha256,
        title=leaf.title,
        names=presented_names(leaf),
        places=places,
        key=str(leaf.key),
        issuer=leaf.issuer.title,
        links=_links(case, worst),
        problem=path_problem(worst),
        life=life,
        days_left=life.days_left(case.at),
        passed=life.passed(case.at),
        renewal=life.point(case.expect.renewal_point),
        state=_state(case, life),
        issued=leaf.not_before,
        stores=tuple((each.title, each.trusts) for each in case.store_verdicts(worst.fingerprints)),
        status=_status_words(answers, bad, leaf),
        revoked=bad is not None,
        staple=_staple_words(case, worst, leaf),
    )


def _staple_words(case: Case, chain: ServedChain, leaf: Certificate) -> str:
    staples = staples_of(case, chain)
    if staples:
        verdict = staples[-1][1]
        return f"the CA's word on revocation comes with the handshake: {verdict.detail}"
    demanded = MUST_STAPLE in leaf.extensions.tls_features
    if demanded:
        return "demanded by the certificate, and nothing came"
    return NOT_STAPLED if leaf.extensions.ocsp_responders else ""


def _status_words(answers: list[Status], bad: Status | None, leaf: Certificate) -> str:
    """``not revoked (stapled, OCSP)``; of several answers a bad one counts."""
    if bad is not None and bad.verdict is not None:
        whose = "" if bad.certificate is leaf else f"{bad.certificate.title}: "
        return f"{whose}{bad.verdict.detail} ({bad.way})"
    ways = dict.fromkeys(each.way for each in answers if each.certificate is leaf)
    return f"not revoked ({', '.join(ways)})" if ways else ""


def _places(case: Case, chains: list[ServedChain]) -> tuple[str, ...]:
    """Endpoints; a name alone where all its addresses serve the certificate."""
    found: dict[str, None] = {}
    for chain in chains:
        name = chain.endpoint.name
        here = {each.endpoint.address for each in chains if each.endpoint.name == name}
        everywhere = {each.address for each in case.endpoints_of(name)}
        found[name if here == everywhere else chain.where] = None
    return tuple(found)


def _state(case: Case, life: Life) -> str:
    if life.is_over(case.at):
        return "expired"
    if life.is_ahead(case.at):
        return "not yet valid"
    if is_expiring(life, case.at, case.expect):
        return "expiring"
    if is_renewal_overdue(life, case.at, case.expect):
        return "renewal overdue"
    return "renewal due" if life.point(case.expect.renewal_point) < case.at and not life.is_endless else "in date"


def _links(case: Case, chain: ServedChain) -> tuple[Link, ...]:
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
            links[-1] = Link(top.title, LinkState.BROKEN, "its own issuer, in no store looked at")
        else:
            links.append(Link(top.issuer.title, LinkState.BROKEN, "not sent, and not to be had"))
    return tuple(links)


def _store_of(case: Case, path: Path) -> str:
    for store in case.stores:
        if path.anchor is not None and store.anchors_like(path.anchor):
            return store.title
    return ""
