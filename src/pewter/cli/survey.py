"""``pewter survey``: many sites, on this machine or on a cluster; and what its folder tells afterwards."""

import asyncio
import contextlib
import datetime
import os
import signal
import sys
import time
from collections import Counter, deque
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from pewter.errors import FileError, UsageError
from pewter.escape import escaped
from pewter.gather.routes import read_route
from pewter.judge.expectations import read_duration
from pewter.judge.outcomes import Level
from pewter.judge.rules import SITE_RULES
from pewter.judge.summary import SiteRow, row_of
from pewter.plan.files import check_writable, read_bounded
from pewter.plan.own_files import read_trust_file
from pewter.plan.settle import check_look
from pewter.plan.texts import read_level, resolver_text
from pewter.report import many
from pewter.report.formats import check_format
from pewter.report.many import Found
from pewter.report.survey_page import render_survey_page
from pewter.survey.frame import parquet
from pewter.survey.local import LocalSurvey, files_allowed, within_files
from pewter.survey.processes import Started, forked
from pewter.survey.settings import FULL_SECONDS, Settings
from pewter.survey.sites import MAX_LIST, SiteList, read_list, words_for_wrong
from pewter.survey.store import Again, Ledger

from .ending import INTERRUPTED, write_each
from .output import output_marks, output_width, print_text
from .saying import say
from .signals import ENDING

SUFFIXES = (*many.FORMATS, ".parquet", ".html")
SITES_UNDER_WAY = 60
EVERY_SECONDS = 5.0
RATE_SECONDS = 120.0
"""The last so many seconds tell how fast it goes."""


@dataclass(frozen=True)
class SurveyCommand:
    """The options as typed."""

    list: Path | None = None
    into: Path | None = None
    show: Path | None = None
    again: str | None = None
    brief: bool = False
    routes: tuple[str, ...] = ()
    resolvers: tuple[str, ...] = ()
    trust: tuple[Path, ...] = ()
    trust_only: tuple[Path, ...] = ()
    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    revocation: bool = False
    gentle: bool = False
    timeout: float | None = None
    workers: int | None = None
    cluster: str | None = None
    cluster_tls: tuple[Path, ...] = ()
    fail_on: str | None = None
    write: tuple[Path, ...] = field(default_factory=tuple)


def run_survey(command: SurveyCommand) -> int:
    """Look at every site of the list that waits, and show what was found; 130 where it was broken off."""
    for file in command.write:
        check_format(file, SUFFIXES)
        check_writable(file)
    fail_on = read_level(command.fail_on) if command.fail_on is not None else None
    if command.show is not None:
        if command.list is not None or command.into is not None:
            raise UsageError("--show tells of a folder by itself: leave the list and --into out.")
        with Ledger.open_to_read(command.show) as ledger:
            return _tell(ledger, command.write, fail_on)
    if command.list is None or command.into is None:
        raise UsageError("Give a list and a folder for what is found: pewter survey sites.txt --into survey")
    again = read_again(command.again)
    settings = _settings(command)
    sites = _sites(command.list)
    settings = msgspec.structs.replace(settings, workers=min(settings.workers, len(sites.sites)))
    workers = settings.workers if command.cluster is None else 0
    with forked(workers) as ready, Ledger.open_to_write(command.into) as ledger:
        interrupted = _look(command, ledger, sites, settings, again, ready)
        ledger.fold()
        status = _tell(ledger, command.write, fail_on)
    return INTERRUPTED if interrupted else status


def read_again(text: str | None) -> Again | None:
    """``all``, ``unreachable``, ``older-than 7d``; UsageError for anything else."""
    if text is None:
        return None
    which, _, age = text.replace("=", " ").partition(" ")
    if which in {"all", "unreachable"} and not age:
        return Again(which)
    duration = _age(age) if which == "older-than" else None
    if duration is None:
        raise UsageError(
            f'--again {text!r}: it can be all, unreachable, or older-than with a time, as "older-than 7d".'
        )
    return Again(which, duration)


def _age(text: str) -> datetime.timedelta | None:
    """``7d``, ``12h`` or as elsewhere, ``7 days``."""
    units = {"d": "days", "h": "hours", "m": "minutes"}
    if text[:-1].isascii() and text[:-1].isdigit() and text[-1:] in units:
        return datetime.timedelta(**{units[text[-1]]: min(int(text[:-1]), 100_000)})
    return read_duration(text)


def _settings(command: SurveyCommand) -> Settings:
    timeout = command.timeout if command.timeout is not None else FULL_SECONDS
    rules = check_look(command.only, command.skip, timeout, command.trust, command.trust_only)
    if command.brief and all(rule.area == "dns" for rule in rules):
        raise UsageError("--brief asks nothing of name servers: the area dns needs a whole look.")
    workers = command.workers if command.workers is not None else os.cpu_count() or 1
    if not 0 < workers <= 64:
        raise UsageError(f"--workers is {workers}; allowed are 1 to 64.")
    under_way, sockets = within_files(SITES_UNDER_WAY, files_allowed())
    return Settings(
        is_brief=command.brief,
        resolvers=tuple(map(resolver_text, dict.fromkeys(command.resolvers))),
        routes=tuple(str(read_route(text)) for text in command.routes),
        only=command.only,
        skip=command.skip,
        gentle=command.gentle,
        revocation=command.revocation,
        seconds=command.timeout or 0.0,
        trust=tuple(each.der for file in (*command.trust, *command.trust_only) for each in read_trust_file(file)),
        trusts_given_only=bool(command.trust_only),
        workers=workers,
        sites_under_way=under_way,
        sockets=sockets,
    )


def _sites(path: Path) -> SiteList:
    """The list, wrong lines said; UsageError where every line is wrong."""
    if str(path) == "-":
        octets = sys.stdin.buffer.read(MAX_LIST + 1) if sys.stdin is not None else b""
        if len(octets) > MAX_LIST:
            raise FileError(f"standard input is longer than {MAX_LIST >> 20} MiB, which is no list of sites.")
        sites = read_list(octets, "standard input")
    else:
        sites = read_list(read_bounded(path, MAX_LIST, "list of sites"), str(path))
    for words in words_for_wrong(sites.wrong):
        say(words)
    if not sites.sites:
        raise FileError(f"{path} names no site: every line of it is wrong.")
    if sites.doubles:
        say(f"{sites.doubles:,} lines name a site that stands there already")
    return sites


def _look(
    command: SurveyCommand,
    ledger: Ledger,
    sites: SiteList,
    settings: Settings,
    again: Again | None,
    ready: list[Started],
) -> bool:
    """Whether it was broken off."""
    listed = ledger.take_list(sites.sites)
    now = datetime.datetime.now(datetime.UTC)
    run = ledger.begin(msgspec.json.encode(settings, enc_hook=lambda _: "").decode(), again, now)
    done, whole = ledger.counts()
    if listed.gone:
        say(f"{listed.gone:,} sites of the folder are not in the list any more; what was found of them is kept")
    if done == whole:
        say(f"all {whole:,} sites are looked at; --again looks anew")
        return False
    if done:
        say(f"going on: {done:,} of {whole:,} sites are looked at already")
    watcher = Watcher(done, whole)
    if command.cluster is not None:
        from pewter.survey.cluster import ClusterSurvey  # noqa: PLC0415

        work = ClusterSurvey(ledger, run, settings, watcher, command.cluster, command.cluster_tls).go
    else:
        work = LocalSurvey(ledger, run, settings, watcher, ready).go
    try:
        broken_off = _run(work)
    finally:
        watcher.close()
    if broken_off:
        say("stopped; the same command goes on where it was")
        return True
    ledger.end(run, datetime.datetime.now(datetime.UTC))
    return False


def _run(work: Callable[[], Awaitable[None]]) -> bool:
    """Whether a signal ended it before its end."""

    async def whole() -> None:
        task, loop = asyncio.current_task(), asyncio.get_running_loop()
        assert task is not None
        for name in (*ENDING, "SIGINT"):
            with contextlib.suppress(AttributeError, NotImplementedError, RuntimeError, ValueError):
                loop.add_signal_handler(getattr(signal, name), task.cancel)
        await work()

    try:
        asyncio.run(whole())
    except (asyncio.CancelledError, KeyboardInterrupt):
        return True
    return False


class Watcher:
    """Progress on standard error: a live line on a terminal, a line every few seconds elsewhere."""

    def __init__(self, done: int, whole: int) -> None:
        self._done, self._whole = done, whole
        self._begun = self._said = time.monotonic()
        self._times: deque[float] = deque(maxlen=20_000)
        self._worst: Counter[str] = Counter()
        self._unreached = 0
        self._waits: list[str] = []
        self._status = None
        if sys.stderr is not None and sys.stderr.isatty():
            from rich.console import Console  # noqa: PLC0415

            self._status = Console(stderr=True).status("looking")
            self._status.start()

    def stored(self, row: SiteRow) -> None:
        """One more site is in the ledger."""
        self._done += 1
        self._times.append(time.monotonic())
        self._unreached += not row.reached
        if row.worst is not None:
            self._worst[row.worst] += 1
        self._show()

    def waits_for(self, keys: list[str]) -> None:
        """What is under way, the longest first."""
        self._waits = keys
        self._show()

    def say(self, words: str) -> None:
        say(words)

    def close(self) -> None:
        """No more of it."""
        if self._status is not None:
            self._status.stop()

    def _show(self) -> None:
        if self._status is not None:
            from rich.text import Text  # noqa: PLC0415

            self._status.update(Text(self.words))
            return
        now = time.monotonic()
        if now - self._said >= EVERY_SECONDS:
            self._said = now
            say(self.words)

    @property
    def words(self) -> str:
        """How far, how fast, how long still, and how bad so far."""
        now = time.monotonic()
        while self._times and now - self._times[0] > RATE_SECONDS:
            self._times.popleft()
        span = min(now - self._begun, RATE_SECONDS)
        rate = len(self._times) / span if span > 1 else 0.0
        parts = [f"{self._done:,} of {self._whole:,} sites"]
        if rate:
            parts.append(f"{rate:.1f} a second, {_time((self._whole - self._done) / rate)} left")
        if self._unreached:
            parts.append(f"{self._unreached:,} not reached")
        parts += [f"{self._worst[level.value]:,} {level.value}" for level in Level if self._worst[level.value]][:2]
        if self._waits:
            parts.append(f"waiting for {escaped(self._waits[0])}")
        return " \N{MIDDLE DOT} ".join(parts)


def _time(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"


def found_in(ledger: Ledger) -> Found:
    """What a folder tells."""
    run, begun, _ = ledger.last_run
    done, whole = ledger.counts()
    rows = [row_of(values) for values in ledger.rows()]
    titles = {rule.name: rule.words.title for rule in SITE_RULES}
    moment = datetime.datetime.fromisoformat(begun) if begun else None
    return Found(rows, ledger.rules(), whole, run, moment, done == whole, titles)


def _tell(ledger: Ledger, files: Sequence[Path], fail_on: Level | None) -> int:
    found = found_in(ledger)
    failed = write_each(files, lambda file: _render(found, file.suffix))
    print_text(many.render_summary(found, output_width(), output_marks()))
    if failed:
        return FileError.exit_status
    if fail_on is None:
        return 0
    return 1 if any(row["worst"] and Level(row["worst"]).rank <= fail_on.rank for row in found.rows) else 0


def _render(found: Found, suffix: str) -> bytes:
    if suffix == ".parquet":
        return parquet(found.rows)
    return render_survey_page(found) if suffix == ".html" else many.FORMATS[suffix](found)
