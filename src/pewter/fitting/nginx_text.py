"""How nginx writes its configuration: directives that end in ``;``, blocks in braces."""

import re

from .tree import MAX_DEPTH, BrokenError, Grammar, Node

_TOKEN = re.compile(
    r"""(?P<blank>[ \t\r\n]++)
    |(?P<comment>\#[^\n]*+)
    |(?P<mark>[{};])
    |"(?P<double>(?:[^"\\]|\\.)*+)"
    |'(?P<single>(?:[^'\\]|\\.)*+)'
    |(?!["'])(?P<bare>(?:\\.|\$\{[^}\n]*+\}|[^\s{};\\])++)""",
    re.VERBOSE | re.DOTALL,
)
_ESCAPE = re.compile(r"""\\(["'\\ {};])""")


def _parse(text: str) -> list[Node]:
    found: list[Node] = []
    blocks: list[tuple[Node, list[Node]]] = []
    words: list[str] = []
    start = at = 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            raise BrokenError(at, "a quote is never closed" if text[at] in "\"'" else "this is no directive")
        if match["blank"] is None and match["comment"] is None:
            mark = match["mark"]
            if mark is None:
                start = match.start() if not words else start
                words.append(_word(match))
            elif mark == ";":
                if words:
                    found.append(Node(tuple(words), start, match.end()))
                    words = []
            elif mark == "{" and words and words[0].endswith("_by_lua_block"):
                end = _end_of_program(text, match.end())
                found.append(Node(tuple(words), start, end))
                words, at = [], end
                continue
            elif mark == "{":
                if not words or len(blocks) >= MAX_DEPTH:
                    raise BrokenError(match.start(), "a block without a name" if not words else "blocks lie too deep")
                blocks.append((Node(tuple(words), start, 0, (match.end(), 0)), found))
                found, words = [], []
            else:
                if words or not blocks:
                    raise BrokenError(match.start(), "a ; is missing" if words else "a } without its {")
                block, outer = blocks.pop()
                assert block.body is not None
                block.body, block.end, block.inside = (block.body[0], match.start()), match.end(), found
                outer.append(block)
                found = outer
        at = match.end()
    if blocks or words:
        raise BrokenError(
            blocks[-1][0].start if blocks else start, "it is never closed" if blocks else "a ; is missing"
        )
    return found


def _word(match: re.Match[str]) -> str:
    quoted = match["double"] if match["double"] is not None else match["single"]
    return _ESCAPE.sub(r"\1", quoted if quoted is not None else match[0])


def _end_of_program(text: str, at: int) -> int:
    """Behind the brace that closes a block of Lua."""
    depth = 1
    for match in re.finditer(r"[{}]", text[at:]):
        depth += 1 if match[0] == "{" else -1
        if not depth:
            return at + match.end()
    raise BrokenError(at, "it is never closed")


def _included(node: Node) -> str:
    return node.words[1] if node.name == "include" and len(node.words) == 2 and node.body is None else ""


NGINX = Grammar(_parse, _included)
