"""Run a command while other work keeps the processors busy: ``python tests/load.py 10 COMMAND ...``.

Prints the load average at the end; exits as the command does.
"""

import os
import subprocess
import sys

BUSY = "while True: sum(range(10_000))"


def main() -> int:
    count, *command = sys.argv[1:]
    busy = [subprocess.Popen([sys.executable, "-c", BUSY]) for _ in range(int(count))]
    try:
        status = subprocess.run(command, check=False).returncode
        print(f"load average {os.getloadavg()[0]:.1f} on {os.cpu_count()} processors")
        return status
    finally:
        for process in busy:
            process.kill()
            process.wait()


if __name__ == "__main__":
    sys.exit(main())
