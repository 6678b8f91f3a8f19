"""Where the program begins: what is typed while it loads (Ctrl-C) ends in a sentence as well."""

import gc
import signal
import sys

OBJECTS_BETWEEN_COLLECTIONS = 50_000
"""What is imported stays: the usual 700 would have it looked through for garbage a hundred times."""


def run() -> None:
    """The console script."""
    gc.set_threshold(OBJECTS_BETWEEN_COLLECTIONS)
    try:
        from .main import run as run_program  # noqa: PLC0415
    except OSError as exc:
        print(f"pewter: it cannot be loaded: {exc.strerror or exc}", file=sys.stderr)
        sys.exit(2)
    except KeyboardInterrupt:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        print("pewter: interrupted", file=sys.stderr)
        sys.exit(130)
    run_program()
