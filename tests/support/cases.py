"""Evidence and cases, put together by hand for the rules."""

import datetime
import hashlib
from collections.abc import Iterable, Mapping

import pytest

from pewter.evidence import (
    Answer,
    Endpoint,
    Evidence,
    Handshake,
    HelloAnswer,
    Hop,
    Journey,
    Landed,
    Lookup,
    Name,
    Offer,
    Page,
    Plan,
    Probe,
    Proof,
    Seen,
    StopCause,
    Stopped,
    StoredCertificate,
    Target,
    Unseen,
    WayIn,
)
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.facts.visits import predict_visits
from pewter.judge.nature import OF_PLACES
from pewter.judge.outcomes import Holds, RuleOutcome
from pewter.judge.rule import Rule
from pewter.lab.authority import Issued
from pewter.levels import Level
from pewter.pki import Store
from pewter.web.urls import place_of
from support.certificates import HOST, NOW, intermediate, leaf, root, store

DEFAULT_TERMS = Terms()
ADDRESS = "192.0.2.10"
MODERN, TLS12, TLS11, TLS10 = (0x0304, 0x0303), (0x0303,), (0x0302,), (0x0301,)


def name(text: str = HOST, *addresses: str, declared: bool = True) -> Name:
    lookups = (
        Lookup("A", Seen(Answer("NOERROR", (), addresses or (ADDRESS,)))),
        Lookup("AAAA", Seen(Answer("NOERROR"))),
    )
    return Name(text, declared, lookups)


def fingerprint(issued: Issued) -> str:
    return hashlib.sha256(issued.der).hexdigest()


def stored(*issued: Issued) -> tuple[StoredCertificate, ...]:
    return tuple(StoredCertificate(fingerprint(each), each.der) for each in issued)


def handshake(*chain: Issued, version: int = 0x0304, proof: Proof = Proof.VERIFIED) -> Handshake:
    sent = chain or (leaf(), intermediate())
    return Handshake(version, 0x1301, tuple(map(fingerprint, sent)), proof=proof)


def probe(answer: HelloAnswer, versions: tuple[int, ...] = MODERN) -> Probe:
    return Probe(Offer(versions, HOST), answer)


def endpoint(*answers: HelloAnswer, host: str = HOST, address: str = ADDRESS) -> Endpoint:
    """An endpoint that gave these answers to the hellos of 1.3, 1.2, 1.1 and 1.0 in turn."""
    versions = (MODERN, TLS12, TLS11, TLS10)
    return Endpoint(host, address, 443, tuple(map(probe, answers, versions)))


def hop(url: str, status: int = 200, *fields: tuple[str, str], issued: Issued | None = None, **others: object) -> Hop:
    """One hop; over https by the usual leaf unless told otherwise."""
    certificate = fingerprint(issued or leaf()) if url.startswith("https:") else None
    return Hop(url, ADDRESS, status, fields, NOW, certificate=certificate, **others)  # type: ignore[arg-type]


def journey(
    *hops: Hop | str, end: Landed | Stopped | Unseen | None = None, by: str | None = None, reason: str = "typed"
) -> Journey:
    """A journey over hops; a bare URL is a hop that redirects to the next with 301."""
    made: list[Hop] = []
    for position, each in enumerate(hops):
        if isinstance(each, Hop):
            made.append(each)
        else:
            is_last = position == len(hops) - 1 and end is None
            following = hops[position + 1] if position + 1 < len(hops) else ""
            location = following.url if isinstance(following, Hop) else following
            made.append(hop(each, 200) if is_last else hop(each, 301, ("Location", location)))
    return Journey(made[0].url, tuple(made), end or Landed(), WayIn(reason), by)


def stopped(start: str, cause: StopCause, detail: str = "the connection was refused") -> Journey:
    return Journey(start, (), Stopped(start, cause, detail))


def unseen(start: str, reason: str = "not reached") -> Journey:
    return Journey(start, (), Unseen(reason))


def case(
    *journeys: Journey,
    names: Iterable[Name] = (),
    endpoints: Iterable[Endpoint] = (),
    certificates: Iterable[StoredCertificate] = (),
    terms: Terms = DEFAULT_TERMS,
    at: datetime.datetime = NOW,
    routes: tuple[str, ...] = (),
    stores: tuple[Store, ...] = (),
    **evidence: object,
) -> Case:
    """A case that trusts the test root unless told otherwise; the usual certificates are in its evidence."""
    names = tuple(names) or (name(),)
    return Case(
        Evidence(
            Plan(tuple(Target(each.name) for each in names), routes=routes),
            NOW,
            0.5,
            names=names,
            endpoints=tuple(endpoints),
            journeys=journeys,
            certificates=(*stored(leaf(), intermediate(), root()), *certificates),
            **evidence,  # type: ignore[arg-type]
        ),
        terms,
        at,
        stores or (store(root()),),
    )


def outcomes(rule: Rule, of: Case) -> list[RuleOutcome]:
    return list(rule.outcomes(of))


def _predicted(of: Case) -> Iterable[RuleOutcome]:
    for visit in predict_visits(of):
        yield Holds(
            place_of(visit.start), f"{visit.meets.value}: {visit.detail}" if visit.detail else visit.meets.value
        )


predicted = Rule("visit/predicted", Level.NOTE, (), OF_PLACES, _predicted)  # type: ignore[arg-type]
"""What visitors meet, told like the outcomes of a rule."""


ALL_CASES: list[Case] = []
"""Of every table of the modules that were imported, so that what holds of any report is held against all of them."""


def table(cases: Mapping[Rule | tuple[Rule, ...], Mapping[str, Case]]) -> pytest.MarkDecorator:
    """Cases by the rule, or the rules, that judge each of them; the test takes ``rule`` and ``looked``."""
    ALL_CASES.extend(looked for by_title in cases.values() for looked in by_title.values())
    return pytest.mark.parametrize(
        ("rule", "looked"),
        [
            pytest.param(rule, looked, id=f"{rule.name.partition('/')[2]}: {title}")
            for rules, by_title in cases.items()
            for rule in (rules if isinstance(rules, tuple) else (rules,))
            for title, looked in by_title.items()
        ],
    )


def page(url: str, text: str = "<h1>page</h1>", **says: object) -> Page:
    """What a page at ``url`` says; its SHA-256 is that of the text."""
    octets = text.encode()
    return Page(url, hashlib.sha256(octets).hexdigest(), len(octets), **says)  # type: ignore[arg-type]
