"""The catalogue: a module of rules and a file of words for each area."""

from typing import Any

from pewter.judge.facts.case import Case
from pewter.judge.rule import Rule

from . import bundle, chain, cookie, date, hsts, name, page, protocol, reach, redirect

_MODULES = (reach, redirect, chain, name, date, protocol, hsts, cookie, page, bundle)
"""The only list of areas, in the order of reports."""

AREAS = tuple(module.__name__.rpartition(".")[2] for module in _MODULES)
RULES: tuple[Rule[Any], ...] = tuple(rule for module in _MODULES for rule in module.RULES)
SITE_RULES: tuple[Rule[Case], ...] = tuple(rule for rule in RULES if rule.area != "bundle")
"""What is judged of a site; of files, :data:`pewter.judge.rules.bundle.OF_FILES`."""
