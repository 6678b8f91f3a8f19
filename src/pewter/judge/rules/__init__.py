"""The catalogue: a module of rules and a file of words for each area."""

import difflib
import functools
from collections.abc import Iterable, Sequence
from typing import Any

from pewter.evidence import Step
from pewter.facts.case import Case
from pewter.judge.nature import Judges
from pewter.judge.rule import Rule

from . import bundle, chain, cookie, date, dns, hsts, name, page, protocol, reach, redirect

_MODULES = (reach, dns, redirect, chain, name, date, protocol, hsts, cookie, page, bundle)
"""The only list of areas, in the order of reports."""

AREA_STEPS = {module.__name__.rpartition(".")[2]: module.STEPS for module in _MODULES}
"""What has to be asked for the rules of each area."""

AREAS = tuple(AREA_STEPS)
RULES: tuple[Rule[Any], ...] = tuple(rule for module in _MODULES for rule in module.RULES)
RULE_OF = {rule.name: rule for rule in RULES}
"""By name."""

SITE_RULES: tuple[Rule[Case], ...] = tuple(rule for rule in RULES if rule.nature.judges is not Judges.FILES)
FILE_RULES: tuple[Rule[Any], ...] = tuple(
    bundle.FOR_FILES.get(rule.name, rule)
    for module in (bundle, *_MODULES[:-1])
    for rule in module.RULES
    if rule.nature.judges is not Judges.SITE
)
"""What is judged of files."""


def near(name: str, known: Iterable[str]) -> str:
    """`` Did you mean ...?``, where something is called nearly so."""
    found = difflib.get_close_matches(name, known, n=1, cutoff=0.45)
    return f" Did you mean {found[0]}?" if found else ""


def chosen_rules(only: Sequence[str], skip: Sequence[str]) -> tuple[Rule[Case], ...]:
    """The rules of a site that areas and rules by name leave: all where ``only`` is empty."""
    return _chosen(tuple(only), tuple(skip))


@functools.lru_cache(maxsize=64)
def _chosen(only: tuple[str, ...], skip: tuple[str, ...]) -> tuple[Rule[Case], ...]:

    def is_named(rule: Rule[Any], names: Sequence[str]) -> bool:
        return rule.name in names or rule.area in names

    return tuple(rule for rule in SITE_RULES if (not only or is_named(rule, only)) and not is_named(rule, skip))


def steps_for(rules: Sequence[Rule[Any]]) -> tuple[Step, ...]:
    """What has to be asked for these rules, in the order of a look."""
    needed = {step for rule in rules for step in AREA_STEPS[rule.area]}
    return tuple(step for step in Step if step in needed)
