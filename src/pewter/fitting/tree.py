"""A configuration as blocks: what every kind of server's reader gives, and edits of its text.

A node is a directive or a block, with the offsets of its text: whatever is not changed stays to the octet.
"""

import bisect
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

MAX_NODES = 50_000
"""With everything that is included, as often as it is."""

MAX_DEPTH = 60


_FOUR = re.compile(r"(?m)^(?:\t| {4})+")


class BrokenError(Exception):
    """Text that is no configuration of its kind: at which offset, and why."""

    def __init__(self, at: int, words: str, path: str = "") -> None:
        super().__init__(words)
        self.at, self.words, self.path = at, words, path


class Node:
    """One directive, with its block where it has one."""

    __slots__ = ("body", "end", "inside", "outside", "path", "start", "words")

    def __init__(self, words: tuple[str, ...], start: int, end: int, body: tuple[int, int] | None = None) -> None:
        self.words, self.start, self.end, self.body = words, start, end, body
        self.inside: list[Node] = []
        self.outside: Node | None = None
        self.path = ""

    @property
    def name(self) -> str:
        return self.words[0] if self.words else ""

    @property
    def arguments(self) -> tuple[str, ...]:
        return self.words[1:]

    def walk(self) -> Iterator["Node"]:
        """All that stands in it, at any depth, in order."""
        for node in self.inside:
            yield node
            yield from node.walk()

    def direct(self) -> Iterator["Node"]:
        """What stands in it itself, through files that are included there."""
        for node in self.inside:
            yield node
            if node.body is None:
                yield from node.direct()

    def above(self) -> Iterator["Node"]:
        """The blocks around it, innermost first."""
        node = self.outside
        while node is not None:
            yield node
            node = node.outside


class Edit(NamedTuple):
    """Text in place of what stands from one offset of a file to another."""

    path: str
    start: int
    end: int
    text: str


class Grammar(NamedTuple):
    """How one kind of server writes its configuration."""

    parse: Callable[[str], list[Node]]
    """Of one file.  Raises BrokenError."""

    included: Callable[[Node], str]
    """The pattern of the files that a directive includes; empty where it includes none."""


class Tree:
    """Files of one configuration, read and put together.  Raises BrokenError."""

    def __init__(
        self,
        grammar: Grammar,
        texts: Mapping[str, str],
        main: Sequence[str],
        included: Mapping[tuple[str, str], Sequence[str]],
        with_returns: frozenset[str] = frozenset(),
    ) -> None:
        self.grammar, self.main, self.included = grammar, tuple(main), dict(included)
        self.with_returns = with_returns | {path for path, text in texts.items() if "\r\n" in text}
        """Files whose lines end in CR LF; their texts are kept without the CR."""
        self.texts = {path: text.replace("\r\n", "\n") for path, text in texts.items()}
        self._ends: dict[str, list[int]] = {}
        self._tabbed: dict[str, bool] = {}
        self._count = 0
        self.nodes = [node for path in self.main for node in self._read(path, None, ())]

    def edited(self, edits: Sequence[Edit]) -> "Tree":
        """The same with these changes, which must not lie over each other."""
        texts = dict(self.texts)
        for path in {edit.path for edit in edits}:
            text, pieces, at = texts[path], [], 0
            here = (edit for edit in dict.fromkeys(edits) if edit.path == path)
            for edit in sorted(here, key=lambda each: (each.start, each.end)):
                if edit.start < at:
                    # Lines behind one that was taken out with its end: theirs takes the place of that.
                    pieces.append(edit.text[1:])
                    at = edit.start
                else:
                    pieces += [text[at : edit.start], edit.text]
                    at = edit.end
            texts[path] = "".join((*pieces, text[at:]))
        return Tree(self.grammar, texts, self.main, self.included, self.with_returns)

    def styled(self, edit: Edit) -> Edit:
        """Indented by tabs where its file is."""
        if edit.path not in self._tabbed:
            text = self.texts[edit.path]
            self._tabbed[edit.path] = text.count("\n\t") > text.count("\n  ")
        if not self._tabbed[edit.path]:
            return edit
        return edit._replace(text=_FOUR.sub(lambda match: "\t" * (len(match[0].replace("\t", "    ")) // 4), edit.text))

    def walk(self) -> Iterator[Node]:
        for node in self.nodes:
            yield node
            yield from node.walk()

    def line_of(self, node: Node) -> int:
        """From 1."""
        return self.ends_before(node.path, node.start) + 1

    def ends_before(self, path: str, at: int) -> int:
        """How many lines of a file end before an offset."""
        if path not in self._ends:
            self._ends[path] = [match.start() for match in re.finditer("\n", self.texts[path])]
        return bisect.bisect_left(self._ends[path], at)

    def place_of(self, node: Node) -> str:
        return f"{node.path} line {self.line_of(node)}"

    def line_start(self, path: str, at: int) -> int:
        return self.texts[path].rfind("\n", 0, at) + 1

    def line_end(self, path: str, at: int) -> int:
        found = self.texts[path].find("\n", at)
        return found if found >= 0 else len(self.texts[path])

    def indent_of(self, node: Node) -> str:
        """The blanks before it on its line; where other words stand there, those of the line."""
        start = self.line_start(node.path, node.start)
        return re.match(r"[ \t]*", self.texts[node.path][start : node.start])[0]  # type: ignore[index]

    def is_alone(self, node: Node) -> bool:
        """Whether nothing else stands on its lines."""
        text = self.texts[node.path]
        before = text[self.line_start(node.path, node.start) : node.start]
        behind = text[node.end : self.line_end(node.path, node.end)]
        return not before.strip() and (not behind.strip() or behind.strip().startswith("#"))

    def without(self, node: Node) -> Edit:
        """Takes it out, with its line where nothing else stands there."""
        text = self.texts[node.path]
        if self.is_alone(node):
            end = self.line_end(node.path, node.end)
            return Edit(node.path, self.line_start(node.path, node.start), min(end + 1, len(text)), "")
        end = node.end
        while text[end : end + 1] in {" ", "\t"}:
            end += 1
        return Edit(node.path, node.start, end, "")

    def in_place_of(self, node: Node, lines: str) -> Edit:
        return Edit(node.path, node.start, node.end, indented(lines, self.indent_of(node)).lstrip(" \t"))

    def before(self, node: Node, lines: str) -> Edit:
        """On lines of their own."""
        if not self.texts[node.path][self.line_start(node.path, node.start) : node.start].strip():
            start = self.line_start(node.path, node.start)
            return Edit(node.path, start, start, indented(lines, self.indent_of(node)) + "\n")
        return Edit(node.path, node.start, node.start, f"{lines}\n")

    def behind(self, node: Node, lines: str) -> Edit:
        """On lines of their own: behind its line, where nothing else stands there."""
        text = self.texts[node.path]
        end = self.line_end(node.path, node.end)
        rest = text[node.end : end].strip()
        at = end if not rest or rest.startswith("#") else node.end
        return Edit(node.path, at, at, "\n" + indented(lines, self.indent_of(node)) + ("" if at == end else "\n"))

    def at_end_of(self, block: Node, lines: str) -> Edit:
        """Behind all that stands in a block."""
        assert block.body is not None
        own = [node for node in block.inside if node.path == block.path and node.start >= block.body[0]]
        text = self.texts[block.path]
        if own and "\n" in text[own[-1].end : block.body[1]]:
            return self.behind(own[-1], lines)
        at = block.body[1]
        inner = self.indent_of(block) + "    "
        start = self.line_start(block.path, at)
        if start >= block.body[0] and not text[start:at].strip():
            return Edit(block.path, start, start, f"{indented(lines, inner)}\n")
        end = len(text[:at].rstrip(" \t"))
        return Edit(block.path, end, at, f"\n{indented(lines, inner)}\n{self.indent_of(block)}")

    def at_start_of(self, block: Node, lines: str) -> Edit:
        """Before all that stands in a block."""
        assert block.body is not None
        own = [node for node in block.inside if node.path == block.path and node.start >= block.body[0]]
        return self.before(own[0], lines) if own else self.at_end_of(block, lines)

    def text_of(self, node: Node) -> str:
        """As it stands, without the blanks that its lines share."""
        lines = self.texts[node.path][node.start : node.end].split("\n")
        own = self.indent_of(node)
        return "\n".join(line.removeprefix(own) for line in lines)

    def _read(self, path: str, outside: Node | None, chain: tuple[str, ...]) -> list[Node]:
        if path in chain or len(chain) > MAX_DEPTH:
            raise BrokenError(0, "it includes itself", path)
        try:
            nodes = self.grammar.parse(self.texts[path])
        except BrokenError as exc:
            raise BrokenError(exc.at, exc.words, path) from None
        for node in nodes:
            self._place(node, path, outside, (*chain, path))
        return nodes

    def _place(self, node: Node, path: str, outside: Node | None, chain: tuple[str, ...]) -> None:
        self._count += 1
        if self._count > MAX_NODES:
            raise BrokenError(node.start, f"there are more than {MAX_NODES} directives", path)
        node.path, node.outside = path, outside
        for inner in node.inside:
            self._place(inner, path, node, chain)
        pattern = self.grammar.included(node)
        for file in self.included.get((path, pattern), ()) if pattern else ():
            node.inside += self._read(file, node, chain)


def indented(lines: str, indent: str) -> str:
    return "\n".join(f"{indent}{line}" if line else line for line in lines.split("\n"))
