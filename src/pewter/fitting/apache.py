"""Pieces put into the virtual hosts of Apache httpd."""

import re
from collections.abc import Callable, Iterator, Sequence

from pewter.mends.kinds import Manner

from .apache_text import APACHE
from .fitter import CHALLENGE, HeldError, Placed, Want, by_name, each_host, named, not_elsewhere, once, taken_out
from .tree import Edit, Node, Tree

_SECTIONS = frozenset({"ifmodule", "ifdefine", "ifversion", "if", "elseif", "else"})
"""What stands in them belongs to what is around them."""

_KEPT = frozenset({"serveradmin", "errorlog", "customlog", "loglevel", "servertokens", "use"})
"""Of a virtual host of port 80 whose answers are replaced."""

_REDIRECTS = frozenset({"redirect", "redirectmatch", "redirectpermanent", "redirecttemp"})
_ASKS = "reach/client-certificate"
"""What a folder asks for is not what a handshake asks for: that stays."""


def fit_apache(tree: Tree, want: Want) -> Placed:
    """Raises HeldError."""
    piece = want.piece
    match piece.place:
        case "everywhere" if want.rule != _ASKS:
            return _everywhere(tree, want)
        case "server":
            return _server(tree, want)
        case "plain":
            return each_host(want, lambda host: _redirect_all(tree, want, host))
        case "first" if piece.manner is Manner.WORDS:
            return each_host(want, lambda host: _first(tree, want, host))
        case "first":
            return _refuse(tree, want)
    hosts = once([each for host in want.hosts for each in hosts_of(tree, host, want.port)])
    if not hosts:
        raise HeldError(f"no virtual host for port {want.port} of {want.hosts[0]} stands in these files")
    if piece.manner is Manner.WORDS:
        files = [node for host in hosts for node in own(host) if node.name == "sslcertificatefile"]
        return Placed([], files or hosts)
    _alone(tree, want, hosts)
    if "redirect now" in piece.of:
        return _redirect_one(tree, want, hosts)
    return _put(tree, want, hosts)


# Virtual hosts


def own(block: Node) -> Iterator[Node]:
    """What stands in it itself: through included files, and through <IfModule> and the like."""
    for node in block.inside:
        yield node
        if node.body is None or node.name in _SECTIONS:
            yield from own(node)


def virtual_hosts(tree: Tree) -> list[Node]:
    return [node for node in tree.walk() if node.name == "virtualhost" and node.body is not None]


def _addresses(host: Node, port: int) -> list[str]:
    """``*:80`` and ``192.0.2.1:80`` of ``<VirtualHost *:80 192.0.2.1:80 *:443>``."""
    return [each for each in host.arguments if _port(each) in {port, None}]


def _port(address: str) -> int | None:
    last = address.rpartition(":")[2] if not address.endswith("]") and ":" in address else ""
    return int(last) if last.isdecimal() and len(last) < 6 else None


def names_of(host: Node) -> tuple[str, ...]:
    first = [_bare(node.words[1]) for node in own(host) if node.name == "servername" and len(node.words) > 1]
    return (*first[-1:], *(name for node in own(host) if node.name == "serveralias" for name in node.arguments))


def _bare(name: str) -> str:
    return re.sub(r":\d{1,5}\Z", "", name.removeprefix("https://").removeprefix("http://"))


def hosts_of(tree: Tree, host: str, port: int, *, any_name: bool = False) -> list[Node]:
    """Those that answer for a host: by its name, by a wildcard, else the first of the port.

    That is one without a name, but with ``any_name``.
    """
    there = [each for each in virtual_hosts(tree) if _addresses(each, port)]
    # One with names of its own would have them changed for it.
    return by_name(there, names_of, host) or [each for each in there[:1] if any_name or not names_of(each)]


def _alone(tree: Tree, want: Want, hosts: Sequence[Node]) -> None:
    """Raises HeldError where a policy would reach names that nobody looked at."""
    for host in hosts if want.rule.startswith("hsts/") else ():
        others = [name for name in names_of(host) if name.lower() not in want.site]
        if others and named(names_of(host), want.hosts[0]):
            where = tree.place_of(host)
            raise HeldError(
                f"the virtual host ({where}) answers for {others[0]} too, which was not looked at: review it as well"
            )


# Directives that are set


def _key(node: Node) -> tuple[str, ...]:
    """What it sets: a field, where it is one that is set."""
    words = node.arguments
    if node.name in {"header", "requestheader"}:
        words = tuple(word for word in words if word.lower() not in {"always", "onsuccess"})
        is_edit = words[:1] and words[0].lower().startswith("edit")
        return (node.name, *(word.lower() for word in words[1:2]), *(words[2:3] if is_edit else ()))
    if node.name == "sslopensslconfcmd" and words:
        return node.name, "groups" if words[0].lower() == "curves" else words[0].lower()
    if node.name == "sslciphersuite" and words[:1] == ("TLSv1.3",):
        return node.name, "tlsv1.3"
    return (node.name,)


def _keys(want: Want) -> set[tuple[str, ...]]:
    extra = {(word.lower(),) for word in re.findall(r"\b[A-Z][a-z]*[A-Z][A-Za-z]+\b|\bProtocols\b", want.piece.of)}
    extra -= {("requestheader",), ("sslopensslconfcmd",)}
    return {_key(node) for node in APACHE.parse(want.piece.lines)} | extra


def _put(tree: Tree, want: Want, hosts: Sequence[Node]) -> Placed:
    """At the end of each, in place of what sets the same there."""
    edits: list[Edit] = []
    replaced: list[Node] = []
    keys = _keys(want)
    for host in hosts:
        there = host.walk() if want.rule != _ASKS else (node for node in host.walk() if not _is_of_a_folder(node))
        taken = [node for node in there if node.body is None and _key(node) in keys]
        replaced += taken
        edits += taken_out(tree, host, taken)
        edits.append(_insert(tree, host, want.piece.lines))
    return Placed(edits, list(hosts), replaced)


def _insert(tree: Tree, host: Node, lines: str) -> Edit:
    """Before its first section and whatever passes on, else at its end."""
    stop = next(
        (node for node in host.inside if node.body is not None or node.name.startswith(("proxypass", "rewrite"))), None
    )
    return tree.before(stop, lines) if stop is not None else tree.at_end_of(host, lines)


def _everywhere(tree: Tree, want: Want) -> Placed:
    """In the server configuration, in place of every such line of it and of its virtual hosts."""
    keys = _keys(want)
    taken = [node for node in tree.walk() if node.body is None and _key(node) in keys and not _is_of_a_folder(node)]
    return _server_level(tree, want, taken, want.piece.lines)


def _is_of_a_folder(node: Node) -> bool:
    return any(each.name not in {"virtualhost", *_SECTIONS} for each in node.above() if each.body is not None)


def _server(tree: Tree, want: Want) -> Placed:
    """Outside every virtual host."""
    lines = APACHE.parse(want.piece.lines)
    if block := next((node for node in lines if node.name == "virtualhost"), None):
        return _new_host(tree, want, block)
    keys = _keys(want)
    taken = [node for node in tree.walk() if node.body is None and _key(node) in keys and not _is_of_a_folder(node)]
    if taken and want.piece.manner is Manner.ADDS:
        return Placed([], [])  # it stands there
    return _server_level(tree, want, taken, want.piece.lines)


def _server_level(tree: Tree, want: Want, taken: Sequence[Node], lines: str) -> Placed:
    outside = [node for node in taken if not any(each.name in {"virtualhost", "ifdefine"} for each in node.above())]
    edits = [tree.without(node) for node in once(taken) if not outside or node is not outside[0]]
    if outside:
        edits.append(tree.in_place_of(outside[0], lines))
        return Placed(edits, outside[:1], taken)
    first = _before_hosts(tree, want)
    edits.append(tree.before(first, lines))
    return Placed(edits, [first], taken)


def _before_hosts(tree: Tree, want: Want) -> Node:
    """The first virtual host, or what it stands in, in the file of that which answers for a host."""
    there = [each for host in want.hosts for each in hosts_of(tree, host, want.port)] or virtual_hosts(tree)
    if not there:
        raise HeldError("no virtual host stands in these files")
    return _outermost(next(each for each in virtual_hosts(tree) if each.path == there[0].path))


def _outermost(node: Node) -> Node:
    return next(
        (each for each in reversed(list(node.above())) if each.path == node.path and each.body is not None), node
    )


# Port 80


def _redirect_all(tree: Tree, want: Want, host: str) -> Placed:
    """A virtual host of its own for port 80 of a host, with what has to stay of the one that answers now."""
    block = next(node for node in APACHE.parse(want.piece.lines) if node.name == "virtualhost")
    if not named(names_of(block), host):
        return Placed([], [])
    redirect = next(want.piece.lines[node.start : node.end] for node in block.inside if node.name == "redirectmatch")
    name = next(want.piece.lines[node.start : node.end] for node in block.inside if node.name.startswith("server"))
    is_whole = any(node.name == "listen" for node in tree.walk())
    found = hosts_of(tree, host, 80, any_name=is_whole)
    if not found:
        beside = hosts_of(tree, host, 443)
        if not beside:
            raise HeldError(f"no virtual host of {host} stands in these files")
        text = _host(["*:80"], name, [], redirect)
        return Placed([tree.behind(_outermost(beside[0]), text)], beside[:1])
    edits: list[Edit] = []
    replaced = []
    for old in found:
        not_elsewhere(tree, [old], [old])
        edits += _redirected(tree, want, host, old, lambda addresses, kept: _host(addresses, name, kept, redirect))
        if _is_alone(old, host):
            replaced.append(old)
    return Placed(edits, found, replaced)


def _is_alone(old: Node, host: str) -> bool:
    return named(names_of(old), host) and len({name.lower() for name in names_of(old)}) == 1


def _redirected(
    tree: Tree, want: Want, host: str, old: Node, make: Callable[[Sequence[str], Sequence[str]], str]
) -> Iterator[Edit]:
    here = _addresses(old, 80)
    elsewhere = [each for each in old.arguments if each not in here or _port(each) is None]
    here = [each if _port(each) == 80 else f"{each}:80" for each in here]
    names = names_of(old)
    others = [name for name in names if name.lower() != host.lower()]
    kept = list(_kept(tree, old))
    if not named(names, host):
        yield tree.behind(old, make(here, kept))
    elif elsewhere:
        if not all(name.lower() in want.together for name in others) or None in {_port(each) for each in elsewhere}:
            where = tree.place_of(old)
            other = f"for {others[0]} too" if others else "there as well"
            raise HeldError(f"its virtual host ({where}) answers on other ports, {other}: give port 80 one of its own")
        end = tree.line_end(old.path, old.start)
        line = tree.texts[old.path][old.start : end]
        short = line
        for each in here:
            short = short.replace(f" {each}", "", 1)
        yield Edit(old.path, old.start, end, short)
        yield tree.behind(old, make(here, kept))
    elif others:
        yield from _without_name(tree, old, host, others)
        yield tree.behind(old, make(here, kept))
    else:
        yield tree.in_place_of(old, make(here, kept))


def _without_name(tree: Tree, old: Node, host: str, others: Sequence[str]) -> Iterator[Edit]:
    """The block goes on for its other names."""
    for node in own(old):
        if node.name == "servername" and named([_bare(node.words[1])], host):
            yield tree.in_place_of(node, f"ServerName {others[0]}")
        elif node.name == "serveralias":
            first = others[0] if named(names_of(old)[:1], host) else ""
            rest = [name for name in node.arguments if name.lower() not in {host.lower(), first.lower()}]
            if len(rest) < len(node.arguments):
                yield tree.in_place_of(node, f"ServerAlias {' '.join(rest)}") if rest else tree.without(node)


def _kept(tree: Tree, old: Node) -> Iterator[str]:
    """Its logs, and what leads to the CA's challenge: its Alias, the folder of that, a section or a file about it."""
    challenge = [node for node in old.inside if _is_of_challenge(tree, node)]
    folders = [node.words[-1].rstrip("/") for node in challenge if node.name == "alias"]
    for node in old.inside:
        is_folder = node.name == "directory" and any(each.startswith(node.words[-1].rstrip("/")) for each in folders)
        if node.name in _KEPT or node.name == "documentroot" or node in challenge or is_folder:
            yield tree.text_of(node)


def _is_of_challenge(tree: Tree, node: Node) -> bool:
    if node.body is not None:
        return CHALLENGE in tree.text_of(node)
    if node.name in {"include", "includeoptional"}:
        return any(CHALLENGE in " ".join(each.words) for each in node.walk())
    return node.name in {"alias", "aliasmatch"} and CHALLENGE in " ".join(node.words)


def _host(addresses: Sequence[str], name: str, kept: Sequence[str], redirect: str) -> str:
    inner = "\n".join((name, *kept, redirect)).replace("\n", "\n    ")
    return f"<VirtualHost {' '.join(addresses)}>\n    {inner}\n</VirtualHost>"


def _new_host(tree: Tree, want: Want, block: Node) -> Placed:
    """A virtual host of port 80 where none is, and its Listen line where none stands."""
    listening = any(
        node.name == "listen" and node.arguments and (_port(f":{node.words[1]}") == 80 or _port(node.words[1]) == 80)
        for node in tree.walk()
    )
    text = want.piece.lines[block.start : block.end]
    first = _before_hosts(tree, want)
    return Placed([tree.before(first, text if listening else f"Listen 80\n{text}")], [first])


# Who nobody knows


def _refuse(tree: Tree, want: Want) -> Placed:
    """A virtual host for nobody, before the first one of each address of the port."""
    block = APACHE.parse(want.piece.lines)[0]
    port = _port(block.words[1])
    assert port is not None
    there = [each for each in virtual_hosts(tree) if _addresses(each, port)]
    if not there:
        raise HeldError(f"no virtual host of port {port} stands in these files")
    edits = list(_with_names(tree, want, there, port))
    addresses = dict.fromkeys(each for host in there for each in _addresses(host, port))
    inner = "\n    ".join(want.piece.lines[node.start : node.end] for node in block.inside)
    text = f"<VirtualHost {' '.join(addresses)}>\n    {inner}\n</VirtualHost>"
    first = _outermost(there[0])
    edits.append(tree.before(first, text))
    return Placed(edits, [first])


def _with_names(tree: Tree, want: Want, there: Sequence[Node], port: int) -> Iterator[Edit]:
    """The first virtual host, where it has no name and answers for the site, is given its names."""
    first = there[0]
    if not names_of(first):
        names = sorted(name for name in want.site if first in hosts_of(tree, name, port))
        if not names:
            return
        lines = [f"ServerName {names[0]}", *([f"ServerAlias {' '.join(names[1:])}"] if names[1:] else [])]
        yield tree.at_start_of(first, "\n".join(lines))


def _first(tree: Tree, want: Want, host: str) -> Placed:
    """The virtual host of a host stands before all others of its port."""
    wanted = hosts_of(tree, host, want.port)[:1]
    there = [each for each in virtual_hosts(tree) if _addresses(each, want.port)]
    if not wanted or wanted[0] is there[0]:
        raise HeldError(
            "it stands first already, in these files" if wanted else f"no virtual host of {host} stands in these files"
        )
    old, first = wanted[0], _outermost(there[0])
    not_elsewhere(tree, [old], [old])
    if _outermost(old) is not old:
        raise HeldError(f"{old.path} line {tree.line_of(old)}: it stands in a condition")
    return Placed([tree.without(old), tree.before(first, tree.text_of(old))], [first], [old])


# Redirects over https


def _redirect_one(tree: Tree, want: Want, hosts: Sequence[Node]) -> Placed:
    """Before whatever else is rewritten or redirected there; other names keep theirs."""
    edits: list[Edit] = []
    replaced: list[Node] = []
    for host in hosts:
        only_host = all(name.lower() == want.hosts[0].lower() for name in names_of(host))
        now = [node for node in own(host) if node.name in _REDIRECTS and _leads_all(node)]
        rewrites = [node for node in host.inside if node.name in {"rewriteengine", "rewritecond", "rewriterule"}]
        for node in now if only_host else ():
            not_elsewhere(tree, [node], [host])
            edits.append(tree.without(node))
            replaced.append(node)
        stop = rewrites[0] if rewrites else next((each for each in host.inside if each.body is not None), None)
        edits.append(
            tree.before(stop, want.piece.lines) if stop is not None else tree.at_end_of(host, want.piece.lines)
        )
    return Placed(edits, list(hosts), replaced)


def _leads_all(node: Node) -> bool:
    paths = [word for word in node.arguments if word.startswith(("/", "^"))]
    return paths[:1] in (["/"], ["^/(.*)$"], ["^/"], ["^"], ["^(.*)$"])
