"""Are the keys, hashes and forms of the certificates such as browsers take?"""

from collections.abc import Callable, Iterator

from pewter.expectations import Expectations
from pewter.facts.browsers import SMALLEST_RSA_KEY, browsers_refusing_key
from pewter.facts.chains import Chain, HasChains, certificates_to_judge
from pewter.judge.nature import OF_CERTIFICATES
from pewter.judge.outcomes import Gap, Holds, RuleOutcome
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.pki import Certificate, KeyFacts, form_faults, weak_hash

from .walks import unknown


def _judge_each(
    case: HasChains,
    problem_of: Callable[[Chain, Certificate], str],
    expected: str,
    good: str,
    level_of: Callable[[Certificate], Level | None] = lambda certificate: None,
) -> Iterator[RuleOutcome]:
    """An outcome for each chain: a gap for every certificate with a problem, else a hold."""
    for chain in case.chains:
        if chain.assessment is None:
            continue
        faulty = False
        for certificate in certificates_to_judge(chain):
            problem = problem_of(chain, certificate)
            if problem:
                faulty = True
                seen = f"{certificate.title}: {problem}"
                level = level_of(certificate)
                cause, about = certificate.sha256 + problem, certificate.title
                yield Gap(chain.where, seen, expected, cause=cause, level=level, about=about)
        if not faulty:
            yield Holds(chain.where, good)
    yield from unknown(case.chains.unseen)


@rule(
    "chain/weak-signature",
    level=Level.BREAKS,
    sources=("RFC 9155", "Baseline Requirements section 7.1.3.2"),
    nature=OF_CERTIFICATES,
)
def weak_signature(case: HasChains) -> Iterator[RuleOutcome]:
    """SHA-1 and MD5 signatures can be forged; a root's own signature is not looked at by anyone."""

    def problem(chain: Chain, certificate: Certificate) -> str:
        if chain.assessment is not None and chain.assessment.is_self_signed:
            return ""  # chain/self-signed speaks of a certificate that nobody else signed
        name = weak_hash(certificate.signature_algorithm)
        return f"signed with {name}" if name else ""

    yield from _judge_each(case, problem, "signatures with SHA-256 or better", "no SHA-1 and no MD5")


@rule(
    "chain/weak-key",
    level=Level.EXPOSES,
    sources=("RFC 9325 section 4.5", "Baseline Requirements section 6.1.5"),
    nature=OF_CERTIFICATES,
)
def weak_key(case: HasChains) -> Iterator[RuleOutcome]:
    """Keys that can be broken."""
    yield from _judge_each(
        case,
        lambda chain, certificate: key_weakness(certificate.key, case.expect),
        f"RSA of {case.expect.rsa_minimum_bits} bits or more, curves of {case.expect.curve_minimum_bits} or more",
        "keys of sufficient size",
        lambda certificate: (
            Level.BREAKS if 0 < certificate.key.bits < SMALLEST_RSA_KEY and is_rsa(certificate) else None
        ),
    )


def is_rsa(certificate: Certificate) -> bool:
    return certificate.key.kind in {"RSA", "RSA-PSS"}


def key_weakness(key: KeyFacts, expect: Expectations) -> str:
    """In words; empty for a key of sufficient size."""
    if key.kind in {"RSA", "RSA-PSS"}:
        if key.bits < expect.rsa_minimum_bits:
            refused = ", which browsers refuse" if key.bits < SMALLEST_RSA_KEY else ""
            return f"{key.kind} key of {key.bits} bits{refused}"
        if key.exponent < 3 or key.exponent % 2 == 0:
            return f"RSA key with exponent {key.exponent}" if abs(key.exponent) < 1 << 64 else "RSA key, even exponent"
    if key.kind == "DSA" and 0 < key.bits < expect.rsa_minimum_bits:
        return f"DSA key of {key.bits} bits"
    if key.kind == "EC" and 0 < key.bits < expect.curve_minimum_bits:
        return f"EC key of {key.bits} bits ({key.curve})"
    return ""


@rule(
    "chain/unusual-key",
    level=Level.BREAKS,
    sources=("Baseline Requirements section 6.1.5", "RFC 8446 section 4.2.3"),
    nature=OF_CERTIFICATES,
)
def unusual_key(case: HasChains) -> Iterator[RuleOutcome]:
    """Browsers take RSA and the curves P-256 and P-384; a P-521 key only of an issuer, or in one browser."""

    def problem(chain: Chain, certificate: Certificate) -> str:
        key = certificate.key
        refusing = browsers_refusing_key(key, is_issuer=certificate is not chain.leaf)
        if not refusing:
            return ""
        kind = f"{key} key" if key.kind != "unreadable" else "a key that cannot be read"
        only = sorted(each.value for each in refusing)
        return kind + (f", which {only[0]} does not take" if len(only) == 1 else "")

    yield from _judge_each(case, problem, "RSA, P-256 or P-384", "keys that browsers take")


@rule("chain/malformed", level=Level.BREAKS, sources=("RFC 5280 section 4.1",), nature=OF_CERTIFICATES)
def malformed(case: HasChains) -> Iterator[RuleOutcome]:
    """What is sent as a certificate has to be one, in the forms that RFC 5280 lays down."""
    for chain in case.chains:
        faulty = False
        for position, sha256 in enumerate(chain.fingerprints, start=1):
            certificate = case.chains.certificate(sha256)
            which = "the server's certificate" if position == 1 else f"certificate {position} of those sent"
            if not isinstance(certificate, Certificate):
                faulty = True
                seen = f"{which} cannot be read: {certificate.reason}"
                yield Gap(chain.where, seen, "certificates", cause=sha256, about=which)
                continue
            if chain.assessment is not None and certificate is chain.assessment.best.anchor:
                continue
            for fault in form_faults(certificate):
                faulty = True
                stops = fault.stops and certificate in certificates_to_judge(chain)
                level = Level.BREAKS if stops else Level.NOTE
                only = f" ({fault.opens_in} opens it)" if fault.opens_in else ""
                seen = f"{certificate.title}: {fault.words}{only}"
                cause = sha256 + fault.words
                yield Gap(chain.where, seen, "the forms of RFC 5280", cause=cause, level=level, about=seen)
        if not faulty:
            yield Holds(chain.where, "all can be read")


RULES = (weak_signature, weak_key, unusual_key, malformed)
