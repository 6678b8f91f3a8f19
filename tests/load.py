"""Run a command while other work keeps the processors busy: ``python tests/load.py 10 COMMAND ...``.

Prints the load average at the end; exits as the command does.
"""

import contextlib
import os
import subprocess
import sys
from collections.abc import Iterator

BUSY = "while True: sum(range(10_000))"


@contextlib.contextmanager
def busy(count: int) -> Iterator[None]:
    """So many programs that never rest."""
    running = [subprocess.Popen([sys.executable, "-c", BUSY]) for _ in range(count)]
    try:
        yield
    finally:
        for process in running:
            process.kill()
            process.wait()


def main() -> int:
    count, *command = sys.argv[1:]
    with busy(int(count)):
        status = subprocess.run(command, check=False).returncode
        print(f"load average {os.getloadavg()[0]:.1f} on {os.cpu_count()} processors")
        return status


if __name__ == "__main__":
    sys.exit(main())
