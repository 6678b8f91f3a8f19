"""A survey: many sites, on this machine or on a cluster; and what its folder tells afterwards."""

import datetime
import hashlib
import itertools
import os
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from pewter.errors import FileError, UsageError
from pewter.expectations import read_duration
from pewter.gather.routes import read_route
from pewter.judge.rules import SITE_RULES
from pewter.judge.summary import Row, row_of
from pewter.phrases import counted
from pewter.plan.files import read_bounded
from pewter.plan.own_files import read_trust_file
from pewter.plan.request import LookRequest
from pewter.plan.settle import check_look
from pewter.plan.texts import resolver_text
from pewter.report.many import MAX_SOON, SOON_DAYS, Found, Tally
from pewter.survey.local import LocalSurvey, files_allowed, within_files
from pewter.survey.processes import Started, forked
from pewter.survey.settings import FULL_SECONDS, Settings
from pewter.survey.sites import MAX_LIST, SiteList, read_list, words_for_wrong
from pewter.survey.store import Again, Ledger
from pewter.survey.work import Watcher

from .expiring import SURVEY
from .surroundings import Alone, Surroundings

if TYPE_CHECKING:
    import pandas

    from pewter.survey.cluster import ClusterSurvey

SITES_UNDER_WAY = 60


SITES_AGAIN = 4
"""Under way in one worker, where the name service could not keep up."""


PATIENCE_AGAIN = 3
"""Times as long the first octets of an answer are waited for then."""


class SurveyRequest(msgspec.Struct, frozen=True):
    """Which sites, where what is found is kept, and how each is looked at."""

    list: Path
    """One site a line; ``-`` for standard input."""

    into: Path
    again: str | None = None
    brief: bool = False
    look: LookRequest = msgspec.field(default_factory=LookRequest)
    """Of its options those that every site can have: routes, resolvers, trust, areas, revocation, gentle, timeout."""

    as_in_file: bool = False
    """Sites of the list at private addresses are contacted too."""

    workers: int | None = None
    cluster: str | None = None
    cluster_tls: tuple[Path, ...] = ()


class Surveyed(msgspec.Struct, frozen=True):
    """What a survey's folder tells."""

    found: Found
    broken_off: bool = False


def survey(request: SurveyRequest, around: Surroundings | None = None) -> Surveyed:
    """Look at every site of the list that waits.  Raises UsageError, FileError, or NotReviewedError."""
    around = around or Alone()
    again = read_again(request.again)
    settings = _settings(request)
    octets = _list_of(request.list)
    digest = hashlib.sha256(octets).hexdigest()
    sites = None if _has_list(request.into, digest) else _sites(octets, request.list, around)
    if sites is not None:
        settings = msgspec.structs.replace(settings, workers=min(settings.workers, len(sites.sites)))
    del octets
    workers = settings.workers if request.cluster is None else 0
    with forked(workers) as ready, Ledger.open_to_write(request.into) as ledger:
        if sites is not None:
            listed = ledger.take_list(sites.sites, digest)
            sites = None
            if listed.gone:
                around.say(
                    f"{listed.gone:,} sites of the folder are not in the list any more; what was found of them is kept"
                )
        broken_off = _look(request, ledger, settings, again, ready, around)
        ledger.fold()
        return Surveyed(found_in(ledger), broken_off)


def _has_list(folder: Path, digest: str) -> bool:
    """Whether a folder's survey is of this very list: of a million sites, reading it again takes minutes."""
    if not (folder / SURVEY).is_file():
        return False
    with Ledger.open_to_read(folder) as ledger:
        return ledger.has_list(digest)


def show_survey(folder: Path) -> Surveyed:
    """What was found, without the network.  Raises FileError."""
    with Ledger.open_to_read(folder) as ledger:
        return Surveyed(found_in(ledger))


def survey_frame(folder: Path) -> "pandas.DataFrame":
    """One row a site, the columns of a survey.  Raises FileError, and UsageError where pandas is not installed."""
    from pewter.report.frames import frame  # noqa: PLC0415

    with Ledger.open_to_read(folder) as ledger:
        return frame([row_of(values) for values in ledger.rows()])


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


def _settings(request: SurveyRequest) -> Settings:
    look = request.look
    timeout = look.timeout if look.timeout is not None else FULL_SECONDS
    rules = check_look(look.only, look.skip, timeout, look.trust, look.trust_only)
    if request.brief and all(rule.area == "dns" for rule in rules):
        raise UsageError("--brief asks nothing of name servers: the area dns needs a whole look.")
    workers = request.workers if request.workers is not None else os.cpu_count() or 1
    if not 0 < workers <= 64:
        raise UsageError(f"--workers is {workers}; allowed are 1 to 64.")
    under_way, sockets = within_files(SITES_UNDER_WAY, files_allowed())
    return Settings(
        is_brief=request.brief,
        resolvers=tuple(map(resolver_text, dict.fromkeys(look.resolvers))),
        routes=tuple(str(read_route(text)) for text in look.routes),
        only=look.only,
        skip=look.skip,
        gentle=look.gentle,
        revocation=look.revocation,
        seconds=look.timeout or 0.0,
        trust=tuple(each.der for file in (*look.trust, *look.trust_only) for each in read_trust_file(file)),
        trusts_given_only=bool(look.trust_only),
        as_in_file=request.as_in_file,
        workers=workers,
        sites_under_way=under_way,
        sockets=sockets,
    )


def _list_of(path: Path) -> bytes:
    if str(path) != "-":
        return read_bounded(path, MAX_LIST, "list of sites")
    octets = sys.stdin.buffer.read(MAX_LIST + 1) if sys.stdin is not None else b""
    if len(octets) > MAX_LIST:
        raise FileError(f"standard input is longer than {MAX_LIST >> 20} MiB, which is no list of sites.")
    return octets


def _sites(octets: bytes, path: Path, around: Surroundings) -> SiteList:
    """The list, wrong lines said; UsageError where every line is wrong."""
    sites = read_list(octets, "standard input" if str(path) == "-" else str(path))
    for words in words_for_wrong(sites.wrong):
        around.say(words)
    if not sites.sites:
        raise FileError(f"{path} names no site: every line of it is wrong.")
    if sites.doubles:
        around.say(f"{sites.doubles:,} lines name a site that stands there already")
    return sites


def _look(
    request: SurveyRequest,
    ledger: Ledger,
    settings: Settings,
    again: Again | None,
    ready: list[Started],
    around: Surroundings,
) -> bool:
    """Whether it was broken off."""
    now = datetime.datetime.now(datetime.UTC)
    run = ledger.begin(settings, again, now)
    done, whole = ledger.counts()
    if done == whole:
        around.say(f"all {whole:,} sites are looked at; --again looks anew")
        return False
    if done:
        around.say(f"going on: {done:,} of {whole:,} sites are looked at already")
    in_doubt: set[str] = set()

    async def go(with_settings: Settings, watcher: Watcher) -> None:
        work = _work(request, ledger, run, with_settings, ready, watcher)
        try:
            await work.go()
        finally:
            in_doubt.update(work.in_doubt)

    if around.survey(lambda watcher: go(settings, watcher), done, whole):
        around.say("stopped; the same command goes on where it was")
        return True
    if count := ledger.wait_again(run, in_doubt):
        # What was too much at once may be none of the sites' fault: once more, a few at a time.
        around.say(f"{counted(count, 'site')} once more, a few at a time: too much at once, or names not told in time")
        few = msgspec.structs.replace(
            settings,
            sites_under_way=min(SITES_AGAIN, settings.sites_under_way),
            first_seconds=PATIENCE_AGAIN * settings.first_seconds,
        )
        done, whole = ledger.counts()
        if around.survey(lambda watcher: go(few, watcher), done, whole):
            around.say("stopped; the same command goes on where it was")
            return True
    ledger.end(run, datetime.datetime.now(datetime.UTC))
    return False


def _work(
    request: SurveyRequest, ledger: Ledger, run: int, settings: Settings, ready: list[Started], watcher: Watcher
) -> "LocalSurvey | ClusterSurvey":
    if request.cluster is None:
        return LocalSurvey(ledger, run, settings, watcher, ready)
    from pewter.survey.cluster import ClusterSurvey  # noqa: PLC0415

    return ClusterSurvey(ledger, run, settings, watcher, request.cluster, request.cluster_tls)


class StoredRows:
    """The rows of a folder, read anew each time: a million of them do not fit into memory."""

    def __init__(self, folder: Path, count: int) -> None:
        self._folder, self._count = folder, count

    def __len__(self) -> int:
        return self._count

    def count_into(self, tally: Tally) -> None:
        """What is counted of them, by the database."""
        with Ledger.open_to_read(self._folder) as ledger:
            for reached in (True, False):
                for seconds, count in ledger.counted("seconds", float, reached=reached):
                    tally.add_seconds(seconds, count)
            for error, count in ledger.counted("error", str | None, reached=False):
                tally.add_error(error, count)
            adders: dict[str, tuple[Any, Callable[[Any, int], None]]] = {
                "worst": (str | None, tally.add_level),
                "versions": (str | None, tally.add_versions),
                "issuer": (str | None, tally.add_issuer),
                "hsts_age": (int | None, tally.add_age),
                "days_left": (int | None, tally.add_days_left),
            }
            for column, (kind, add) in adders.items():
                for value, count in ledger.counted(column, kind):
                    add(value, count)
            for issuer, lives, count in ledger.lives():
                tally.add_lives(issuer, lives, count)
            tally.add_soonest(map(row_of, ledger.soonest(SOON_DAYS, MAX_SOON)))
            last = ledger.last_look()
            tally.at = datetime.datetime.fromisoformat(last) if last is not None else None

    def __getitem__(self, at: int) -> Row:
        """One of them; to go through them is many times faster."""
        if not -self._count <= at < self._count:
            raise IndexError(at)
        return next(itertools.islice(self, at % self._count, None))

    def __iter__(self) -> Iterator[Row]:
        with Ledger.open_to_read(self._folder) as ledger:
            yield from map(row_of, ledger.rows())


def found_in(ledger: Ledger) -> Found:
    """What a folder tells."""
    run, begun, _ = ledger.last_run
    done, whole = ledger.counts()
    rows = StoredRows(ledger.path.parent, ledger.count_of_rows())
    titles = {rule.name: rule.words.title for rule in SITE_RULES}
    moment = datetime.datetime.fromisoformat(begun) if begun else None
    return Found(rows, ledger.rules(), whole, run, moment, done == whole, titles)
