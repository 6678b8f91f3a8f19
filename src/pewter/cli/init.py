"""``pewter init``."""

from pewter.tasks.starting import InitRequest, init

from .saying import say
from .surroundings import Terminal


def run_init(request: InitRequest) -> int:
    """Write a starter file into the folder."""
    say(f"wrote {init(request, Terminal()).name}: pewter review goes by it from now on")
    return 0
