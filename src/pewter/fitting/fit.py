"""The mend of a report, fitted to a configuration: what goes to which line, what cannot be placed, and the diff."""

import difflib
import itertools
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

import msgspec

from pewter.mends.composer import Piece
from pewter.mends.kinds import Kind, Manner

from .apache import fit_apache
from .apache_text import APACHE
from .caddy import fit_caddy
from .caddy_text import CADDY
from .fitter import Fitter, HeldError, Placed, Want
from .haproxy import fit_haproxy
from .haproxy_text import HAPROXY
from .lighttpd import fit_lighttpd
from .lighttpd_text import LIGHTTPD
from .nginx import fit_nginx
from .nginx_text import NGINX
from .tree import BrokenError, Edit, Grammar, Tree


class _Fits(NamedTuple):
    grammar: Grammar
    fitter: Fitter
    marks: re.Pattern[str]
    """What stands in no other kind's configuration."""


_KINDS: dict[Kind, _Fits] = {
    Kind.APACHE: _Fits(APACHE, fit_apache, re.compile(r"(?im)^[ \t]*<(?:VirtualHost|Directory|IfModule|Location)\b")),
    Kind.CADDY: _Fits(
        CADDY, fit_caddy, re.compile(r"(?m)^[ \t]*(?:reverse_proxy|redir|file_server|php_fastcgi|respond|tls)[ \t]")
    ),
    Kind.HAPROXY: _Fits(HAPROXY, fit_haproxy, re.compile(r"(?m)^(?:frontend|backend|listen)[ \t]+\S")),
    Kind.LIGHTTPD: _Fits(
        LIGHTTPD,
        fit_lighttpd,
        re.compile(r"(?m)^[ \t]*(?:server\.(?:modules|document-root|port)[ \t]*\+?=|\$(?:HTTP|SERVER)\[)"),
    ),
    Kind.NGINX: _Fits(NGINX, fit_nginx, re.compile(r"(?m)^[ \t]*(?:http|server|events|location\b[^\n{<]*)[ \t]*\{")),
}

_SECRET = re.compile(
    r"(?i:passw|passphrase|secret|(?<!server)(?<!server_)tokens?\b|authorization|api[_-]?key|credential|bearer"
    r"|basic_?auth|userlist|stats[ \t]+auth|private[_-]?key[ \t]*[=:])|-----BEGIN|\$(?:2[aby]|5|6|apr1)\$"
)
_OPAQUE = re.compile(
    r"(?<![A-Za-z0-9+])(?=[A-Za-z0-9+]*[0-9])(?=[A-Za-z0-9+]*[a-z])(?=[A-Za-z0-9+]*[A-Z])[A-Za-z0-9+]{32,200}"
)


class Change(msgspec.Struct, frozen=True):
    """One piece that has its place."""

    path: str
    line: int
    """Of the file as it is, from 1."""

    place: str
    how: str
    gaps: tuple[int, ...]
    rule: str
    replaced: tuple[str, ...] = ()
    """Lines, likewise, that it takes the place of: ``17``, or ``snippets/tls.conf:3`` of another file."""

    by_hand: str = ""
    """What is to be done there where no line of the configuration changes."""


class Held(msgspec.Struct, frozen=True):
    """One piece that could not be placed."""

    place: str
    gaps: tuple[int, ...]
    rule: str
    reason: str
    lines: str


class FileChange(msgspec.Struct, frozen=True):
    """One file before and after."""

    path: str
    before: str
    after: str
    line_end: str = "\n"

    @property
    def diff(self) -> str:
        """Unified, of the lines that change alone (what stands beside them may be a secret)."""
        was, now = (re.findall(r"[^\n]*\n|[^\n]+", text) for text in (self.before, self.after))
        head, *lines = difflib.unified_diff(was, now, f"a/{self.path}", f"b/{self.path}", n=0)
        return head + "".join(self._shown(line) for line in lines)

    def _shown(self, line: str) -> str:
        if not line.endswith("\n"):
            return f"{line}\n\\ No newline at end of file\n"
        is_of_file = line[0] in "+-" and not line.startswith("+++ b/")
        return f"{line[:-1]}{self.line_end}" if is_of_file else line


class Fitted(msgspec.Struct, frozen=True):
    """All pieces for one program."""

    changes: tuple[Change, ...] = ()
    held: tuple[Held, ...] = ()
    commands: tuple[str, ...] = ()
    files: tuple[FileChange, ...] = ()

    @property
    def diff(self) -> str:
        return "".join(file.diff for file in self.files)


class Put(NamedTuple):
    """One piece, and the gaps that it mends."""

    piece: Piece
    gaps: tuple[int, ...]
    rule: str


def kinds_fitted() -> tuple[Kind, ...]:
    return tuple(_KINDS)


def grammar_of(kind: Kind) -> Grammar:
    return _KINDS[kind].grammar


def kind_of(text: str) -> Kind | None:
    """Whose configuration it is, where it shows."""
    found = [kind for kind, fits in _KINDS.items() if fits.marks.search(text)]
    return found[0] if len(found) == 1 else None


def fit(kind: Kind, tree: Tree, puts: Sequence[Put], site: Sequence[str]) -> Fitted:
    """Put all pieces in their places, one after the other.

    ``site``: the names that were looked at.  What cannot be placed is held back and changes nothing.
    """
    together: dict[str, set[str]] = {}
    for put in puts:
        together.setdefault(_what(put), set()).update(put.piece.hosts)
    names = frozenset(name.lower() for name in site)
    origin = {path: list(range(1, text.count("\n") + 2)) for path, text in tree.texts.items()}
    first = tree
    changes: list[Change] = []
    held: list[Held] = []
    commands: list[str] = []
    for put in puts:
        piece = put.piece
        if piece.manner is Manner.COMMAND:
            commands.append(piece.lines)
            continue
        want = Want(put.rule, piece, piece.hosts, piece.port or 443, frozenset(together[_what(put)]), names)
        try:
            placed = _KINDS[kind].fitter(tree, want)
            edits = [tree.styled(edit) for edit in placed.edits]
            edits = list(dict.fromkeys(edit for edit in edits if _changes(tree, edit)))
            _check(tree, edits)
            after = tree.edited(edits) if edits else tree
        except HeldError as exc:
            held.append(Held(piece.block, put.gaps, put.rule, str(exc), piece.lines))
            continue
        except BrokenError as exc:
            held.append(
                Held(piece.block, put.gaps, put.rule, f"with it, {exc.path} could not be read again", piece.lines)
            )
            continue
        if edits or piece.manner is Manner.WORDS:
            changes += _told(tree, put, placed, edits, origin)
        for edit in sorted(edits, key=lambda each: (each.path, each.start), reverse=True):
            _shift(tree, edit, origin[edit.path])
        tree = after
    files = [
        FileChange(path, text, tree.texts[path], "\r\n" if path in tree.with_returns else "\n")
        for path, text in first.texts.items()
        if text != tree.texts[path]
    ]
    return Fitted(tuple(changes), tuple(held), tuple(dict.fromkeys(commands)), tuple(files))


def _what(put: Put) -> str:
    """Pieces for one thing: those that replace blocks of port 80, and those of one area in one place."""
    return put.piece.place if put.piece.place == "plain" else f"{put.rule.partition('/')[0]} {put.piece.place}"


def _changes(tree: Tree, edit: Edit) -> bool:
    return tree.texts[edit.path][edit.start : edit.end] != edit.text


def _check(tree: Tree, edits: Sequence[Edit]) -> None:
    """Raises HeldError where two lie over each other, or a line that would be shown may hold a secret."""
    ordered = sorted(edits, key=lambda each: (each.path, each.start, each.end))
    for one, other in itertools.pairwise(ordered):
        is_at_its_end = other.start == other.end == one.end - 1  # a line taken out, and lines behind it
        if one.path == other.path and other.start < one.end and not is_at_its_end:
            raise HeldError("what changes lies too close together")
    for edit in ordered:
        text = tree.texts[edit.path]
        if edit.start == edit.end and text[edit.start : edit.start + 1] in {"\n", "\r", ""}:
            continue
        start, end = tree.line_start(edit.path, edit.start), tree.line_end(edit.path, max(edit.start, edit.end - 1))
        if edit.start == edit.end == start:
            continue
        for number, line in enumerate(text[start:end].split("\n"), tree.ends_before(edit.path, start) + 1):
            if _SECRET.search(line) or _OPAQUE.search(line[:10_000]):
                raise HeldError(f"{edit.path} line {number} would be shown, and may hold a secret")


def _told(
    tree: Tree, put: Put, placed: Placed, edits: Sequence[Edit], origin: Mapping[str, list[int]]
) -> Iterator[Change]:
    piece = put.piece
    by_hand = piece.lines if piece.manner is Manner.WORDS and not edits else ""
    place = piece.block.removeprefix("in place of ").removeprefix("in ")
    place = place.removesuffix(" now").removesuffix(", if there is one")
    how = "" if piece.manner is Manner.WORDS else piece.how
    lines = [(each, origin[each.path][tree.line_of(each) - 1]) for each in (*placed.at, *placed.replaced)]
    for node, line in lines[: len(placed.at)]:
        others = sorted({(each.path, number) for each, number in lines[len(placed.at) :] if each is not node})
        if len(placed.at) > 1:
            others = [each for each in others if each[0] == node.path]
        own = tuple(str(number) if path == node.path else f"{path}:{number}" for path, number in others)
        whole = node in placed.replaced and not own and piece.manner is Manner.REPLACES
        yield Change(node.path, line, place, "in its place" if whole else how, put.gaps, put.rule, own, by_hand)


def _shift(tree: Tree, edit: Edit, origin: list[int]) -> None:
    """Which line of the file as it is each line comes from."""
    start, end = tree.ends_before(edit.path, edit.start), tree.ends_before(edit.path, edit.end)
    new = [origin[start]] * edit.text.count("\n")
    # Whole lines in place of whole lines leave the next one as it is.
    is_whole = edit.start == tree.line_start(edit.path, edit.start) and edit.text[-1:] in {"", "\n"}
    origin[start : end + 1] = [*new, origin[end] if is_whole else origin[start]]
