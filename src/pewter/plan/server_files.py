"""A server's own configuration: read within bounds, with what it includes inside its folder; never written."""

import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

from pewter.errors import FileError, UsageError
from pewter.fitting.fit import grammar_of, kind_of, kinds_fitted
from pewter.fitting.tree import BrokenError, Node, Tree
from pewter.mends.kinds import Kind, kind_file

from .files import read_bounded

MAX_FILE, MAX_ALL, MAX_FILES = 1 << 20, 2 << 20, 300
"""Octets of one file and of all, and how many files."""


class ServerFiles(NamedTuple):
    """A configuration that was read."""

    kind: Kind
    tree: Tree
    folder: Path
    """In which the paths of its files begin."""


def read_server_files(paths: Sequence[Path], server: str, say: Callable[[str], None]) -> ServerFiles:
    """The kind of server and its configuration.  ``server``: the kind, where it was given.

    Raises UsageError where the kind does not show, FileError for what cannot be read or is no configuration.  An
    include is followed to ordinary files in the folder of the file that was named; what is not read is said.
    """
    folder = Path(os.path.commonpath([path.absolute().parent for path in paths])).resolve()
    texts: dict[str, str] = {}
    main = [_label(path, folder) for path in paths]
    for path, label in zip(paths, main, strict=True):
        texts[label] = _read(path)
    kind = _kind(paths, [texts[label] for label in main], server)
    included = _follow(kind, folder, texts, main, say)
    try:
        return ServerFiles(kind, Tree(grammar_of(kind), texts, main, included), folder)
    except BrokenError as exc:
        raise _broken(kind, exc, texts[exc.path]) from None


def check_server_files(paths: Sequence[Path]) -> None:
    """Raises FileError for one that cannot be read."""
    for path in paths:
        _read(path)


def _label(path: Path, folder: Path) -> str:
    real = path.resolve()
    return str(real.relative_to(folder)) if real.is_relative_to(folder) else path.name


def _read(path: Path) -> str:
    return read_bounded(path, MAX_FILE, "server's configuration").decode("utf-8", "surrogateescape")


def _kind(paths: Sequence[Path], texts: Sequence[str], server: str) -> Kind:
    fitted = kinds_fitted()
    if server in {kind.value for kind in fitted}:
        return Kind(server)
    found = {kind_of(text) for text in texts}
    kind = found.pop() if len(found) == 1 else None
    if kind is None:
        kinds = ", ".join(each.value for each in fitted)
        raise UsageError(
            f"--server-config {paths[0]}: whose configuration it is does not show; say --server KIND: {kinds}."
        )
    return kind


def _broken(kind: Kind, exc: BrokenError, text: str) -> FileError:
    line = text.count("\n", 0, exc.at) + 1
    return FileError(
        f"{exc.path}, line {line}, cannot be read as a configuration of {kind_file(kind).title}: {exc.words}."
    )


def _follow(
    kind: Kind, folder: Path, texts: dict[str, str], main: Sequence[str], say: Callable[[str], None]
) -> dict[tuple[str, str], list[str]]:
    """Reads what is included into ``texts``: which files, by file and pattern."""
    grammar, included, waiting = grammar_of(kind), {}, list(main)
    total = sum(map(len, texts.values()))
    while waiting:
        path = waiting.pop(0)
        try:
            nodes = grammar.parse(texts[path])
        except BrokenError as exc:
            raise _broken(kind, BrokenError(exc.at, exc.words, path), texts[path]) from None
        for pattern in dict.fromkeys(filter(None, map(grammar.included, _all(nodes)))):
            found = []
            for file in _matches(pattern, folder, main[0], path, kind):
                label = _label(file, folder)
                if label not in texts:
                    if len(texts) >= MAX_FILES:
                        raise FileError(f"{path} and what it includes are more than {MAX_FILES} files.")
                    texts[label] = _read(file)
                    total += len(texts[label])
                    if total > MAX_ALL:
                        raise FileError(f"{path} and what it includes are more than {MAX_ALL >> 20} MiB.")
                    waiting.append(label)
                found.append(label)
            if not found and not any(each in pattern for each in "*?["):
                say(f"{path}: {pattern} is not in {folder}, and not read")
            included[path, pattern] = found
    return included


def _all(nodes: Sequence[Node]) -> list[Node]:
    return [each for node in nodes for each in (node, *node.walk())]


def _matches(pattern: str, folder: Path, main: str, path: str, kind: Kind) -> list[Path]:
    """Ordinary files of the folder, in order.  A pattern is of the main file's folder; for Caddy of its own file's."""
    if (
        "\0" in pattern
        or "**" in pattern
        or sum(any(mark in part for mark in "*?[") for part in pattern.split("/")) > 2
    ):
        return []
    base = (folder / (path if kind is Kind.CADDY else main)).parent
    whole = Path(os.path.normpath(base / pattern))
    if not whole.is_relative_to(folder):
        return []
    relative = whole.relative_to(folder)
    try:
        found = sorted(folder.glob(str(relative)))[:MAX_FILES]
    except (ValueError, OSError, NotImplementedError):
        return []
    files = [file for each in found for file in (sorted(each.iterdir()) if each.is_dir() else [each])]
    return [file for file in files if file.is_file() and file.resolve().is_relative_to(folder)]
