"""A sheet of text with styles laid over it: layout is done on plain text, and styles never count in a width."""

import re
from collections.abc import Sequence

import msgspec
from rich.cells import cell_len, chop_cells
from rich.text import Text

from pewter.escape import escaped
from pewter.levels import Level
from pewter.phrases import shortened

MIN_WIDTH, MAX_WIDTH = 48, 120
LISTED = 4
"""Places and names of one entry that are listed before the rest is counted."""


class Marks(msgspec.Struct, frozen=True):
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
        self.domain = ""
        """Under which all names are: places are told without it where nothing is to be copied."""

    def short(self, place: str) -> str:
        """A name or an endpoint without the domain that all are of; a URL as it is."""
        return place.replace(f".{self.domain}", "") if self.domain and "://" not in place else place

    def line(self, *parts: tuple[str, str] | str) -> None:
        """One line of styled pieces."""
        for part in parts:
            content, style = (part, "") if isinstance(part, str) else part
            self.text.append(escaped(content), style)
        self.text.append("\n")

    def heading(self, title: str, remark: str = "") -> None:
        self.line()
        self.flow("", (title, "bold"), remark)

    def flow(self, indent: str, head: tuple[str, str], remark: str, mark: tuple[str, str] = ("", "")) -> None:
        """A mark, a head and a dim remark: on one line where they fit, else wrapped below each other."""
        text, style = escaped(head[0]), head[1]
        blank = " " if mark[0] else ""
        before = len(indent) + len(mark[0]) + len(blank)
        remark = escaped(remark)
        if before + cell_len(text) + 2 + cell_len(remark) <= self.width:
            self.line(indent, mark, blank, (text, style), (f"  {remark}" if remark else "", "dim"))
            return
        first, *more = wrap(text, self.width - before)
        self.line(indent, mark, blank, (first, style))
        for line in more:
            self.line(" " * before, (line, style))
        for line in wrap(remark, self.width - before - 2) if remark else ():
            self.line(" " * (before + 2), (line, "dim"))

    def labelled(
        self, indent: int, label: str, content: str | Sequence[str], style: str = "", label_width: int = 9,
        stressed: str = "", stress_style: str = "",
    ) -> None:  # fmt: skip
        """A label and text wrapped behind it; several texts begin a line each.  ``stressed`` is a part of the text.

        A line end within a text is written out: nobody but we begins a line of a report.
        """
        texts = (content,) if isinstance(content, str) else content
        pieces = [piece for text in texts for piece in wrap(escaped(text), self.width - indent - label_width - 1)]
        for position, piece in enumerate(pieces):
            shown = label if position == 0 else ""
            self.line(" " * indent, (f"{shown:<{label_width}} ", "dim"), (piece, style))
        if stressed:
            self._stress(stressed, stress_style)

    def _stress(self, words: str, style: str) -> None:
        """Lay a style over words that were just printed, wherever they were broken."""
        broken_anywhere = r"\s+".join(map(re.escape, escaped(words).split()))
        found = list(re.finditer(broken_anywhere, self.text.plain))
        if found:
            self.text.stylize(style, *found[-1].span())

    def verbatim(self, indent: int, content: str) -> None:
        """Lines of our own, to be copied: never wrapped."""
        for line in content.split("\n"):
            self.line(" " * indent, (line, "green"))


def wrap(text: str, room: int) -> list[str]:
    """``text`` in lines of at most ``room`` columns, of which wide characters take two; at least one line.

    A word that is longer than a line is broken: a terminal would begin its next line where a report's lines begin.
    """
    lines, line, columns = [], "", 0
    for word in text.split(" "):
        width = cell_len(word)
        if line and columns + 1 + width <= room:
            line, columns = f"{line} {word}", columns + 1 + width
            continue
        if line:
            lines.append(line)
        pieces = chop_cells(word, room) if width > room else [word]
        lines += pieces[:-1]
        line = pieces[-1] if pieces else ""
        columns = cell_len(line)
    return [*lines, line]


def cut(text: str, room: int) -> str:
    """``text`` in at most ``room`` columns, its middle left out where it is longer: both ends of a name tell."""
    if cell_len(text) <= room or room < _LEAST_CUT:
        return text
    back = (room - 1) // 2
    front = room - 1 - back
    return f"{chop_cells(text, front)[0]}…{text[len(text) - back :] if back else ''}"


_LEAST_CUT = 5


def quoted(words: str, most: int) -> str:
    """As much of what was seen as there is to be room for; ``--full`` has all of it."""
    return words if len(words) <= most else f"{words[: most - 2].rstrip()} …"


def sentence(text: str) -> str:
    return text if text.endswith((".", "?", "!")) else text + "."


def listed(texts: Sequence[str]) -> str:
    return ", ".join(some(texts))


def some(texts: Sequence[str]) -> list[str]:
    return list(texts) if len(texts) <= LISTED + 1 else list(shortened(texts, LISTED))
