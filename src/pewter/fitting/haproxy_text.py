"""How HAProxy writes its configuration: sections, and a line for each keyword."""

import re

from .tree import Grammar, Node

SECTIONS = frozenset(
    {
        *("global", "defaults", "frontend", "backend", "listen", "peers", "mailers", "resolvers", "userlist", "cache"),
        *("program", "http-errors", "ring", "log-forward", "fcgi-app", "crt-store", "traces"),
    }
)
_WORD = re.compile(r"""(?:\\.|'[^'\n]*+'|"(?:[^"\\\n]|\\.)*+"|[^\s#\\'"])++""")
_QUOTE = re.compile(r"""'([^'\n]*+)'|"((?:[^"\\\n]|\\.)*+)"|\\(.)""")


def _parse(text: str) -> list[Node]:
    found: list[Node] = []
    for match in re.finditer(r"[^\n]*\n?", text):
        line = match[0]
        spans = _spans(line)
        if not spans:
            continue
        words = tuple(_QUOTE.sub(lambda each: each[1] or each[2] or each[3] or "", line[a:b]) for a, b in spans)
        node = Node(words, match.start() + spans[0][0], match.start() + spans[-1][1])
        if words[0] in SECTIONS:
            node.body = (node.end, node.end)
            found.append(node)
        elif found:
            section = found[-1]
            section.inside.append(node)
            section.body, section.end = (section.body[0] if section.body else 0, node.end), node.end
        else:
            found.append(node)
    return found


def _spans(line: str) -> list[tuple[int, int]]:
    """Where each word begins and ends, as far as a remark."""
    spans, at = [], 0
    while at < len(line):
        if line[at] == "#":
            break
        if match := _WORD.match(line, at):
            spans.append(match.span())
            at = match.end()
        else:
            at += 1
    return spans


def words_of(line: str) -> list[str]:
    """The words of a line as they stand."""
    return [line[a:b] for a, b in _spans(line)]


HAPROXY = Grammar(_parse, lambda node: "")
