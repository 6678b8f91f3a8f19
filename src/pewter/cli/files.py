"""Reading the reviewer's files: bounded, and every failure in words."""

import stat
from pathlib import Path

from pewter.errors import FileError


def read_bounded(path: Path, limit: int) -> bytes:
    """The octets of a file; FileError for none, a folder, a device, and one larger than ``limit``."""
    try:
        status = path.stat()
        if stat.S_ISDIR(status.st_mode):
            raise FileError(f"{path} is a folder; name the files in it.")
        if not stat.S_ISREG(status.st_mode) and not stat.S_ISFIFO(status.st_mode):
            raise FileError(f"{path} is no ordinary file.")
        if status.st_size > limit:
            size = f"{status.st_size >> 20} MiB"
            raise FileError(f"{path} is {size}; more than {limit >> 20} MiB is no file of certificates or keys.")
        with path.open("rb") as file:
            octets = file.read(limit + 1)
    except OSError as exc:
        raise FileError(f"{path} cannot be read: {exc.strerror}.") from exc
    if len(octets) > limit:
        raise FileError(f"{path} gives more than {limit >> 20} MiB, which is no file of certificates or keys.")
    return octets
