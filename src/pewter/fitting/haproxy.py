"""Pieces put into the frontends of HAProxy."""

import fnmatch
import itertools
import re
from collections.abc import Iterator, Sequence

from pewter.mends.kinds import Manner

from .fitter import HeldError, Placed, Want, quoted_names
from .haproxy_text import HAPROXY, words_of
from .tree import Edit, Node, Tree

_RULES = ("http-request", "http-response", "http-after-response", "redirect")
_LATER = ("use_backend", "default_backend", "use-server", "server", "server-template", "balance")
_WITH_VALUE = frozenset(
    {"ciphers", "ciphersuites", "curves", "alpn", "verify", "ca-file", "ssl-min-ver", "ssl-max-ver"}
)
_MATTERS = 2


def fit_haproxy(tree: Tree, want: Want) -> Placed:
    """Raises HeldError."""
    piece = want.piece
    if piece.place == "frontends":
        return _new_frontend(tree, want)
    port = 80 if piece.place == "plain" else want.port
    there = frontends(tree, port)
    if not there:
        raise HeldError(f"no frontend that binds port {port} stands in these files")
    if piece.place == "bind":
        return _bind(tree, want, there)
    closed = [each for each in there if _mode(tree, each) != "http"]
    if closed:
        where = tree.place_of(closed[0])
        raise HeldError(f"its frontend ({where}) passes TCP on unread: the program behind it is what answers")
    return _rules(tree, want, there)


# Frontends


def frontends(tree: Tree, port: int) -> list[Node]:
    return [node for node in tree.walk() if node.name in {"frontend", "listen"} and binds(node, port)]


def binds(section: Node, port: int) -> list[Node]:
    """The bind lines of a port: ``:::443``, ``192.0.2.1:443,[2001:db8::1]:443``."""
    return [node for node in section.inside if node.name == "bind" and port in set(_ports(node))]


def _ports(bind: Node) -> Iterator[int]:
    for address in bind.words[1].split(",")[:64] if len(bind.words) > 1 else ():
        last = address.rpartition(":")[2]
        first, _, to = last.partition("-")
        if re.fullmatch(r"[0-9]{1,5}", first):
            yield int(first)
            if re.fullmatch(r"[0-9]{1,5}", to):
                yield from range(int(first), min(int(to), 65_535) + 1)


def _mode(tree: Tree, section: Node) -> str:
    """Of a section, else of the defaults before it; tcp where nothing says it."""
    mode = "tcp"
    for node in tree.nodes:
        if node is section:
            break
        if node.name == "defaults":
            mode = next((each.words[1] for each in node.inside if each.name == "mode" and each.words[1:]), "tcp")
    return next((each.words[1] for each in section.inside if each.name == "mode" and each.words[1:]), mode)


# Rules


def _rules(tree: Tree, want: Want, there: Sequence[Node]) -> Placed:
    edits: list[Edit] = []
    replaced: list[Node] = []
    lines = [line for line in want.piece.lines.split("\n") if line.strip()]
    lines = [_with_all_names(tree, line) if " deny " in line else line for line in lines]
    for section in there:
        taken = list(_taken(tree, want, section)) if want.piece.manner is Manner.REPLACES else []
        replaced += taken
        edits += (tree.without(node) for node in taken)
        have = {node.words for node in section.inside if node not in taken}
        new = [line for line in lines if HAPROXY.parse(line)[0].words not in have]
        if not new:
            continue
        if want.piece.manner is Manner.FIRST:
            edits.append(_first(tree, section, new))
        else:
            edits.append(_last(tree, section, new))
    return Placed(edits, list(there), replaced)


_OF_HOST = re.compile(r"(?i)(?:req\.)?(?P<how>f?hdr\w*)\(host[,)]")


_ENDS = frozenset({"}", "or", "||", "if", "unless"})


def _with_all_names(tree: Tree, line: str) -> str:
    """Whoever is refused is none of those that the configuration speaks of."""
    found: list[str] = []
    for node in (each for each in tree.walk() if each.name in {"acl", "use_backend", *_RULES}):
        for position, word in enumerate(node.words):
            match = _OF_HOST.match(word)
            # What is compared stands in braces, or behind the name of an ACL; elsewhere the host is only kept or sent.
            is_compared = position > 0 and (node.words[position - 1] == "{" or (node.name == "acl" and position == 2))
            by_map = node.name == "use_backend" and "%[" in word and "host" in word.lower()
            if (match is None or not is_compared) and not by_map:
                continue
            rest = itertools.takewhile(_ENDS.isdisjoint, ([each] for each in node.words[position + 1 :]))
            names = [each for (each,) in rest if not each.startswith("-")]
            is_exact = match is not None and match["how"].lower() in {"hdr", "fhdr"}
            if by_map or not is_exact or not names or len(quoted_names(names)) < len({*names}):
                where = tree.place_of(node)
                raise HeldError(f"hosts are told by patterns here ({where}): name every host that is served")
            found += names
    new = [name for name in quoted_names(found) if name not in line.split()]
    return line.replace(" }", "".join(f" {name}" for name in new) + " }", 1)


def _taken(tree: Tree, want: Want, section: Node) -> Iterator[Node]:
    """Rules that set what the lines set, in the frontend and in the backends that it uses."""
    keys = {node.words[:3] for node in HAPROXY.parse(want.piece.lines)}
    used = {
        each.words[1] for each in section.inside if each.name in {"use_backend", "default_backend"} and each.words[1:]
    }
    backends = [node for node in tree.nodes if node.name == "backend" and node.words[1:2] and node.words[1] in used]
    for block in (section, *backends):
        yield from (node for node in block.inside if node.words[:3] in keys)


def _first(tree: Tree, section: Node, lines: Sequence[str]) -> Edit:
    """Before all rules; what stands above them (binds, modes, ACLs) may be needed by none of these."""
    rule = next((node for node in section.inside if node.name in (*_RULES, *_LATER)), None)
    if rule is not None:
        return tree.before(rule, "\n".join(lines))
    return _at_end(tree, section, lines)


def _last(tree: Tree, section: Node, lines: Sequence[str]) -> Edit:
    """Behind the last rule."""
    rules = [node for node in section.inside if node.name in _RULES]
    if rules:
        return tree.behind(rules[-1], "\n".join(lines))
    return _first(tree, section, lines)


def _at_end(tree: Tree, section: Node, lines: Sequence[str]) -> Edit:
    if section.inside:
        return tree.behind(section.inside[-1], "\n".join(lines))
    return tree.behind(section, "\n".join(f"    {line}" for line in lines))


# Bind lines


def _bind(tree: Tree, want: Want, there: Sequence[Node]) -> Placed:
    """Words of the bind lines of a port, and what stands for all of them in the global section."""
    lines = [node for section in there for node in binds(section, want.port)]
    if want.piece.manner is Manner.WORDS:
        return Placed([], lines)
    new = words_of(want.piece.lines)
    taken = {word for word in re.findall(r"[a-z0-9-]+\*?", want.piece.of) if "-" in word or word in _WITH_VALUE}
    taken |= {word for word in new if word in _WITH_VALUE}
    edits = []
    for node in lines:
        text = tree.texts[node.path][node.start : node.end]
        words = _without(words_of(text), taken)
        is_there = want.piece.manner is Manner.ADDS and all(word in words for word in new)
        changed = " ".join(words if is_there else (*words, *new))
        edits.append(Edit(node.path, node.start, node.end, changed))
    edits += _defaults(tree, want, taken)
    return Placed(edits, lines, lines)


def _without(words: Sequence[str], taken: set[str]) -> list[str]:
    left, rest = list(words[:2]), list(words[2:])
    while rest:
        word = rest.pop(0)
        if any(fnmatch.fnmatchcase(word, pattern) for pattern in taken):
            if word in _WITH_VALUE and rest:
                rest.pop(0)
        else:
            left.append(word)
    return left


def _defaults(tree: Tree, want: Want, taken: set[str]) -> Iterator[Edit]:
    """What a bind line cannot overrule: options that are set for all of them."""
    if "ssl-default-bind-options" not in want.piece.note:
        return
    for section in tree.nodes:
        for node in section.inside if section.name == "global" else ():
            if node.name == "ssl-default-bind-options":
                words = words_of(tree.texts[node.path][node.start : node.end])
                left = [words[0], *_without(["", "", *words[1:]], taken - {"ssl-min-ver"})[2:]]
                if len(left) < len(words):
                    gone = len(left) < _MATTERS
                    yield tree.without(node) if gone else Edit(node.path, node.start, node.end, " ".join(left))


def _new_frontend(tree: Tree, want: Want) -> Placed:
    if there := frontends(tree, 80):
        where = tree.place_of(there[0])
        raise HeldError(f"a frontend binds port 80 already ({where}): see why nobody reaches it")
    beside = frontends(tree, want.port) or [
        node for node in tree.nodes if node.name in {"frontend", "listen", "backend"}
    ]
    if not beside:
        raise HeldError("no frontend stands in these files")
    return Placed([tree.before(beside[0], want.piece.lines.rstrip("\n") + "\n")], beside[:1])
