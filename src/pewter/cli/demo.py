"""``pewter demo``: the simulated site Marram Ferries, and a full example on it."""

import contextlib
import datetime
import json
import os
import signal
import sys
import threading
import time
from pathlib import Path

from rich.text import Text

from pewter.errors import FileError, UsageError
from pewter.escape import escaped
from pewter.lab.marram import NAMES, PATHS, STAFF, STAFF_ORIGIN, WEBMAIL, WWW, Stage, marram_ferries
from pewter.lab.server_config import server_config
from pewter.lab.world import Scenario, World, WorldThread
from pewter.plan.files import read_bounded, why, write_whole
from pewter.plan.site_file import MAX_SITE_FILE, NAME
from pewter.survey.local import files_allowed
from pewter.tasks.reviewing import ReviewRequest

from .ending import INTERRUPTED, Output
from .output import print_text
from .review import run_review
from .saying import say

ROOT_FILE = "skerry-trust-root.pem"
LIST, ROUTES, SURVEY, PAGE = "sites.txt", "routes.txt", "survey", "survey.html"
_FIRST = b'# Marram Ferries, simulated by "pewter demo"'
"""How its site file begins."""

PACE_SECONDS = 15.0
"""Between one mend and the next, so that somebody who waits sees gaps close one by one."""

FILES = "files"
"""Certificates, a key and a server's configuration as they lie on a disk, for ``bundle`` and ``--server-config``."""


def run_demo(folder: Path, stage_name: str, *, stay: bool) -> int:
    """Start the world, review it as a user would, and write what belongs to it into ``folder``.

    0 whatever the review found: the example ran.  Interrupted in it, the site does not stay.
    """
    try:
        stage = Stage(stage_name)
    except ValueError:
        allowed = ", ".join(each.value for each in Stage)
        raise UsageError(f"--stage {stage_name!r} is no stage of the demo; allowed: {allowed}.") from None
    now = datetime.datetime.now(datetime.UTC)
    scenario = marram_ferries(stage, now)
    thread = WorldThread(World(scenario, keep_ports=stay))
    with thread as world:
        write_site_file(folder, scenario, world, now)
        say(f"Marram Ferries, a made-up ferry operator, is up ({stage.value})")
        status = run_review(ReviewRequest(folder=folder), Output(write=(folder / f"review-{stage.value}.json",)))
        if status == INTERRUPTED:
            return INTERRUPTED
        if stay:
            _stay(folder, scenario, thread)
        else:
            _print("This was a simulated site. To try the other commands on it: pewter demo --stay, then", folder)
    return 0


MAX_CROWD = 2000


def run_crowd(folder: Path, count: int, *, stay: bool) -> int:
    """Start so many small sites, survey them as a user would, and write what belongs to it into ``folder``."""
    from pewter.lab.crowd import Crowd  # noqa: PLC0415
    from pewter.plan.request import LookRequest  # noqa: PLC0415
    from pewter.tasks.surveying import SurveyRequest  # noqa: PLC0415

    from .survey import run_survey  # noqa: PLC0415

    if not 0 < count <= MAX_CROWD:
        raise UsageError(f"--crowd is {count}; allowed are 1 to {MAX_CROWD} sites.")
    files_allowed()
    crowd = Crowd(count, datetime.datetime.now(datetime.UTC))
    with WorldThread(crowd):
        _make_folder(folder)
        write_whole(folder / ROOT_FILE, crowd.root.pem)
        lines = ("# The Marram islands' shops, clubs and hotels: all of it is made up.", *crowd.kinds)
        write_whole(folder / LIST, ("\n".join(lines) + "\n").encode())
        write_whole(folder / ROUTES, ("\n".join(crowd.routes) + "\n").encode())
        say(f"{count} sites of the Marram islands, all made up, are up")
        look = LookRequest(routes=crowd.routes, resolvers=(crowd.resolver,), trust=(folder / ROOT_FILE,))
        again = "all" if (folder / SURVEY).exists() else None
        request = SurveyRequest(folder / LIST, folder / SURVEY, again, brief=True, look=look)
        status = run_survey(request, None, None, (folder / PAGE,))
        if status == INTERRUPTED:
            return INTERRUPTED
        kept, first = escaped(str(folder / SURVEY)), next(iter(crowd.kinds))
        shows = f"pewter survey --show {kept}   pewter report {kept} --site {first}"
        print_text(Text(f"\nWhat was found is kept: {shows}\n"))
        if stay:
            say(f"the sites stay up until Ctrl-C; resolver {crowd.resolver}")
            with contextlib.suppress(KeyboardInterrupt):
                threading.Event().wait()
    return 0


def _stay(folder: Path, scenario: Scenario, thread: WorldThread[World]) -> None:
    _print("The simulated site stays up until Ctrl-C. Now", folder)
    wanted = threading.Event()
    try:
        if scenario.mending:
            _listen_for(wanted)
            wanted.wait()
            for mend in scenario.mending:
                thread.do(thread.world.change(mend))
                say(mend.words)
                time.sleep(PACE_SECONDS)
            say("all is mended")
        threading.Event().wait()
    except KeyboardInterrupt:
        say("the simulated site is down")


def _wait_for_enter(wanted: threading.Event) -> None:
    sys.stdin.readline()
    wanted.set()


def _listen_for(wanted: threading.Event) -> None:
    """Set on SIGUSR1, where there is such a signal, or when Enter is pressed."""
    ways = []
    if sys.stdin is not None and sys.stdin.isatty():
        threading.Thread(target=_wait_for_enter, args=(wanted,), daemon=True).start()
        ways.append("press Enter")
    if hasattr(signal, "SIGUSR1"):
        signal.signal(signal.SIGUSR1, lambda number, frame: wanted.set())
        ways.append(f"kill -USR1 {os.getpid()}")
    if ways:
        say(f"to have it mended, one thing after the other: {' or '.join(ways)}")
        say('to watch: pewter recheck review-as-found.json --wait "20 minutes" --every "30 seconds"')


def _print(words: str, folder: Path) -> None:
    print_text(Text(f"\n{words}, in another terminal: cd {escaped(str(folder))} && pewter review\n"))


def write_site_file(folder: Path, scenario: Scenario, world: World, now: datetime.datetime) -> None:
    """The site file that leads to a world that runs, and what it names."""
    _make_folder(folder)
    _check_own(folder / NAME)
    _make_folder(folder / FILES)
    write_whole(folder / ROOT_FILE, scenario.root.pem)
    for name, octets in scenario.files.items():
        write_whole(folder / FILES / name, octets)
    for name, text in server_config().items():
        file = folder / FILES / "nginx" / name
        _make_folder(file.parent)
        write_whole(file, text.encode())
    write_whole(folder / NAME, _site_file_text(world, now).encode("utf-8"))


def _check_own(file: Path) -> None:
    """FileError for a site file that is not the demo's: somebody's own is not written over."""
    if file.is_symlink() or (file.exists() and not read_bounded(file, MAX_SITE_FILE, "site file").startswith(_FIRST)):
        raise FileError(f"{file} is not the demo's, and is left as it is. Choose another folder with --into.")


def _make_folder(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except (OSError, ValueError) as exc:
        raise FileError(f"{folder} cannot be written to: {why(exc)}. Choose another with --into.") from exc


def _site_file_text(world: World, now: datetime.datetime) -> str:
    """JSON's strings and lists are TOML's too."""
    routes = "\n".join(
        f"{json.dumps(here)} = {json.dumps(there)}" for here, _, there in (r.partition("=") for r in world.routes)
    )
    until = (now + datetime.timedelta(days=60)).date()
    return f"""\
{_FIRST.decode()}: all of it is made up.

[site]
canonical = "https://{WWW}"
names = {json.dumps(NAMES[1:], indent=4)}
paths = {json.dumps(PATHS, indent=4)}

[look]                          # how to get at it from here
resolver = "{world.resolver}"
trust = ["{ROOT_FILE}"]
revocation = true

[expect]
caa_domains = ["skerry-trust.example"]   # what the site's CA declares for CAA

[[accept]]
gap = "name/not-covered"
where = "{WEBMAIL}"
because = "unused since the mail moved; removed with the next zone change"
until = {until}

[origins]                       # the staff host is behind an edge service
"{STAFF}" = "{STAFF_ORIGIN}"

[routes]                        # the site's addresses, and where the simulated servers really are
{routes}
"""
