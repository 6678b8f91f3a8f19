"""The figures of a survey, measured: ``make survey-figures`` (root: a network namespace of its own; nginx).

Ratios of one run, since absolute times are of the machine.  What a survey is held against runs in as many processes
beside each other as the survey has workers, at the same nginx.
"""

import asyncio
import os
import random
import resource
import signal
import sqlite3
import ssl
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from crowd import Crowd, address_of, name_of
from support.program import PROGRAM

BRIEF, FULL, SMALL, LARGE, KILLED, CLUSTERED = 1000, 200, 300, 3000, 1500, 300
WORKERS = 2


def of_children() -> float:
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def handshakes_and_gets(first: int, last: int, gets: tuple[bool, ...], bare: int) -> None:
    """What a site costs at least: GETs over http and https, and bare handshakes, to each of some sites."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE

    async def connect(number: int, secure: bool):
        more = {"ssl": context, "server_hostname": name_of(number)} if secure else {}
        return await asyncio.open_connection(address_of(number), 443 if secure else 80, **more)

    async def site(number: int, turns: asyncio.Semaphore) -> None:
        async with turns:
            for secure in gets:
                reader, writer = await connect(number, secure)
                writer.write(f"GET / HTTP/1.1\r\nHost: {name_of(number)}\r\n\r\n".encode())
                head = await reader.readuntil(b"\r\n\r\n")
                await reader.readexactly(int(head.lower().split(b"content-length: ")[1].split(b"\r\n")[0]))
                writer.close()
            for _ in range(bare):
                _, writer = await connect(number, True)
                writer.close()

    async def all_of_them() -> None:
        turns = asyncio.Semaphore(30)
        await asyncio.gather(*(site(number, turns) for number in range(first, last)))

    asyncio.run(all_of_them())


def least(count: int, gets: tuple[bool, ...], bare: int) -> float:
    """CPU seconds a site of that, over processes beside each other, without what starting them costs."""
    parts = [(count * n // WORKERS, count * (n + 1) // WORKERS) for n in range(WORKERS)]
    code = f"import sys; sys.path.insert(0, {str(Path(__file__).parent)!r}); import survey; survey.handshakes_and_gets"
    seconds = []
    for arguments in ([f"({a}, {b}, {gets}, {bare})" for a, b in parts], ["(0, 0, (), 0)"] * WORKERS):
        before = of_children()
        started = [subprocess.Popen([sys.executable, "-c", code + each]) for each in arguments]
        for each in started:
            each.wait()
        seconds.append(of_children() - before)
    return (seconds[0] - seconds[1]) / count


def options(folder: Path, into: str, *more: str, listed: str = "list.txt") -> list[str]:
    return [
        str(PROGRAM),
        "survey",
        listed,
        "--into",
        into,
        "--resolver",
        "127.0.0.53",
        "--trust",
        str(folder / "root.pem"),
        *more,
    ]


def run(folder: Path, *arguments: str, **more) -> tuple[float, float]:
    """Wall and CPU seconds."""
    cpu, begun = of_children(), time.monotonic()
    subprocess.run(
        options(folder, *arguments, **more),
        cwd=folder,
        check=True,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env=ENVIRONMENT,
    )
    return time.monotonic() - begun, of_children() - cpu


ENVIRONMENT = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}


def write_list(folder: Path, names: list[str], file: str = "list.txt") -> None:
    (folder / file).write_text("\n".join(names) + "\n")


def rows(folder: Path, into: str) -> list[tuple]:
    with sqlite3.connect(folder / into / "survey.sqlite") as database:
        return database.execute("select site, reached, connections, looked_at, seconds from rows").fetchall()


def brief(folder: Path) -> None:
    write_list(folder, [name_of(n) for n in range(BRIEF)])
    ratios = []
    # A machine's speed changes from one minute to the next: each run stands between two measurements of the least.
    before = least(BRIEF, (False, True, True), 0)
    for turn in range(5):
        wall, cpu = run(folder, f"brief{turn}", "--brief", "--workers", str(WORKERS))
        after = least(BRIEF, (False, True, True), 0)
        floor, before = (before + after) / 2, after
        ratios.append(cpu / BRIEF / floor)
        print(
            f"  --brief, {BRIEF} sites: {cpu / BRIEF * 1e3:.1f} ms of CPU a site ({BRIEF / wall:.0f} sites a second); 2 handshakes and 3 GETs: {floor * 1e3:.1f} ms; ratio {ratios[-1]:.2f}",
            flush=True,
        )
    print(
        f"--brief: CPU of a site / CPU of 2 bare handshakes and 3 GETs: {statistics.median(ratios):.2f}, {min(ratios):.2f} to {max(ratios):.2f} (asked: 4 at most)",
        flush=True,
    )


def full(folder: Path) -> None:
    write_list(folder, [name_of(n) for n in range(FULL)])
    wall, cpu = run(folder, "full", "--workers", str(WORKERS))
    connections = sum(row[2] for row in rows(folder, "full")) / FULL
    floor = least(FULL, (), round(connections))
    size = (folder / "full" / "survey.sqlite").stat().st_size
    print(
        f"full, {FULL} sites: {FULL / wall:.1f} sites a second (asked: 6 at least); {connections:.0f} connections a site",
        flush=True,
    )
    print(
        f"full: CPU of a site / CPU of as many bare handshakes: {cpu / FULL / floor:.2f} (asked: 3 at most)", flush=True
    )
    print(f"folder for 10,000 such sites: {size / FULL * 10_000 / 1e6:.0f} MB (asked: 150 at most)", flush=True)


def memory(folder: Path) -> None:
    peaks = []
    for count in (SMALL, LARGE):
        write_list(folder, [name_of(n) for n in range(count)])
        process = subprocess.Popen(
            options(folder, f"memory{count}", "--brief", "--workers", str(WORKERS)),
            cwd=folder,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=ENVIRONMENT,
        )
        peak = 0
        while process.poll() is None:
            peak = max(peak, sum(map(resident, tree_of(process.pid))))
            time.sleep(0.2)
        peaks.append(peak)
    print(
        f"peak memory of all processes: {peaks[0] >> 10} MiB at {SMALL} sites, {peaks[1] >> 10} MiB at {LARGE}: {peaks[1] / peaks[0]:.2f} times (asked: 1.15 at most)",
        flush=True,
    )


def tree_of(pid: int) -> list[int]:
    listed = subprocess.run(["ps", "-o", "pid=", "--ppid", str(pid)], capture_output=True, encoding="utf-8").stdout
    return [pid, *map(int, listed.split())]


def resident(pid: int) -> int:
    """KiB that are its own: shared pages count in part."""
    try:
        text = Path(f"/proc/{pid}/smaps_rollup").read_text()
    except OSError:
        return 0
    return next((int(line.split()[1]) for line in text.splitlines() if line.startswith("Pss:")), 0)


def silence(folder: Path, crowd: Crowd) -> None:
    count = 1000
    routes = crowd.silence(50, 10)
    good = [name_of(n) for n in range(count)]
    bad = [f"silent{n:04}.crowd.example" for n in range(50)] + [f"dropping{n:04}.crowd.example" for n in range(10)]
    mixed = good[: count - len(bad)] + bad
    random.Random(15).shuffle(mixed)
    write_list(folder, good, "good.txt")
    write_list(folder, mixed, "mixed.txt")
    more = [part for route in routes for part in ("--route", route)]
    for words in ("--brief", ""):
        kinds = [words] if words else ["--only", "hsts"]
        whole = run(folder, f"good{words}", *kinds, "--workers", str(WORKERS), listed="good.txt")[0]
        with_silent = run(folder, f"mixed{words}", *kinds, "--workers", str(WORKERS), *more, listed="mixed.txt")[0]
        unreached = [row for row in rows(folder, f"mixed{words}") if not row[1]]
        name = words or "--only hsts"
        print(
            f"{name}: 5 % silent and 1 % dropping of {count}: {with_silent:.1f} s, without {whole:.1f} s: {with_silent / whole:.2f} times (asked: 1.3 at most); {len(unreached)} not reached, the longest took {max(row[4] for row in unreached):.1f} s",
            flush=True,
        )


def kills(folder: Path) -> None:
    write_list(folder, [name_of(n) for n in range(KILLED)])
    chance, seen, lost, repeated, made = random.Random(20), {}, 0, 0, 0
    while made < 20:
        process = subprocess.Popen(
            options(folder, "kills", "--brief", "--workers", str(WORKERS)),
            cwd=folder,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=ENVIRONMENT,
        )
        time.sleep(1.2 + 0.9 * chance.random())
        if process.poll() is None:
            process.send_signal(signal.SIGKILL)
            made += 1
        process.wait()
        found = (
            {row[0]: row[3] for row in rows(folder, "kills")} if (folder / "kills" / "survey.sqlite").exists() else {}
        )
        lost += len(set(seen) - set(found))
        repeated += sum(1 for site, at in seen.items() if found.get(site, at) != at)
        seen = found
        if process.returncode == 0:
            break
    run(folder, "kills", "--brief", "--workers", str(WORKERS))
    counted = Counter(row[0] for row in rows(folder, "kills"))
    missing = KILLED - len(counted)
    double = sum(1 for count in counted.values() if count > 1)
    print(
        f"kill -9 at {made} random moments: {lost} finished sites lost, {repeated} asked again; at the end {missing} missing, {double} double (asked: 0; 0)",
        flush=True,
    )


def cluster(folder: Path) -> None:
    write_list(folder, [name_of(n) for n in range(CLUSTERED)])
    dask = PROGRAM.parent / "dask"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "env": ENVIRONMENT, "start_new_session": True}
    scheduler = subprocess.Popen(
        [dask, "scheduler", "--host", "127.0.0.1", "--port", "8786", "--no-dashboard"], **quiet
    )
    worker = [
        dask,
        "worker",
        "tcp://127.0.0.1:8786",
        "--nworkers",
        "1",
        "--nthreads",
        "1",
        "--no-dashboard",
        "--no-nanny",
    ]
    workers = [subprocess.Popen(worker, **quiet) for _ in range(2)]
    time.sleep(6)
    threading.Timer(3.0, lambda: os.killpg(workers[0].pid, signal.SIGKILL)).start()
    run(folder, "cluster", "--brief", "--cluster", "tcp://127.0.0.1:8786")
    counted = Counter(row[0] for row in rows(folder, "cluster"))
    was_killed = workers[0].poll() is not None
    for each in (*workers, scheduler):
        if each.poll() is None:
            os.killpg(each.pid, signal.SIGKILL)
        each.wait()
    missing, double = CLUSTERED - len(counted), sum(1 for count in counted.values() if count > 1)
    print(
        f"cluster: {CLUSTERED} sites, two workers, one of them killed ({was_killed}): {missing} missing, {double} double (asked: 0)",
        flush=True,
    )


def politeness(folder: Path) -> None:
    write_list(folder, [f"shared{n:04}.crowd.example" for n in range(100)])
    process = subprocess.Popen(
        options(folder, "shared", "--workers", str(WORKERS)),
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env=ENVIRONMENT,
    )
    most = looked = 0
    # The kernel's own filter: a list of all sockets changes while it is read.
    command = ["ss", "-Htn", "state", "established", "state", "syn-sent", "dst", "127.200.0.1"]
    while process.poll() is None:
        most = max(most, subprocess.run(command, capture_output=True).stdout.count(b"\n"))
        looked += 1
    print(
        f"most connections at once to an address with 100 names behind it: {most} (asked: 8 at most; looked {looked} times)",
        flush=True,
    )


def main() -> None:
    wanted = sys.argv[2:]
    with tempfile.TemporaryDirectory() as name:
        Path(name).chmod(0o755)
        folder = Path(name)
        with Crowd(LARGE, folder) as crowd:
            print(f"{os.cpu_count()} cores, Python {sys.version.split()[0]}, load {os.getloadavg()[0]:.1f}", flush=True)
            parts = {
                "brief": brief, "full": full, "memory": memory, "silence": lambda folder: silence(folder, crowd),
                "kills": kills, "cluster": cluster, "politeness": politeness,
            }  # fmt: skip
            for title, part in parts.items():
                if not wanted or title in wanted:
                    part(folder)


if __name__ == "__main__" and sys.argv[1:2] == ["inside"]:
    main()
elif __name__ == "__main__":
    command = [
        "unshare",
        "-n",
        "-m",
        "sh",
        "-c",
        'ip link set lo up; exec "$@"',
        "sh",
        sys.executable,
        __file__,
        "inside",
        *sys.argv[1:],
    ]
    sys.exit(subprocess.run(command).returncode)
