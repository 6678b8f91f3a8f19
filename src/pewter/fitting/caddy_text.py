"""How a Caddyfile is written: site blocks, a directive a line, braces at the ends of lines."""

import re

from .tree import MAX_DEPTH, BrokenError, Grammar, Node

_TOKEN = re.compile(
    r"""(?P<blank>(?:[ \t\r]|\\\r?\n)++)
    |(?P<line>\n)
    |(?P<comment>\#[^\n]*+)
    |"(?P<double>(?:[^"\\]|\\.)*+)"
    |`(?P<tick>[^`]*+)`
    |(?P<here><<[A-Za-z0-9_-]{1,64}\r?\n)
    |(?P<bare>(?:\\.|[^\s\\])++)""",
    re.VERBOSE | re.DOTALL,
)


def _parse(text: str) -> list[Node]:
    found: list[Node] = []
    blocks: list[tuple[Node, list[Node]]] = []
    words: list[str] = []
    start = end = at = 0

    def finish() -> None:
        nonlocal words
        if words:
            found.append(Node(tuple(words), start, end))
            words = []

    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            raise BrokenError(at, "a quote is never closed" if text[at] in '"`' else "this is no directive")
        at = match.end()
        if match["line"]:
            # Addresses go on behind a comma.
            if not (words and words[-1].endswith(",") and not blocks):
                finish()
        elif match["blank"] is None and match["comment"] is None:
            word = match[0]
            if word == "{":
                if len(blocks) >= MAX_DEPTH:
                    raise BrokenError(match.start(), "blocks lie too deep")
                blocks.append((Node(tuple(words), start if words else match.start(), 0, (at, 0)), found))
                found, words = [], []
            elif word == "}":
                finish()
                if not blocks:
                    raise BrokenError(match.start(), "a } without its {")
                block, outer = blocks.pop()
                assert block.body is not None
                block.body, block.end, block.inside = (block.body[0], match.start()), at, found
                outer.append(block)
                found = outer
            else:
                start = match.start() if not words else start
                if match["here"]:
                    at = _end_of_text(text, match)
                words.append(_word(match))
                end = at
    finish()
    if blocks:
        raise BrokenError(blocks[-1][0].start, "it is never closed")
    return found


def _end_of_text(text: str, match: re.Match[str]) -> int:
    """Behind the mark that ends a text of several lines."""
    mark = match[0].strip()[2:]
    closing = re.compile(rf"(?m)^[ \t]*{re.escape(mark)}(?=\s|\Z)").search(text, match.end())
    if closing is None:
        raise BrokenError(match.start(), "a text of several lines is never closed")
    return closing.end()


def _word(match: re.Match[str]) -> str:
    if match["double"] is not None:
        return match["double"].replace('\\"', '"')
    return match["tick"] if match["tick"] is not None else match[0]


def _included(node: Node) -> str:
    """A file that is imported; snippets are known by the Caddyfile itself."""
    name = node.words[1] if node.name == "import" and len(node.words) > 1 else ""
    return name if any(each in name for each in "/.*") else ""


CADDY = Grammar(_parse, _included)
