"""What ends when: certificates and their renewal, intermediates in use, signatures of zones, accepted gaps."""

import datetime
import enum
from collections.abc import Iterable, Iterator

import msgspec

from pewter.evidence import Way
from pewter.facts.case import Case
from pewter.facts.policies_in_force import policy_in_force
from pewter.names.signatures import first_to_expire, signatures_in
from pewter.pki import Certificate, life_of

from .review import Review, case_of


class EndingKind(enum.Enum):
    """What ends."""

    CERTIFICATE = "certificate"
    RENEWAL = "renewal due"
    INTERMEDIATE = "intermediate"
    SIGNATURES = "zone signatures"
    ACCEPTED = "accepted gap"


class Ending(msgspec.Struct, frozen=True):
    """One thing."""

    at: datetime.datetime
    kind: EndingKind
    where: str
    """The name, the zone or the file: not the certificate, so that a renewal moves the same entry."""

    words: str
    source: str = ""
    """The review or file that tells it."""


def endings_of(review: Review, source: str, case: Case | None = None) -> Iterator[Ending]:
    """All that a review knows to end; ``case``: of which it was made, where that is still at hand."""
    case = case or case_of(review)
    yield from _certificates(case, source)
    yield from _signatures(case, source)
    for judged in review.results.accepted:
        at = datetime.datetime.combine(judged.until, datetime.time(23, 59, 59), datetime.UTC)
        words = f"{judged.rule} counts again after this day: {judged.because}"
        yield Ending(at, EndingKind.ACCEPTED, judged.where.text, words, source)


def endings_of_certificate(certificate: Certificate, renewal_point: float, source: str) -> Iterator[Ending]:
    """Of a file."""
    return _of_certificate(certificate, certificate.title, renewal_point, source)


def soonest_first(endings: Iterable[Ending]) -> tuple[Ending, ...]:
    """Each place and kind once a source, by what ends first."""
    first: dict[tuple[EndingKind, str, str], Ending] = {}
    for each in sorted(endings, key=_in_order):
        first.setdefault((each.kind, each.where, each.source), each)
    return tuple(sorted(first.values(), key=_in_order))


def _in_order(ending: Ending) -> tuple[datetime.datetime, str, str]:
    return ending.at, ending.kind.value, ending.where


def _certificates(case: Case, source: str) -> Iterator[Ending]:
    for chain in case.chains:
        leaf = chain.leaf
        if not isinstance(leaf, Certificate):
            continue
        locks = "; HSTS then locks visitors out" if policy_in_force(case, chain.host)[0] is not None else ""
        yield from _of_certificate(leaf, chain.host, case.expect.renewal_point, source, locks)
        for verdict in case.chains.store_verdicts(chain.fingerprints):
            for issuer in verdict.path.certificates[1:-1] if verdict.trusts else ():
                words = f"on the path of {chain.host}"
                yield Ending(issuer.not_after, EndingKind.INTERMEDIATE, issuer.title, words, source)


def _of_certificate(
    certificate: Certificate, where: str, renewal_point: float, source: str, more: str = ""
) -> Iterator[Ending]:
    life, issuer = life_of(certificate), certificate.issuer.title
    if not life.is_endless:
        due = certificate.not_before + life.length * renewal_point
        yield Ending(certificate.not_after, EndingKind.CERTIFICATE, where, f"by {issuer}{more}", source)
        yield Ending(due, EndingKind.RENEWAL, where, f"of the certificate by {issuer}", source)


def _signatures(case: Case, source: str) -> Iterator[Ending]:
    answers = case.answers
    for number, server in enumerate(answers.seen.servers):
        for question, reply in answers.replies_of(number):
            if question.way is Way.SIGNED and question.type == "SOA":
                first = first_to_expire(signatures_in(reply, question.name))
                if first is not None:
                    words = f"as {server.names[0] if server.names else server.address} gives them"
                    yield Ending(first.expires, EndingKind.SIGNATURES, question.name, words, source)
