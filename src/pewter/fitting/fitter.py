"""What every kind of server has in common: a piece is put, or held back with a reason."""

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

from pewter.mends.composer import Piece

from .tree import Edit, Node, Tree

CHALLENGE = "acme-challenge"
"""By which the path of a CA's challenge is known: it stays."""


class HeldError(Exception):
    """A piece that cannot be placed: why."""


class Want(NamedTuple):
    """One piece, and what is to be known when it is put in place."""

    rule: str
    piece: Piece
    hosts: tuple[str, ...]
    port: int
    together: frozenset[str]
    """Hosts that have such a piece in this mend too."""

    site: frozenset[str]
    """Names that were looked at."""


class Placed(NamedTuple):
    """How a piece is put in place."""

    edits: list[Edit]
    at: list[Node]
    """The blocks that it goes to, or what it takes the place of."""

    replaced: Sequence[Node] = ()


Fitter = Callable[[Tree, Want], Placed]


def named(names: Sequence[str], host: str) -> bool:
    """Whether a list of server names has a host, exactly."""
    return host.lower() in {name.lower() for name in names}


def by_wildcard(names: Sequence[str], host: str) -> bool:
    """``*.x.example``, ``.x.example`` and ``www.*``; ``?`` as Apache httpd takes it."""
    host = host.lower()
    for name in names:
        pattern = name.lower()
        if pattern.startswith("."):
            if host.endswith(pattern) or host == pattern[1:]:
                return True
        elif ("*" in pattern or "?" in pattern) and len(pattern) < 256 and pattern.count("*") < 4:
            expression = re.escape(pattern).replace(r"\*", "[^/]*").replace(r"\?", ".")
            if re.fullmatch(expression, host[:255]):
                return True
    return False


def each_host(want: Want, place: Callable[[str], Placed]) -> Placed:
    """For all hosts of a piece: each block once."""
    edits: dict[Edit, None] = {}
    at: dict[int, Node] = {}
    replaced: dict[int, Node] = {}
    for host in want.hosts:
        placed = place(host)
        edits.update(dict.fromkeys(placed.edits))
        at.update((id(node), node) for node in placed.at)
        replaced.update((id(node), node) for node in placed.replaced)
    return Placed(list(edits), list(at.values()), list(replaced.values()))


def by_name(blocks: Sequence[Node], names_of: Callable[[Node], Sequence[str]], host: str) -> list[Node]:
    """Those that answer for a host by its name, else the first that does by a wildcard."""
    exact = [block for block in blocks if named(names_of(block), host)]
    return exact or [block for block in blocks if by_wildcard(names_of(block), host)][:1]


def once(nodes: Iterable[Node]) -> list[Node]:
    """Each node once, in order."""
    return list({id(node): node for node in nodes}.values())


def _elsewhere(tree: Tree, nodes: Sequence[Node], blocks: Sequence[Node]) -> set[tuple[str, int]]:
    """Where those of the nodes stand that another block includes too; one walk, however many there are."""
    places = {(node.path, node.start) for node in nodes}
    inside = {id(block) for block in blocks}
    return {
        (other.path, other.start)
        for other in tree.walk()
        if (other.path, other.start) in places
        and not (id(other) in inside or any(id(each) in inside for each in other.above()))
    }


def not_elsewhere(tree: Tree, nodes: Sequence[Node], blocks: Sequence[Node]) -> None:
    """Raises HeldError where one of these stands in a file that another block includes too."""
    shared = _elsewhere(tree, nodes, blocks)
    for node in nodes:
        if (node.path, node.start) in shared:
            raise _shared(tree, node)


def _shared(tree: Tree, node: Node) -> HeldError:
    return HeldError(f"{node.path} is included elsewhere too, and its line {tree.line_of(node)} would change there")


def taken_out(tree: Tree, block: Node, nodes: Sequence[Node]) -> Iterator[Edit]:
    """Out of the block; a file that other blocks include as well is written out in place of its include."""
    shared = _elsewhere(tree, nodes, [block])
    by_include: dict[int, tuple[Node, set[int]]] = {}
    for node in nodes:
        if (node.path, node.start) not in shared:
            yield tree.without(node)
            continue
        include = node.outside
        if include is None or include.body is not None or include.path == node.path:
            raise _shared(tree, node)
        by_include.setdefault(id(include), (include, set()))[1].add(id(node))
    for include, taken in by_include.values():
        not_elsewhere(tree, [include], [block])
        rest = [tree.text_of(node) for node in include.inside if id(node) not in taken]
        yield tree.in_place_of(include, "\n".join(rest) or "# (nothing is left of what was included here)")


def quoted_names(names: Iterable[str]) -> list[str]:
    """Those that are host names and nothing else, each once."""
    return list(
        dict.fromkeys(
            name.lower() for name in names if re.fullmatch(r"[A-Za-z0-9_](?:[A-Za-z0-9_.-]{0,252}[A-Za-z0-9_])?", name)
        )
    )
