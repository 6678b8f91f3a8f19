"""HSTS policies as browsers note them, name by name (RFC 6797 section 8)."""

from collections.abc import Iterator

import msgspec

from pewter.evidence import Hop, is_ip_address
from pewter.web.fields import IgnoredField
from pewter.web.hsts import StrictTransportSecurity, read_sts

from .case import Case

FIELD = "Strict-Transport-Security"
RECOMMENDED = StrictTransportSecurity(31536000, include_subdomains=True)
"""What ``--suppose hsts`` has every name send."""


class StsAnswer(msgspec.Struct, frozen=True):
    """One https answer and what browsers make of its STS fields; the first of several decides (section 8.1)."""

    hop: Hop
    values: tuple[str, ...]
    read: StrictTransportSecurity | IgnoredField | None


def is_supposed(case: Case) -> bool:
    return "hsts" in case.terms.suppose


def sts_answers(case: Case, name: str) -> tuple[StsAnswer, ...]:
    """Every https answer of a name, its home page first; none for an IP address (section 8.1.1)."""
    return case.once(("STS answers", name), lambda: tuple(_sts_answers(case, name)))


def _sts_answers(case: Case, name: str) -> Iterator[StsAnswer]:
    if is_ip_address(name):
        return
    for hop in case.https_answers(name):
        values = hop.values(FIELD)
        if is_supposed(case):
            yield StsAnswer(hop, ("max-age=31536000; includeSubDomains",), RECOMMENDED)
        else:
            yield StsAnswer(hop, values, read_sts(values[0]) if values else None)


def policy_of(case: Case, name: str) -> StrictTransportSecurity | None:
    """The policy that a browser notes for the name itself, from its home page first; None for none or max-age=0."""
    for answer in sts_answers(case, name):
        if isinstance(answer.read, StrictTransportSecurity):
            return answer.read if answer.read.max_age > 0 else None
    return None


def policy_in_force(case: Case, name: str) -> tuple[StrictTransportSecurity | None, str]:
    """The policy that reaches a name, its own or one with includeSubDomains from above, and whose it is."""
    own = policy_of(case, name)
    if own is not None:
        return own, name
    for above in sorted(case.site_names):
        if name.endswith("." + above):
            policy = policy_of(case, above)
            if policy is not None and policy.include_subdomains:
                return policy, above
    return None, ""
