"""A sheet of text with styles laid over it: layout is done on plain text, and styles never count in a width."""

import re
import textwrap
from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text

from pewter.judge.outcomes import Level

from .escape import terminal_safe

MIN_WIDTH, MAX_WIDTH = 80, 120
LISTED = 4
"""Places and names of one entry that are listed before the rest is counted."""


@dataclass(frozen=True, slots=True)
class Marks:
    """Shapes, so that nothing depends on colour."""

    level: dict[Level, str]
    holds: str
    unknown: str
    accepted: str
    arrow: str
    above: str
    passed: str
    left: str
    renewal: str
    dot: str


UNICODE = Marks(
    {Level.BREAKS: "■", Level.EXPOSES: "◆", Level.WEAKENS: "▲", Level.NOTE: "·"},
    "✓", "?", "○", "→", "←", "█", "░", "│", "·",
)  # fmt: skip
ASCII = Marks(
    {Level.BREAKS: "B", Level.EXPOSES: "E", Level.WEAKENS: "W", Level.NOTE: "n"},
    "+", "?", "a", "->", "<-", "#", ".", "|", "-",
)  # fmt: skip

STYLES = {
    Level.BREAKS: "bold red",
    Level.EXPOSES: "bold magenta",
    Level.WEAKENS: "yellow",
    Level.NOTE: "cyan",
}


class Sheet:
    def __init__(self, width: int, marks: Marks) -> None:
        self.width = width
        self.marks = marks
        self.text = Text()

    def line(self, *parts: tuple[str, str] | str) -> None:
        """One line of styled pieces."""
        for part in parts:
            content, style = (part, "") if isinstance(part, str) else part
            self.text.append(terminal_safe(content), style)
        self.text.append("\n")

    def heading(self, title: str, remark: str = "") -> None:
        self.line()
        self.flow("", (title, "bold"), remark)

    def flow(self, indent: str, head: tuple[str, str], remark: str, mark: tuple[str, str] = ("", "")) -> None:
        """A mark, a head and a dim remark: on one line where they fit, else wrapped below each other."""
        text, style = terminal_safe(head[0]), head[1]
        blank = " " if mark[0] else ""
        before = len(indent) + len(mark[0]) + len(blank)
        remark = terminal_safe(remark)
        if before + len(text) + 2 + len(remark) <= self.width:
            self.line(indent, mark, blank, (text, style), (f"  {remark}" if remark else "", "dim"))
            return
        first, *more = textwrap.wrap(text, self.width - before, break_long_words=False, break_on_hyphens=False)
        self.line(indent, mark, blank, (first, style))
        for line in more:
            self.line(" " * before, (line, style))
        for line in textwrap.wrap(remark, self.width - before - 2, break_long_words=False, break_on_hyphens=False):
            self.line(" " * (before + 2), (line, "dim"))

    def labelled(
        self, indent: int, label: str, content: str, style: str = "", label_width: int = 9,
        stressed: str = "", stress_style: str = "",
    ) -> None:  # fmt: skip
        """A label and text wrapped behind it; line ends of the text are kept.  ``stressed`` is a part of the text."""
        room = self.width - indent - label_width - 1
        pieces = [
            piece
            for line in terminal_safe_lines(content)
            for piece in textwrap.wrap(line, room, break_long_words=False, break_on_hyphens=False) or [""]
        ]
        for position, piece in enumerate(pieces):
            shown = label if position == 0 else ""
            self.line(" " * indent, (f"{shown:<{label_width}} ", "dim"), (piece, style))
        if stressed:
            self._stress(stressed, stress_style)

    def _stress(self, words: str, style: str) -> None:
        """Lay a style over words that were just printed, wherever they were broken."""
        broken_anywhere = r"\s+".join(map(re.escape, terminal_safe(words).split()))
        found = list(re.finditer(broken_anywhere, self.text.plain))
        if found:
            self.text.stylize(style, *found[-1].span())

    def verbatim(self, indent: int, content: str) -> None:
        """Lines to be copied: never wrapped."""
        for line in terminal_safe_lines(content):
            self.line(" " * indent, (line, "green"))


def terminal_safe_lines(content: str) -> list[str]:
    """Lines of a text of our own, each made safe."""
    return [terminal_safe(line) for line in content.split("\n")]


def sentence(text: str) -> str:
    return text if text.endswith((".", "?", "!")) else text + "."


def listed(texts: Sequence[str]) -> str:
    return ", ".join(some(texts))


def some(texts: Sequence[str]) -> list[str]:
    if len(texts) <= LISTED + 1:
        return list(texts)
    return [*texts[:LISTED], f"and {len(texts) - LISTED} more"]
