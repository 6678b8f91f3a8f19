"""Worker processes of this machine: forked before anything else runs where that is safe, else started anew.

What the survey's own process imported and read is then imported and read once, and its memory is shared.  Forks and
threads do not go together: so workers are forked first, before there is any thread, and one that died is replaced by
a program of its own.
"""

import contextlib
import gc
import os
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from pewter.errors import NotReviewedError
from pewter.plan.root_stores import own_stores
from pewter.web.suffixes import is_apex

from .worker import serve


class Process(Protocol):
    """A worker's process, as far as it concerns the survey."""

    def kill(self) -> None: ...

    def wait(self) -> object: ...


@dataclass
class Started:
    """A worker process and the socket by which it takes orders; it ends when that is closed."""

    process: Process
    connection: socket.socket

    def end(self) -> None:
        """At once, whatever it does."""
        self.connection.close()
        self.process.kill()
        self.process.wait()


@dataclass
class _Forked:
    pid: int
    _is_over: bool = field(default=False, init=False)

    def kill(self) -> None:
        if not self._is_over:  # else its number may be another's by now
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, signal.SIGKILL)

    def wait(self) -> object:
        if not self._is_over:
            with contextlib.suppress(ChildProcessError):
                os.waitpid(self.pid, 0)
            self._is_over = True
        return None


def start(command: Sequence[str]) -> Started:
    """A program of its own, which takes orders on its standard input.  NotReviewedError where there can be none."""
    ours, theirs = socket.socketpair()
    with theirs:
        try:
            return Started(subprocess.Popen(command, stdin=theirs.fileno(), stdout=subprocess.DEVNULL), ours)
        except OSError as exc:
            ours.close()
            raise NotReviewedError(f"A worker process cannot be started: {exc.strerror}.") from exc


@contextlib.contextmanager
def forked(count: int) -> Iterator[list[Started]]:
    """So many workers, to be taken from the list; none where forking is not safe.  What is left at the end is ended."""
    ready: list[Started] = []
    if sys.platform == "linux" and threading.active_count() == 1:
        own_stores()
        is_apex("x.example")
        gc.freeze()
        with contextlib.suppress(OSError):  # no more processes may be had: the survey says so when it starts one
            for _ in range(count):
                ready.append(_fork(ready))
    try:
        yield ready
    finally:
        for each in ready:
            each.end()


def _fork(others: Sequence[Started]) -> Started:
    ours, theirs = socket.socketpair()
    try:
        pid = os.fork()
    except OSError:
        ours.close()
        theirs.close()
        raise
    if pid:
        theirs.close()
        return Started(_Forked(pid), ours)
    status = 1
    try:
        # Held open here, they would keep the others from ending with the survey.
        for each in (ours, *(other.connection for other in others)):
            each.close()
        for name in (signal.SIGTERM, signal.SIGHUP):
            signal.signal(name, signal.SIG_DFL)
        serve(theirs)
        status = 0
    finally:
        os._exit(status)
