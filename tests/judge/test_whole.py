"""What the cases of every table come to as a whole: results, summaries of surveys, and what changes from one to the next.

``told/whole.txt`` has a few lines a case (verdict, what is first, gaps with their lines for servers) and a digest of all
the rest, words included: the digest tells that something changed, ``PEWTER_TOLD=write`` and the lines tell what.
"""

import hashlib
import importlib
import itertools
import os
import pkgutil
import re
from pathlib import Path

import msgspec
import pytest

import judge as tests_of_the_judge
from pewter.judge.bundle_review import make_bundle_review
from pewter.judge.comparison import compare
from pewter.judge.review import make_review
from pewter.judge.summary import summary_of

TOLD = Path(__file__).parent / "told" / "whole.txt"
_OF_A_RUN = re.compile(
    r"[0-9a-f]{16,64}|(?:(?<=SHA-256 )|(?<=key )|(?<=[0-9]: )|(?<=of )|(?<=in ))[0-9a-f]{8}\b|\b[0-9a-f]{8}(?= by )|\b[0-9]{1,3},?[0-9]{3} octets|(?<=_octets\":)[0-9]+|[0-9A-F]{2}(?::[0-9A-F]{2}){7,}"
)
"""Keys are made anew for each run, and with them fingerprints and lengths."""


def tables():
    found = {}
    for module in pkgutil.iter_modules(tests_of_the_judge.__path__):
        if module.name.startswith("test_") and module.name != "test_whole":
            cases = getattr(importlib.import_module(f"judge.{module.name}"), "CASES", {})
            for rules, by_title in cases.items():
                first = rules[0] if isinstance(rules, tuple) else rules
                found[f"{module.name.removeprefix('test_')} {first.name}"] = by_title
    return found


TABLES = tables()
WRITTEN = {
    title: body.split("\n")
    for title, _, body in (
        part.partition("\n") for part in (TOLD.read_text(encoding="utf-8") if TOLD.exists() else "").split("\n\n")
    )
}


def in_octets(value):
    return _OF_A_RUN.sub("#", msgspec.json.encode(value, order="deterministic").decode())


def digest(*values):
    return hashlib.sha256("\n".join(map(in_octets, values)).encode()).hexdigest()[:12]


def of_review(title, looked):
    review = make_review(looked)
    results = review.results
    yield f"{title}: {results.verdict} [{digest(results, summary_of('site', review, looked))}]"
    yield from (f"  first: {step.what} {step.gaps}" for step in results.first)
    for entry in results.gaps:
        lines = "; ".join(
            f"{each.server} at {', '.join(each.hosts)}: {each.held_back or f'{len(each.pieces)} pieces'}"
            for each in entry.configurations
        )
        yield f"  {entry.number} {entry.level.value} {entry.rule} at {', '.join(entry.hosts)}" + (
            f" [{lines}]" * bool(lines)
        )


def of_change(title, before, after):
    comparison = compare(make_review(before), make_review(after))
    changed = [f"{each.change.value} {each.rule}" for each in comparison.gaps]
    # Some stand in the order of fingerprints, which are another in each run.
    parts = sorted(re.split(r'[,;"] ?', in_octets((comparison.gaps, comparison.facts))))
    yield f"{title}: {', '.join(sorted(set(changed))) or 'nothing'} [{digest(comparison.looks, parts)}]"


def told(looked_by_title):
    for title, looked in looked_by_title.items():
        if hasattr(looked, "evidence"):
            yield from of_review(title, looked)
        else:
            yield f"{title}: [{digest(make_bundle_review(looked, pytest.fail))}]"
    sites = [(title, looked) for title, looked in looked_by_title.items() if hasattr(looked, "evidence")]
    for (one, before), (other, after) in itertools.pairwise(sites):
        yield from of_change(f"{one} -> {other}", before, after)
        yield from of_change(f"{other} -> {one}", after, before)


@pytest.mark.parametrize("name", TABLES)
def test_what_a_table_comes_to(name):
    found = [_OF_A_RUN.sub("#", line) for line in told(TABLES[name])]
    if os.environ.get("PEWTER_TOLD") == "write":
        WRITTEN[name] = found
        sections = ("\n".join((each, *WRITTEN[each])) for each in TABLES if each in WRITTEN)
        TOLD.write_text("\n\n".join(sections) + "\n", encoding="utf-8")
    assert found == [line for line in WRITTEN[name] if line]
