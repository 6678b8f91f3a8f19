"""Attacks on the built program: ``make attack``.

Each is one process of its own with a folder of its own.  It survives where the program ends in time with a status that
the attack allows, within its memory, without a traceback, without a character that a terminal obeys, without a line
that somebody else began, with its review written whole and no file left over, and with nothing led to where nobody
may be led.  Prints wall time, processor time and peak memory of each, and exits with 1 where one was not survived.
"""

import concurrent.futures
import contextlib
import os
import pty
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from attack.attacks import ATTACKS
from attack.stage import SECRET, VOICE, Attack, Ended, Stage
from pewter.judge.review import read_review
from support.program import PROGRAM, environment

MAX_MEMORY = 300 << 20
OF_THE_INTERPRETER = 50 << 20
"""Address space of a command that does nothing."""
AT_ONCE = max(os.cpu_count() or 1, 1)


def run(attack: Attack) -> tuple[Attack, str, float, float, int]:
    """The attack, what is to be said against its end, and seconds, processor seconds and peak octets."""
    with contextlib.ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory(ignore_cleanup_errors=True)))
        stage = Stage(folder, stack)
        arguments = list(attack.arguments(stage))
        begun = time.monotonic()
        ended, processor, peak = _start(attack, stage, arguments)
        seconds = time.monotonic() - begun
        return attack, _complaint(attack, ended, seconds, peak), seconds, processor, peak


def _start(attack: Attack, stage: Stage, arguments: list[str]) -> tuple[Ended, float, int]:
    """Start the program as ``attack.prepared`` says, and wait for its end; processor seconds and peak octets."""
    out, err = stage.folder / ".out", stage.folder / ".err"
    command: list[str | bytes] = [str(PROGRAM), *arguments]
    changes = {"COLUMNS": "11"} if attack.prepared == "narrow" else {"TMPDIR": str(stage.folder)}
    if attack.prepared.startswith("columns:"):
        changes["COLUMNS"] = attack.prepared.removeprefix("columns:")
    before = attack.prepared.removeprefix("shell-before:") if attack.prepared.startswith("shell-before:") else ""
    if attack.prepared == "limit":
        before = f"ulimit -v {(MAX_MEMORY + OF_THE_INTERPRETER) >> 10};"
    if before:
        command = ["sh", "-c", f'{before} exec "$@"', "sh", *command]
    if attack.prepared.startswith("shell:"):  # redirections that only a shell can say
        command = ["sh", "-c", f'exec "$@" {attack.prepared.removeprefix("shell:")}', "sh", *command]
    terminal = None
    with out.open("wb") as out_file, err.open("wb") as err_file:
        where = {"stdout": out_file, "stderr": err_file, "stdin": subprocess.DEVNULL}
        if attack.prepared == "terminal":
            terminal, side = pty.openpty()
            where = dict.fromkeys(("stdin", "stdout", "stderr"), side)
        process = subprocess.Popen(
            command,
            cwd=stage.folder,
            env=environment(**changes),
            start_new_session=True,
            **where,
        )
        if terminal is not None:
            os.close(side)
            threading.Thread(target=_copy, args=(terminal, out), daemon=True).start()
        if attack.prepared.startswith("signal:"):
            number, after = attack.prepared.removeprefix("signal:").split()
            threading.Timer(float(after), lambda: _signal(process.pid, int(number))).start()
        watch = threading.Timer(attack.seconds + 20, lambda: _signal(process.pid, signal.SIGKILL))
        watch.start()
        peak = _Peak(process.pid)
        _, status, usage = os.wait4(process.pid, 0)
        process.returncode = os.waitstatus_to_exitcode(status)
        watch.cancel()
        if terminal is not None:
            time.sleep(0.1)
            os.close(terminal)
    texts = (file.read_bytes().decode("utf-8", "backslashreplace") for file in (out, err))
    return Ended(stage, process.returncode, *texts), usage.ru_utime + usage.ru_stime, peak.octets


class _Peak(threading.Thread):
    """The most memory that a program holds; what wait4 says counts what this runner held when it started it."""

    def __init__(self, pid: int) -> None:
        super().__init__(daemon=True)
        self.octets = 0
        self._status = Path(f"/proc/{pid}/status")
        self.start()

    def run(self) -> None:
        with contextlib.suppress(OSError, StopIteration):
            while True:
                line = next(each for each in self._status.read_text().splitlines() if each.startswith("VmHWM"))
                self.octets = max(self.octets, int(line.split()[1]) << 10)
                time.sleep(0.02)


def _signal(pid: int, number: int) -> None:
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, number)


def _copy(terminal: int, to: Path) -> None:
    with to.open("ab") as file, contextlib.suppress(OSError):
        while octets := os.read(terminal, 1 << 16):
            file.write(octets)
            file.flush()


def _complaint(attack: Attack, ended: Ended, seconds: float, peak: int) -> str:
    said = ended.out + ended.err
    review = ended.stage.folder / "review.json"
    if ended.status not in attack.statuses:
        return f"status {ended.status}: {said[-300:]!r}"
    if "Traceback" in said or "Exception ignored" in said:
        return f"a traceback: {said[-400:]!r}"
    if seconds > attack.seconds:
        return f"took {seconds:.1f} s"
    if peak > MAX_MEMORY:
        return f"took {peak >> 20} MiB"
    if attack.prepared != "terminal" and (found := _obeyed(said)):
        return f"prints {found!r}"
    if any(line.lstrip(" ✓■◆▲·?○→").startswith(VOICE) for line in said.splitlines()):
        return "somebody else's line"
    if SECRET in said or (review.exists() and SECRET in review.read_text(encoding="utf-8")):
        return "a secret was kept"
    if ended.stage.trapped:
        return "was led to the reviewer's own machine"
    if list(ended.stage.folder.glob(".pewter-*")):
        return "a file was left over"
    if review.exists() and review.stat().st_size:
        read_review(review.read_bytes(), "review.json")
    return "" if attack.holds(ended) else f"does not hold: {said[-500:]!r}"


def _obeyed(text: str) -> str:
    """Characters that do more than show themselves."""
    return "".join({each for each in text if not each.isprintable() and each != "\n"})


def main() -> int:
    if (
        signal.getsignal(signal.SIGINT) is signal.SIG_IGN
    ):  # in the background of a shell; what is started here would inherit it
        signal.signal(signal.SIGINT, signal.default_int_handler)
    only = sys.argv[1] if len(sys.argv) > 1 else ""
    chosen = [attack for attack in ATTACKS if only in f"{attack.area}/{attack.title}"]
    failed, begun, memory = [], time.monotonic(), 0
    with concurrent.futures.ThreadPoolExecutor(AT_ONCE) as pool:
        for attack, complaint, seconds, processor, peak in pool.map(run, chosen):
            memory = max(memory, peak)
            print(
                f"{attack.area}/{attack.title}: {seconds:.1f} s, {processor:.1f} s of processor, {peak >> 20} MiB",
                flush=True,
            )
            if complaint:
                failed.append((attack, complaint))
                print(f"    NOT SURVIVED: {complaint}", flush=True)
    print(
        f"{len(chosen)} attacks, {len(failed)} not survived, at most {memory >> 20} MiB; {time.monotonic() - begun:.0f} s"
    )
    for attack, complaint in failed:
        print(f"not survived: {attack.area}/{attack.title}: {complaint}")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
