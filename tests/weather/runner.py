"""Sound servers behind connections that fail now and then: ``make weather``.

Each set-up of ``setups.toml`` is looked at many times.  A gap that the same server does not have in good weather is false;
where connections fail often, ``reach/unsteady`` has to be said.
"""

import argparse
import asyncio
import contextlib
import random
import sys
import tempfile
import time
import tomllib
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import msgspec

sys.path.insert(0, str(Path(__file__).parents[1]))

from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.judge.outcomes import Gap
from pewter.judge.review import make_review
from support.certificates import root, store
from support.looks import at_ports, take
from support.servers import free_port
from weather.relays import copy, reset, serving
from weather.servers import SERVERS

UNSTEADY = "reach/unsteady"


class Setup(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One, as the head of ``setups.toml`` says."""

    fails: str
    how: str = "reset"
    ports: str = "https"
    server: str = "nginx"
    unsteady: bool = True


class Weather:
    """A relay to one port that lets connections fail."""

    def __init__(self, target: int, setup: Setup, seed: int) -> None:
        self._target = target
        self._setup = setup
        self._random = random.Random(seed)
        self._count = 0

    def _fails(self) -> bool:
        self._count += 1
        if self._setup.fails.isdecimal():
            return self._count % int(self._setup.fails) == 0
        return self._random.random() < float(self._setup.fails)

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError):
            if self._fails():
                await self._fail(reader, writer)
                return
            inner_reader, inner_writer = await asyncio.open_connection("127.0.0.1", self._target)
            await asyncio.gather(copy(reader, inner_writer), copy(inner_reader, writer))

    async def _fail(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if self._setup.how == "silent":
            await asyncio.sleep(60)
        if not self._setup.how.endswith("-at-once"):
            await reader.read(1 << 16)
        if self._setup.how.startswith("close"):
            writer.close()
        else:
            reset(writer)


FAIR = Setup("0.0")


def gaps(setup: Setup, https: int, http: int, seed: int) -> frozenset[str]:
    """Rules that find a gap in one look."""
    on_https, on_http = (setup if setup.ports in {each, "both"} else FAIR for each in ("https", "http"))
    with (
        serving(Weather(https, on_https, seed).serve) as one,
        serving(Weather(http, on_http, seed + 1).serve) as other,
    ):
        evidence = take(routes=at_ports(one, other), protocol=True, whole=120, step=5, names=False)
    review = make_review(Case(evidence, Terms(), evidence.begun, (store(root()),)))
    found = [(each.rule, each.outcome) for each in review.results.outcomes if isinstance(each.outcome, Gap)]
    return frozenset(f"{rule} ({gap.seen})" for rule, gap in found)


def run(title: str, times: int) -> tuple[str, Counter[str], int, float]:
    """False gaps, how often unsteadiness was told, and the longest look in seconds."""
    setup = setups()[title]
    false: Counter[str] = Counter()
    told, longest = 0, 0.0
    with tempfile.TemporaryDirectory() as folder:
        https, http = free_port(), free_port()
        with SERVERS[setup.server](Path(folder), https, http):
            usual = {each.partition(" ")[0] for each in gaps(FAIR, https, http, 0)}
            for seed in range(times):
                begun = time.monotonic()
                found = gaps(setup, https, http, 2 * seed + 1)
                longest = max(longest, time.monotonic() - begun)
                told += any(each.startswith(UNSTEADY) for each in found)
                false.update(each for each in found if each.partition(" ")[0] not in {*usual, UNSTEADY})
                if setup.fails == FAIR.fails:
                    false.update(each for each in found if each.startswith(UNSTEADY))
    return title, false, told, longest


def setups() -> dict[str, Setup]:
    return msgspec.convert(
        tomllib.loads((Path(__file__).parent / "setups.toml").read_text(encoding="utf-8")), dict[str, Setup]
    )


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("words", nargs="*", help="only set-ups with one of these in their names")
    parser.add_argument("--times", type=int, default=30)
    options = parser.parse_args()
    chosen = [each for each in setups() if not options.words or any(word in each for word in options.words)]
    failed = 0
    with ProcessPoolExecutor(3) as pool:
        for title, false, told, longest in pool.map(run, chosen, [options.times] * len(chosen)):
            setup = setups()[title]
            missed = setup.unsteady and told < options.times * 29 // 30
            failed += bool(false) or missed
            print(
                f"{title:<34} unsteady told {told:>2} of {options.times}  longest {longest:4.1f} s  {sum(false.values())} false"
            )
            for gap, count in false.most_common():
                print(f"    {count:>2} times {gap}")
            sys.stdout.flush()
    print(f"{len(chosen)} set-ups, {failed} not as they should be")
    return bool(failed)


if __name__ == "__main__":
    sys.exit(main())
