"""A starter ``pewter.toml``, written from what a review saw."""

import datetime
import json
from collections.abc import Iterable, Iterator

from pewter.evidence import Plan, WayIn
from pewter.judge.results import NameFacts
from pewter.judge.review import Review
from pewter.web.urls import read_url

ACCEPTED_DAYS = 90
MAX_ACCEPTED = 40


def starter_text(review: Review, trust: Iterable[str] = (), caa_domains: Iterable[str] = ()) -> str:
    """``trust`` are the files that were given, ``caa_domains`` what the present CA declares.

    The same review gives the same text; what is a matter of choice stands behind ``#``."""
    return "\n".join(_lines(review, tuple(trust), tuple(caa_domains))).rstrip() + "\n"


def _quoted(text: str) -> str:
    """JSON's strings are TOML's too."""
    return json.dumps(text, ensure_ascii=True)


def _list(texts: Iterable[str]) -> str:
    return f"[{', '.join(map(_quoted, texts))}]"


def _lines(review: Review, trust: tuple[str, ...], domains: tuple[str, ...]) -> Iterator[str]:
    results, evidence = review.results, review.evidence
    yield f"# What {evidence.plan.first} is and should be, as Pewter found it: change what should be otherwise."
    yield from ("", "[site]", f"canonical = {_quoted(results.canonical)}")
    host = read_url(results.canonical).host
    names = [each.name for each in evidence.names if each.addresses and each.name != host]
    covered = [each.name for each in evidence.covered_names if each.addresses]
    yield f"names = {_list(dict.fromkeys((*names, *covered)))}"
    yield f"paths = {_list(_paths(review))}"
    yield from _look(evidence.plan, trust)
    yield from _expectations(review, domains)
    if evidence.plan.origins:
        yield from ("", "[origins]")
        yield from (f"{_quoted(name)} = {_quoted(there)}" for name, _, there in map(_parted, evidence.plan.origins))
    if evidence.plan.routes:
        yield from ("", "[routes]")
        grouped: dict[str, list[str]] = {}
        for here, _, there in map(_parted, evidence.plan.routes):
            grouped.setdefault(here, []).append(there)
        for here, found in grouped.items():
            yield f"{_quoted(here)} = {_quoted(found[0]) if len(found) == 1 else _list(found)}"
    yield from _accepted(review)


def _parted(text: str) -> tuple[str, str, str]:
    return text.partition("=")


def _paths(review: Review) -> list[str]:
    """Those that were given, and those that were found on the home page."""
    found = [read_url(each.start) for each in review.evidence.journeys if each.reason is WayIn.FOUND]
    host = read_url(review.results.canonical).host
    own = (each.target if each.host == host else f"{each.host}{each.target}" for each in found)
    return list(dict.fromkeys((*review.evidence.plan.paths, *own)))


def _look(plan: Plan, trust: tuple[str, ...]) -> Iterator[str]:
    if not (plan.resolvers or trust or plan.revocation):
        return
    yield from ("", "[look]                          # how to get at it from here")
    if plan.resolvers:
        yield f"resolver = {_quoted(plan.resolvers[0]) if len(plan.resolvers) == 1 else _list(plan.resolvers)}"
    if trust:
        yield f"trust = {_list(trust)}"
    if plan.revocation:
        yield "revocation = true"


def _expectations(review: Review, domains: tuple[str, ...]) -> Iterator[str]:
    """What is there now: a review says where it is no longer so."""
    results = review.results
    yield from ("", "[expect]                        # as it is now; pewter rules --expectations lists all")
    if servers := _name_servers(review):
        yield f"name_servers = {_list(servers)}"
    known = [each for each in results.names if not each.is_routed]
    if known:
        yield f"addresses = {{ {', '.join(map(_addresses, known))} }}"
    if domains:
        yield f"caa_domains = {_list(domains)}"


def _name_servers(review: Review) -> list[str]:
    """Servers that were asked and that the NS records of the first zone name, sorted."""
    apex = next((zone.apex for zone in review.results.zones), None)
    told = {
        record.data
        for reply in review.evidence.dns.replies
        for record in reply.answer
        if record.type == "NS" and record.owner == apex
    }
    return sorted(told.intersection(name for server in review.evidence.dns.servers for name in server.names))


def _addresses(facts: NameFacts) -> str:
    return f"{_quoted(facts.name)} = {_list(sorted(facts.addresses))}"


def _accepted(review: Review) -> Iterator[str]:
    """Gaps that are open now, to be accepted one by one."""
    until = (review.judged.at + datetime.timedelta(days=ACCEPTED_DAYS)).date()
    if review.results.gaps:
        yield from ("", "# What is open now. To accept one: take the # away, and say why.")
    written = set()
    for entry in review.results.gaps[:MAX_ACCEPTED]:
        place = review.results.places[entry.places[0]]
        # Two gaps of one rule at one place are accepted by one entry.
        if (entry.rule, place.host or place.text) in written:
            continue
        written.add((entry.rule, place.host or place.text))
        yield from (
            "#",
            "# [[accept]]",
            f"# gap = {_quoted(entry.rule)}",
            f"# where = {_quoted(place.host or place.text)}",
            '# because = ""',
            f"# until = {until}",
        )
