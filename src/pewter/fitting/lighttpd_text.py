"""How lighttpd writes its configuration: settings with values that may be lists, and conditions with braces."""

import re
from typing import NamedTuple

from .tree import MAX_DEPTH, BrokenError, Grammar, Node

_TOKEN = re.compile(
    r"""(?P<blank>[ \t\r]++)
    |(?P<line>\n)
    |(?P<comment>\#[^\n]*+)
    |"(?P<string>(?:[^"\\]|\\.)*+)"
    |(?P<variable>\$[A-Z_a-z]++(?:\["[^"\n]*+"\])?)
    |(?P<mark>=>|==|!=|=~|!~|=\^|=\$|\+=|:=|[=(){},+;])
    |(?P<bare>[^\s\#"(){},=+!$:;]++|[!:$])""",
    re.VERBOSE | re.DOTALL,
)


class _Token(NamedTuple):
    kind: str
    text: str
    start: int
    end: int


def _tokens(text: str) -> list[_Token]:
    found, at = [], 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            raise BrokenError(at, "a quote is never closed" if text[at] == '"' else "this is no setting")
        kind = match.lastgroup or ""
        if kind not in {"blank", "comment"}:
            word = match["string"] if kind == "string" else match[0]
            found.append(_Token(kind, word, match.start(), match.end()))
        at = match.end()
    return found


def _parse(text: str) -> list[Node]:
    found: list[Node] = []
    blocks: list[tuple[Node, list[Node]]] = []
    tokens, position = _tokens(text), 0
    while position < len(tokens):
        token = tokens[position]
        if token.kind == "line" or token.text == ";":
            position += 1
        elif token.kind == "mark" and token.text == "}":
            if not blocks:
                raise BrokenError(token.start, "a } without its {")
            block, outer = blocks.pop()
            assert block.body is not None
            block.body, block.end, block.inside = (block.body[0], token.start), token.end, found
            outer.append(block)
            found = outer
            position += 1
        elif token.kind == "variable" or token.text in {"else", "elseif"}:
            words, first = [], token.start
            while position < len(tokens) and not (tokens[position].kind == "mark" and tokens[position].text == "{"):
                if tokens[position].kind != "line":
                    words.append(tokens[position].text)
                position += 1
            if position == len(tokens) or len(blocks) >= MAX_DEPTH:
                raise BrokenError(
                    first, "a condition without a block" if position == len(tokens) else "it lies too deep"
                )
            blocks.append((Node(tuple(words), first, 0, (tokens[position].end, 0)), found))
            found = []
            position += 1
        else:
            end = _end_of_setting(tokens, position)
            last = tokens[end - 1].end
            words = [each.text for each in tokens[position : min(position + 2, end)]]
            if end > position + 2:
                words.append(text[tokens[position + 1].end : last].strip())
            found.append(Node(tuple(words), token.start, last))
            position = end
    if blocks:
        raise BrokenError(blocks[-1][0].start, "it is never closed")
    return found


def _end_of_setting(tokens: list[_Token], position: int) -> int:
    """Behind its value: the end of a line outside of any list, with nothing that asks for more."""
    depth, at = 0, position
    while at < len(tokens):
        token = tokens[at]
        is_mark = token.kind == "mark"
        if is_mark and token.text == "(":
            depth += 1
        elif is_mark and token.text == ")":
            depth -= 1
        elif depth == 0 and (token.kind == "line" or (is_mark and token.text in {"}", ";"})):
            behind = tokens[at - 1]
            goes_on = behind.kind == "mark" and behind.text in {"=", "+=", ":=", "+", "=>"}
            if not goes_on or token.kind != "line":
                return at
        at += 1
    if depth:
        raise BrokenError(tokens[position].start, "its list is never closed")
    return at


class Element(NamedTuple):
    """One of a list: ``"MinProtocol" => "TLSv1.2"``."""

    key: str
    text: str


def elements(value: str) -> list[Element]:
    """Of the outermost list; one that is no list has none."""
    try:
        tokens = [each for each in _tokens(value) if each.kind != "line"]
    except BrokenError:
        return []
    found, depth, start = [], 0, None
    for token in tokens:
        if token.kind == "mark" and token.text == "(":
            depth += 1
            if depth == 1:
                continue
        elif token.kind == "mark" and token.text == ")":
            depth -= 1
        if (depth == 0 or (depth == 1 and token.kind == "mark" and token.text == ",")) and start is not None:
            found.append(_element(value[start : token.start].strip()))
            start = None
        elif depth >= 1 and start is None and token.text != ",":
            start = token.start
    return found


def _element(text: str) -> Element:
    first = _TOKEN.match(text)
    return Element((first["string"] or "") if first is not None else "", text)


def _included(node: Node) -> str:
    return node.words[1] if node.name == "include" and len(node.words) == 2 else ""


LIGHTTPD = Grammar(_parse, _included)
