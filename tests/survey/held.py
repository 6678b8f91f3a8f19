"""A crowd of sites surveyed many times, at rest and beside busy programs: does every planted fault come out each time?

python tests/survey/held.py --sites 300 --times 10 --busy 20
"""

import argparse
import datetime
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from load import busy
from pewter.lab.crowd import Crowd, Kind
from pewter.lab.world import WorldThread
from pewter.survey.store import Ledger
from survey.test_local import surveyed

PLANTED = {
    Kind.NO_HSTS: {"hsts/absent"},
    Kind.NO_REDIRECT: {"redirect/missing"},
    Kind.EXPIRED: {"date/expired"},
    Kind.RENEWAL: {"date/renewal-overdue"},
    Kind.WRONG_NAME: {"name/not-covered"},
    Kind.INCOMPLETE: {"chain/untrusted"},
}
NOT_REACHED = {Kind.SILENT, Kind.DEAD, Kind.NO_NAME}


LATE = "not reached, and told so"


def held(crowd: Crowd, folder: Path) -> Iterator[str]:
    """What one survey says otherwise than is planted; :data:`LATE` for a site that did not answer in time."""
    rows, _, counts = surveyed(crowd, folder, workers=2)
    if counts != (crowd.count, crowd.count):
        yield f"{counts[0]} of {crowd.count} sites"
    gaps: dict[str, set[str]] = {}
    with Ledger.open_to_read(folder) as ledger:
        for site, rule, *_ in ledger.gaps():
            gaps.setdefault(site, set()).add(rule)
    for row in rows:
        kind, found = crowd.kinds[row["site"]], gaps.get(row["site"], set())
        planted = {rule for rules in PLANTED.values() for rule in rules} & found
        if not row["reached"] and kind not in NOT_REACHED:
            yield LATE
        elif row["reached"] and kind in NOT_REACHED:
            yield f"{kind.value}: reached"
        elif not row["reached"]:
            continue
        elif planted != PLANTED.get(kind, set()):
            yield f"{kind.value}: {', '.join(sorted(found))}; {row['unknown']} unknown"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sites", type=int, default=300)
    parser.add_argument("--times", type=int, default=10)
    parser.add_argument("--busy", type=int, nargs="+", default=(0, 20), help="busy programs, one after the other")
    options = parser.parse_args()
    wrong = 0
    for count in options.busy:
        said: Counter[str] = Counter()
        begun = time.monotonic()
        crowd = Crowd(options.sites, datetime.datetime.now(datetime.UTC))
        with tempfile.TemporaryDirectory() as folder, WorldThread(crowd), busy(count):
            crowd.folder = Path(folder)
            (crowd.folder / "root.pem").write_bytes(crowd.root.pem)
            for number in range(options.times):
                said.update(held(crowd, Path(folder) / f"s{number}"))
        took = time.monotonic() - begun
        late = said.pop(LATE, 0)
        print(
            f"{options.times} surveys of {options.sites} sites beside {count} busy programs: "
            f"{said.total()} answers otherwise than planted, {late} sites {LATE}; {took:.0f} s",
            flush=True,
        )
        for words, times in said.most_common():
            print(f"    {times} times {words}", flush=True)
        wrong += said.total()
    return bool(wrong)


if __name__ == "__main__":
    sys.exit(main())
