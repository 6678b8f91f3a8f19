"""``pewter rules`` and ``pewter explain``: the catalogue in words."""

import datetime
import shlex
import textwrap
from pathlib import Path
from typing import Any

import msgspec
from rich.text import Text

from pewter.errors import FileError, UsageError
from pewter.expectations import SOURCES, Expectations, write_duration
from pewter.judge.nature import Safety
from pewter.judge.rule import Rule
from pewter.judge.rules import AREAS, RULES, near
from pewter.mends.composer import Situation, compose
from pewter.mends.kinds import Kind, Manner, kind_file
from pewter.mends.proofs import proof_of
from pewter.report.formats import Formats
from pewter.report.sheet import STYLES
from pewter.report.whole_mend import render_whole_mend
from pewter.tasks.saved import read_report

from .ending import Output, put_out_fitted
from .output import output_marks, output_width, print_text

# What stands for the place at hand when a rule is explained without one.
_EXAMPLES = {"{host}": "x.example", "{landing}": "www.x.example", "{canonical}": "www.x.example"}
_EXAMPLES |= {"{http}": "http://x.example/", "{https}": "https://x.example/", "{url}": "http://x.example/"}
_EXAMPLES["{connect}"] = "x.example:443"
_EXAMPLE = Situation(
    host="x.example",
    landing="www.x.example",
    canonical="https://www.x.example",
    names=("www.x.example",),
    cookies=("sid",),
    names_powered_by=True,
    is_own_circle=True,
)
_SITUATIONS = tuple(msgspec.structs.replace(_EXAMPLE, is_secure=is_secure) for is_secure in (False, True))


def list_rules() -> None:
    """Every rule with its level and title, area by area."""
    marks, text = output_marks(), Text()
    width = max(len(rule.name) for rule in RULES)
    for area in AREAS:
        text.append(f"{area}\n", "bold")
        for rule in (each for each in RULES if each.area == area):
            text.append(f"  {marks.level[rule.level]} {rule.level.value:<8}", STYLES[rule.level])
            text.append(f" {rule.name:<{width}}  {rule.words.title}\n")
    text.append(f"\n{len(RULES)} rules. 'pewter explain RULE' says more of one.\n", "dim")
    print_text(text)


def list_expectations() -> None:
    """Every expectation with its default and source."""
    text = Text()
    for field in msgspec.structs.fields(Expectations):
        meaning, source = SOURCES[field.name]
        shown = _as_toml(getattr(Expectations(), field.name))
        text.append(f"{field.name} = {shown}\n", "bold")
        text.append(f"    {meaning}\n")
        text.append(f"    source: {source}\n", "dim")
    print_text(text)


def _as_toml(default: object) -> str:
    """An expectation as a site file has it."""
    if isinstance(default, datetime.timedelta):
        return f'"{write_duration(default)}"'
    if isinstance(default, float | int):
        return f"{default:.4g}"
    if isinstance(default, str):
        return f'"{default}"'
    return "{ }" if isinstance(default, dict) else "[]"


def explain_review(path: Path, output: Output) -> int:
    """All that is to be put where, of a saved review; fitted to a configuration where one is given."""
    review = read_report(path)
    output.check(Formats(()))
    if output.server_config:
        failed = put_out_fitted(review, output.server_config, output.diffs)
        return FileError.exit_status if failed else 0
    again = f"pewter recheck {shlex.quote(str(path))}"
    print_text(render_whole_mend(review.results, output_width(), output_marks(), again=again))
    return 0


def explain_rule(name: str) -> None:
    """All that the catalogue says of one rule."""
    rule = next((each for each in RULES if each.name == name), None)
    if rule is None:
        hint = near(name, (each.name for each in RULES))
        raise UsageError(f"{name!r} is no rule.{hint} 'pewter rules' lists them.")
    print_text(_explanation(rule, output_width()))


def _explanation(rule: Rule[Any], width: int) -> Text:
    words, text, room = rule.words, Text(), max(width - 11, 1)
    text.append(f"{rule.name}  ", "bold")
    text.append(f"{output_marks().level[rule.level]} {rule.level.value}\n", STYLES[rule.level])
    text.append(f"{words.title}\n\n", "bold")
    for label, content in (
        ("looks at", words.looks_at),
        ("why", words.why),
        ("mend", words.mend),
        ("sources", "; ".join(rule.sources)),
    ):
        lines = textwrap.wrap(_with_example(content), room, break_long_words=False, break_on_hyphens=False)
        for position, line in enumerate(lines):
            text.append(f"{label if position == 0 else '':<10} ", "dim")
            text.append(f"{line}\n")
    text.append(f"{'check':<10} ", "dim")
    text.append(_with_example(words.check) + "\n", "green")
    for kind in Kind:
        text.append_text(_lines(rule, kind, width))
    return text


def _lines(rule: Rule[Any], kind: Kind, width: int) -> Text:
    """What is printed where this kind answers, for an example."""
    text, file, room = Text(), kind_file(kind), max(width - 2, 3)
    for_long = rule.nature.safety is Safety.HOLDS_FOR_LONG
    examples = [msgspec.structs.replace(each, for_long=for_long) for each in _SITUATIONS]
    pieces = dict.fromkeys(piece for example in examples for piece in compose(rule.name, kind, [example]))
    if pieces:
        text.append(f"\n{file.title[0].upper() if kind is Kind.EDGE else file.title[0]}{file.title[1:]}", "bold")
        text.append(f"  {proof_of(rule.name, kind)}\n", "dim")
    for piece in pieces:
        words = piece.lines if piece.manner is Manner.WORDS else piece.where + (":" if piece.lines else "")
        text.append("\n".join(textwrap.wrap(words, room, initial_indent="  ", subsequent_indent="  ")) + "\n")
        if piece.lines and piece.manner is not Manner.WORDS:
            text.append(textwrap.indent(piece.lines, "      ") + "\n", "green")
        if piece.note:
            text.append(textwrap.fill(piece.note, room, initial_indent="  ", subsequent_indent="  ") + "\n", "dim")
    if rule.name in file.not_here:
        text.append(f"\n{file.title}", "bold")
        text.append(f"  no lines: {file.not_here[rule.name]}\n", "dim")
    return text


def _with_example(content: str) -> str:
    for placeholder, example in _EXAMPLES.items():
        content = content.replace(placeholder, example)
    return content
