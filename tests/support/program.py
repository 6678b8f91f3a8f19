"""The built program, as a user starts it."""

import contextlib
import os
import subprocess
import sysconfig
from collections.abc import Iterator
from pathlib import Path

PROGRAM = Path(sysconfig.get_path("scripts")) / "pewter"


def environment(**changes: str) -> dict[str, str]:
    kept = {name: value for name, value in os.environ.items() if not name.lower().endswith("_proxy")}
    return {**kept, "COLUMNS": "100", "PYTHONUTF8": "1", **changes}


def pewter(*arguments: object, folder: Path, **changes: str) -> subprocess.CompletedProcess[str]:
    """Run to the end; standard output and error apart."""
    return subprocess.run(
        [PROGRAM, *map(str, arguments)], cwd=folder, env=environment(**changes), check=False,
        capture_output=True, encoding="utf-8", timeout=120, stdin=subprocess.DEVNULL,
    )  # fmt: skip


@contextlib.contextmanager
def pewter_running(*arguments: object, folder: Path, until: str) -> Iterator[subprocess.Popen[str]]:
    """A program under way, from when a line of its output holds ``until``."""
    process = subprocess.Popen(
        [PROGRAM, *map(str, arguments)], cwd=folder, env=environment(), encoding="utf-8",
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        assert process.stdout is not None
        for line in process.stdout:
            if until in line:
                break
        else:
            raise AssertionError(f"it ended before it said {until!r}")
        yield process
    finally:
        process.terminate()
        process.wait(60)
        process.stdout.close()


__all__ = ["PROGRAM", "environment", "pewter", "pewter_running"]
