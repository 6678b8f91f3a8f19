"""The two legs of a way that leads over an edge service: visitor to edge, and edge to origin."""

import enum

import msgspec

from pewter.evidence import Handshake, Hop, NoConnection, Origin, Seen
from pewter.pki import Certificate, covers
from pewter.places import Place, PlaceKind, socket_text
from pewter.web.redirects import next_url
from pewter.web.urls import Url, read_url

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
    is_open: bool = False
    """It shows its page to anybody who asks."""

    @property
    def goes_round(self) -> bool:
        """An edge that asks it in plain HTTP sends visitors round in circles."""
        return self.asks_again and self.state is not LegState.VALID

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
    again = plain is not None and _asks_for_https(plain)
    is_open = any(hop is not None and hop.status < 300 for hop in (plain, secure))
    if origin.probe is None:
        return OriginLeg(origin, LegState.UNKNOWN, getattr(origin.plain, "reason", ""))
    answer = origin.probe.answer
    if isinstance(answer, Handshake):
        why = why_not_valid(case, origin.name, answer)
        state = LegState.UNVALIDATED if why else LegState.VALID
        return OriginLeg(origin, state, why, again, is_open)
    if plain is not None:
        return OriginLeg(origin, LegState.PLAIN, f"status {plain.status}, and no TLS", again, is_open)
    why = answer.detail if isinstance(answer, NoConnection) else "it answers neither in TLS nor in HTTP"
    return OriginLeg(origin, LegState.CLOSED, why)


def _asks_for_https(hop: Hop) -> bool:
    here = read_url(hop.url)
    locations = tuple(value for name, value in hop.fields if name.lower() == "location")
    target = next_url(hop.status, locations, here)
    return isinstance(target, Url) and target.is_https and target.host == here.host


def why_not_valid(case: Case, name: str, handshake: Handshake) -> str:
    """What an edge that checks would have against the certificate; empty: nothing."""
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
    return ""
