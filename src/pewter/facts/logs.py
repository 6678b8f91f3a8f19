"""Which logs vouch for a certificate (RFC 6962): facts for rules and the prediction."""

import msgspec

from pewter.crypto import SignatureVerdict
from pewter.octets import DecodeError
from pewter.pki import Certificate, Log, life_of
from pewter.pki.ocsp import timestamps_in
from pewter.pki.timestamps import by_log_id, read_timestamps, verify_timestamp

from .chains import Chain, HasChains
from .revocation import is_public


class Logging(msgspec.Struct, frozen=True):
    """How many logs vouch for a certificate."""

    logs: frozenset[bytes]
    """Ids of the distinct logs whose timestamps count."""

    by_way: tuple[tuple[str, int], ...]
    """``embedded``, ``stapled``, ``handshake``, and how many timestamps came by it."""

    faults: tuple[str, ...]
    """Timestamps that do not count, and why."""

    verified: int = 0
    """Of those whose log's key was given."""


def _logging(
    octets: tuple[tuple[str, bytes], ...], certificate: str, issuer: str, logs: tuple[Log, ...], case: HasChains
) -> Logging:
    leaf, above = case.chains.certificate(certificate), case.chains.certificate(issuer)
    known = by_log_id(logs)
    found: set[bytes] = set()
    by_way: dict[str, int] = {}
    faults: list[str] = []
    verified = 0
    for way, timestamps in octets:
        try:
            items = read_timestamps(timestamps)
        except DecodeError as exc:
            faults.append(f"{way}: {exc}")
            continue
        by_way[way] = by_way.get(way, 0) + len(items)
        for item in items:
            log = known.get(item.log_id)
            if log is not None and isinstance(leaf, Certificate):
                embedded_in = above if way == "embedded" and isinstance(above, Certificate) else None
                if way == "embedded" and embedded_in is None:
                    found.add(item.log_id)  # the issuer is not at hand, so nothing can be said against it
                    continue
                if verify_timestamp(item, log, leaf, embedded_in) is not SignatureVerdict.VERIFIED:
                    faults.append(f"{way}: the timestamp of {log.title} does not verify")
                    continue
                verified += 1
            found.add(item.log_id)
    return Logging(frozenset(found), tuple(by_way.items()), tuple(faults), verified)


def logging_of(case: HasChains, chain: Chain) -> Logging:
    """By all three ways (RFC 6962 section 3.3)."""
    assert isinstance(chain.leaf, Certificate)
    issuer = chain.assessment.best.issuer if chain.assessment is not None else None
    octets: dict[tuple[str, bytes], None] = {}
    if chain.leaf.extensions.signed_timestamps is not None:
        octets["embedded", chain.leaf.extensions.signed_timestamps] = None
    for handshake in chain.handshakes:
        if handshake.signed_timestamps is not None:
            octets["handshake", handshake.signed_timestamps] = None
        if handshake.staple is not None and issuer is not None:
            stapled = timestamps_in(handshake.staple, chain.leaf, issuer)
            if stapled is not None:
                octets["stapled", stapled] = None
    logs = tuple(Log(each.title, each.spki) for each in case.chains.sources.logs)
    return _logging(tuple(octets), chain.leaf.sha256, issuer.sha256 if issuer else "", logs, case)


class LogCount(msgspec.Struct, frozen=True):
    """The logs that vouch for a publicly trusted certificate, held against what browsers ask for."""

    found: int
    wanted: int
    seen: str
    verified: int

    @property
    def is_enough(self) -> bool:
        return self.found >= self.wanted


def count_logs(case: HasChains, chain: Chain) -> LogCount | None:
    """None where browsers ask for no logs: the chain is not publicly trusted."""
    if not isinstance(chain.leaf, Certificate) or not is_public(case, chain):
        return None
    expect, logging = case.expect, logging_of(case, chain)
    long_lived = life_of(chain.leaf).length > expect.timestamps_long_life
    ways = ", ".join(f"{count} {way}" for way, count in logging.by_way) or "none"
    faults = "".join(f"; {each}" for each in logging.faults)
    seen = f"signed timestamps of {len(logging.logs)} logs ({ways}){faults}"
    wanted = expect.timestamps_long if long_lived else expect.timestamps
    return LogCount(len(logging.logs), wanted, seen, logging.verified)
