"""All lines of a review at once: for each program, block by block, each line once, in a safe order."""

import msgspec

from pewter.levels import Level
from pewter.mends.composer import Piece
from pewter.mends.kinds import Kind, Manner, kind_file

from .results import GapEntry, Results

_ORDER = (
    *(Manner.WORDS, Manner.REMOVES, Manner.REPLACES, Manner.FIRST, Manner.ADDS, Manner.LAST),
    *(Manner.BEFORE, Manner.NEW, Manner.COMMAND),
)


class Put(msgspec.Struct, frozen=True):
    """One piece, and the gaps that it mends."""

    piece: Piece
    how: str
    """``in place of every ssl_ciphers line``, ``beside what is there``; empty where the place says all."""

    gaps: tuple[int, ...]


class Block(msgspec.Struct, frozen=True):
    """What belongs to one place of a configuration."""

    where: str
    puts: tuple[Put, ...]


class Program(msgspec.Struct, frozen=True):
    """One kind of server, with all that is to be done to it now."""

    server: str
    blocks: tuple[Block, ...]
    reload: str = ""


class Later(msgspec.Struct, frozen=True):
    """Lines that would not be safe yet."""

    number: int
    rule: str
    server: str
    reason: str


class WholeMend(msgspec.Struct, frozen=True):
    """The answer to a whole report."""

    programs: tuple[Program, ...]
    later: tuple[Later, ...]
    without_lines: tuple[GapEntry, ...]
    """Gaps that no line for a server mends."""

    notes: int
    """Gaps of the level note that have lines: they are left out."""


def whole_mend(results: Results) -> WholeMend:
    """Of all gaps at ``weakens`` or above."""
    graver = [entry for entry in results.gaps if entry.level is not Level.NOTE]
    by_server: dict[str, dict[Piece, list[int]]] = {}
    later: list[Later] = []
    without: list[GapEntry] = []
    for entry in graver:
        lines = [each for each in entry.configurations if not each.is_second]
        later += (Later(entry.number, entry.rule, each.server, each.held_back) for each in lines if each.held_back)
        if not lines:
            without.append(entry)
        for configuration in lines:
            for piece in configuration.pieces:
                own = msgspec.structs.replace(piece, hosts=piece.hosts or configuration.hosts)
                by_server.setdefault(configuration.server, {}).setdefault(own, []).append(entry.number)
    notes = sum(any(each.pieces for each in entry.configurations) for entry in results.gaps if entry not in graver)
    programs = tuple(_program(server, pieces) for server, pieces in by_server.items())
    return WholeMend(programs, tuple(later), tuple(without), notes)


def _program(server: str, pieces: dict[Piece, list[int]]) -> Program:
    blocks: dict[str, list[Put]] = {}
    for piece, gaps in pieces.items():
        how = f"{piece.how}, if {piece.only}" if piece.only else piece.how
        _add(blocks.setdefault(piece.block, []), Put(piece, how, tuple(gaps)))
    kind = next((each for each in Kind if kind_file(each).title == server), None)
    reload = kind_file(kind).reload if kind is not None else ""
    commands = blocks.pop("run", [])
    first = [put for put in commands if put.piece.lines != reload]
    last = [put for put in commands if put.piece.lines == reload]
    found = [("run", first), *blocks.items(), ("run", last)]
    ordered = (Block(where, tuple(sorted(puts, key=_position))) for where, puts in found if puts)
    return Program(server, tuple(ordered), "" if last else reload)


def _position(put: Put) -> int:
    return _ORDER.index(put.piece.manner)


def _add(puts: list[Put], new: Put) -> None:
    """Each line once; of two for one thing the one that says more."""
    for position, put in enumerate(puts):
        same_lines = put.piece.lines == new.piece.lines and put.how == new.how
        same_thing = put.how == new.how and put.how.startswith("in place of") and _sets_the_same(put.piece, new.piece)
        if same_lines or same_thing:
            fuller = put if len(put.piece.lines) >= len(new.piece.lines) else new
            gaps = tuple(sorted({*put.gaps, *new.gaps}))
            piece = fuller.piece
            hosts = tuple(dict.fromkeys((*put.piece.hosts, *new.piece.hosts)))
            note = piece.note or put.piece.note or new.piece.note
            piece = msgspec.structs.replace(piece, note=note, hosts=hosts)
            puts[position] = Put(piece, put.how, gaps)
            return
    puts.append(new)


def _sets_the_same(one: Piece, other: Piece) -> bool:
    """By the first two words of each line: the directive and, mostly, what it is for."""
    heads = [{tuple(line.split()[:2]) for line in piece.lines.splitlines() if line.strip()} for piece in (one, other)]
    return heads[0] == heads[1]
