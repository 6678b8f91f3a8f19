"""How long a report is: lines until what to do, until the first gap, and in all, at 80 and 120 columns.

``python benchmarks/report.py`` for the demo as found and mended, eight small sites and a sound one.
"""

import contextlib
import datetime
import io
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from pewter.cli import demo
from pewter.cli.ending import Output
from pewter.cli.review import run_review
from pewter.judge.review import Review, make_review, read_review
from pewter.lab.marram import Stage, marram_ferries
from pewter.lab.world import World, WorldThread
from pewter.report.sheet import UNICODE
from pewter.report.terminal import render_terminal
from pewter.tasks.reviewing import ReviewRequest
from support.cases import case, endpoint, handshake, hop, journey, stored
from support.certificates import HOST, intermediate, leaf

WIDTHS = (80, 120)
HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
NGINX = ("Server", "nginx")
HSTS = ("Strict-Transport-Security", "max-age=31536000; includeSubDomains")
GOOD, BARE = hop(HTTPS, 200, HSTS, NGINX), hop(HTTPS, 200, NGINX)
MOVED = journey(hop(HTTP, 301, ("Location", HTTPS), NGINX), GOOD)


def site(*ways, sent=(), **more) -> Review:
    sent = sent or (leaf(), intermediate())
    return make_review(case(*ways, endpoints=[endpoint(handshake(*sent))], certificates=stored(*sent), **more))


def small_sites() -> dict[str, Review]:
    """With one to four gaps each, and a sound one."""
    expired, soon = (leaf(left=-4), intermediate()), (leaf(left=3), intermediate())
    cookie = hop(HTTPS, 200, HSTS, NGINX, ("Set-Cookie", "sid=1; Path=/"))
    return {
        "sound": site(MOVED, journey(GOOD)),
        "no redirect": site(journey(hop(HTTP, 200, NGINX)), journey(GOOD)),
        "temporary redirect": site(journey(hop(HTTP, 302, ("Location", HTTPS), NGINX), GOOD), journey(GOOD)),
        "no policy": site(journey(hop(HTTP, 301, ("Location", HTTPS), NGINX), BARE), journey(BARE)),
        "intermediate not sent": site(MOVED, journey(GOOD), sent=(leaf(),)),
        "expired, no policy": site(
            journey(hop(HTTP, 301, ("Location", HTTPS), NGINX), BARE), journey(BARE), sent=expired
        ),
        "expired, with its policy": site(MOVED, journey(GOOD), sent=expired),
        "a session cookie": site(MOVED, journey(cookie)),
        "ends in three days, no redirect": site(journey(hop(HTTP, 200, NGINX)), journey(GOOD), sent=soon),
    }


def demo_sites() -> Iterator[tuple[str, Review]]:
    for stage in Stage:
        now = datetime.datetime.now(datetime.UTC)
        scenario = marram_ferries(stage, now)
        with tempfile.TemporaryDirectory() as text, WorldThread(World(scenario)) as world:
            folder = Path(text)
            demo.write_site_file(folder, scenario, world, now)
            with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
                run_review(ReviewRequest(folder=folder), Output((folder / "review.json",)))
            yield f"demo, {stage.value}", read_review((folder / "review.json").read_bytes(), "review.json")


def main() -> None:
    print(f"{'site':<34} {'gaps':>4}   " + "   ".join(f"at {width}: do first, gaps, all" for width in WIDTHS))
    for title, review in (*demo_sites(), *small_sites().items()):
        cells = []
        for width in WIDTHS:
            lines = render_terminal(review, width, UNICODE, full=False).plain.splitlines()
            first = next((n for n, line in enumerate(lines, 1) if "Do first" in line), 0)
            gap = next((n for n, line in enumerate(lines, 1) if line.startswith((" 1 ", "1 "))), 0)
            cells.append(f"{first or '-':>16} {gap or '-':>5} {len(lines):>4}")
        print(f"{title:<34} {len(review.results.gaps):>4}   " + "   ".join(cells))


if __name__ == "__main__":
    main()
