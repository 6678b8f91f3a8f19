"""Is the certificate revoked, stapled, logged?"""

from collections.abc import Iterator

from pewter.facts.browsers import staple_stops_firefox
from pewter.facts.case import Case
from pewter.facts.chains import Chain, HasChains, told_apart
from pewter.facts.logs import count_logs
from pewter.facts.revocation import Status, revocation_of, staples_of, statuses_of
from pewter.judge.nature import OF_CERTIFICATES, OF_SERVED_CERTIFICATES, GoesBy
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.phrases import counted
from pewter.pki import MUST_STAPLE, Certificate, StatusKind
from pewter.places import of_file, the_site

NOT_ASKED = "whether a certificate is revoked was not asked; --revocation asks its CA"


@rule(
    "chain/revoked",
    level=Level.BREAKS,
    sources=("RFC 5280 section 6.3", "RFC 6960 section 2.2"),
    nature=OF_SERVED_CERTIFICATES.but(goes_by=frozenset({GoesBy.STATUS})),
)
def revoked(case: Case) -> Iterator[RuleOutcome]:
    """No certificate of the path may be revoked, by whatever way its CA says so."""
    unasked = False
    for chain in case.chains:
        statuses = statuses_of(case, chain)
        found = revocation_of(case, chain)
        answers = [each for each in statuses if each.verdict is not None and each.verdict.kind is StatusKind.GOOD]
        if found is not None and found.verdict is not None:
            seen = f"{found.certificate.title} is {found.verdict.detail} ({found.source})"
            expected = "certificates that are not revoked"
            yield Gap(chain.where, seen, expected, cause=found.certificate.sha256)
        elif any(each.certificate is chain.leaf for each in answers):
            assert answers[0].verdict is not None
            yield Holds(chain.where, f"{answers[0].source}: {answers[0].verdict.detail}")
        elif case.evidence.revocation_asked and statuses:
            yield Unknown(chain.where, _why_not_answered(chain, statuses))
        elif not case.evidence.revocation_asked and _can_be_asked(chain):
            unasked = True
    if unasked:
        yield Unknown(the_site("certificates"), NOT_ASKED)


@rule(
    "chain/revoked-key",
    level=Level.EXPOSES,
    sources=("Baseline Requirements section 6.1.1.3", "RFC 5280 section 5.3.1"),
    nature=OF_SERVED_CERTIFICATES.but(goes_by=frozenset({GoesBy.STATUS})),
)
def revoked_key(case: Case) -> Iterator[RuleOutcome]:
    """The key of a revoked certificate is not to be used again: neither in a served nor in a given certificate."""
    revoked = {
        found.certificate.spki: found.certificate
        for chain in case.chains
        if (found := revocation_of(case, chain)) is not None and not found.certificate.extensions.is_ca
    }
    if not revoked:
        return
    served = [(chain.where, chain.leaf) for chain in case.chains if isinstance(chain.leaf, Certificate)]
    given = [(of_file("given file"), each) for each in case.chains.given_certificates if not each.extensions.is_ca]
    for where, leaf in (*served, *given):
        before = revoked.get(leaf.spki)
        if before is None:
            yield Holds(where, "its key is of no certificate that is revoked")
        elif before.sha256 != leaf.sha256:
            seen = f"{told_apart(leaf)} has the key of {told_apart(before)}, which is revoked"
            yield Gap(where, seen, "a key of its own", cause=leaf.sha256)


def _can_be_asked(chain: Chain) -> bool:
    leaf = chain.leaf
    return isinstance(leaf, Certificate) and bool(leaf.extensions.ocsp_responders or leaf.extensions.crl_uris)


def _why_not_answered(chain: Chain, statuses: tuple[Status, ...]) -> str:
    of_leaf = (each for each in statuses if each.certificate is chain.leaf)
    words = [f"{each.source}: {each.verdict.detail if each.verdict is not None else each.reason}" for each in of_leaf]
    return "revocation is not known: " + ("; ".join(words) or "the CA gave no answer for the server's certificate")


@rule(
    "chain/staple-broken",
    level=Level.WEAKENS,
    sources=("RFC 6960 section 3.2", "RFC 6066 section 8"),
    nature=OF_SERVED_CERTIFICATES,
)
def staple_broken(case: HasChains) -> Iterator[RuleOutcome]:
    """A stapled response has to be good, in date and about the certificate beside it."""
    for chain in case.chains:
        for _, verdict in staples_of(case, chain):
            if verdict.kind is StatusKind.GOOD:
                yield Holds(chain.where, verdict.detail)
            elif verdict.kind is StatusKind.UNCHECKED:
                yield Unknown(chain.where, f"the stapled response: {verdict.detail}")
            elif verdict.kind is not StatusKind.REVOKED:  # chain/revoked speaks of that
                stops = staple_stops_firefox(chain.leaf, verdict)
                only = "; Firefox stops" if stops else ""
                seen = f"the stapled response is {verdict.kind.value}: {verdict.detail}{only}"
                level = Level.BREAKS if stops else None
                yield Gap(chain.where, seen, "a response for this certificate, good and in date", level=level)


@rule("chain/staple-missing", level=Level.BREAKS, sources=("RFC 7633 section 4.2.3",), nature=OF_SERVED_CERTIFICATES)
def staple_missing(case: HasChains) -> Iterator[RuleOutcome]:
    """Only a certificate that demands a stapled response needs one: several CAs have stopped OCSP."""
    for chain in case.chains:
        if not isinstance(chain.leaf, Certificate) or MUST_STAPLE not in chain.leaf.extensions.tls_features:
            continue
        asked = chain.handshakes
        if any(handshake.staple is not None for handshake in asked):
            yield Holds(chain.where, "stapled, as the certificate demands")
        else:
            times = counted(len(asked), "handshake")
            seen = f"the certificate demands a stapled response (must-staple), and none came in {times}; Firefox stops"
            yield Gap(chain.where, seen, "a stapled response in each handshake")


@rule(
    "chain/not-logged",
    level=Level.BREAKS,
    sources=("RFC 6962 section 3", "browsers' policies on logging"),
    nature=OF_CERTIFICATES,
)
def not_logged(case: HasChains) -> Iterator[RuleOutcome]:
    """Browsers ask for signed timestamps of several logs where a publicly trusted CA issued."""
    for chain in case.chains:
        count = count_logs(case, chain)
        if count is None:
            continue
        if not count.is_enough:
            yield Gap(chain.where, count.seen, f"timestamps of {count.wanted} logs", cause=chain.leaf.sha256)
        else:
            yield Holds(chain.where, count.seen + (f", {count.verified} verified" if count.verified else ""))


RULES = (revoked, revoked_key, staple_broken, staple_missing, not_logged)
