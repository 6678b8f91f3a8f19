"""Which cipher suites, groups and options of the handshake are accepted?"""

from collections.abc import Iterator

from pewter.evidence import Endpoint, Order, Protocol, Seen, SuitesSeen, Unseen, protocols
from pewter.facts.browsers import Browser, browsers_refusing_key
from pewter.facts.case import Case
from pewter.facts.clients import why_nothing_in_common
from pewter.judge.nature import OF_PLACES, Safety
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import Rule, rule
from pewter.levels import Level
from pewter.phrases import some
from pewter.pki import Certificate, MalformedCertificate
from pewter.places import Place
from pewter.tls import Version, version_name
from pewter.tls.codepoints import HYBRID_GROUPS, extension_name, group_name
from pewter.tls.primes import well_known_prime
from pewter.tls.suites import CipherSuite, strength_of, table, weakness

_SHOWN = 6


def _looked_at(case: Case) -> Iterator[tuple[Place, Endpoint, Protocol]]:
    for endpoint in case.endpoints:
        if endpoint.protocol is not None:
            yield case.place(endpoint), endpoint, endpoint.protocol


def _suites(protocol: Protocol) -> Iterator[tuple[SuitesSeen, CipherSuite]]:
    for seen in protocol.suites:
        for code in seen.suites:
            suite = table().get(code)
            if suite is not None:
                yield seen, suite


def _some(suites: list[CipherSuite]) -> str:
    return some(list(dict.fromkeys(suite.name for suite in suites)), _SHOWN)


def _unfinished(protocol: Protocol) -> str:
    return next((seen.unfinished for seen in protocol.suites if seen.unfinished), "")


@rule(
    "protocol/weak-suites",
    level=Level.EXPOSES,
    sources=("RFC 9325 section 4.1", "RFC 7465 section 2", "RFC 5246 A.5"),
    nature=OF_PLACES,
)
def weak_suites(case: Case) -> Iterator[RuleOutcome]:
    """Suites without encryption or proof, with export keys, RC4, DES, 3DES or MD5."""
    for where, _, protocol in _looked_at(case):
        weak: dict[str, list[CipherSuite]] = {}
        for _, suite in _suites(protocol):
            if why := weakness(suite):
                weak.setdefault(why, []).append(suite)
        if weak:
            seen = "; ".join(f"{why}: {_some(suites)}" for why, suites in weak.items())
            yield Gap(where, seen, "none of these", cause=seen)
        elif reason := _unfinished(protocol):
            yield Unknown(where, reason)
        elif protocol.suites:
            yield Holds(where, "no weak suite")


@rule("protocol/no-forward-secrecy", level=Level.WEAKENS, sources=("RFC 9325 section 4.1",), nature=OF_PLACES)
def no_forward_secrecy(case: Case) -> Iterator[RuleOutcome]:
    """With static key exchange, whoever gets the server's key reads all traffic that was ever recorded."""
    for where, _, protocol in _looked_at(case):
        found = [suite for _, suite in _suites(protocol)]
        static = [suite for suite in found if not suite.forward_secrecy and not weakness(suite)]
        secret = [suite for suite in found if suite.forward_secrecy]
        if static:
            level = None if secret else Level.EXPOSES
            only = "" if secret else "nothing else: "
            by_exchange: dict[str, list[CipherSuite]] = {}
            for suite in static:
                by_exchange.setdefault(_exchange_in_words(suite), []).append(suite)
            seen = only + "; ".join(f"{words}: {_some(suites)}" for words, suites in by_exchange.items())
            yield Gap(where, seen, "ephemeral key exchange only", cause=_some(static), level=level)
        elif reason := _unfinished(protocol):
            yield Unknown(where, reason)
        elif found:
            yield Holds(where, "every suite has forward secrecy")


def _exchange_in_words(suite: CipherSuite) -> str:
    """How the key is exchanged that gives no forward secrecy."""
    match suite.key_exchange:
        case "RSA":
            return "static RSA"
        case "DH" | "ECDH":
            return f"static {suite.key_exchange}"
        case "PSK" | "RSA_PSK":
            return "pre-shared key"
        case other:
            return other


@rule("protocol/cbc-only", level=Level.WEAKENS, sources=("RFC 9325 section 4.2",), nature=OF_PLACES)
def cbc_only(case: Case) -> Iterator[RuleOutcome]:
    """Authenticated encryption has to be among the suites."""
    for where, _, protocol in _looked_at(case):
        found = [suite for _, suite in _suites(protocol)]
        if any(suite.is_aead for suite in found):
            yield Holds(where, "AEAD suites accepted")
        elif reason := _unfinished(protocol):
            yield Unknown(where, reason)
        elif found:
            seen = (
                f"{len(found)} suites, none of them AEAD" if len(found) > 1 else f"one suite, not AEAD: {found[0].name}"
            )
            yield Gap(where, seen, "AES-GCM or ChaCha20-Poly1305")


@rule("protocol/weak-dh", level=Level.WEAKENS, sources=("RFC 9325 section 4.5", "RFC 7919 section 4"), nature=OF_PLACES)
def weak_dh(case: Case) -> Iterator[RuleOutcome]:
    """The group of a finite-field exchange has to be large; below 1024 bits it has been broken in practice."""
    minimum = case.expect.finite_field_minimum_bits
    for where, _, protocol in _looked_at(case):
        match protocol.finite_field:
            case Seen(value=None):
                yield Holds(where, "no finite-field exchange")
            case Seen(value=field) if field is not None and field.bits < minimum:
                known = well_known_prime(field.prime_sha256)
                seen = f"{field.bits} bits" + (f", {known}" if known else ", a prime of its own")
                level = Level.EXPOSES if field.bits < case.expect.finite_field_broken_bits else None
                yield Gap(where, seen, f"{minimum} bits or more", level=level)
            case Seen(value=field) if field is not None:
                known = well_known_prime(field.prime_sha256)
                yield Holds(where, f"{field.bits} bits" + (f", {known}" if known else ", a prime of its own"))
            case Unseen(reason=reason) if _accepts_old(protocol):
                yield Unknown(where, f"finite-field parameters: {reason}")


def _accepts_old(protocol: Protocol) -> bool:
    return any(version < Version.TLS_1_3 for version in protocol.accepted)


@rule("protocol/client-decides", level=Level.NOTE, sources=("RFC 9325 section 4.2.1",), nature=OF_PLACES)
def client_decides(case: Case) -> Iterator[RuleOutcome]:
    """A server that accepts suites of unequal strength should choose the best itself."""
    for where, _, protocol in _looked_at(case):
        unequal = [
            seen
            for seen in protocol.suites
            if seen.order is Order.CLIENT
            and len({strength_of(table()[code]) for code in seen.suites if code in table()}) > 1
        ]
        if unequal:
            versions = ", ".join(version_name(seen.version) for seen in unequal)
            seen = f"takes the client's first choice in {versions}, of suites of unequal strength"
            yield Gap(where, seen, "the server's own order, strongest first", cause="client's order")
        elif any(len(seen.suites) > 1 for seen in protocol.suites):
            yield Holds(where, "the server chooses, or all are of one strength")


@rule(
    "protocol/no-hybrid-group",
    level=Level.NOTE,
    sources=("Pewter's baseline: X25519MLKEM768 as browsers offer it",),
    nature=OF_PLACES,
)
def no_hybrid_group(case: Case) -> Iterator[RuleOutcome]:
    """Traffic recorded today may be read by a quantum computer later, unless the key exchange withstands one."""
    for where, _, protocol in _looked_at(case):
        groups = protocol.groups_in(Version.TLS_1_3)
        if groups is None:
            continue
        hybrid = [group for group in groups.groups if group in HYBRID_GROUPS]
        if hybrid:
            yield Holds(where, ", ".join(map(group_name, hybrid)))
        elif groups.unfinished:
            yield Unknown(where, f"groups: {groups.unfinished}")
        else:
            listed = ", ".join(map(group_name, groups.groups[:_SHOWN]))
            yield Gap(where, f"groups: {listed}", "X25519MLKEM768 among the groups", cause="no hybrid")


# Options


def _feature_rule(
    slug: str, level: Level, feature: str, wanted: bool, seen: str, expected: str, doc: str, *sources: str
) -> Rule[Case]:
    """A rule on one option: a gap where it is not as wanted."""

    def check(case: Case) -> Iterator[RuleOutcome]:
        for where, _, protocol in _looked_at(case):
            found = protocol.feature(feature)
            if found is None:
                continue
            match found.seen:
                case Seen(value=value) if value is wanted:
                    yield Holds(where, expected)
                case Seen():
                    yield Gap(where, seen + (f" ({found.detail})" if found.detail else ""), expected, cause=slug)
                case Unseen(reason=reason):
                    yield Unknown(where, f"{feature}: {reason}")

    check.__doc__ = doc
    return rule(f"protocol/{slug}", level=level, sources=sources, nature=OF_PLACES)(check)


renegotiation = _feature_rule(
    "renegotiation",
    Level.EXPOSES,
    protocols.SECURE_RENEGOTIATION,
    True,
    "renegotiation_info is not answered",
    "renegotiation_info in ServerHello",
    "A server that does not signal secure renegotiation may splice an attacker's request before a visitor's.",
    "RFC 5746 section 3.6",
    "RFC 9325 section 3.5",
)
compression = _feature_rule(
    "compression",
    Level.EXPOSES,
    protocols.COMPRESSION,
    False,
    "DEFLATE is chosen",
    "no TLS compression",
    "The length of compressed traffic gives secrets away, such as a session cookie.",
    "RFC 9325 section 3.3",
)
no_extended_secret = _feature_rule(
    "no-extended-secret",
    Level.NOTE,
    protocols.EXTENDED_MASTER_SECRET,
    True,
    "extended_master_secret is not answered in TLS 1.2",
    "extended_master_secret in ServerHello",
    "The master secret of TLS 1.2 should be bound to the whole handshake.",
    "RFC 7627 section 5.3",
)
no_fallback_guard = _feature_rule(
    "no-fallback-guard",
    Level.NOTE,
    protocols.FALLBACK_GUARD,
    True,
    "a fallback to an older version is accepted in spite of TLS_FALLBACK_SCSV",
    "alert inappropriate_fallback",
    "A server with several old versions should notice that a client was forced down.",
    "RFC 7507 section 3",
)
no_h2 = _feature_rule(
    "no-h2",
    Level.NOTE,
    protocols.H2,
    True,
    "h2 is not chosen where it is offered",
    "h2 by ALPN",
    "HTTP/2 saves visitors connections and round trips.",
    "RFC 9113 section 3.2",
    "RFC 7301 section 3.2",
)
early_data = _feature_rule(
    "early-data",
    Level.NOTE,
    protocols.EARLY_DATA,
    False,
    "session tickets allow 0-RTT",
    "no early data, or an application made for it",
    "Early data can be sent again by an attacker: each request in it has to be harmless when repeated.",
    "RFC 8446 section 8",
    "RFC 8470 section 3",
)


@rule(
    "protocol/intolerant", level=Level.WEAKENS, sources=("RFC 8701 section 1", "RFC 8446 section 9.3"), nature=OF_PLACES
)
def intolerant(case: Case) -> Iterator[RuleOutcome]:
    """What a server does not know it has to pass over: else next year's browsers cannot reach it."""
    titles = {
        protocols.GREASE_TOLERANCE: "unknown suites, groups, versions and extensions",
        protocols.LARGE_HELLO_TOLERANCE: "a hello of more than 3,000 octets",
    }
    for where, endpoint, protocol in _looked_at(case):
        found = [(title, feature) for name, title in titles.items() if (feature := protocol.feature(name))]
        failing = [f"the extension {extension_name(each)}" for each in endpoint.minds]
        failing += [endpoint.minds_besides] if endpoint.minds_besides else []
        failing += [f"a hello of {endpoint.minds_octets:,} octets"] if endpoint.minds_octets else []
        failing += [
            title + (f" ({feature.detail})" if feature.detail else "")
            for title, feature in found
            if isinstance(feature.seen, Seen) and not feature.seen.value
        ]
        unseen = [feature.seen.reason for _, feature in found if isinstance(feature.seen, Unseen)]
        if failing:
            yield Gap(where, "fails on " + ", ".join(failing), "handshakes that succeed all the same")
        elif unseen:
            yield Unknown(where, f"tolerance: {unseen[0]}")
        elif found:
            yield Holds(where, "passes over what it does not know")


@rule(
    "protocol/nothing-in-common",
    level=Level.BREAKS,
    sources=("RFC 8446 section 4.1.1", "RFC 5246 section 7.4.1.3"),
    nature=OF_PLACES.but(safety=Safety.SHUT),
)
def nothing_in_common(case: Case) -> Iterator[RuleOutcome]:
    """A hello with just what a current browser offers has to be accepted."""
    for where, endpoint, protocol in _looked_at(case):
        hellos = [each for each in protocol.browsers if isinstance(each.seen, Seen)]
        unseen = [each.seen.reason for each in protocol.browsers if isinstance(each.seen, Unseen)]
        leaf = next(map(case.chains.certificate, (each.chain[0] for each in endpoint.handshakes)), None)
        refused = [each for each in hellos if each.seen == Seen(False) and not _is_for_its_key(leaf, each.browser)]
        if refused:
            who = " and ".join(each.browser for each in refused)
            kind = leaf.key.kind if isinstance(leaf, Certificate) else ""
            seen, wanted = why_nothing_in_common(protocol, refused[0], kind)
            yield Gap(where, f"the hello of {who} is refused ({refused[0].how}): {seen}", wanted, cause=seen)
        elif hellos:
            yield Holds(where, f"takes the hello of {' and '.join(each.browser for each in hellos)}")
        elif unseen:
            yield Unknown(where, f"the hello of a browser: {unseen[0]}")


def _is_for_its_key(leaf: Certificate | MalformedCertificate | None, browser: str) -> bool:
    """chain/unusual-key speaks of a key that the browser does not take."""
    return isinstance(leaf, Certificate) and Browser(browser) in browsers_refusing_key(leaf.key)


RULES = (
    weak_suites,
    no_forward_secrecy,
    cbc_only,
    weak_dh,
    client_decides,
    renegotiation,
    compression,
    no_fallback_guard,
    intolerant,
    nothing_in_common,
    no_extended_secret,
    no_hybrid_group,
    no_h2,
    early_data,
)
