"""Pieces put into the server blocks of nginx."""

import re
from collections.abc import Collection, Iterator, Sequence

from pewter.mends.kinds import Manner

from .fitter import (
    CHALLENGE,
    HeldError,
    Placed,
    Want,
    by_name,
    by_wildcard,
    each_host,
    named,
    not_elsewhere,
    once,
    taken_out,
)
from .nginx_text import NGINX
from .tree import Edit, Node, Tree

_OF_A_FIELD = frozenset(
    {"add_header", "proxy_set_header", "proxy_hide_header", "fastcgi_hide_header", "proxy_cookie_flags"}
)
"""What is inherited only where a block has none of its own; each sets what its first word names."""

_PASSES = frozenset({"proxy_pass", "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass"})
_KEPT = frozenset({"access_log", "error_log", "log_not_found", "server_tokens", "set_real_ip_from", "real_ip_header"})
"""Of a block of port 80 whose answers are replaced."""

_NO_NAMES = frozenset({"_", "", "localhost"})
_OTHERS = frozenset({"stream", "mail"})


def fit_nginx(tree: Tree, want: Want) -> Placed:
    """Raises HeldError."""
    piece = want.piece
    if piece.place == "http":
        return _everywhere(tree, want)
    if piece.place == "blocks":
        return _refuse(tree, want)
    if piece.place == "plain":
        return each_host(want, lambda host: _redirect_all(tree, want, host))
    if piece.manner is Manner.WORDS:
        return each_host(want, lambda host: _by_words(tree, want, host))
    if piece.place == "passing":
        return _put(tree, want, [each for host in want.hosts for each in _passing(tree, host, want.port)])
    blocks = once([each for host in want.hosts for each in blocks_of(tree, host, want.port)])
    if not blocks:
        raise HeldError(f"no server block for port {want.port} of {want.hosts[0]} stands in these files")
    _alone(tree, want, blocks)
    if "the line that redirects now" in piece.of:
        return _redirect_one(tree, want, [each for each in blocks if _has_condition(tree, each, piece.only)])
    return _put(tree, want, blocks)


# Server blocks


def servers(tree: Tree) -> list[Node]:
    return [
        node
        for node in tree.walk()
        if node.name == "server" and node.body is not None and not any(each.name in _OTHERS for each in node.above())
    ]


def listens(server: Node, port: int) -> list[Node]:
    return [node for node in server.direct() if node.name == "listen" and _port(node) == port]


def _port(listen: Node) -> int | None:
    address = listen.words[1] if len(listen.words) > 1 else ""
    if address.startswith("unix:"):
        return None
    last = address.rpartition(":")[2] if not address.endswith("]") else ""
    return int(last) if last.isdecimal() and len(last) < 6 else 80


def _listens_on(server: Node, port: int) -> bool:
    any_listen = any(node.name == "listen" for node in server.direct())
    return bool(listens(server, port)) or (not any_listen and port == 80)


def names_of(server: Node) -> tuple[str, ...]:
    return tuple(name for node in server.direct() if node.name == "server_name" for name in node.arguments)


def blocks_of(tree: Tree, host: str, port: int, *, any_name: bool = False) -> list[Node]:
    """Those that answer for a host: by its name, by a wildcard, else the default of the port.

    That is one without a name, but with ``any_name``.
    """
    there = [each for each in servers(tree) if _listens_on(each, port)]
    if found := by_name(there, names_of, host):
        return found
    if any(name.startswith("~") for each in there for name in names_of(each)):
        raise HeldError(f"a server_name with a regular expression may be what answers for {host} on port {port}")
    default = [each for each in there if any("default" in " ".join(node.words) for node in listens(each, port))]
    # One with names of its own would have them changed for it.
    return [each for each in (default or there)[:1] if any_name or set(names_of(each)) <= _NO_NAMES]


def _alone(tree: Tree, want: Want, blocks: Sequence[Node]) -> None:
    """Raises HeldError where a policy would reach names that nobody looked at."""
    if not want.rule.startswith("hsts/"):
        return
    for block in blocks:
        others = [name for name in names_of(block) if name not in want.site and name not in {"_", ""}]
        if others and named(names_of(block), want.hosts[0]):
            where = tree.place_of(block)
            raise HeldError(
                f"the block ({where}) answers for {others[0]} too, which was not looked at: review it as well"
            )


# Directives that are set


def _key(node: Node) -> tuple[str, ...]:
    if node.name in _OF_A_FIELD and node.arguments:
        return node.name, node.arguments[0].lower()
    return (node.name,)


def _statements(lines: str) -> list[tuple[Node, str]]:
    return [(node, lines[node.start : node.end]) for node in NGINX.parse(lines)]


def _everywhere(tree: Tree, want: Want) -> Placed:
    """In http { }, in place of every such line at any depth."""
    http = [node for node in tree.nodes if node.name == "http" and node.body is not None]
    if not http:
        raise HeldError("no http { } stands in these files: name nginx.conf too")
    return _put(tree, want, http)


def _put(tree: Tree, want: Want, blocks: Sequence[Node]) -> Placed:
    """The lines, in place of those that set the same in a block or within it; what it inherits stays."""
    statements = _statements(want.piece.lines)
    extra = {(word,) for word in re.findall(r"[a-z]+_[a-z_]+", want.piece.of)} - {(name,) for name in _OF_A_FIELD}
    keys = {_key(node) for node, _ in statements} | extra
    edits: list[Edit] = []
    replaced: list[Node] = []
    for block in once(blocks):
        taken = [node for node in block.walk() if _key(node) in keys and node.body is None]
        replaced += taken
        edits += taken_out(tree, block, taken)
        edits += _put_into(tree, block, statements, taken)
        for inner in (node for node in block.walk() if node.body is not None):
            of_it = [text for node, text in statements if node.name in _OF_A_FIELD and _has(inner, node.name)]
            if of_it and inner.name != "server":
                not_elsewhere(tree, [inner], [block])
                edits.append(_insert(tree, inner, "\n".join(of_it)))
            elif of_it:
                raise HeldError(f"{inner.path} line {tree.line_of(inner)} has lines of its own for it")
    return Placed(edits, list(blocks), replaced)


def _put_into(
    tree: Tree, block: Node, statements: Sequence[tuple[Node, str]], taken: Collection[Node]
) -> Iterator[Edit]:
    """Before what it inherits, and before lines that count for any cookie: the first one for a cookie wins."""
    lines = "\n".join((*_texts(statements), *_inherited(tree, block, statements)))
    if any(node.name == "proxy_cookie_flags" for node, _ in statements):
        own = [node for node in block.inside if node.name == "proxy_cookie_flags" and node not in taken]
        if own:
            yield tree.before(own[0], lines)
            return
    yield _insert(tree, block, lines)


def _texts(statements: Sequence[tuple[Node, str]]) -> list[str]:
    return [text for _, text in statements]


def _has(block: Node, name: str) -> bool:
    return any(node.name == name for node in block.direct())


def _inherited(tree: Tree, block: Node, statements: Sequence[tuple[Node, str]]) -> list[str]:
    """Lines further out that a first line of their kind would hide."""
    keys = {_key(node) for node, _ in statements}
    found = []
    for name in dict.fromkeys(node.name for node, _ in statements if node.name in _OF_A_FIELD):
        if not _has(block, name):
            outer = next((each for each in block.above() if each.body is not None and _has(each, name)), None)
            lines = [node for node in outer.direct() if node.name == name] if outer is not None else []
            found += [tree.text_of(node) for node in lines if _key(node) not in keys]
    return found


def _insert(tree: Tree, block: Node, lines: str) -> Edit:
    """Behind its last directive that is no block and no other file, in the file of the block."""
    assert block.body is not None
    first_block = min((node.start for node in block.inside if node.body is not None), default=block.end)
    simple = [
        node for node in block.inside if node.body is None and node.name != "include" and node.start < first_block
    ]
    if simple and tree.is_alone(simple[-1]):
        return tree.behind(simple[-1], lines)
    return tree.at_end_of(block, lines)


def _passing(tree: Tree, host: str, port: int) -> list[Node]:
    """The locations that pass on what is asked of a host."""
    found = [
        (node.name, next((each for each in node.above() if each.name in {"location", "server"} and each.body), None))
        for block in blocks_of(tree, host, port)
        for node in block.walk()
        if node.name in _PASSES
    ]
    proxied = [block for name, block in found if name == "proxy_pass" and block is not None]
    if not proxied:
        how = "by FastCGI or the like: the application sets it" if found else "from no other program"
        raise HeldError(f"what {host} answers comes {how}")
    return proxied


# Port 80


def _redirect_all(tree: Tree, want: Want, host: str) -> Placed:
    """A block of its own for port 80 of a host, with what has to stay of the one that answers now."""
    lines = next(node for node in NGINX.parse(want.piece.lines) if node.name == "server")
    if not named(names_of(lines), host):
        return Placed([], [])  # the lines of another host of the entry
    assert lines.body is not None
    location = next(want.piece.lines[node.start : node.end] for node in lines.inside if node.name == "location")
    is_whole = any(node.name == "http" and node.body is not None for node in tree.nodes)
    found = blocks_of(tree, host, 80, any_name=is_whole)
    if not found:
        beside = blocks_of(tree, host, 443)
        if not beside:
            raise HeldError(f"no server block of {host} stands in these files")
        # At the addresses at which it has https.
        addresses = [re.sub(r"(?<![0-9])443\Z", "80", node.words[1]) for node in listens(beside[0], 443)]
        block = _server([f"listen {each};" for each in addresses], host, [], location)
        return Placed([tree.behind(beside[0], block)], beside[:1])
    edits: list[Edit] = []
    for old in found:
        edits += _redirected(tree, want, host, old, location)
    return Placed(edits, found, found if all(_is_replaced(tree, each, edits) for each in found) else ())


def _is_replaced(tree: Tree, node: Node, edits: Sequence[Edit]) -> bool:
    return any(edit.path == node.path and edit.start <= node.start and edit.end >= node.end for edit in edits)


def _redirected(tree: Tree, want: Want, host: str, old: Node, location: str) -> Iterator[Edit]:
    here = listens(old, 80)
    elsewhere = [node for node in old.direct() if node.name == "listen" and node not in here]
    others = [name for name in names_of(old) if name.lower() != host.lower()]
    is_named = named(names_of(old), host)
    kept = list(_kept(tree, old))
    not_elsewhere(tree, [*here, old], [old])
    as_they_are = [tree.text_of(node) for node in here] or ["listen 80;"]
    bare = [f"listen {node.words[1]};" for node in here] or ["listen 80;"]
    if not is_named:
        # A catch-all: it goes on answering for all others.  .x.example has x.example itself as its name too.
        if f".{host}" in names_of(old):
            yield from _renamed(tree, old, [f"*{name}" if name == f".{host}" else name for name in names_of(old)])
        yield tree.behind(old, _server(bare, host, kept, location))
    elif elsewhere:
        if not all(name.lower() in {each.lower() for each in want.together} for name in others):
            where = tree.place_of(old)
            raise HeldError(
                f"its block ({where}) answers on other ports and for {others[0]} too: give port 80 a block of its own"
            )
        yield from (tree.without(node) for node in here)
        yield tree.behind(old, _server(as_they_are, host, kept, location))
    elif others:
        yield from _renamed(tree, old, [name for name in names_of(old) if name.lower() != host.lower()])
        yield tree.behind(old, _server(bare, host, kept, location))
    else:
        yield tree.in_place_of(old, _server(as_they_are, host, kept, location))


def _kept(tree: Tree, old: Node) -> Iterator[str]:
    """What stays of a block of port 80: its logs, and the path of the CA's challenge."""
    challenge = [node for node in old.inside if _is_of_challenge(node)]
    for node in old.inside:
        is_root = node.name == "root"
        if node.name in _KEPT or node in challenge or is_root or (node.name == "add_header" and _is_harmless(node)):
            yield tree.text_of(node)
    if not challenge and any(node.name == "root" for node in old.direct()):
        yield "location ^~ /.well-known/acme-challenge/ { }"


def _is_harmless(node: Node) -> bool:
    return node.arguments[:1] != ("Strict-Transport-Security",)


def _is_of_challenge(node: Node) -> bool:
    if node.name == "location":
        return any(CHALLENGE in word for word in node.words)
    return node.name == "include" and any(
        each.name == "location" and any(CHALLENGE in word for word in each.words) for each in node.walk()
    )


def _server(listen: Sequence[str], host: str, kept: Sequence[str], location: str) -> str:
    inner = "\n".join((*listen, f"server_name {host};", *kept, location)).replace("\n", "\n    ")
    return f"server {{\n    {inner}\n}}"


def _renamed(tree: Tree, server: Node, names: Collection[str]) -> Iterator[Edit]:
    """With these names in place of those that it has."""
    there = [node for node in server.direct() if node.name == "server_name"]
    not_elsewhere(tree, there, [server])
    if not there:
        yield _insert(tree, server, f"server_name {' '.join(names)};")
        return
    yield tree.in_place_of(there[0], f"server_name {' '.join(names)};")
    yield from (tree.without(node) for node in there[1:])


# Who nobody knows


def _refuse(tree: Tree, want: Want) -> Placed:
    """A default server that refuses, at every address of the port; it takes that from the others."""
    lines = NGINX.parse(want.piece.lines)[0]
    port = next(port for node in lines.inside if node.name == "listen" and (port := _port(node)))
    there = [(server, node) for server in servers(tree) for node in listens(server, port)]
    if not there:
        raise HeldError(f"no listen line of port {port} stands in these files")
    edits = []
    for server, node in there:
        words = [word for word in node.words if word not in {"default_server", "default"}]
        if len(words) < len(node.words):
            not_elsewhere(tree, [node], [server])
            edits.append(tree.in_place_of(node, f"{' '.join(words)};"))
    addresses = dict.fromkeys(node.words[1] for _, node in there)
    ssl = "ssl " if port != 80 else ""
    inside = [f"listen {address} {ssl}default_server;" for address in addresses]
    inside += [want.piece.lines[node.start : node.end] for node in lines.inside if node.name != "listen"]
    beside = next((each for host in want.hosts for each in blocks_of(tree, host, port)), there[0][0])
    # A block that answers only because no other does is given the names that it answers for.
    edits += dict.fromkeys(edit for name in sorted(want.site) for edit in _named_at(tree, want, name, port))
    inner = "\n    ".join(inside)
    edits.append(tree.behind(beside, f"server {{\n    {inner}\n}}"))
    return Placed(edits, [beside])


def _by_words(tree: Tree, want: Want, host: str) -> Placed:
    """What the catalogue tells in words."""
    words = want.piece.lines
    blocks = blocks_of(tree, host, want.port)
    if not blocks:
        raise HeldError(f"no server block for port {want.port} of {host} stands in these files")
    if words.startswith("If its server_name is missing"):
        return _with_name(tree, want, host)
    if found := re.match(r"Add the word (http2|ssl) ", words):
        lines = [node for block in blocks for node in listens(block, want.port)]
        not_elsewhere(tree, lines, blocks)
        short = [node for node in lines if found[1] not in node.words]
        return Placed([tree.in_place_of(node, f"{' '.join(node.words)} {found[1]};") for node in short], blocks, short)
    certificates = [node for block in blocks for node in block.direct() if node.name == "ssl_certificate"]
    return Placed([], certificates or blocks)


def _with_name(tree: Tree, want: Want, host: str) -> Placed:
    """Blocks that answer for a host only because no other does are given its name."""
    edits = [edit for port in (80, want.port) for edit in _named_at(tree, want, host, port)]
    return Placed(edits, blocks_of(tree, host, want.port))


def _named_at(tree: Tree, want: Want, host: str, port: int) -> Iterator[Edit]:
    for block in blocks_of(tree, host, port):
        names = names_of(block)
        if not named(names, host) and not by_wildcard(names, host) and set(names) <= _NO_NAMES:
            site = sorted(name for name in want.site if block in blocks_of(tree, name, port))
            yield from _renamed(tree, block, site or [host])


# Redirects over https


def _has_condition(tree: Tree, block: Node, only: str) -> bool:
    """Of two pieces for one place the one that fits: ``it has no add_header Strict-Transport-Security``."""
    words = re.fullmatch(r"it has (no|an) (\S+) (\S+)", only)
    if words is None:
        return True
    has = any(_key(node) == (words[2], words[3].lower()) for node in block.direct())
    return has is (words[1] == "an")


def _redirect_one(tree: Tree, want: Want, blocks: Sequence[Node]) -> Placed:
    """Before whatever else redirects there: other names of the block keep theirs."""
    edits: list[Edit] = []
    replaced = []
    statements = _statements(want.piece.lines)
    fields = [each for each in statements if each[0].name == "add_header"]
    lines = "\n".join(text for node, text in statements if node.name != "add_header")
    for block in blocks:
        now = [node for node in block.inside if _redirects(node)]
        only_host = all(name.lower() == want.hosts[0].lower() for name in names_of(block))
        if now and only_host and now[0].name == "return":
            edits.append(tree.in_place_of(now[0], lines))
            replaced.append(now[0])
        elif now:
            edits.append(tree.before(now[0], lines))
        else:
            edits.append(_insert(tree, block, lines))
        if fields:
            texts = "\n".join((*_inherited(tree, block, fields), *_texts(fields)))
            edits.append(_insert(tree, block, texts))
    return Placed(edits, list(blocks), replaced)


def _redirects(node: Node) -> bool:
    """A directive of a server block that answers with a redirect, on some condition or none."""
    if node.name == "return":
        return len(node.words) > 1 and (node.words[1][:1] == "3" or "://" in node.words[1])
    if node.name == "rewrite":
        return node.words[-1] in {"redirect", "permanent"} or "://" in node.words[-1]
    return node.name == "if" and any(_redirects(each) for each in node.inside)
