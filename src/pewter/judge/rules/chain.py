"""Does the certificate lead to a root that visitors trust?"""

from collections.abc import Callable, Iterator

from pewter.evidence import Alert, Ended, Handshake, NoConnection, Step, Unseen
from pewter.facts.browsers import (
    LONGEST_CERTIFICATE_MESSAGE,
    MOST_INTERMEDIATES,
    bare_anchor,
    issuer_purpose_problem,
    key_usage_problem,
    purpose_problem,
    too_deep,
    uses_static_rsa,
)
from pewter.facts.case import Case
from pewter.facts.chains import UNCHECKED, Chain, HasChains, issuer_not_to_be_had, path_problem
from pewter.judge.nature import OF_CERTIFICATES, OF_SERVED_CERTIFICATES
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import Rule, rule
from pewter.levels import Level
from pewter.phrases import counted
from pewter.pki import Certificate
from pewter.places import Place

from . import chain_keys, chain_status
from .walks import unknown

_PATH = "RFC 5280 section 6.1"


def _path_rule(
    slug: str,
    doc: str,
    expected: str,
    describe: Callable[[HasChains, Chain], tuple[str, str, str]],
    source: str = _PATH,
    good: str = "the path is good",
    in_firefox: Callable[[HasChains, Chain], tuple[str, str, str] | None] = lambda case, chain: None,
) -> Rule[HasChains]:
    """A rule on one problem of the path: a gap where it is the problem, a hold where the path is good.

    ``describe`` gives what was seen, what helps to mend it, and a mend in place of the rule's own.  ``in_firefox``
    gives what stops that browser on a good path: what was seen, what is expected, and the cause.
    """

    def check(case: HasChains) -> Iterator[RuleOutcome]:
        for chain in case.chains:
            problem = path_problem(chain)
            if problem == slug:
                seen, detail, mend = describe(case, chain)
                yield Gap(chain.where, seen, expected, cause=chain.fingerprints[0], detail=detail, mend=mend)
            elif problem == UNCHECKED:
                yield Unknown(chain.where, _describe_fault(case, chain)[0])
            elif not problem and (found := in_firefox(case, chain)) is not None:
                words, wanted, cause = found
                yield Gap(chain.where, f"{words}: Firefox stops", wanted, cause=cause)
            elif not problem:
                yield Holds(chain.where, good)
        yield from unknown(case.chains.unseen)

    check.__doc__ = doc
    return rule(f"chain/{slug}", level=Level.BREAKS, sources=(source,), nature=OF_CERTIFICATES)(check)


def _describe_incomplete(case: HasChains, chain: Chain) -> tuple[str, str, str]:
    assert chain.assessment is not None
    missing = chain.assessment.missing
    sent = len(chain.fingerprints)
    how_many = f"{counted(sent, 'certificate')} sent"
    if not missing:
        top = issuer_not_to_be_had(chain)
        assert top is not None
        tried = "; ".join(
            f"{each.url}: {each.answer}"
            for each in case.chains.sources.fetched
            if isinstance(each.answer, str) and each.url
        )
        seen = f"{how_many}; missing: {top.issuer.title}" + (f", which could not be fetched ({tried})" if tried else "")
        return seen, "", _serve_what_the_ca_gave(top)
    titles = ", ".join(each.title for each in missing)
    return f"{how_many}; missing: {titles}", "; ".join(case.chains.where_to_get(each) for each in missing), ""


def _serve_what_the_ca_gave(top: Certificate) -> str:
    return (
        f'Serve the intermediate certificate that your CA gave you beside the certificate: the one for "{top.issuer}". '
        "It goes into the same file, after the server's own certificate; leave the root out."
    )


def _describe_fault(case: HasChains, chain: Chain) -> tuple[str, str, str]:
    assert chain.assessment is not None
    path = chain.assessment.alone
    drawn = " ← ".join(each.title for each in path.certificates)
    opens_in = {fault.opens_in for fault in path.faults}
    only = f" ({opens_in.pop()} opens it)" if len(opens_in) == 1 and "" not in opens_in else ""
    return f"{drawn}: {path.faults[0].detail}{only}", "", ""


def _describe_untrusted(case: HasChains, chain: Chain) -> tuple[str, str, str]:
    """What is missing may still be an intermediate: then that is the first thing to try."""
    assert chain.assessment is not None
    seen, detail, _ = _describe_fault(case, chain)
    top = chain.assessment.best.certificates[-1]
    if chain.assessment.best.anchor is not None or top.is_self_issued:
        return seen, detail, ""
    mend = (
        f"If {top.issuer.title} is an intermediate of your CA: {_serve_what_the_ca_gave(top)} If it is a root of your "
        f"own, it need not be sent. {_ROOT_OF_YOUR_OWN}"
    )
    return seen, detail, mend


_ROOT_OF_YOUR_OWN = (
    "A private CA's root belongs in the stores of its visitors' machines: by group policy (Trusted Root Certification "
    "Authorities) in a Windows domain; by update-ca-certificates or update-ca-trust on Linux; in Firefox, which has a "
    "store of its own, by its policy Certificates/Install or ImportEnterpriseRoots; on phones by a management profile. "
    "--trust tells Pewter alone. Visitors without it need a certificate of a publicly trusted CA."
)


def _describe_self_signed(case: HasChains, chain: Chain) -> tuple[str, str, str]:
    assert isinstance(chain.leaf, Certificate)
    return f"{chain.leaf.title} is issued by itself", "", ""


def _depth(case: HasChains, chain: Chain) -> tuple[str, str, str] | None:
    words = too_deep(chain.assessment.best) if chain.assessment is not None else ""
    return (words, f"at most {MOST_INTERMEDIATES} intermediates", chain.fingerprints[0]) if words else None


incomplete = _path_rule(
    "incomplete",
    "What the server sends has to lead to a trusted root without help.",
    "the server's certificate and every intermediate up to the root",
    _describe_incomplete,
    "RFC 8446 section 4.4.2; RFC 5246 section 7.4.2",
    "whole as served",
)
untrusted = _path_rule(
    "untrusted",
    "The path has to end at a root that visitors have.",
    "a path to a trusted root",
    _describe_untrusted,
    in_firefox=_depth,
)
self_signed = _path_rule(
    "self-signed",
    "The certificate has to be issued by a CA, not by itself.",
    "a certificate that a trusted CA issued",
    _describe_self_signed,
)
bad_signature = _path_rule(
    "bad-signature",
    "Every signature on the path has to verify.",
    "signatures that verify",
    _describe_fault,
    "RFC 5280 section 6.1.3",
)
not_a_ca = _path_rule(
    "not-a-ca",
    "Every issuer has to be a CA that may issue what is below it.",
    "CA certificates above the server's own",
    _describe_fault,
    "RFC 5280 section 6.1.4",
)


def _bare_anchor(case: HasChains, chain: Chain) -> tuple[str, str, str] | None:
    bare = bare_anchor(case, chain.assessment.best) if chain.assessment is not None else ""
    return (bare, _ANCHOR_EXPECTED, bare) if bare else None


def _purpose(case: HasChains, chain: Chain) -> tuple[str, str, str] | None:
    words = purpose_problem(chain.leaf) if isinstance(chain.leaf, Certificate) else ""
    path = chain.assessment.best if chain.assessment is not None else None
    for issuer in path.intermediates if path is not None and not words else ():
        if found := issuer_purpose_problem(issuer):
            return found, _PURPOSE_EXPECTED, issuer.sha256
    if not isinstance(chain.leaf, Certificate) or not words:
        return None
    wanted = "a certificate for servers, and no CA's" if chain.leaf.extensions.is_ca else _PURPOSE_EXPECTED
    return words, wanted, chain.fingerprints[0]


_ANCHOR_EXPECTED = "a root in date that may issue for servers"
_PURPOSE_EXPECTED = "server authentication among the purposes"
anchor_refused = _path_rule(
    "anchor-refused",
    "Browsers look at a root that was added to them as at any CA certificate.",
    _ANCHOR_EXPECTED,
    _describe_fault,
    "RFC 5280 section 6.2",
    in_firefox=_bare_anchor,
)
not_for_servers = _path_rule(
    "not-for-servers",
    "The certificates have to be for servers, in every browser.",
    _PURPOSE_EXPECTED,
    _describe_fault,
    "RFC 5280 section 4.2.1.12",
    in_firefox=_purpose,
)


@rule(
    "chain/key-usage",
    level=Level.BREAKS,
    sources=("RFC 5280 section 4.2.1.3", "RFC 8446 section 4.4.2.2"),
    nature=OF_CERTIFICATES,
)
def key_usage(case: HasChains) -> Iterator[RuleOutcome]:
    """The server's key signs every handshake of TLS 1.3 and each with ephemeral keys: keyUsage has to allow it."""
    for chain in case.chains:
        if not isinstance(chain.leaf, Certificate):
            continue
        static_rsa = uses_static_rsa(chain.handshakes)
        words = key_usage_problem(chain.leaf, static_rsa=static_rsa)
        if words:
            wanted = "keyEncipherment" if static_rsa else "digitalSignature"
            yield Gap(chain.where, words, f"{wanted} in keyUsage", cause=chain.fingerprints[0])
        else:
            yield Holds(chain.where, "the key may sign handshakes")
    yield from unknown(case.chains.unseen)


@rule(
    "chain/too-large",
    level=Level.BREAKS,
    sources=("RFC 8446 section 4.4.2", "OpenSSL's and browsers' own limit"),
    nature=OF_CERTIFICATES,
)
def too_large(case: HasChains) -> Iterator[RuleOutcome]:
    """Programs stop reading a Certificate message at a bound of their own."""
    largest: dict[Place, tuple[int, Chain]] = {}
    for chain in case.chains:
        octets = case.chains.octets(chain)
        if chain.where not in largest or octets > largest[chain.where][0]:
            largest[chain.where] = octets, chain
    for where, (octets, chain) in largest.items():
        if octets > LONGEST_CERTIFICATE_MESSAGE:
            seen = f"{len(chain.fingerprints)} certificates in a message of {octets:,} octets"
            yield Gap(where, seen, f"at most {LONGEST_CERTIFICATE_MESSAGE:,} octets", cause=seen)
        else:
            yield Holds(where, "programs read it whole")


@rule("chain/expired-issuer", level=Level.BREAKS, sources=("RFC 5280 section 6.1.3",), nature=OF_CERTIFICATES)
def expired_issuer(case: HasChains) -> Iterator[RuleOutcome]:
    """Every issuer on the path has to be in date; one that a good path goes round is worth a note."""
    expected = "a path of issuers in date"
    for chain in case.chains:
        problem = path_problem(chain)
        if problem == "expired-issuer":
            seen, _, _ = _describe_fault(case, chain)
            yield Gap(chain.where, seen, expected, cause=chain.fingerprints[0])
        elif not problem and chain.assessment is not None and chain.assessment.outdated_beside:
            titles = ", ".join(f"{each.title} ({_dates(each)})" for each in chain.assessment.outdated_beside)
            seen = f"sent, and out of date: {titles}; current programs go round it, old ones stop"
            yield Gap(chain.where, seen, expected, level=Level.NOTE)
        elif not problem:
            yield Holds(chain.where, "the path is good")
    yield from unknown(case.chains.unseen)


def _dates(certificate: Certificate) -> str:
    return f"{certificate.not_before:%Y-%m-%d} to {certificate.not_after:%Y-%m-%d}"


@rule("chain/stores-disagree", level=Level.WEAKENS, sources=(_PATH, "RFC 5280 section 6.2"), nature=OF_CERTIFICATES)
def stores_disagree(case: HasChains) -> Iterator[RuleOutcome]:
    """Programs have different root stores; what the reviewer gave with --trust is added to each."""
    for chain in case.chains:
        verdicts = case.chains.store_verdicts(chain.fingerprints)
        own = [each for each in verdicts if not each.is_given]
        if len(own) < 2 or any(each.is_given and each.trusts for each in verdicts):
            continue
        trusting = [each.title for each in own if each.trusts]
        refusing = [each for each in own if not each.trusts]
        if trusting and refusing:
            why = refusing[0].path.faults[0].detail
            seen = f"trusted by {', '.join(trusting)}; not by {', '.join(each.title for each in refusing)}: {why}"
            # A CA that no public store has is a private one: nobody makes a cross certificate for it.
            is_private = not any(each.is_public and each.trusts for each in own)
            mend = f"The CA is in no public store. {_ROOT_OF_YOUR_OWN}" if is_private else ""
            expected = "a path to a root that every store has"
            yield Gap(chain.where, seen, expected, cause=chain.fingerprints[0], mend=mend)
        elif trusting:
            yield Holds(chain.where, f"trusted by {', '.join(trusting)}")


@rule(
    "chain/wrong-order",
    level=Level.WEAKENS,
    sources=("RFC 5246 section 7.4.2", "RFC 8446 section 4.4.2"),
    nature=OF_CERTIFICATES,
)
def wrong_order(case: HasChains) -> Iterator[RuleOutcome]:
    """Each certificate should certify the one before it."""
    for chain in case.chains:
        if chain.assessment is None:
            continue
        misplaced = chain.assessment.misplaced
        if misplaced:
            sent = ", ".join(each.title for each in chain.assessment.sent)
            path = ", ".join(each.title for each in chain.assessment.best.certificates)
            yield Gap(chain.where, f"sent: {sent}", f"sent in the order of the path: {path}", cause=sent)
        else:
            yield Holds(chain.where, "in order")


@rule("chain/superfluous", level=Level.NOTE, sources=("RFC 8446 section 4.4.2",), nature=OF_CERTIFICATES)
def superfluous(case: HasChains) -> Iterator[RuleOutcome]:
    """Certificates that help no path only make the handshake longer."""
    for chain in case.chains:
        if chain.assessment is None:
            continue
        extra = chain.assessment.superfluous
        if extra:
            seen = "; ".join(f"{certificate.title} {why}" for certificate, why in extra)
            yield Gap(chain.where, seen, "nothing but the path, without its root")
        else:
            yield Holds(chain.where, "nothing superfluous")


@rule(
    "chain/default-differs",
    level=Level.NOTE,
    sources=("RFC 6066 section 3", "RFC 9325 section 3.7"),
    nature=OF_SERVED_CERTIFICATES,
)
def default_differs(case: Case) -> Iterator[RuleOutcome]:
    """What a client gets that sends no server name, or one that the server does not know."""
    for endpoint in case.endpoints:
        leaves = {handshake.chain[0] for handshake in endpoint.handshakes}
        probe = next((each for each in endpoint.nameless if each.offer.server_name is None), None)
        if probe is None or not leaves:
            continue
        where = case.place(endpoint)
        match probe.answer:
            case Handshake(chain=chain) if chain[0] in leaves:
                yield Holds(where, "the same certificate without a server name")
            case Handshake(chain=chain):
                leaf = case.chains.certificate(chain[0])
                title = leaf.title if isinstance(leaf, Certificate) else "a certificate that cannot be read"
                own = f"{title} (SHA-256 {chain[0][:8]})"
                if title.endswith(".invalid"):  # a name that nobody can have (RFC 6761 section 6.4)
                    yield Holds(where, f"a certificate of nobody without a server name: {own}")
                    continue
                yield Gap(where, f"without a server name: {own}", "the same certificate", cause=own)
            case Alert() | Ended():
                yield Holds(where, "refused without a server name")
            case NoConnection(detail=reason) | Unseen(reason=reason):
                yield Unknown(where, f"without a server name: {reason}")


OF_CHAINS: tuple[Rule[HasChains], ...] = (
    incomplete,
    untrusted,
    self_signed,
    bad_signature,
    not_a_ca,
    not_for_servers,
    anchor_refused,
    expired_issuer,
    key_usage,
    too_large,
    stores_disagree,
    wrong_order,
    superfluous,
)
"""What is judged of a chain, whoever sends it."""

STEPS: tuple[Step, ...] = (Step.SIBLINGS, Step.CERTIFICATES, Step.VERSIONS, Step.ISSUERS, Step.REVOCATION)
"""What has to be asked for its rules."""

RULES: tuple[Rule[Case], ...] = (*OF_CHAINS, default_differs, *chain_keys.RULES, *chain_status.RULES)
