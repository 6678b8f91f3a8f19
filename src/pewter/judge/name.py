"""Does the certificate cover the host?"""

import difflib
from collections.abc import Iterator

from pewter.pki import Certificate, covers, presented_names
from pewter.web.sites import are_siblings

from .case import Case, ServedChain
from .outcomes import Gap, Holds, Level, RuleOutcome
from .rules import rule

_SHOWN_NAMES = 6


def _list_names(certificate: Certificate) -> str:
    names = presented_names(certificate)
    if not names:
        cn = certificate.subject.common_names
        return f"no subjectAltName (the subject's common name {cn[0]} does not count)" if cn else "no name at all"
    shown = ", ".join(names[:_SHOWN_NAMES])
    return f"covers {shown}" + (f" and {len(names) - _SHOWN_NAMES} more" if len(names) > _SHOWN_NAMES else "")


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


def _sibling_covered(case: Case, chain: ServedChain) -> str | None:
    """The sibling of the endpoint's name that this very certificate covers, if the site has it."""
    host = chain.endpoint.name
    assert isinstance(chain.leaf, Certificate)
    for name in case.site_names:
        if are_siblings(name, host) and covers(chain.leaf, name):
            return name
    return None


@rule("name/not-covered", level=Level.BREAKS, sources=("RFC 9525 section 6", "RFC 9110 section 4.3.4"))
def not_covered(case: Case) -> Iterator[RuleOutcome]:
    """The certificate has to name the host; name/sibling-not-covered speaks where it names its sibling."""
    for chain in case.chains:
        if not isinstance(chain.leaf, Certificate):
            continue
        host = chain.endpoint.name
        if covers(chain.leaf, host):
            yield Holds(chain.where, f"{host} is covered")
        elif _sibling_covered(case, chain) is None:
            detail = _near_miss(chain.leaf, host)
            yield Gap(chain.where, _list_names(chain.leaf), host, cause=f"{host} {chain.leaf.sha256}", detail=detail)
    yield from case.without_chain()


@rule("name/sibling-not-covered", level=Level.BREAKS, sources=("RFC 9525 section 6",))
def sibling_not_covered(case: Case) -> Iterator[RuleOutcome]:
    """People type a site with and without www: the certificate has to cover both where both resolve."""
    for chain in case.chains:
        if not isinstance(chain.leaf, Certificate):
            continue
        host = chain.endpoint.name
        siblings = [name for name in case.site_names if are_siblings(name, host)]
        if not siblings:
            continue
        if covers(chain.leaf, host):
            yield Holds(chain.where, f"{host} is covered")
        elif (sibling := _sibling_covered(case, chain)) is not None:
            seen = f"{_list_names(chain.leaf)}; not {host}"
            yield Gap(chain.where, seen, f"{sibling} and {host}", cause=f"{host} {chain.leaf.sha256}")


RULES = (not_covered, sibling_not_covered)
