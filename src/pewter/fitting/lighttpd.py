"""Pieces put into the settings of lighttpd."""

import re
from collections.abc import Collection, Iterator, Sequence

from pewter.mends.kinds import Manner

from .fitter import HeldError, Placed, Want, quoted_names
from .lighttpd_text import LIGHTTPD, Element, elements
from .tree import Edit, Node, Tree

_CONF_CMD = "ssl.openssl.ssl-conf-cmd"
_FIELDS = frozenset({"setenv.set-response-header", "setenv.add-response-header"})
_FIRST_MODULES = ("mod_setenv",)
"""Which have to stand before what redirects."""


def fit_lighttpd(tree: Tree, want: Want) -> Placed:
    """Raises HeldError."""
    piece = want.piece
    if piece.manner is Manner.WORDS:
        files = [node for node in tree.walk() if node.name == "ssl.pemfile"]
        return Placed([], files or tree.nodes[:1])
    if piece.place == "socket":
        return _socket(tree, want)
    taken = list(_taken(tree, want))
    return _at_end(tree, want, taken)


# Conditions


def _conditions(node: Node) -> Iterator[tuple[str, ...]]:
    return (each.words for each in node.above() if each.body is not None)


def _sockets(tree: Tree, port: int) -> list[Node]:
    return [
        node
        for node in tree.walk()
        if node.name == '$SERVER["socket"]' and node.words[1:2] == ("==",) and node.words[-1].endswith(f":{port}")
    ]


def _of_host(node: Node) -> str | None:
    """The host of the conditions around it: None for all, "" where it cannot be told."""
    for words in _conditions(node):
        if any(word.startswith('$HTTP["host"]') for word in words):
            return words[-1] if words[1:2] == ("==",) else ""
    return None


def _is_plain(node: Node) -> bool:
    """Whether it is of http alone."""
    return any(
        (words[0] == '$HTTP["scheme"]' and words[1:] == ("==", "http"))
        or (words[0] == '$SERVER["socket"]' and words[-1].endswith(":80"))
        for words in _conditions(node)
    )


# At the end of the file


def _taken(tree: Tree, want: Want) -> Iterator[tuple[Node, Collection[str]]]:
    """Settings that a piece takes the place of, and which elements of their lists: none for all of it."""
    of = want.piece.of
    if "Strict-Transport-Security" in of:
        for node in tree.walk():
            keys = {each.key for each in _list_of(node)} if node.name in _FIELDS else set()
            sts = [key for key in keys if key.lower() == "strict-transport-security"]
            host = _of_host(node)
            if sts and (host is None or host in want.hosts):
                others = [name for name in want.site if name not in want.hosts and name not in want.together]
                if host is None and others:
                    where = tree.place_of(node)
                    raise HeldError(f"the policy ({where}) stands for {others[0]} too")
                yield node, sts
    elif "url.redirect line for http" in of:
        for node in tree.walk():
            is_redirect = node.name in {"url.redirect", "url.redirect-code"} and _of_host(node) is None
            if is_redirect and (_is_plain(node) or "%0" in node.words[-1]):
                yield node, ()
    elif "server.h2proto" in of:
        for node in tree.walk():
            if node.name == "server.feature-flags" and "server.h2proto" in {each.key for each in _list_of(node)}:
                yield node, ["server.h2proto"]
    elif "server.tag" in of:
        yield from ((node, ()) for node in tree.walk() if node.name == "server.tag")


def _list_of(node: Node) -> list[Element]:
    return elements(node.words[2]) if len(node.words) > 2 else []


def _at_end(tree: Tree, want: Want, taken: Sequence[tuple[Node, Collection[str]]]) -> Placed:
    main = tree.main[0]
    text = tree.texts[main]
    edits = [_without(tree, node, keys) for node, keys in taken]
    lines = want.piece.lines
    nodes = LIGHTTPD.parse(lines)
    wanted = [each.key for node in nodes if node.name == "server.modules" for each in _list_of(node)]
    rest = "\n".join(lines[node.start : node.end] for node in nodes if node.name != "server.modules")
    if "url.access-deny" in rest:
        rest = _with_all_names(tree, rest)
    missing = [name for name in wanted if not _has_module(tree, name)]
    first = [name for name in missing if name in _FIRST_MODULES]
    lists = [node for node in tree.nodes if node.name == "server.modules" and _list_of(node)]
    if first and lists:
        missing = [name for name in missing if name not in first]
        at = tree.texts[lists[0].path].index("(", lists[0].start) + 1
        edits.append(Edit(lists[0].path, at, at, " " + ", ".join(f'"{name}"' for name in first) + ","))
    if missing:
        names = ", ".join(f'"{name}"' for name in missing)
        rest = f"server.modules += ( {names} )\n{rest}"
    edits.append(Edit(main, len(text), len(text), f"{'' if text.endswith(chr(10)) or not text else chr(10)}{rest}\n"))
    at_end = [node for node in tree.nodes if node.path == main][-1:]
    return Placed(edits, at_end, [node for node, _ in taken])


def _with_all_names(tree: Tree, lines: str) -> str:
    """Whoever is refused is none of those that the configuration speaks of."""
    conditions = [node.words for node in tree.walk() if node.name == '$HTTP["host"]' and node.body is not None]
    if any(words[1:2] != ("==",) for words in conditions):
        raise HeldError("hosts are told by patterns here: name every host that is served in the condition")
    names = quoted_names(words[-1] for words in conditions)
    there = re.search(r"\(\?:(.*?)\)\(\?::", lines)
    have = there[1].split("|") if there is not None else []
    new = [re.escape(name) for name in names if re.escape(name) not in have]
    return lines.replace("(?:" + "|".join(have) + ")", "(?:" + "|".join((*have, *new)) + ")", 1)


def _has_module(tree: Tree, name: str) -> bool:
    return any(name in {each.key for each in _list_of(node)} for node in tree.walk() if node.name == "server.modules")


def _without(tree: Tree, node: Node, keys: Collection[str], new: Sequence[str] = ()) -> Edit:
    """A setting without these elements of its list, and with new ones; it goes where nothing is left."""
    left = [each.text for each in _list_of(node) if each.key not in keys] if keys else []
    if not left and not new:
        return tree.without(node)
    return Edit(node.path, node.start, node.end, f"{node.words[0]} {node.words[1]} ( {', '.join((*left, *new))} )")


# TLS


def _socket(tree: Tree, want: Want) -> Placed:
    piece = want.piece
    line = LIGHTTPD.parse(piece.lines)[0]
    there = _sockets(tree, want.port)
    if line.name != _CONF_CMD:
        return _setting(tree, want, line, there)
    keys = set(re.findall(r"\b(MinProtocol|MaxProtocol|CipherString|Curves|Groups|Options)\b", piece.of))
    new = [each.text for each in _list_of(line)]
    inside = {id(node) for block in there for node in block.walk()}
    settings = [
        node for node in tree.walk() if node.name == _CONF_CMD and (id(node) in inside or not list(_conditions(node)))
    ]
    settings = [node for node in settings if _list_of(node)]
    edits = [_without(tree, node, keys, new) for node in settings]
    gone = [node for node in tree.walk() if node.name == "ssl.cipher-list" and "ssl.cipher-list" in piece.of]
    edits += [tree.without(node) for node in gone]
    # Where a socket has a certificate of its own, settings from outside are not its.
    own = [block for block in there if any(node.name == "ssl.pemfile" for node in block.inside)]
    bare = [block for block in own if not any(node in settings for node in block.inside)]
    edits += [tree.at_end_of(block, piece.lines) for block in bare]
    if not own and not any(not list(_conditions(node)) for node in settings):
        edits.append(_beside_tls(tree, piece.lines))
    return Placed(edits, settings or list(there) or tree.nodes[-1:], [*settings, *gone])


def _setting(tree: Tree, want: Want, line: Node, there: Sequence[Node]) -> Placed:
    """One that is on or off: in place of every one for the port, else beside the certificate."""
    names = {line.name, "ssl.verifyclient.enforce"} if line.name.startswith("ssl.verifyclient") else {line.name}
    old = [node for node in tree.walk() if node.name in names and _of_host(node) is None]
    edits = [tree.without(node) if node.name != line.name else tree.in_place_of(node, want.piece.lines) for node in old]
    if not any(node.name == line.name for node in old):
        edits += [tree.at_end_of(block, want.piece.lines) for block in there] or [_beside_tls(tree, want.piece.lines)]
    return Placed(edits, list(there) or old or tree.nodes[-1:], old)


def _beside_tls(tree: Tree, lines: str) -> Edit:
    """Outside of every condition, behind the certificate."""
    settings = [node for node in tree.nodes if node.name.startswith("ssl.")]
    if settings:
        return tree.behind(settings[-1], lines)
    main = tree.main[0]
    end = len(tree.texts[main])
    return Edit(main, end, end, f"{'' if tree.texts[main].endswith(chr(10)) else chr(10)}{lines}\n")
