"""From a case to judged outcomes."""

from collections.abc import Callable, Iterator, Sequence

from pewter.evidence import Fault
from pewter.web.urls import read_url

from . import chain, cookie, date, hsts, name, page, protocol, reach, redirect
from .case import Case
from .expectations import AcceptedGap
from .outcomes import Accepted, Gap, Judged, Level, Outcome, RuleOutcome, Unknown, host_of_place
from .rules import Rule

AREAS = ("reach", "redirect", "chain", "name", "date", "protocol", "hsts", "cookie", "page")
"""In the order of reports."""

RULES: tuple[Rule, ...] = tuple(
    rule for area in (reach, redirect, chain, name, date, protocol, hsts, cookie, page) for rule in area.RULES
)

INTERRUPTED = "interrupted before it was judged"

_SERVERS = {
    "nginx": "nginx",
    "openresty": "nginx",
    "apache": "Apache",
    "microsoft-iis": "IIS",
    "haproxy": "HAProxy",
    "caddy": "Caddy",
    "cloudflare": "CDN",
    "cloudfront": "CDN",
    "akamaighost": "CDN",
}
"""Begin of a Server field value in lower case, and the name under which the catalogue has its lines."""


def judge(
    case: Case, rules: Sequence[Rule] = RULES, failed: Callable[[Fault | KeyboardInterrupt], None] | None = None
) -> tuple[Judged, ...]:
    """Every outcome of every rule, in the order of the catalogue.

    A fault of ours in one rule costs the rest of that rule: it is told to ``failed``, and unknown in the review.
    An interruption from the keyboard leaves the rules that follow unknown, and is told in the same way.
    """
    found: list[Judged] = []
    interrupted = False
    for rule in rules:
        reason = INTERRUPTED if interrupted else ""
        try:
            if not interrupted:
                found += (_judge_one(case, rule, outcome) for outcome in rule.outcomes(case))
        except KeyboardInterrupt as exc:
            if failed is None:
                raise
            interrupted, reason = True, INTERRUPTED
            failed(exc)
        except Exception as exc:
            if failed is None:
                raise
            failed(Fault.of(rule.name, exc))
            reason = Fault.REASON
        if reason:
            found.append(Judged(rule.name, rule.level, Unknown(rule.name, reason), rule.words.title))
    return tuple(found)


def _judge_one(case: Case, rule: Rule, outcome: RuleOutcome) -> Judged:
    words = rule.words
    if not isinstance(outcome, Gap):
        return Judged(rule.name, rule.level, outcome, words.title)
    wished = case.wishes.levels.get(rule.name)
    level = Level(wished) if wished is not None else outcome.level or rule.level
    host = outcome.host or host_of_place(outcome.where)
    server = server_of(case, host)
    configuration = words.configurations.get(server, "")
    return Judged(
        rule=rule.name,
        level=level,
        outcome=_accepted(case, rule, outcome) or outcome,
        title=words.title,
        why=_fill(words.why, case, host),
        mend=_fill(outcome.mend or words.mend, case, host),
        server=server if configuration else "",
        configuration=_fill(configuration, case, host),
        check=_fill(words.check, case, host),
    )


def _accepted(case: Case, rule: Rule, gap: Gap) -> Outcome | None:
    for accept in _acceptances(case, rule):
        if accept.where.lower() in {gap.where, host_of_place(gap.where)}:
            return Accepted(gap, accept.because, accept.until)
    return None


def _acceptances(case: Case, rule: Rule) -> Iterator[AcceptedGap]:
    """Those of the rule that are not past their day: after it the gap counts again."""
    return (each for each in case.wishes.accept if each.gap == rule.name and case.at.date() <= each.until)


def _fill(text: str, case: Case, host: str) -> str:
    """``{host}`` is the place, ``{landing}`` the host on which its visitors should land.

    A line that would send a host to itself, and the remark above it, are left out: pasted, it would be a loop.
    Thousands of outcomes share one text.
    """
    return case.once(f"{host}: {text}", lambda: _filled(text, case, host))


def _filled(text: str, case: Case, host: str) -> str:
    landing = case.expected_hosts(host)[0]
    if landing == host:
        text = _without_lines(text, "https://{landing}")
    return (
        text.replace("{host}", host)
        .replace("{landing}", landing)
        .replace("{canonical}", read_url(case.canonical).host)
        .strip()
    )


def _without_lines(text: str, mark: str) -> str:
    kept: list[str] = []
    for line in text.split("\n"):
        if mark not in line:
            kept.append(line)
        elif kept and kept[-1].lstrip().startswith("#"):
            kept.pop()
    return "\n".join(kept)


def server_of(case: Case, host: str) -> str:
    """The server software that answers for ``host``, under the name that the catalogue uses; empty if unknown."""
    return case.once(f"server of {host}", lambda: _server_of(case, host))


def _server_of(case: Case, host: str) -> str:
    said = next((values[0].lower() for hop in case.hops_of(host) if (values := hop.values("Server"))), "")
    return next((title for start, title in _SERVERS.items() if said.startswith(start)), "")
