"""Whole reports put in place, round after round: ``make mends``.

Each site has several faults at once.  In each round every printed piece is put where it says, once, in turn by gap and as
all mends together have them; then the site is looked at again.  After three rounds nothing may be left at ``weakens`` or above for which
the report has lines.
"""

import argparse
import itertools
import json
import os
import random
import re
import shutil
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from mends.bases import BASES, FAULT
from mends.cases import ALL, CASES, Case
from mends.runner import Proof, start, write_hosts
from pewter.judge.review import Review
from pewter.judge.whole_mend import whole_mend
from pewter.mends.composer import Piece
from pewter.mends.kinds import Kind, kind_file

ROUNDS = 3
OF_HTTP = ("content", "temporary", "drops", "by-page", "year", "cookie-http", "unsafe-http")
"""What an application does over http."""

OF_HTTPS = ("short", "short-below", "none", "zero", "invalid", "twice", "cookie", "cookie-none", "blocked", "named")
"""And what is wrong with its pages over https."""

TOGETHER = (
    "protocol/obsolete", "protocol/weak-suites", "protocol/client-decides", "protocol/no-h2", "protocol/early-data",
    "page/names-version", "chain/staple-missing", "redirect/downgrade",
)  # fmt: skip
"""Rules whose faults can be made in one configuration."""


@dataclass
class Whole(Proof):
    """One site."""

    by_gap: int = 0
    """1 where the first look is answered gap by gap, and the second by all mends together; else the other way round."""

    at_first = 0
    """Gaps at ``weakens`` or above."""

    def whole(self) -> tuple[int, list[str]]:
        """Rounds that were needed, and what is left."""
        issued, base = self._issue(), BASES[self.kind]
        # Lines of a fault are as any others here: only what sets the same takes their place.
        text, said, found = FAULT.sub(lambda match: match[1] or match[2], self._configuration(base)), "", []
        if self.kind is Kind.NGINX:
            text = re.sub(r"; (?=ssl_(?:protocols|ciphers|prefer|early|ecdh)|listen )", ";\n", text)
        for number in itertools.count():
            with self._application(), self._server(base, text):
                review = self._review(issued)
            found = [
                (entry, lines)
                for entry in review.results.gaps
                if entry.level.value != "note"
                for lines in entry.configurations
                if lines.server == kind_file(self.kind).title
            ]
            open_now = [
                f"{entry.rule}: {'; '.join(entry.seen)[:120]}{f' ({lines.held_back})' if lines.held_back else ''}"
                for entry, lines in found
            ]
            said = "\n".join(open_now)
            self.at_first = self.at_first or len({entry.rule for entry, _ in found})
            if os.environ.get("SHOW"):
                print(f"--- round {number}\n{text}\n{said}", file=sys.stderr)
            if not found or number == ROUNDS:
                return number, said.splitlines()
            if self.by_diff:
                text = self._patched(BASES[self.kind], text, review, list(self._puts(review)))
                continue
            if number % 2 == self.by_gap:
                pieces = dict.fromkeys(piece for _, lines in found for piece in lines.pieces)
            else:
                pieces = [piece for piece, _ in self._puts(review)]
            for piece in pieces:
                if self._fits(text, piece):
                    text = self._put(text, piece)
        raise AssertionError

    def _puts(self, review: Review) -> Iterator[tuple[Piece, tuple[int, ...]]]:
        """Of all mends together."""
        for program in whole_mend(review.results).programs:
            for block in program.blocks if program.server == kind_file(self.kind).title else ():
                yield from ((put.piece, put.gaps) for put in block.puts)


def sites(kind: Kind, count: int) -> Iterator[Case]:
    """With three to eight faults each, the same ones each time."""
    chance = random.Random(f"{kind.value} 3")
    of_server = [case for case in CASES if case.rule in TOGETHER and kind in case.kinds and case.faults.get(kind) and case.behaviour == "year" and not case.opens]  # fmt: skip
    for number in range(count):
        behaviours = (chance.choice(OF_HTTP), *chance.sample(OF_HTTPS, chance.randint(1, 3)))
        faults: dict[str, str] = {}
        for case in chance.sample(of_server, min(len(of_server), chance.randint(1, 4))):
            lines_of = case.faults[kind]
            sets = set(re.findall(r"\b(?:ssl_\w+|SSL\w+|CipherString|ciphers)\b", " ".join(lines_of.values())))
            if not faults.keys() & lines_of.keys() and not any(each in " ".join(faults.values()) for each in sets):
                faults |= lines_of
        yield Case(
            rule="protocol/all", title=f"site-{number}", behaviour="+".join(behaviours), kinds=(kind,),
            faults={kind: faults}, paths=("/", "/login?next=1"),
        )  # fmt: skip


def prove(kind: Kind, wanted: str, count: int, *, by_diff: bool) -> None:
    """A line of JSON for each site."""
    for number, case in enumerate(sites(kind, count)):
        if wanted not in case.title:
            continue
        begun, folder = time.monotonic(), Path(tempfile.mkdtemp(prefix="mend-"))
        folder.chmod(0o755)
        try:
            site = Whole(kind, case, folder, by_diff, number % 2)
            rounds, left = site.whole()
        except Exception as exc:
            rounds, left = 0, [f"{type(exc).__name__}: {exc}"]
        finally:
            shutil.rmtree(folder, ignore_errors=True)
        told = f"{case.behaviour}, {' '.join(case.faults[kind])}; {site.at_first} gaps"
        print(json.dumps([kind.value, case.title, told, round(time.monotonic() - begun, 1), rounds, left]), flush=True)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("wanted", nargs="?", default="")
    parser.add_argument("--kind", default="")
    parser.add_argument("--sites", type=int, default=14, help="of each kind of server")
    parser.add_argument("--diff", action="store_true", help="fitted to the configuration, and applied by patch")
    parser.add_argument("--inside", action="store_true")
    options = parser.parse_args()
    if options.inside:
        prove(Kind(options.kind), options.wanted, options.sites, by_diff=options.diff)
        return 0
    begun, total, clean, rounds = time.monotonic(), 0, 0, []
    hosts = write_hosts()
    running = [
        start(
            __file__, kind, options.wanted, hosts, "--sites", str(options.sites), *(("--diff",) if options.diff else ())
        )
        for kind in ALL
        if options.kind in kind.value
    ]
    for process in running:
        for line in process.stdout:
            kind, title, told, seconds, needed, left = json.loads(line)
            total, clean = total + 1, clean + (not left)
            rounds.append(needed)
            print(f"{kind} {title} ({told}): {needed} rounds, {seconds} s" + "".join(f"\n    LEFT: {each}" for each in left), flush=True)  # fmt: skip
        process.wait()
    print(
        f"{clean} of {total} sites end clean, in at most {max(rounds, default=0)} rounds; {time.monotonic() - begun:.0f} s"
    )
    return 0 if clean == total and total else 1


if __name__ == "__main__":
    sys.exit(main())
