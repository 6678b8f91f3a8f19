"""What changed from one review to the next beside gaps: addresses, certificates, protocols, policies, ways in."""

from collections.abc import Callable, Iterator

import msgspec

from pewter.evidence import Evidence, VersionOutcome, WayIn

from .results import ServedCertificate
from .review import Review


class FactChange(msgspec.Struct, frozen=True):
    """Something beside gaps."""

    subject: str
    """``certificate of www.x.example``."""

    before: str
    after: str


def changed_facts(old: Review, new: Review) -> Iterator[FactChange]:
    """Of both reviews, where they differ."""
    keys_before, keys_after = _keys(old), _keys(new)
    for subject, read in _SUBJECTS.items():
        before, after = read(old), read(new)
        alike: dict[tuple[str, str], list[str]] = {}
        for name in before:
            if name in after and before[name] != after[name]:
                now = after[name]
                if subject == "certificate" and name in keys_before and name in keys_after:
                    now += ", the same key" if keys_before[name] == keys_after[name] else ", a new key"
                alike.setdefault((before[name], now), []).append(name)
        for (was, now), names in alike.items():
            yield FactChange(f"{subject} of {', '.join(names)}", was, now)
    yield from _keys_again(old, new)
    gone = set(_names(old.evidence)) - set(_names(new.evidence))
    come = set(_names(new.evidence)) - set(_names(old.evidence))
    if gone or come:
        left, new_ones = ", ".join(sorted(gone)) or "none left out", ", ".join(sorted(come)) or "none new"
        yield FactChange("names under review", left, new_ones)


def _keys_again(old: Review, new: Review) -> Iterator[FactChange]:
    """Hosts of which a revoked certificate was replaced by one with the same key: whoever has that key has it still."""
    revoked = {each.key_sha256: each for each in old.results.certificates if each.revoked and each.key_sha256}
    for each in new.results.certificates:
        before = revoked.get(each.key_sha256)
        if before is not None and before.sha256 != each.sha256:
            again = f"the same key in {each.sha256[:8]}: have the certificate issued with a new one"
            yield FactChange(f"key of {', '.join(each.hosts)}", f"of {before.sha256[:8]}, which was revoked", again)


def _names(evidence: Evidence) -> tuple[str, ...]:
    return tuple(each.name for each in evidence.names)


def _certificates(review: Review) -> dict[str, str]:
    found: dict[str, list[str]] = {}
    for certificate in review.results.certificates:
        for host in certificate.hosts:
            found.setdefault(host, []).append(_in_words(certificate))
    return {host: "; ".join(sorted(words)) for host, words in found.items()}


def _keys(review: Review) -> dict[str, str]:
    """Of hosts with one certificate, the digest of its key."""
    found: dict[str, list[str]] = {}
    for certificate in review.results.certificates:
        for host in certificate.hosts:
            found.setdefault(host, []).append(certificate.key_sha256)
    return {host: keys[0] for host, keys in found.items() if len(keys) == 1 and keys[0]}


def _in_words(certificate: ServedCertificate) -> str:
    life = certificate.life
    dates = f", {life.not_before:%Y-%m-%d} to {life.not_after:%Y-%m-%d}" if life is not None else ""
    names = ", ".join(certificate.names)
    key = f"{certificate.key} (key {certificate.key_sha256[:8]})"
    return f"{certificate.sha256[:8]} by {certificate.issuer}{dates}, {key}, for {names}"


def _policies(review: Review) -> dict[str, str]:
    return {each.name: "; ".join(each.policies) for each in review.results.names if each.policies}


def _addresses(review: Review) -> dict[str, str]:
    return {each.name: ", ".join(sorted(each.addresses)) or "none" for each in review.evidence.names}


def _landings(review: Review) -> dict[str, str]:
    visits = (each for each in review.results.visits if each.by_address is None and each.reason is not WayIn.ABSENT)
    return {each.start: f"{each.meets.value} at {each.lands}" for each in visits}


def _protocols(review: Review) -> dict[str, str]:
    return {
        place: "; ".join(
            (
                ", ".join(name for name, outcome in drawn.versions if outcome is VersionOutcome.ACCEPTED),
                f"{sum(suites.count for suites in drawn.suites)} suites",
            )
        )
        for drawn in review.results.protocols
        for place in drawn.places
    }


def _name_servers(review: Review) -> dict[str, str]:
    return {zone.apex: "; ".join(zone.servers) for zone in review.results.zones}


_SUBJECTS: dict[str, Callable[[Review], dict[str, str]]] = {
    "addresses": _addresses,
    "name servers": _name_servers,
    "certificate": _certificates,
    "versions and suites": _protocols,
    "HSTS policy": _policies,
    "way in": _landings,
}
