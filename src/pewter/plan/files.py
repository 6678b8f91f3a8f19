"""The reviewer's files: read within a bound, written whole or not at all, and every failure in words."""

import contextlib
import os
import stat
from pathlib import Path

from pewter.errors import FileError

_PIECE = 1 << 20


def read_bounded(path: Path, limit: int, kind: str = "file of certificates or keys") -> bytes:
    """The octets of a file; FileError for none, for whatever is no ordinary file, and for one longer than ``limit``.

    The bound is on the octets that are read: what a file's status says may be wrong or grow.
    """
    try:
        with os.fdopen(_open_ordinary(path), "rb", buffering=0) as file:
            # As long as it says it is, in one piece: joining pieces takes the memory twice.
            octets = file.read(min(os.fstat(file.fileno()).st_size, limit) + 1) or b""
            while len(octets) <= limit and (piece := file.read(min(_PIECE, limit + 1 - len(octets)))):
                octets += piece
    except (OSError, ValueError) as exc:  # ValueError: a null in the name
        raise FileError(f"{path} cannot be read: {why(exc)}.") from exc
    if len(octets) > limit:
        raise FileError(f"{path} is longer than {limit >> 20} MiB, which is no {kind}.")
    return octets


def _open_ordinary(path: Path) -> int:
    """A descriptor of a file that is one.  Without O_NONBLOCK, opening a FIFO waits for whoever may write to it."""
    descriptor = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    mode = os.fstat(descriptor).st_mode
    if stat.S_ISREG(mode):
        return descriptor
    os.close(descriptor)
    raise FileError(
        f"{path} is a folder; name the files in it." if stat.S_ISDIR(mode) else f"{path} is no ordinary file."
    )


def check_writable(path: Path) -> None:
    """Say before the work, not after it, that a file cannot be written: by a trial in its folder."""
    try:
        target = _target(path)
        if path.exists() and not os.access(path, os.W_OK):
            raise FileError(f"{path} cannot be written: it is read-only.")
        if not target.parent.is_dir():
            raise FileError(f"{path} cannot be written: {target.parent} is no folder.")
        temporary = _temporary(target)
        try:
            os.close(os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
        finally:
            temporary.unlink(missing_ok=True)
    except (OSError, ValueError) as exc:
        raise FileError(f"{path} cannot be written: {why(exc)}.") from exc


def write_whole(path: Path, octets: bytes) -> None:
    """Write beside the target and rename: it holds all of ``octets`` afterwards, or what it held before."""
    try:
        target = _target(path)
        temporary = _temporary(target)
        try:
            with temporary.open("xb") as file:
                file.write(octets)
                file.flush()
                os.fsync(file.fileno())
            if target.exists():
                temporary.chmod(stat.S_IMODE(target.stat().st_mode))
            temporary.replace(target)
            _sync_folder(target.parent)
        except BaseException:
            with contextlib.suppress(OSError):
                temporary.unlink(missing_ok=True)
            raise
    except (OSError, ValueError) as exc:
        raise FileError(f"{path} cannot be written: {why(exc)}.") from exc


def _sync_folder(folder: Path) -> None:
    """The new name is the folder's: without this a power cut may bring the old file back.  Not every system can."""
    with contextlib.suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


def _target(path: Path) -> Path:
    """Where a link leads: it stays a link.  FileError for what is there and no ordinary file."""
    if path.exists() and not path.is_file():
        raise FileError(f"{path} cannot be written: it is no ordinary file.")
    try:
        return path.resolve()
    except RuntimeError as exc:  # as Python up to 3.12 says it
        raise FileError(f"{path} cannot be written: its links lead in a circle.") from exc


def _temporary(target: Path) -> Path:
    """Beside the target, so that a rename stays on one file system; short, since names have an end at 255 octets."""
    return target.with_name(f".pewter-{os.urandom(6).hex()}")


def why(exc: OSError | ValueError) -> str:
    """What the system has against a path, in words."""
    if isinstance(exc, OSError):
        return exc.strerror or "it is not there"
    return "its name cannot stand in a path"
