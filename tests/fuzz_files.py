"""Saved reviews changed at random by their structure: ``python tests/fuzz_files.py --inputs 100000``.

Whatever a file holds, it is refused in one sentence (FileError) or can be judged, rendered in every format, compared and
planned from.  Prints how many were refused and used, and exits with 1 where anything else came out, with the input's seed.
"""

import argparse
import collections
import contextlib
import copy
import json
import os
import random
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec

sys.path.insert(0, str(Path(__file__).parent))

from pewter.errors import PewterError
from pewter.judge.comparison import judged_again
from pewter.judge.review import Review, case_of, make_review, read_review, write_review
from pewter.levels import Level
from pewter.plan.again import awaited_gaps, given_again, plan_for
from pewter.plan.own_mark import decided_by
from pewter.report.formats import OF_COMPARISONS, OF_REVIEWS
from pewter.report.terminal import render_terminal
from pewter.report.whole_mend import render_whole_mend
from support.cases import case, endpoint, fingerprint, handshake, hop, journey
from support.certificates import HOST, root

ODD = (
    *(None, True, False, 0, -1, 1, 99_999, 2**31, 2**63 - 1, 2**64, -(2**63), 1e308, -0.5, 3.5, [], {}, [[]], ["a"], {"a": 1}),
    *("", " ", "\0", "\u202e\x1b[2J", "a" * 70_000, "http://", "https://[::1", "//", "x://y", "http://a b/", "http://x:99999/"),
    *("0001-01-01T00:00:00Z", "9999-12-31T23:59:59Z", "2026-01-01T00:00:00", "0001-01-01T00:00:00+23:00", "AAAA", "////", "="),
    *("999.999.999.999", "::1", "fe80::1%x", "10.0.0.1", "xn--", "a..b", "-", "*.x", "protocol/none", "no/rule", "breaks"),
    *("gap", "seen", "unseen", "javascript:alert(1)", "1.2.3.4:99999", "example"),
)  # fmt: skip


def small_review() -> Review:
    """One name, two ways in, a certificate: a file of some 25 KB."""
    page = hop(f"https://{HOST}/", 200, ("Set-Cookie", "sid=1"), ("Strict-Transport-Security", "max-age=60"))
    there = hop(f"http://{HOST}/", 302, ("Location", f"https://{HOST}/"), ("Server", "nginx/1.22"))
    made = case(
        journey(there, page), journey(page), endpoints=[endpoint(handshake())], given_trust=(fingerprint(root()),)
    )
    return make_review(made)


def paths(document: object) -> list[tuple]:
    """Of every value within, keys and numbers."""
    found, waiting = [], [((), document)]
    while waiting:
        at, node = waiting.pop()
        found.append(at)
        inner = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
        waiting += [((*at, key), value) for key, value in inner]
    return found[1:]


def changed(document: object, places: list[tuple], chance: random.Random) -> list[tuple[object, object]]:
    """One to three values otherwise: an odd one, none, twice, gone, or one from elsewhere.

    Changes the document itself, and gives what :func:`restored` needs: the holder, and what it held.
    """
    before: list[tuple[object, object]] = []
    for _ in range(chance.choice((1, 1, 1, 2, 3))):
        *above, last = chance.choice(places)
        try:
            parent = document
            for key in above:
                parent = parent[key]
            old = parent[last]
        except (KeyError, IndexError, TypeError):
            continue
        if not isinstance(parent, dict | list):
            continue  # a text took its place before
        before.append((parent, dict(parent) if isinstance(parent, dict) else list(parent)))
        match chance.randrange(20):
            case number if number < 11:
                alike = [each for each in ODD if type(each) is type(old)]
                parent[last] = copy.deepcopy(chance.choice(alike if alike and chance.random() < 0.7 else ODD))
            case number if number < 14 or isinstance(parent, dict):
                del parent[last]
            case number if number < 17:
                parent.insert(last, chance.choice(parent))
            case _:
                parent[last] = copy.deepcopy(chance.choice(parent))
    return before


def restored(before: list[tuple[object, object]]) -> None:
    for parent, held in reversed(before):
        parent.clear()
        parent.update(held) if isinstance(parent, dict) else parent.extend(held)


def use(review: Review, base: Review) -> None:
    """All that commands do with a saved review, without the network."""
    for width, full in ((100, False), (60, True)):
        render_terminal(review, width, full=full)
    for suffix in OF_REVIEWS.suffixes:
        OF_REVIEWS.render(suffix, review)
    render_whole_mend(review.results, 80)
    make_review(case_of(review))
    (before, of_before), (after, of_after) = judged_again(base), judged_again(review)
    for suffix in OF_COMPARISONS.suffixes:
        OF_COMPARISONS.render(suffix, before, after, (of_before, of_after))
    plan_for(review, []), given_again(review), awaited_gaps(review, (), (), Level.NOTE), decided_by(review.evidence)


def written(document: object, *, ascii_only: bool) -> bytes:
    """As JSON: quickly, where that writer takes all that stands in it."""
    if not ascii_only:
        with contextlib.suppress(OverflowError, UnicodeError, TypeError):
            return msgspec.json.encode(document)
    return json.dumps(document, ensure_ascii=ascii_only).encode("utf-8", "surrogatepass")


def run(inputs: int, seed: int, use_every: int, *, door: bool = False) -> Iterator[tuple[str, str]]:
    """How each input ended: refused, read, used, or what should not be.

    ``door``: read as the user's own, of which nothing is made anew: what is between the octets and the rules alone.
    """
    base = small_review()
    document = json.loads(write_review(base))
    places, chance = paths(document), random.Random(seed)
    for number in range(inputs):
        before = changed(document, places, chance)
        octets = written(document, ascii_only=chance.random() < 0.2)
        restored(before)
        try:
            review = read_review(octets, "f", is_own=door)
            if door or number % use_every:
                yield "read", ""
                continue
            use(review, base)
        except PewterError as exc:
            yield "refused", str(exc)
        except Exception as exc:
            yield "FAILED", f"input {number} of seed {seed}: {type(exc).__name__}: {exc}"
        else:
            yield "used", ""


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--inputs", type=int, default=100_000)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument(
        "--use-every", type=int, default=20, help="each how many-th that is read is rendered and compared as well"
    )
    parser.add_argument(
        "--door", action="store_true", help="only what is between the octets and the rules, many times faster"
    )
    options = parser.parse_args()
    begun, ends = time.monotonic(), collections.Counter()
    for how, words in run(options.inputs, options.seed, options.use_every, door=options.door):
        ends[how] += 1
        if how == "FAILED":
            print(words, flush=True)
        if not ends.total() % 100_000:
            print(f"{ends.total()} so far: {dict(ends)}", flush=True)
    told = ", ".join(f"{count} {how}" for how, count in ends.items())
    print(f"{options.inputs} inputs: {told}; {time.monotonic() - begun:.0f} s, process {os.getpid()}")
    return 1 if ends["FAILED"] else 0


if __name__ == "__main__":
    sys.exit(main())
