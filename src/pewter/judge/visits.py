"""What a visitor meets at the end of each way in: what a current browser shows."""

import enum
import functools

import msgspec

from pewter.evidence import Hop, Journey, Landed, StopCause, Stopped, Unseen
from pewter.pki import Certificate, FaultKind, StatusKind, covers, form_faults, life_of, presented_names
from pewter.tls import Version
from pewter.web.urls import read_url

from .case import Case, ServedChain
from .chain_keys import certificates_to_judge, key_oddity
from .chain_status import count_logs
from .content import blocked_parts
from .date import excess_of_life
from .protocol import accepted_versions
from .status import revocation_of, staples_of


class Meeting(enum.Enum):
    """The words of a report."""

    OPENS = "opens"
    PARTS_BLOCKED = "opens, parts blocked"
    NOT_TRUSTED = "warning: not trusted"
    WRONG_NAME = "warning: wrong name"
    OUT_OF_DATE = "warning: date"
    REVOKED = "warning: revoked"
    CANNOT_CONNECT = "cannot connect"
    OLD_PROTOCOL = "old protocol refused"
    CIRCLES = "goes round in circles"
    UNENCRYPTED = "stays unencrypted"
    UNKNOWN = "not known"

    @property
    def is_good(self) -> bool:
        return self is Meeting.OPENS


_DATE_FAULTS = frozenset({FaultKind.EXPIRED_ISSUER, FaultKind.ISSUER_NOT_YET_VALID})
"""An issuer out of date is shown as a warning of the date, as Chromium does."""


class Visit(msgspec.Struct, frozen=True):
    """One way in, predicted."""

    start: str
    by_address: str | None
    statuses: tuple[int, ...]
    """Of each hop that a browser gets to see: it stops at a warning."""

    lands: str
    """Where the browser is in the end, or where it stopped."""

    meets: Meeting
    detail: str = ""
    reason: str = "typed"
    """Why this way in, as in the evidence's journey."""


@functools.lru_cache(maxsize=4)  # a case is asked by several rules, and compared by identity
def predict_visits(case: Case) -> tuple[Visit, ...]:
    """A prediction for every journey that was followed, in the order of the evidence."""
    return tuple(
        msgspec.structs.replace(_predict(case, journey), reason=journey.reason)
        for journey in case.evidence.journeys
        if journey.reason != "recorded"
    )


def _predict(case: Case, journey: Journey) -> Visit:
    statuses: list[int] = []
    detail = ""
    for hop in journey.hops:
        if hop.url.startswith("https:"):
            warning, words = certificate_meeting(case, hop)
            if warning is not None:
                return Visit(journey.start, journey.by_address, tuple(statuses), hop.url, warning, words)
            detail = words or detail
        statuses.append(hop.status)
    last = journey.hops[-1].url if journey.hops else journey.start
    meets, lands = Meeting.UNKNOWN, last
    match journey.end:
        case Unseen(reason=reason):
            detail = reason
        case Stopped(cause=StopCause.LOOP | StopCause.TOO_MANY_HOPS):
            meets = Meeting.CIRCLES
        case Stopped(at=at, detail=reason, cause=cause):
            meets, lands, detail = Meeting.CANNOT_CONNECT, at, reason
            if cause is StopCause.NO_TLS and _is_too_old(case, at):
                meets = Meeting.OLD_PROTOCOL
        case Landed():
            meets = Meeting.OPENS if last.startswith("https:") else Meeting.UNENCRYPTED
            blocked = blocked_parts(case, journey.hops[-1])
            if meets is Meeting.OPENS and blocked:
                meets, detail = Meeting.PARTS_BLOCKED, f"{len(blocked)} blocked, {blocked[0].use.value} first"
    return Visit(journey.start, journey.by_address, tuple(statuses), lands, meets, detail)


def certificate_meeting(case: Case, hop: Hop) -> tuple[Meeting | None, str]:
    """The warning that a browser shows at an https hop, with its reason; None and a remark where it shows none.

    Of several faults it shows one: trust hides name, and name hides date.
    """
    url = read_url(hop.url)
    if hop.certificate is None:
        return None, ""
    leaf = case.certificate(hop.certificate)
    if not isinstance(leaf, Certificate):
        return Meeting.NOT_TRUSTED, "the certificate cannot be read"
    chain = _chain_of(case, hop)
    if _only_old(case, url.host, hop.address):
        return Meeting.OLD_PROTOCOL, "nothing newer than TLS 1.1"
    assessment = case.assess(chain, by_aia_alone=True)
    if assessment is None:
        return Meeting.NOT_TRUSTED, "no path"
    oddity = key_oddity(leaf.key)
    if oddity:
        return Meeting.CANNOT_CONNECT, f"the certificate has a {oddity}"
    faults = assessment.best.faults
    undated = [fault for fault in faults if fault.kind not in _DATE_FAULTS]
    served = _served(case, hop, chain)
    if undated:
        return Meeting.NOT_TRUSTED, undated[0].detail
    if served is not None and (refusal := _why_refused(case, served)):
        return refusal
    if not covers(leaf, url.host):
        names = presented_names(leaf)
        more = f" and {len(names) - 2} more" if len(names) > 2 else ""
        return Meeting.WRONG_NAME, f"covers {', '.join(names[:2]) or 'no name'}{more}"
    if faults:
        return Meeting.OUT_OF_DATE, faults[0].detail
    life = life_of(leaf)
    if life.is_over(case.at):
        return Meeting.OUT_OF_DATE, f"ended {life.not_after:%Y-%m-%d}"
    if life.is_ahead(case.at):
        return Meeting.OUT_OF_DATE, f"begins {life.not_before:%Y-%m-%d}"
    if served is not None and revocation_of(case, served) is not None:
        return None, "only in browsers that do not ask whether it is revoked"
    return None, "only in browsers that fetch the missing certificate" if assessment.helped is not None else ""


def _served(case: Case, hop: Hop, chain: tuple[str, ...]) -> ServedChain | None:
    """The chain at the endpoint that the hop met."""
    host = read_url(hop.url).host
    for endpoint in case.endpoints_of(host):
        if endpoint.address == hop.address:
            return next((each for each in case.chains_of(endpoint) if each.fingerprints == chain), None)
    return None


def _why_refused(case: Case, served: ServedChain) -> tuple[Meeting, str] | None:
    """What stops current browsers although the path is good: form, revocation, and the rules for public CAs."""
    for certificate in certificates_to_judge(served):
        fault = next((each for each in form_faults(certificate) if each.stops), None)
        if fault is not None:
            return Meeting.NOT_TRUSTED, f"{certificate.title}: {fault.words}"
    for _, verdict in staples_of(case, served):
        if verdict.kind is StatusKind.REVOKED:
            return Meeting.REVOKED, verdict.detail
    if excess := excess_of_life(case, served):
        return Meeting.NOT_TRUSTED, excess
    count = count_logs(case, served)
    return None if count is None or count.is_enough else (Meeting.NOT_TRUSTED, count.seen)


def _chain_of(case: Case, hop: Hop) -> tuple[str, ...]:
    """What the server sent with this leaf, by the look at the same endpoint; else at any; else the leaf alone."""
    url = read_url(hop.url)
    assert hop.certificate is not None
    alone = (hop.certificate,)
    endpoints = sorted(case.evidence.endpoints, key=lambda each: (each.name, each.address) != (url.host, hop.address))
    chains = (handshake.chain for endpoint in endpoints for handshake in endpoint.handshakes)
    return next((chain for chain in chains if chain[0] == hop.certificate), alone)


def _only_old(case: Case, host: str, address: str) -> bool:
    for endpoint in case.endpoints_of(host):
        if endpoint.address == address and (accepted := accepted_versions(endpoint)):
            return max(accepted) < Version.TLS_1_2
    return False


def _is_too_old(case: Case, at: str) -> bool:
    accepted = [version for endpoint in case.endpoints_of(read_url(at).host) for version in accepted_versions(endpoint)]
    return bool(accepted) and max(accepted) < Version.TLS_1_2
