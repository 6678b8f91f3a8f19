"""What is said of names beside gaps: addresses and policy of each, conditions of the look, pages that it left out."""

from collections.abc import Iterator

from pewter.judge.case import Case
from pewter.judge.policies import is_supposed, sts_answers
from pewter.web.urls import read_url

from .sheet import listed, some


def facts_of_names(case: Case) -> dict[str, str]:
    """Of each name of the site: ``192.0.2.10, 2001:db8::10, HSTS max-age=31536000``."""
    facts = {}
    for name in case.evidence.names:
        if name.addresses and name.name in case.site_names:
            facts[name.name] = f"{listed(name.addresses)}, HSTS {_policy(case, name.name)}"
    return facts


def _policy(case: Case, name: str) -> str:
    """Of the home page first; other answers with another field are counted."""
    fields = list(dict.fromkeys(answer.values for answer in sts_answers(case, name)))
    if not fields:
        return f"not seen: {case.why_no_https_answer(name)}"
    sent = [", then ".join(values) if values else "not sent" for values in fields]
    if is_supposed(case):
        return f"{sent[0]} (supposed)"
    return sent[0] + (f"; on other answers: {' / '.join(some(sent[1:]))}" if len(sent) > 1 else "")


def conditions(case: Case) -> str:
    """Under what conditions the look was made, where they are not every visitor's: routes, resolver, trust."""
    question, led = case.evidence.question, []
    if question.routes:
        count = len(question.routes)
        led.append(question.routes[0] if count == 1 else f"{count} routes")
    if question.resolver:
        led.append(f"resolver {question.resolver}")
    words = f"led by {' and '.join(led)}" if led else ""
    if case.evidence.trusts_given_only:
        words += f"{', ' if words else ''}trusting only what was given"
    return words


def supposition(case: Case) -> str:
    """What the review supposes, for its head; empty where it supposes nothing."""
    if not is_supposed(case):
        return ""
    values = next((answer.values for name in case.site_names for answer in sts_answers(case, name)), ())
    field = f": {values[0]}" if values else ""
    return f"Supposed (--suppose hsts): every name sends Strict-Transport-Security{field}. This is so only then."


def unvisited_links(case: Case) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Links of a home page to its own host that the look did not follow: host, and paths in the page's order."""
    visited = {hop.url.partition("#")[0] for journey in case.evidence.journeys for hop in journey.hops}
    looked_at = set()
    for _, hop, page in case.shown_pages():
        url = read_url(hop.url)
        if not url.is_https or url.origin in looked_at:
            continue
        looked_at.add(url.origin)
        left = tuple(path for path in page.inner_links if url.origin + path not in visited)
        if left:
            yield url.origin, left
