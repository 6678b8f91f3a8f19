"""A ledger of made-up results, and what commands take on it: ``python benchmarks/many_sites.py --sites 1000000``.

Two runs of every site are written as a survey would store them (without whole reviews, but for a few that changed); then each
command runs as a user types it, and its seconds and peak memory are printed, once for a tenth of the sites and once for all.
"""

import argparse
import datetime
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from pewter.evidence import Evidence, Plan, Target
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.judge.review import make_review, write_review
from pewter.judge.summary import SiteRow
from pewter.survey.settings import Settings
from pewter.survey.store import Ledger, pack

NOW = datetime.datetime(2026, 12, 1, 12, tzinfo=datetime.UTC)
LEVELS = (None, None, None, "note", "note", "weakens", "weakens", "exposes", "breaks")
RULES = {
    "breaks": ("date/expired", "chain/incomplete"),
    "exposes": ("redirect/missing", "protocol/obsolete", "date/expiring"),
    "weakens": ("hsts/absent", "cookie/same-site", "date/renewal-overdue"),
    "note": ("protocol/no-h2", "page/names-version"),
}
CHANGED = 0.01
"""Share of the sites whose gaps are others in the second run."""


def names(count: int) -> Iterator[str]:
    for number in range(count):
        yield f"site-{number:07d}.example"


def row(name: str, draw: random.Random, run: int) -> tuple[object, ...]:
    """One site's row, in the order of the table."""
    reached = draw.random() > 0.08
    worst = draw.choice(LEVELS) if reached else None
    ends = NOW + datetime.timedelta(days=draw.randint(-5, 90)) if reached else None
    made = SiteRow(
        name, 2, reached, worst, int(worst == "breaks"), int(worst == "exposes"), int(worst == "weakens"), 1, 3,
        f"https://{name}" if reached else None, "opens" if reached else None, "TLS 1.3, TLS 1.2" if reached else None,
        "EC P-256" if reached else None, draw.choice(("Skerry Trust", "Marram CA", "Dune CA")) if reached else None,
        ends - datetime.timedelta(days=90) if ends else None, ends, ends - datetime.timedelta(days=30) if ends else None,
        (ends - NOW).days if ends else None, draw.choice((0, 300, 31536000)) if reached else None, None,
        1.5, 9, NOW + datetime.timedelta(days=run), None if reached else "no such name (NXDOMAIN)",
    )  # fmt: skip
    fields = (getattr(made, name) for name in SiteRow.__struct_fields__)
    return tuple(each.isoformat() if isinstance(each, datetime.datetime) else each for each in fields)


def fill(folder: Path, count: int) -> None:
    """Both runs of all sites."""
    empty = Evidence(Plan((Target("x.example"),)), NOW, 1.0)
    review = pack(write_review(make_review(Case(empty, Terms(), NOW, ()))))
    with Ledger.open_to_write(folder) as ledger:
        db = ledger._db
        db.execute("pragma synchronous = off")
        options = Settings(is_brief=True, resolvers=("127.0.0.1:9",), seconds=1.0)
        with db:
            db.executemany(
                "insert into sites values (?, ?, ?, 1, 0, 2)",
                ((name, name, at) for at, name in enumerate(names(count))),
            )
        for run in (1, 2):
            ledger.begin(options, None, NOW) if run == 1 else db.execute(
                "insert into runs select 2, begun, options, null from runs"
            )
            with db:
                made = list(SiteRow.__struct_fields__)
                marks = ", ".join("?" * (len(made) + 1))
                rows = (
                    row(name, random.Random(f"{name}{run if each < CHANGED else 0}"), run)
                    for name, each in _draws(count)
                )
                db.executemany(
                    f"insert into rows (run, {', '.join(made)}) values ({marks})", ((run, *each) for each in rows)
                )
                db.executemany("insert into gaps values (?, ?, ?, ?, ?, 0)", _gaps(db, run))
                db.execute(
                    "insert into ends select site, run, not_after, 'certificate', site, 'by ' || issuer from rows "
                    "where run = ? and not_after is not null",
                    (run,),
                )
                changed = (name for name, each in _draws(count) if each < CHANGED)
                db.executemany("insert into reviews values (?, ?, ?)", ((name, run, review) for name in changed))
            ledger.end(run, NOW)
        ledger.fold()


def _draws(count: int) -> Iterator[tuple[str, float]]:
    draw = random.Random(7)
    for name in names(count):
        yield name, draw.random()


def _gaps(db: object, run: int) -> Iterator[tuple[object, ...]]:
    for site, worst in db.execute(
        "select site, worst from rows where run = ? and worst is not null", (run,)
    ).fetchall():  # type: ignore[attr-defined]
        for rule in RULES[worst]:
            yield site, run, rule, worst, f"name {site}"


def measure(command: list[str], folder: Path) -> tuple[float, int]:
    """Seconds, and peak mebibytes."""
    begun = time.monotonic()
    process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    said = process.stderr.read() if process.stderr is not None else ""
    _, status, usage = os.wait4(process.pid, 0)
    assert os.waitstatus_to_exitcode(status) in {0, 1, 3}, (command, said[-500:])
    return time.monotonic() - begun, usage.ru_maxrss >> 10


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sites", type=int, default=1_000_000)
    options = parser.parse_args()
    program = [sys.executable, "-m", "pewter"]
    table: dict[str, dict[int, tuple[float, int]]] = {}
    for count in (options.sites // 10, options.sites):
        folder = Path(tempfile.mkdtemp(prefix="many-"))
        begun = time.monotonic()
        fill(folder / "s", count)
        (folder / "list").write_text("\n".join(names(count)) + "\nnew.example\n", encoding="utf-8")
        print(
            f"{count:,} sites: written in {time.monotonic() - begun:.0f} s, {(folder / 's' / 'survey.sqlite').stat().st_size >> 20} MiB",
            flush=True,
        )
        commands = {
            "going on, one site new": ["survey", "list", "--into", "s", "--brief", "--resolver", "127.0.0.1:9", "--timeout", "1", "--workers", "1"],
            "--show": ["survey", "--show", "s"],
            "--write .csv": ["survey", "--show", "s", "-w", "t.csv"],
            "--write .parquet": ["survey", "--show", "s", "-w", "t.parquet"],
            "--write .html": ["survey", "--show", "s", "-w", "t.html"],
            "compare": ["compare", "s"],
            "expiry": ["expiry", "s", "-w", "e.csv"],
        }  # fmt: skip
        for title, words in commands.items():
            table.setdefault(title, {})[count] = measure([*program, *words], folder)
            seconds, peak = table[title][count]
            print(f"  {title}: {seconds:.1f} s, {peak} MiB", flush=True)
        shutil.rmtree(folder)
    few, many = options.sites // 10, options.sites
    print(json.dumps({title: round(found[many][0] / found[few][0], 1) for title, found in table.items()}, indent=1))


if __name__ == "__main__":
    main()
