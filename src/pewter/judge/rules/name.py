"""Does the certificate cover the host?"""

import difflib
from collections.abc import Iterator

from pewter.evidence import Name, Seen, Step
from pewter.facts.browsers import BOTH, browsers_not_matching, leads_to, name_refusal
from pewter.facts.case import Case
from pewter.facts.chains import Chain, HasChains
from pewter.judge.nature import OF_CERTIFICATES, OF_SERVED_CERTIFICATES, GoesBy
from pewter.judge.outcomes import Gap, Holds, RuleOutcome
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.phrases import some
from pewter.pki import Certificate, covers, presented_names
from pewter.pki.identity import matches, why_odd
from pewter.web.sites import are_siblings
from pewter.web.suffixes import is_public_suffix

from .walks import unknown

_SHOWN_NAMES = 6


def _list_names(certificate: Certificate) -> str:
    names = presented_names(certificate)
    if not names:
        cn = certificate.subject.common_names
        return f"no subjectAltName (the subject's common name {cn[0]} does not count)" if cn else "no name at all"
    return f"covers {some(names, _SHOWN_NAMES)}"


def _near_miss(certificate: Certificate, host: str) -> str:
    """Why the nearest of the covered names does not match."""
    names = certificate.extensions.dns_names
    for name in names:
        if name.startswith("*.") and host == name[2:]:
            return f"{name} does not cover {host} itself"
        if name.startswith("*.") and host.endswith(name[1:]):
            return f"A wildcard stands for exactly one label: {name} does not reach {host}"
    near = difflib.get_close_matches(host, names, n=1, cutoff=0.6)
    return f"The nearest covered name is {near[0]}" if near else ""


def _sibling_covered(case: HasChains, chain: Chain) -> str | None:
    """The sibling of the endpoint's name that this very certificate covers, if the site has it."""
    host = chain.host
    assert isinstance(chain.leaf, Certificate)
    for name in case.resolving_names:
        if are_siblings(name, host) and covers(chain.leaf, name):
            return name
    return None


@rule(
    "name/not-covered",
    level=Level.BREAKS,
    sources=("RFC 9525 section 6", "RFC 9110 section 4.3.4"),
    nature=OF_CERTIFICATES,
)
def not_covered(case: HasChains) -> Iterator[RuleOutcome]:
    """The certificate has to name the host; name/sibling-not-covered speaks where it names its sibling."""
    for chain in case.chains:
        if not isinstance(chain.leaf, Certificate):
            continue
        host = chain.host
        refusing = browsers_not_matching(chain.leaf, host)
        if not refusing:
            yield Holds(chain.where, f"{host} is covered")
        elif len(refusing) == 1:
            (browser,) = [each.value for each in refusing]
            seen = f"{_list_names(chain.leaf)}; {name_refusal(chain.leaf, host)}, which {browser} does not take"
            yield Gap(chain.where, seen, host, cause=f"{host} {chain.leaf.sha256}")
        elif is_in_common_name_only(chain.leaf, host):
            continue
        elif _sibling_covered(case, chain) is None:
            detail = name_refusal(chain.leaf, host) if covers(chain.leaf, host) else _near_miss(chain.leaf, host)
            yield Gap(chain.where, _list_names(chain.leaf), host, cause=f"{host} {chain.leaf.sha256}", detail=detail)
    yield from unknown(case.chains.unseen)


@rule("name/sibling-not-covered", level=Level.BREAKS, sources=("RFC 9525 section 6",), nature=OF_CERTIFICATES)
def sibling_not_covered(case: HasChains) -> Iterator[RuleOutcome]:
    """People type a site with and without www: the certificate has to cover both where both resolve."""
    for chain in case.chains:
        if not isinstance(chain.leaf, Certificate):
            continue
        host = chain.host
        siblings = [name for name in case.resolving_names if are_siblings(name, host)]
        if not siblings:
            continue
        if browsers_not_matching(chain.leaf, host) != BOTH:
            yield Holds(chain.where, f"{host} is covered")
        elif (sibling := _sibling_covered(case, chain)) is not None:
            seen, expected = f"{_list_names(chain.leaf)}; not {host}", f"{sibling} and {host}"
            detail = ""
            if leads_to(case, sibling, host):
                seen += f"; https://{sibling} leads to {host}, so that its visitors meet the warning too"
                detail = f"Until then take the redirect from https://{sibling} to {host} out: the first is covered"
            yield Gap(chain.where, seen, expected, cause=f"{host} {chain.leaf.sha256}", detail=detail)


def is_in_common_name_only(certificate: Certificate, host: str) -> bool:
    """Whether the subject's common name would match, and no subjectAltName does."""
    return not covers(certificate, host) and any(matches(each, host) for each in certificate.subject.common_names)


@rule("name/common-name-only", level=Level.BREAKS, sources=("RFC 9525 section 2",), nature=OF_CERTIFICATES)
def common_name_only(case: HasChains) -> Iterator[RuleOutcome]:
    """Programs of today do not look at the subject's common name."""
    for chain in case.chains:
        if not isinstance(chain.leaf, Certificate):
            continue
        host = chain.host
        if is_in_common_name_only(chain.leaf, host):
            names = presented_names(chain.leaf)
            listed = f"subjectAltName has {', '.join(names[:_SHOWN_NAMES])}" if names else "there is no subjectAltName"
            seen = f"{host} stands only in the subject's common name; {listed}"
            yield Gap(chain.where, seen, f"{host} in subjectAltName", cause=f"{host} {chain.leaf.sha256}")
        else:
            yield Holds(chain.where, "subjectAltName decides")


@rule(
    "name/odd-entries",
    level=Level.NOTE,
    sources=("RFC 9525 section 6.3", "Baseline Requirements section 7.1.4.2"),
    nature=OF_CERTIFICATES,
)
def odd_entries(case: HasChains) -> Iterator[RuleOutcome]:
    """Entries of subjectAltName that match nothing, or that no public CA may issue."""
    for chain in case.chains:
        if not isinstance(chain.leaf, Certificate):
            continue
        odd = [
            f"{name!r} ({why})" for name in chain.leaf.extensions.dns_names if (why := why_odd(name, is_public_suffix))
        ]
        odd += [
            f"an address of {len(octets)} octets"
            for octets in chain.leaf.extensions.ip_addresses
            if len(octets) not in {4, 16}
        ]
        if odd:
            yield Gap(chain.where, some(odd, _SHOWN_NAMES), "host names that browsers match", cause=chain.leaf.sha256)
        else:
            yield Holds(chain.where, "every entry is a name")


@rule(
    "name/also-covers",
    level=Level.NOTE,
    sources=("RFC 9525 section 7.5",),
    nature=OF_SERVED_CERTIFICATES.but(goes_by=frozenset({GoesBy.ALL_NAMES})),
)
def also_covers(case: Case) -> Iterator[RuleOutcome]:
    """Names that share the certificate, and with it its key and its end, but are not under review."""
    known = {name.name: name for name in case.evidence.covered_names}
    for chain in case.chains:
        if not isinstance(chain.leaf, Certificate):
            continue
        others = [
            name for name in dict.fromkeys(map(str.lower, presented_names(chain.leaf))) if name not in case.site_names
        ]
        if others:
            seen = some([_with_resolution(name, known.get(name)) for name in others], _SHOWN_NAMES)
            yield Gap(chain.where, seen, "every covered name under review (--also NAME)", cause=chain.leaf.sha256)
        else:
            yield Holds(chain.where, "covers names under review only")


def _with_resolution(text: str, name: Name | None) -> str:
    if name is None:
        return text
    if name.addresses:
        return f"{text} ({name.addresses[0]})"
    answered = any(isinstance(lookup.answer, Seen) for lookup in name.lookups)
    return f"{text} ({'does not resolve' if answered else 'look-up without answer'})"


STEPS: tuple[Step, ...] = (Step.SIBLINGS, Step.CERTIFICATES, Step.ISSUERS, Step.COVERED_NAMES)
"""What has to be asked for its rules."""

RULES = (not_covered, sibling_not_covered, common_name_only, odd_entries, also_covers)
