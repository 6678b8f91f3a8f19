"""The two legs of a way that leads over an edge service: visitor to edge, and edge to origin."""

import enum

import msgspec

from pewter.evidence import Handshake, Hop, Journey, NoConnection, Origin, Seen, StopCause, Stopped
from pewter.pki import Certificate, covers
from pewter.places import Place, PlaceKind, socket_text
from pewter.web.redirects import next_url
from pewter.web.urls import DEFAULT_PORTS, Url, read_url

from .case import Case
from .chains import Chains, SentChain, Sources, Trust


class LegState(enum.Enum):
    """How one leg is protected."""

    VALID = "encrypted, with a valid certificate"
    UNVALIDATED = "encrypted, without a valid certificate"
    PLAIN = "plain HTTP"
    CLOSED = "no answer"
    UNKNOWN = "not known"


class OriginLeg(msgspec.Struct, frozen=True):
    """One origin, read."""

    origin: Origin
    state: LegState
    why: str = ""
    asks_again: bool = False
    """Over plain HTTP it asks for https."""

    goes_round: bool = False
    """And visitors of https go round in circles: the edge asks it in plain HTTP."""

    is_open: bool = False
    """It shows its page to anybody who asks."""

    @property
    def place(self) -> Place:
        return place_of_origin(self.origin)


def place_of_origin(origin: Origin) -> Place:
    text = f"{origin.name} at its origin {socket_of(origin)}"
    return Place(PlaceKind.FRONT_END, text, origin.name, origin.port or 443, origin.address)


def socket_of(origin: Origin) -> str:
    return socket_text(origin.address, origin.port) if origin.port else origin.address


def origin_legs(case: Case) -> tuple[OriginLeg, ...]:
    return case.once("origin legs", lambda: tuple(_read(case, each) for each in case.evidence.origins))


def _read(case: Case, origin: Origin) -> OriginLeg:
    plain = origin.plain.value if isinstance(origin.plain, Seen) else None
    secure = origin.secure.value if isinstance(origin.secure, Seen) else None
    if origin.port in {None, *DEFAULT_PORTS.values()} and origin.address in case.addresses_of(origin.name):
        why = "it is the address that visitors reach: the server behind the edge was not looked at"
        return OriginLeg(origin, LegState.UNKNOWN, why)
    if origin.probe is None:
        return OriginLeg(origin, LegState.UNKNOWN, getattr(origin.plain, "reason", ""))
    again = plain is not None and _asks_for_https(plain)
    circles = again and not (secure is not None and _asks_for_https(secure)) and _goes_round(case, origin.name)
    is_open = any(hop is not None and hop.status < 300 for hop in (plain, secure))
    answer = origin.probe.answer
    if isinstance(answer, Handshake):
        why = why_not_valid(case, origin.name, answer, as_sent=True)
        state = LegState.UNVALIDATED if why else LegState.VALID
        if circles:
            state, why = LegState.PLAIN, f"the edge asks it so; over TLS {why or 'its certificate is valid'}"
        return OriginLeg(origin, state, why, again, circles, is_open)
    if plain is not None:
        return OriginLeg(origin, LegState.PLAIN, f"status {plain.status}, and no TLS", again, circles, is_open)
    why = answer.detail if isinstance(answer, NoConnection) else "it answers neither in TLS nor in HTTP"
    return OriginLeg(origin, LegState.CLOSED, why)


def _asks_for_https(hop: Hop) -> bool:
    """Of the host that was asked."""
    here = read_url(hop.url)
    target = next_url(hop.status, hop.values("Location"), here)
    return isinstance(target, Url) and target.is_https and target.host == here.host


def circle_of(journey: Journey, again: str) -> list[str]:
    """The URLs that come round, from the one that came again."""
    urls = [hop.url for hop in journey.hops]
    return urls[urls.index(again) :] if again in urls else urls


def _goes_round(case: Case, name: str) -> bool:
    """Whether visitors of a name are led from https to https on it, for ever."""
    for journey, _ in case.ways_in():
        if isinstance(journey.end, Stopped) and journey.end.cause is StopCause.LOOP:
            circle = map(read_url, circle_of(journey, journey.end.at))
            if all((url.scheme, url.host) == ("https", name) for url in circle):
                return True
    return False


def why_not_valid(case: Case, name: str, handshake: Handshake, *, as_sent: bool = False) -> str:
    """What a client that checks would have against the certificate; empty: nothing.

    ``as_sent``: one that fetches no intermediates, as an edge service or a proxy.
    """
    evidence = case.evidence
    place = Place(PlaceKind.NAME, name, name)
    sources = Sources(evidence.certificates, evidence.fetched_issuers)
    trust = Trust(case.own_stores, evidence.given_trust, evidence.trusts_given_only)
    chains = Chains((SentChain(place, name, handshake.chain),), (), sources, trust, case.at, evidence.begun)
    (chain,) = chains
    if not isinstance(chain.leaf, Certificate):
        return "its certificate cannot be read"
    if not chain.leaf.not_before <= case.at <= chain.leaf.not_after:
        return f"its certificate is good from {chain.leaf.not_before:%Y-%m-%d} to {chain.leaf.not_after:%Y-%m-%d}"
    if not covers(chain.leaf, name):
        return f"its certificate does not cover {name}"
    if not any(verdict.trusts for verdict in chains.store_verdicts(handshake.chain)):
        return f"its certificate is not trusted (issuer {chain.leaf.issuer.title})"
    if as_sent and chain.assessment is not None and not chain.assessment.alone.is_valid:
        missing = ", ".join(each.title for each in chain.assessment.missing)
        return f"its chain lacks {missing or 'what leads to a root'}"
    return ""
