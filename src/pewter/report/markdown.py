"""Markdown, to be pasted into a ticket (CommonMark 0.31, tables of GitHub's kind)."""

import re
from collections.abc import Iterator, Sequence

from pewter.escape import escaped
from pewter.judge.comparison import CHANGE_TITLES, Comparison, compare
from pewter.judge.order import step_words
from pewter.judge.results import GapEntry, Manner, Results
from pewter.judge.review import Review
from pewter.levels import Level
from pewter.phrases import and_more, plural

from .changes import look_words
from .sheet import some
from .terminal import unknown_lines

_ACTS = re.compile(r"[\\`*_\[\]<>&~|@]|(?<=\w)(?=://)|(?<=\bwww)(?=\.)|^(?=[#+=-])|^(?=\d+[.)])", re.MULTILINE)
_MARKS = {Level.BREAKS: "■", Level.EXPOSES: "◆", Level.WEAKENS: "▲", Level.NOTE: "·"}
MAX_GAPS = 300


def render_markdown(review: Review) -> bytes:
    """UTF-8; text from a server stands in code spans."""
    return ("\n".join(_lines(review)).rstrip() + "\n").encode("utf-8", "replace")


def code(text: str) -> str:
    """A code span: a fence longer than any run of backticks in it (section 6.1)."""
    shown = escaped(text) or " "
    fence = "`" * (max(map(len, re.findall(r"`+", shown)), default=0) + 1)
    blank = " " if shown[0] == "`" or shown[-1] == "`" or (shown[0] == shown[-1] == " " and shown.strip()) else ""
    return f"{fence}{blank}{shown}{blank}{fence}"


def plain(text: str) -> str:
    """Words of ours in which something from a server may stand: nothing in them acts."""
    return _ACTS.sub(lambda match: "\\" + match[0], escaped(text))


def cell(text: str) -> str:
    """In a table a pipe ends the cell, in a code span too."""
    return code(text).replace("|", r"\|")


def _lines(review: Review) -> Iterator[str]:
    results = review.results
    yield f"# {plain(review.evidence.plan.first)}: {plain(review.results.verdict)}"
    yield ""
    counts = ", ".join(_counted(*each) for each in results.counts.items()) or "no gap"
    yield f"Judged for {review.judged.at:%Y-%m-%d %H:%M} UTC; {counts}."
    if review.evidence.interrupted:
        yield "\n**Interrupted:** what follows is only what had been seen by then."
    if results.first:
        yield from ("", "Do first:", "")
        steps = (plain(step_words(step, review.judged.at)) for step in results.first)
        yield from (f"{position}. {words}" for position, words in enumerate(steps, start=1))
        if results.after_first:
            yield from ("", f"Then the other gaps that break or expose: {', '.join(map(str, results.after_first))}.")
    yield from _table(results)
    for entry in results.gaps[:MAX_GAPS]:
        yield from _gap(results, entry)
    yield from _rest(results)


def _counted(level: str, count: int) -> str:
    return f"{count} {plural(count, level) if level == Level.NOTE.value else level}"


def _table(results: Results) -> Iterator[str]:
    if not results.gaps:
        return
    yield from ("", "| | level | gap | rule | where |", "| --- | --- | --- | --- | --- |")
    for entry in results.gaps[:MAX_GAPS]:
        places = [results.places[number] for number in entry.places]
        title = plain(results.titles[entry.rule])
        yield (
            f"| {entry.number} | {_MARKS[entry.level]} {entry.level.value} | {title} | "
            f"{cell(entry.rule)} | {cell(places[0].text)}{and_more(len(places), 1)} |"
        )


def _gap(results: Results, entry: GapEntry) -> Iterator[str]:
    yield from ("", f"## {entry.number}\\. {plain(results.titles[entry.rule])}", "")
    yield f"{_MARKS[entry.level]} {entry.level.value}, {code(entry.rule)}"
    yield ""
    yield from (f"- where: {code(results.places[number].text)}" for number in entry.places)
    yield from (f"- seen: {code(seen)}" for seen in entry.seen)
    yield f"- expected: {code(entry.expected)}"
    yield from ("", f"Why: {plain(entry.why)}", "", f"Mend: {plain(' '.join((entry.mend, *entry.details)))}")
    for lines in entry.configurations:
        if lines.held_back:
            yield from ("", f"{plain(lines.server)}: {plain(lines.held_back)}.")
        if lines.choice:
            yield from ("", f"{plain(lines.choice)}.")
        for piece in lines.pieces:
            yield from ("", f"{plain(lines.server)}, {plain(piece.where)}:", "")
            if piece.manner is Manner.WORDS:
                yield plain(piece.lines)
            else:
                yield from _block(piece.lines)
    if entry.check:
        yield from ("", "Check:", "", *_block(entry.check))


def _block(text: str) -> list[str]:
    """A fenced block whose fence no line of it can end."""
    lines = [escaped(line) for line in text.split("\n")]
    fence = "`" * max(3, max((len(run) for line in lines for run in re.findall(r"`+", line)), default=0) + 1)
    return [fence, *lines, fence]


def _rest(results: Results) -> Iterator[str]:
    if results.unknowns:
        yield from ("", "## Not checked", "")
        yield from (f"- {plain(line)}" for line in unknown_lines(results.unknowns))
    if results.accepted:
        yield from ("", "## Accepted", "")
        for each in results.accepted:
            yield f"- {code(each.rule)} at {code(each.where.text)} until {each.until}: {plain(each.because)}"


def render_markdown_changes(old: Review, new: Review, remarks: Sequence[str] = ("", "")) -> bytes:
    """What changed between two reviews."""
    return ("\n".join(_changes(compare(old, new, remarks))).rstrip() + "\n").encode("utf-8", "replace")


def _changes(comparison: Comparison) -> Iterator[str]:
    yield f"# {plain(comparison.site)}: {', '.join(comparison.counts)}"
    yield ""
    for label, look in zip(("Before", "After"), comparison.looks, strict=False):
        yield f"- {label}: {plain(look_words(look))}"
    for change, found in comparison.entries.items():
        yield from ("", f"## {plain(CHANGE_TITLES[change])}", "")
        for each in found[:MAX_GAPS]:
            places = ", ".join(map(code, some(each.places)))
            yield f"- {_MARKS[each.level]} {plain(each.title)} ({code(each.rule)}) at {places}"
            yield from (
                f"  - {label}: {code('; '.join(words))}"
                for label, words in (("was", each.before), ("is", each.after))
                if words
            )
    if comparison.facts:
        yield from ("", "## Beside gaps", "")
        for fact in comparison.facts[:MAX_GAPS]:
            yield f"- {plain(fact.subject)}"
            yield from (f"  - was: {code(fact.before)}", f"  - is: {code(fact.after)}")
