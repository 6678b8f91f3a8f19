"""Which protocol versions are accepted?"""

from collections import Counter
from collections.abc import Iterator

from pewter.evidence import (
    Alert,
    Endpoint,
    Handshake,
    NoConnection,
    Probe,
    Proof,
    Step,
    Unseen,
    VersionOutcome,
    VersionSeen,
)
from pewter.facts.case import Case, accepted_versions, why_no_handshake
from pewter.judge.nature import OF_PLACES, Safety
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.places import Place
from pewter.tls import Version, alert_name, version_name, version_of_name
from pewter.tls.codepoints import extension_name

from . import protocol_suites


def _probes_for(endpoint: Endpoint, version: int) -> tuple[Probe, ...]:
    """Those that offer nothing newer than TLS 1.2: what they are refused says something of the version."""
    older = (probe for probe in endpoint.probes if max(probe.offer.versions) < Version.TLS_1_3)
    return tuple(probe for probe in older if version in probe.offer.versions)


@rule(
    "protocol/obsolete",
    level=Level.EXPOSES,
    sources=("RFC 8996 sections 4 and 5", "RFC 9325 section 3.1.1"),
    nature=OF_PLACES,
)
def obsolete(case: Case) -> Iterator[RuleOutcome]:
    """One outcome for each version below the expected minimum."""
    minimum = version_of_name(case.expect.minimum_protocol) or Version.TLS_1_2
    for endpoint in case.endpoints:
        where = case.place(endpoint)
        for version in sorted(each for each in Version if each < minimum):
            title = version_name(version)
            searched = _search_for(endpoint, version)
            if searched is not None:
                yield _judge_search(case, where, searched)
                continue
            probes = _probes_for(endpoint, version)
            if not probes:
                continue
            if version in accepted_versions(endpoint):
                wanted = f"{case.expect.minimum_protocol} or newer only"
                yield Gap(where, f"{title} accepted", wanted, cause="obsolete versions", about=title)
            elif any(isinstance(each.answer, Handshake) for each in probes):
                continue  # a newer one came in its place
            elif any(isinstance(each.answer, Unseen | NoConnection) for each in probes) or not endpoint.handshakes:
                yield Unknown(where, f"{title}: {_why_not_asked(endpoint, probes)}")
            else:
                yield Holds(where, f"{title} refused{_how(probes[0])}")


def _search_for(endpoint: Endpoint, version: int) -> VersionSeen | None:
    versions = endpoint.protocol.versions if endpoint.protocol is not None else ()
    return next((seen for seen in versions if seen.version == version), None)


def _judge_search(case: Case, where: Place, searched: VersionSeen) -> RuleOutcome:
    title = version_name(searched.version)
    match searched.outcome:
        case VersionOutcome.ACCEPTED:
            wanted = f"{case.expect.minimum_protocol} or newer only"
            return Gap(where, f"{title} accepted", wanted, cause="obsolete versions", about=title)
        case VersionOutcome.REFUSED:
            by = f" by {searched.how}" if searched.alert is not None else ""
            return Holds(where, f"{title} refused{by}")
        case _:
            return Unknown(where, f"{title}: {searched.how}")


def _why_not_asked(endpoint: Endpoint, probes: tuple[Probe, ...]) -> str:
    for probe in probes:
        match probe.answer:
            case Unseen(reason=reason):
                return reason
            case NoConnection(detail=detail):
                return detail
    return why_no_handshake(endpoint)


def _how(probe: Probe) -> str:
    return f" by alert {alert_name(probe.answer.description)}" if isinstance(probe.answer, Alert) else ""


@rule(
    "protocol/too-old-only",
    level=Level.BREAKS,
    sources=("RFC 8996 section 1", "RFC 9325 section 3.1.1"),
    nature=OF_PLACES.but(safety=Safety.SHUT),
)
def too_old_only(case: Case) -> Iterator[RuleOutcome]:
    """Browsers of today no longer speak anything below TLS 1.2."""
    for endpoint in case.endpoints:
        accepted = accepted_versions(endpoint)
        if accepted and max(accepted) < Version.TLS_1_2:
            yield Gap(case.place(endpoint), f"nothing newer than {version_name(max(accepted))}", "TLS 1.2 and TLS 1.3")
        elif accepted:
            yield Holds(case.place(endpoint), f"up to {version_name(max(accepted))}")
        else:
            yield Unknown(case.place(endpoint), why_no_handshake(endpoint))


@rule("protocol/no-tls13", level=Level.WEAKENS, sources=("RFC 9325 section 3.1.1",), nature=OF_PLACES)
def no_tls13(case: Case) -> Iterator[RuleOutcome]:
    """TLS 1.3 should be there."""
    for endpoint in case.endpoints:
        accepted = accepted_versions(endpoint)
        offered = [probe for probe in endpoint.probes if Version.TLS_1_3 in probe.offer.versions]
        if Version.TLS_1_3 in accepted:
            yield Holds(case.place(endpoint), "TLS 1.3 accepted")
        elif not accepted or all(isinstance(probe.answer, Unseen | NoConnection) for probe in offered):
            yield Unknown(case.place(endpoint), why_no_handshake(endpoint))
        elif max(accepted) >= Version.TLS_1_2:
            yield Gap(case.place(endpoint), f"at most {version_name(max(accepted))}", "TLS 1.3 accepted")


@rule(
    "protocol/key-not-proven",
    level=Level.BREAKS,
    sources=("RFC 8446 section 4.4.3", "RFC 5246 section 7.4.3"),
    nature=OF_PLACES.but(safety=Safety.SHUT),
)
def key_not_proven(case: Case) -> Iterator[RuleOutcome]:
    """The server has to hold the private key of the certificate that it sends."""
    for endpoint in case.endpoints:
        proofs = {
            handshake.version: handshake.proof
            for handshake in endpoint.handshakes
            if handshake.proof in {Proof.VERIFIED, Proof.FAILED}
        }
        failed = sorted(version for version, proof in proofs.items() if proof is Proof.FAILED)
        if failed:
            seen = f"the handshake's signature does not verify by the certificate's key in {version_name(failed[-1])}"
            yield Gap(case.place(endpoint), seen, "a signature by the certificate's own key")
        elif proofs:
            yield Holds(case.place(endpoint), "the key belongs to the certificate")


@rule(
    "protocol/repeated-extension",
    level=Level.WEAKENS,
    sources=("RFC 8446 section 4.2", "RFC 5246 section 7.4.1.4"),
    nature=OF_PLACES,
)
def repeated_extension(case: Case) -> Iterator[RuleOutcome]:
    """An answer holds each extension once at most: clients that check end the handshake."""
    for endpoint in case.endpoints:
        if not endpoint.handshakes:
            yield Unknown(case.place(endpoint), why_no_handshake(endpoint))
            continue
        counts = [Counter(handshake.extensions) for handshake in endpoint.handshakes]
        twice = sorted({each for count in counts for each, times in count.items() if times > 1})
        if twice:
            seen = f"sent more than once: {', '.join(map(extension_name, twice))}"
            yield Gap(case.place(endpoint), seen, "each extension once")
        else:
            yield Holds(case.place(endpoint), "each extension once")


STEPS: tuple[Step, ...] = (Step.SIBLINGS, Step.CERTIFICATES, Step.VERSIONS, Step.PROTOCOLS)
"""What has to be asked for its rules."""

RULES = (obsolete, too_old_only, no_tls13, *protocol_suites.RULES, key_not_proven, repeated_extension)
