"""Where the program begins: what is typed while it loads (Ctrl-C) ends in a sentence as well."""

import signal
import sys


def run() -> None:
    """The console script."""
    try:
        from .main import run as run_program  # noqa: PLC0415
    except KeyboardInterrupt:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        print("pewter: interrupted", file=sys.stderr)
        sys.exit(130)
    run_program()
