"""The two legs of a way over an edge service, as a report draws them."""

import msgspec

from pewter.facts.case import Case
from pewter.facts.legs import LegState, origin_legs, socket_of, why_not_valid
from pewter.facts.visits import predict_visits
from pewter.web.urls import read_url


class LegsDrawn(msgspec.Struct, frozen=True, omit_defaults=True):
    """One name's way over the edge, for a report."""

    name: str
    edge: tuple[str, ...]
    """Its addresses."""

    origin: str
    to_edge: LegState
    to_origin: LegState
    why: str = ""
    """What is against the certificate of the origin, or what it answers instead."""

    asks_again: bool = False
    """Over plain HTTP the origin asks for https, and visitors go round in circles."""


def draw_legs(case: Case) -> tuple[LegsDrawn, ...]:
    found = []
    for leg in origin_legs(case):
        origin = leg.origin
        edge = case.addresses_of(origin.name)
        to_edge = _to_edge(case, origin.name)
        found.append(LegsDrawn(origin.name, edge, socket_of(origin), to_edge, leg.state, leg.why, leg.goes_round))
    return tuple(found)


def _to_edge(case: Case, name: str) -> LegState:
    """As visitors of https meet it."""
    endpoints = case.endpoints_of(name)
    shaken = [handshake for each in endpoints for handshake in each.handshakes]
    if not shaken:
        plain = any(read_url(visit.start).host == name and visit.statuses for visit in predict_visits(case))
        return LegState.PLAIN if plain else LegState.UNKNOWN
    distinct = {handshake.chain: handshake for handshake in shaken}.values()
    return LegState.UNVALIDATED if any(why_not_valid(case, name, each) for each in distinct) else LegState.VALID
