"""What is said of servers that refuse hellos for one thing in them, and that a steady or unsteady one is told."""

import pytest

from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.judge.outcomes import Gap
from pewter.judge.review import make_review
from pewter.tls import version_name
from support.certificates import root, store
from support.looks import at_ports, take
from support.servers import free_port
from weather.picky import MINDS, picky
from weather.runner import run
from weather.servers import SERVERS

pytestmark = pytest.mark.real_server


def told_of(https: int, http: int) -> tuple[list[str], set[str]]:
    """What is known of the endpoint and of the visits, in lines; and the gaps."""
    evidence = take(routes=at_ports(https, http), protocol=True, whole=60, step=5, names=False)
    review = make_review(Case(evidence, Terms(), evidence.begun, (store(root()),)))
    results = review.results
    protocol = evidence.endpoints[0].protocol
    suites = () if protocol is None else protocol.suites
    found = ", ".join(f"{version_name(each.version)}: {len(each.suites)} suites" for each in suites)
    lines = [f"  {results.verdict}", f"  {found or 'no version'}"]
    lines += [f"  unfinished: {each.unfinished}" for each in suites if each.unfinished]
    lines += [f"  {each.start} {each.meets.value} {each.detail}".rstrip() for each in results.visits[:2]]
    gaps = [(each.level.value, each.rule, each.outcome) for each in results.outcomes if isinstance(each.outcome, Gap)]
    return lines, {f"  {level} {rule}: {gap.seen}" for level, rule, gap in gaps}


def test_what_is_said_of_picky_servers(told, tmp_path):
    https, http = free_port(), free_port()
    with SERVERS["nginx"](tmp_path, https, http):
        _, usual = told_of(https, http)
        for how in ("reset", "alert 40"):
            for title, minds in MINDS.items():
                with picky(https, minds, how) as port:
                    lines, gaps = told_of(port, http)
                told("\n".join((f"{title}, {how}", *lines, *sorted(gaps - usual))))


@pytest.mark.parametrize("title", ["every-second-reset", "every-third-reset", "refuses-by-closing-every-third", "none"])
def test_weather(title):
    _, false, unsteady, _ = run(title, 2)
    assert (dict(false), unsteady) == ({}, 0 if title == "none" else 2)
