"""Strict-Transport-Security."""

import datetime
from collections.abc import Iterator

from pewter.evidence import is_ip_address
from pewter.web.fields import IgnoredField
from pewter.web.hsts import StrictTransportSecurity, read_sts

from .case import Case
from .expectations import write_duration
from .outcomes import Gap, Holds, Level, RuleOutcome, Unknown
from .rules import rule

_LONGEST = datetime.timedelta(days=36500)


def _policies(case: Case) -> Iterator[tuple[str, StrictTransportSecurity | IgnoredField | Unknown | None]]:
    """Each name with what its https answer says; the first field decides (RFC 6797 section 8.1).

    An IP address is left out: user agents note no policy for one (section 8.1.1).
    """
    for name in case.evidence.names:
        if not name.addresses or is_ip_address(name.name):
            continue
        answers = case.https_answers(name.name)
        if not answers:
            yield name.name, Unknown(name.name, case.why_no_https_answer(name.name))
            continue
        values = answers[0].values("Strict-Transport-Security")
        yield name.name, read_sts(values[0]) if values else None


@rule("hsts/absent", level=Level.WEAKENS, sources=("RFC 6797 sections 7.1 and 8.1",))
def absent(case: Case) -> Iterator[RuleOutcome]:
    """Every https answer should carry a policy that browsers obey."""
    for name, policy in _policies(case):
        match policy:
            case Unknown():
                yield policy
            case None:
                yield Gap(name, "no Strict-Transport-Security", _wanted(case))
            case IgnoredField(reason=reason):
                yield Gap(name, f"a Strict-Transport-Security that browsers ignore: {reason}", _wanted(case))
            case StrictTransportSecurity():
                yield Holds(name, f"max-age={policy.max_age}")


@rule("hsts/short", level=Level.WEAKENS, sources=("RFC 6797 section 11.2",))
def short(case: Case) -> Iterator[RuleOutcome]:
    """A policy must outlive the pause between two visits of an ordinary visitor."""
    for name, policy in _policies(case):
        if isinstance(policy, Unknown):
            yield policy
        elif isinstance(policy, StrictTransportSecurity):
            seen = f"max-age={policy.max_age}"
            age = datetime.timedelta(seconds=min(policy.max_age, _LONGEST.total_seconds()))
            if age < case.expect.hsts_minimum_age:
                yield Gap(name, f"{seen} ({write_duration(age)})", _wanted(case))
            else:
                yield Holds(name, seen)


def _wanted(case: Case) -> str:
    minimum = case.expect.hsts_minimum_age
    return f"max-age={int(minimum.total_seconds())} or more ({write_duration(minimum)})"


RULES = (absent, short)
