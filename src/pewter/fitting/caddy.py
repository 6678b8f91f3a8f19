"""Pieces put into the site blocks of a Caddyfile."""

import re
from collections.abc import Iterator, Sequence

from pewter.mends.kinds import Manner

from .caddy_text import CADDY
from .fitter import CHALLENGE, HeldError, Placed, Want, by_wildcard, each_host, once
from .tree import Edit, Node, Tree

_ANSWERS = frozenset({"reverse_proxy", "redir", "handle", "route", "respond", "file_server", "root"})


def fit_caddy(tree: Tree, want: Want) -> Placed:
    """Raises HeldError."""
    piece = want.piece
    if piece.place == "plain":
        return _plain(tree, want)
    if piece.place == "options":
        return _options(tree)
    if piece.place in {"tls", "passing"}:
        return each_host(want, lambda host: (_tls if piece.place == "tls" else _passing)(tree, want, host))
    there = once([each for host in want.hosts for each in sites_of(tree, host, want.port)])
    if not there:
        raise HeldError(f"no site block of {want.hosts[0]} stands in these files")
    if piece.manner is Manner.WORDS:
        return Placed([], [node for site in there for node in site.inside if node.name == "tls"] or there)
    return _directives(tree, want, there)


# Site blocks


def sites(tree: Tree) -> list[Node]:
    """Blocks with addresses: no options, and no snippets."""
    return [
        node
        for node in tree.walk()
        if node.body is not None and node.words and _is_outermost(node) and not node.name.startswith("(")
    ]


def _is_outermost(node: Node) -> bool:
    return all(each.body is None for each in node.above())


def addresses(site: Node) -> list[str]:
    return [each for word in site.words for each in word.split(",") if each]


def _split(address: str) -> tuple[str, str, int]:
    """Scheme, host and port; 0 where Caddy chooses."""
    scheme, mark, rest = address.rpartition("://")
    host, _, port = (
        rest.partition("/")[0].rpartition(":")
        if re.search(r":\d{1,5}(?:/|\Z)", rest)
        else (rest.partition("/")[0], "", "")
    )
    scheme = scheme.lower() if mark else ""
    number = int(port) if port else {"http": 80, "https": 443}.get(scheme, 0)
    return scheme, host.lower(), number


def _answers(address: str, port: int) -> bool:
    number = _split(address)[2]
    return number == port or (number == 0 and port == 443)


def sites_of(tree: Tree, host: str, port: int) -> list[Node]:
    there = [(site, [_split(each)[1] for each in addresses(site) if _answers(each, port)]) for site in sites(tree)]
    exact = [site for site, hosts in there if host.lower() in hosts]
    wild = [site for site, hosts in there if hosts and by_wildcard(hosts, host)]
    return exact or wild or [site for site, hosts in there if "" in hosts]


# Port 80


def _plain(tree: Tree, want: Want) -> Placed:
    """The blocks of a piece: each takes the place of what answers for its address over http now."""
    edits: list[Edit] = []
    found: list[Node] = []
    text = want.piece.lines
    blocks = {addresses(node)[0]: text[node.start : node.end] for node in CADDY.parse(text)}
    if "http://" in blocks:
        # Who nobody knows is refused: every other site over https needs its own redirect then.
        for other in (each for site in sites(tree) for each in addresses(site) if _answers(each, 443)):
            host = _split(other)[1]
            if host and f"http://{host}" not in blocks and not _over_http(tree, host):
                blocks[f"http://{host}"] = f"http://{host} {{\n    redir https://{host}{{uri}} permanent\n}}"
    gone: set[str] = set()
    new: list[str] = []
    for address, block in blocks.items():
        host = _split(address)[1]
        old = _over_http(tree, host)
        found += old
        kept = [tree.text_of(node) for site in old for node in site.inside if _is_of_challenge(tree, node)]
        new.append(_with_challenge(block, kept) if kept and host else block)
        gone |= {each for site in old for each in addresses(site) if _split(each)[1:] == (host, 80)}
    for site in once(found):
        left = [each for each in addresses(site) if each not in gone]
        if left:
            assert site.body is not None
            edits.append(Edit(site.path, site.start, site.body[0] - 1, f"{', '.join(left)} "))
    emptied = [site for site in once(found) if not set(addresses(site)) - gone]
    edits += [tree.without(site) for site in emptied[1:]]
    beside = once(found) or once([each for host in want.hosts for each in sites_of(tree, host, want.port)])
    if not beside:
        raise HeldError(f"no site block of {want.hosts[0]} stands in these files")
    lines = "\n\n".join(new)
    if emptied:
        edits.append(tree.in_place_of(emptied[0], lines))
    else:
        edits.append(tree.before(beside[0], f"{lines}\n"))
    return Placed(edits, beside[:1], emptied)


def _over_http(tree: Tree, host: str) -> list[Node]:
    """Site blocks with exactly this address for http."""
    return [site for site in sites(tree) if any(_split(each)[1:] == (host.lower(), 80) for each in addresses(site))]


def _is_of_challenge(tree: Tree, node: Node) -> bool:
    is_handled = node.body is not None and node.name.startswith("handle")
    return CHALLENGE in " ".join(node.words) or (is_handled and CHALLENGE in tree.text_of(node))


def _with_challenge(block: str, kept: Sequence[str]) -> str:
    """With what answers the CA's challenge, and the redirect for all other paths."""
    redirect = next(node for node in CADDY.parse(block)[0].inside if node.name == "redir")
    lines = block[redirect.start : redirect.end].replace("redir ", "redir @not-challenge ", 1)
    inner = "\n".join((*kept, "@not-challenge not path /.well-known/acme-challenge/*", lines)).replace("\n", "\n    ")
    return f"{block[: block.index('{')]}{{\n    {inner}\n}}"


# Directives


def _directives(tree: Tree, want: Want, there: Sequence[Node]) -> Placed:
    edits: list[Edit] = []
    replaced: list[Node] = []
    lines = want.piece.lines
    for site in there:
        taken = list(_taken(want, site))
        replaced += taken
        edits += (tree.without(node) for node in taken)
        stop = next((node for node in site.inside if node.name in _ANSWERS), None)
        edits.append(tree.before(stop, lines) if stop is not None else tree.at_end_of(site, lines))
    return Placed(edits, list(there), replaced)


def _taken(want: Want, site: Node) -> Iterator[Node]:
    """Lines that set the same field; a redirect without a condition, where the site has no other name."""
    of = want.piece.of
    if "redir line" in of:
        only = {_split(each)[1] for each in addresses(site)} == {want.hosts[0].lower()}
        yield from (
            node for node in site.inside if only and node.name == "redir" and not node.words[1].startswith(("@", "/"))
        )
    field = next(iter(re.findall(r"header line for ([A-Za-z-]+)", of)), "").lower()
    if not field:
        return
    for node in site.walk():
        if node.path != site.path or node.name != "header":
            continue
        if node.body is None:
            words = [word for word in node.arguments if not word.startswith(("@", "/"))]
            if words and words[0].lstrip("+-?>").lower() == field:
                yield node
        else:
            of_field = [each for each in node.inside if each.name.lstrip("+-?>").lower() == field]
            others = [each for each in node.inside if each not in of_field and each.name != "defer"]
            yield from of_field if others else [node] if of_field else []


def _options(tree: Tree) -> Placed:
    """The protocols line of servers { } in the options at the top."""
    for options in (node for node in tree.nodes if node.body is not None and not node.words):
        for servers in (node for node in options.inside if node.name == "servers"):
            lines = [node for node in servers.inside if node.name == "protocols"]
            if lines:
                gone = servers if len(servers.inside) == len(lines) else lines[0]
                return Placed([tree.without(gone)], [servers], lines)
    raise HeldError("no protocols line stands in the options of these files")


def _tls(tree: Tree, want: Want, host: str) -> Placed:
    there = sites_of(tree, host, want.port)
    found = once([node for site in there for node in (*site.walk(), *_imported(tree, site)) if node.name == "tls"])
    if not there or (not found and want.piece.manner is Manner.REMOVES):
        raise HeldError(f"no tls line of {host} stands in these files")
    name = next(iter(re.findall(r"the (\w+) line|(client_auth)", want.piece.of)), ("", ""))
    taken = [each for node in found for each in node.inside if each.name in {name[0] or name[1]}]
    edits = [tree.without(each) for each in taken]
    if want.piece.manner is Manner.REPLACES:
        edits += [_into(tree, node, want.piece.lines) for node in found]
        if not found:
            edits += [tree.at_start_of(site, f"tls {{\n    {want.piece.lines}\n}}") for site in there]
    return Placed(edits, found or there, taken)


def _imported(tree: Tree, site: Node) -> Iterator[Node]:
    """What stands in the snippets that a site block imports."""
    names = {f"({node.words[1]})" for node in site.walk() if node.name == "import" and len(node.words) > 1}
    for snippet in tree.walk():
        if snippet.body is not None and snippet.name in names:
            yield from snippet.walk()


def _into(tree: Tree, node: Node, lines: str) -> Edit:
    """Into the block of a directive, which may have none yet."""
    if node.body is not None:
        return tree.at_end_of(node, lines)
    own = tree.indent_of(node)
    inner = "\n".join(f"{own}    {line}" for line in lines.split("\n"))
    return Edit(node.path, node.end, node.end, f" {{\n{inner}\n{own}}}")


def _passing(tree: Tree, want: Want, host: str) -> Placed:
    there = sites_of(tree, host, want.port)
    found = [
        node
        for site in there
        for node in site.walk()
        if node.name in {"reverse_proxy", "php_fastcgi"} and node.path == site.path
    ]
    if not found:
        raise HeldError(f"no reverse_proxy or php_fastcgi of {host} stands in these files")
    taken = []
    if "header_up line" in want.piece.of:
        taken = [each for node in found for each in node.inside if each.words[:2] == ("header_up", "X-Forwarded-Proto")]
    edits = [tree.without(each) for each in taken]
    edits += [_into(tree, node, want.piece.lines) for node in found]
    return Placed(edits, found, taken)
