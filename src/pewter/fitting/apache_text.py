"""How Apache httpd writes its configuration: a directive a line, sections in angle brackets."""

import re

from .tree import MAX_DEPTH, BrokenError, Grammar, Node

_LINE = re.compile(r"(?:[^\\\n]|\\(?:\r?\n|[^\n]|\Z))*+(?:\n|\Z)")
_WORD = re.compile(r'"((?:[^"\\]|\\.)*+)"|\'((?:[^\'\\]|\\.)*+)\'|([^\s]++)', re.DOTALL)
_SECTION = re.compile(r"<(/?)([A-Za-z]+)\b(.*)>\s*\Z", re.DOTALL)


def _parse(text: str) -> list[Node]:
    found: list[Node] = []
    blocks: list[tuple[Node, list[Node]]] = []
    at = 0
    while at < len(text):
        match = _LINE.match(text, at)
        assert match is not None
        start, end = at, match.end()
        whole = text[start:end]
        line = whole.strip()
        start += len(whole) - len(whole.lstrip())
        stop, at = start + len(line), end
        if not line or line.startswith("#"):
            if line.startswith("#") and "\\\n" in whole:  # a comment goes on as well
                continue
            continue
        section = _SECTION.fullmatch(line)
        if section is None:
            found.append(Node(_words(line), start, stop))
        elif not section[1]:
            if len(blocks) >= MAX_DEPTH:
                raise BrokenError(start, "sections lie too deep")
            blocks.append((Node((section[2].lower(), *_words(section[3])[0:]), start, 0, (end, 0)), found))
            found = []
        else:
            if not blocks or blocks[-1][0].name != section[2].lower():
                raise BrokenError(start, f"</{section[2][:40]}> without its beginning")
            block, outer = blocks.pop()
            assert block.body is not None
            block.body, block.end, block.inside = (block.body[0], start), stop, found
            outer.append(block)
            found = outer
    if blocks:
        raise BrokenError(blocks[-1][0].start, f"<{blocks[-1][0].name}> is never closed")
    return found


def _words(line: str) -> tuple[str, ...]:
    """The directive's name in lower case, and its arguments without quotes."""
    words = [
        next(each for each in match.groups() if each is not None) for match in _WORD.finditer(line.replace("\\\n", " "))
    ]
    return (words[0].lower(), *words[1:]) if words else ()


def _included(node: Node) -> str:
    return node.words[1] if node.name in {"include", "includeoptional"} and len(node.words) == 2 else ""


APACHE = Grammar(_parse, _included)
