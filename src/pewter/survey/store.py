"""The ledger of a survey: one SQLite database in its folder, written by one process, readable by all.

A narrow table holds what is told of each site, a second one the packed reviews: an aggregate never reads past them.
Each site is one commit, so that a killed survey loses nothing that was finished.
"""

import contextlib
import datetime
import functools
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any, get_type_hints

import msgspec
import zstandard

from pewter.errors import FileError
from pewter.judge.comparison import Change, compare
from pewter.judge.review import Review, read_review
from pewter.judge.summary import EndRow, RunChanges, RunCount, SiteChanges, SiteRow, Summary
from pewter.plan.files import write_whole
from pewter.plan.saved_reviews import MAX_REVIEW

from .settings import Settings
from .sites import Site

FILE, LOCK, LIST = "survey.sqlite", "survey.lock", "survey.list"
APPLICATION_ID = 0x50657774
FORMAT = 1
KEPT_RUNS = 2
"""Reviews of a site that are kept: the last, and the one that it is compared with."""

_ROW_FIELDS = SiteRow.__struct_fields__
_LAST_ROW = "exists (select 1 from rows where rows.site = sites.site and rows.run = sites.run"
_LAST_ROWS = "sites join rows on rows.site = sites.site and rows.run = sites.run where sites.listed"
"""The last row of each site of the list; a condition may follow."""

_PAIRS = (
    "select sites.site as site, max(rows.run) as before, sites.run as after, sites.position as position "
    "from sites join rows on rows.site = sites.site and rows.run < sites.run where sites.listed group by sites.site"
)
_LAST_TOLD = "(select max(run) from ends where site = ? and kind = 'certificate')"
_SCHEMA = f"""
create table runs (run integer primary key, begun text not null, options text not null, ended text);
create table sites (
    site text primary key, targets text not null, position integer not null, listed integer not null,
    waiting integer not null, run integer not null default 0
) without rowid;
create index waiting_sites on sites (waiting, position);
create table rows (site text not null, run integer not null, {", ".join(_ROW_FIELDS[1:])}, primary key (site, run))
    without rowid;
create table gaps (site text not null, run integer not null, rule text not null, level text not null,
    place text not null, accepted integer not null);
create index gaps_of_site on gaps (site, run);
create table ends (site text not null, run integer not null, at text not null, kind text not null,
    place text not null, words text not null);
create index ends_of_site on ends (site, run);
create table reviews (site text not null, run integer not null, review blob not null, primary key (site, run));
"""


class Listed(msgspec.Struct, frozen=True):
    """What a list changed in a folder."""

    new: int
    gone: int
    """Sites of the folder that are in it no longer; they are kept."""


class Ledger:
    """An open store.  Everything that the disk refuses is FileError."""

    def __init__(self, path: Path, connection: sqlite3.Connection, lock: sqlite3.Connection | None) -> None:
        self.path = path
        self._db = connection
        self._lock = lock

    # Opening

    @classmethod
    def open_to_write(cls, folder: Path) -> "Ledger":
        """The folder's store, made where there is none; FileError where another survey has it."""
        file = folder / FILE
        with _failing(file):
            folder.mkdir(parents=True, exist_ok=True)
            if not file.exists() and any(each.name not in {LOCK, f"{LOCK}-journal", LIST} for each in folder.iterdir()):
                raise FileError(f"{folder} holds other files and no survey: choose an empty or a new folder.")
            if file.exists() and file.stat().st_size:
                # Another program's database is not even opened to be written.
                trial = _connect_to_read(file)
                _check(file, trial)
                trial.close()
            lock = _locked(folder)
            try:
                connection = _connect(file)
                _prepare(file, connection)
            except BaseException:
                lock.close()
                raise
        return cls(file, connection, lock)

    @classmethod
    def open_to_read(cls, folder: Path) -> "Ledger":
        """The store of a folder, while it is written as well."""
        file = folder / FILE
        with _failing(file):
            if not file.is_file():
                raise FileError(f"{folder} holds no survey. 'pewter survey LIST --into {folder}' makes one.")
            connection = _connect_to_read(file)
            _check(file, connection)
        return cls(file, connection, None)

    def close(self) -> None:
        with contextlib.suppress(sqlite3.Error):
            self._db.close()
        if self._lock is not None:
            self._lock.close()

    def __enter__(self) -> "Ledger":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    # What is to be done

    def has_list(self, digest: str) -> bool:
        """Whether the list with this digest was the last that was taken: then there is nothing to take."""
        try:
            return (self.path.parent / LIST).read_text(encoding="ascii")[:100].strip() == digest
        except (OSError, ValueError):
            return False

    def take_list(self, sites: Sequence[Site], digest: str = "") -> Listed:
        """Take over a list: new sites wait, sites that are gone from it stay and wait no longer."""
        with _failing(self.path):
            (self.path.parent / LIST).unlink(missing_ok=True)
            listed = self._take_list(sites)
            if digest:
                write_whole(self.path.parent / LIST, f"{digest}\n".encode("ascii"))
            return listed

    def _take_list(self, sites: Sequence[Site]) -> Listed:
        with self._db:
            known = {site for (site,) in self._db.execute("select site from sites")}
            self._db.execute("update sites set listed = 0, waiting = 0 where 1")
            self._db.executemany(
                "insert into sites (site, targets, position, listed, waiting, run) values (?, ?, ?, 1, 1, 0) "
                "on conflict (site) do update set targets = excluded.targets, position = excluded.position, listed = 1",
                (
                    (each.key, " ".join(_target_text(target) for target in each.targets), position)
                    for position, each in enumerate(sites)
                ),
            )
        keys = {each.key for each in sites}
        return Listed(len(keys - known), len(known - keys))

    def begin(self, settings: Settings, again: "Again | None", now: datetime.datetime) -> int:
        """The run that this survey is: one that was broken off, or a new one.  Its sites wait from now on.

        One run has one set of options: FileError where it was begun with others and is not begun anew.
        """
        options = msgspec.json.encode(settings).decode()
        with _failing(self.path), self._db:
            last = self._db.execute("select run, ended, options from runs order by run desc limit 1").fetchone()
            run, ended, of_last = last or (0, now, options)
            differs = list(settings.differs(_read_settings(self.path, of_last)))
            if differs and again is None:
                raise FileError(
                    f"{self.path.parent} was begun with other options; these have {', '.join(differs)}. "
                    "Type the same ones to go on, or --again to begin a new run."
                )
            if not run or (again is not None and (ended is not None or differs)):
                run += 1
                self._db.execute("insert into runs values (?, ?, ?, null)", (run, now.isoformat(), options))
            else:
                self._db.execute("update runs set ended = null where run = ?", (run,))
            if again is not None and run > 1:
                self._set_waiting(again, run, now)
            self._db.execute("update sites set waiting = 1 where listed and run = 0")
        return int(run)

    def _set_waiting(self, again: "Again", run: int, now: datetime.datetime) -> None:
        """Sites that this run looks at anew and has not looked at yet."""
        query = "update sites set waiting = 1 where listed and run < ?"
        match again.which:
            case "unreachable":
                self._db.execute(f"{query} and {_LAST_ROW} and not reached)", (run,))
            case "older-than":
                oldest = (now - again.age).isoformat()
                self._db.execute(f"{query} and {_LAST_ROW} and looked_at < ?)", (run, oldest))
            case _:
                self._db.execute(query, (run,))

    def waiting(self) -> Iterator[tuple[str, str]]:
        """Keys and targets of the sites that are to be looked at, in the order of the list."""
        last = -1
        while True:
            with _failing(self.path):
                found = self._db.execute(
                    "select site, targets, position from sites where waiting and listed and position > ? "
                    "order by position limit 1000",
                    (last,),
                ).fetchall()
            if not found:
                return
            for row in found:
                site, targets, last = _typed(self.path, row, _WAITS)
                yield site, targets

    def counts(self) -> tuple[int, int]:
        """Sites of the list that are done, and all of it."""
        with _failing(self.path):
            done, whole = self._db.execute(
                "select coalesce(sum(not waiting), 0), count(*) from sites where listed"
            ).fetchone()
        return int(done), int(whole)

    def keep(self, run: int, summary: Summary, packed: bytes | None) -> bool:
        """Store one site in one commit; False where it is there already.  FileError where the disk is full."""
        row = summary.row
        values = [msgspec.to_builtins(getattr(row, name)) for name in _ROW_FIELDS]
        with _failing(self.path), self._db:
            marks = ", ".join("?" * (len(values) + 1))
            stored = self._db.execute(
                f"insert into rows (site, run, {', '.join(_ROW_FIELDS[1:])}) values ({marks}) on conflict do nothing",
                (values[0], run, *values[1:]),
            )
            if not stored.rowcount:
                return False
            self._db.executemany(
                "insert into gaps values (?, ?, ?, ?, ?, ?)",
                ((row.site, run, each.rule, each.level, each.place, each.accepted) for each in summary.gaps),
            )
            self._db.executemany(
                "insert into ends values (?, ?, ?, ?, ?, ?)",
                ((row.site, run, each.at.isoformat(), each.kind, each.where, each.words) for each in summary.ends),
            )
            if packed is not None:
                self._db.execute("insert or replace into reviews values (?, ?, ?)", (row.site, run, packed))
            self._db.execute("update sites set waiting = 0, run = ? where site = ?", (run, row.site))
            if run > KEPT_RUNS:
                self._drop_old(row.site)
        return True

    def wait_again(self, run: int, in_doubt: Iterable[str] = ()) -> int:
        """How many sites of a run wait once more: those in doubt, and those whose names were not told in time."""
        of_run = (
            "run = ? and (site in (select site from rows where run = ? and not reached and error like ?) "
            "or site in (select site from doubted))"
        )
        values = (run, run, "the name service %")
        with _failing(self.path), self._db:
            self._db.execute("create temporary table if not exists doubted (site text primary key)")
            self._db.execute("delete from doubted")
            self._db.executemany("insert or ignore into doubted values (?)", ((site,) for site in in_doubt))
            count = self._db.execute(f"update sites set waiting = 1 where listed and {of_run}", values).rowcount
            for table in ("gaps", "ends", "reviews", "rows") if count else ():
                self._db.execute(f"delete from {table} where {of_run}", values)
        return count

    def _drop_old(self, site: str) -> None:
        """All but the last runs; the row of each run stays, and of what ends what was seen last, however long ago."""
        runs = [run for (run,) in self._db.execute("select run from rows where site = ? order by run desc", (site,))]
        (telling,) = self._db.execute(f"select {_LAST_TOLD}", (site,)).fetchone()
        for run in runs[KEPT_RUNS:]:
            for table in ("gaps", "reviews", *(() if run == telling else ("ends",))):
                self._db.execute(f"delete from {table} where site = ? and run = ?", (site, run))

    def end(self, run: int, now: datetime.datetime) -> None:
        """Every site of the list is done."""
        with _failing(self.path), self._db:
            self._db.execute("update runs set ended = ? where run = ?", (now.isoformat(), run))

    # What was found

    @property
    def last_run(self) -> tuple[int, str, str | None]:
        """Its number, when it began, and when it ended; 0 where none was begun."""
        with _failing(self.path):
            found = self._db.execute("select run, begun, ended from runs order by run desc limit 1").fetchone()
        return _typed(self.path, found, _LAST_RUN, (1, 2)) if found else (0, "", None)

    def rows(self) -> Iterator[tuple[Any, ...]]:
        """The last row of each site, in the order of the list: the columns of a survey."""
        with _failing(self.path):
            found = self._db.execute(f"select {_COLUMNS} from {_LAST_ROWS} order by sites.position")
            yield from (_typed(self.path, row, _ROW, _MOMENTS) for row in found)

    def counted(self, column: str, kind: Any, *, reached: bool = True) -> list[tuple[Any, int]]:
        """Each value of a column of the last rows, and how many sites have it."""
        assert column in _ROW_FIELDS
        with _failing(self.path):
            found = self._db.execute(
                f"select {column}, count(*) from {_LAST_ROWS} and reached = ? group by 1", (int(reached),)
            )
            return [_typed(self.path, each, _shape(kind, int)) for each in found]

    def lives(self) -> list[tuple[str, float, int]]:
        """Issuers, the seconds of all lives of their certificates, and how many these are."""
        with _failing(self.path):
            found = self._db.execute(
                "select issuer, sum((julianday(not_after) - julianday(not_before)) * 86400.0), count(*) "
                f"from {_LAST_ROWS} and reached and issuer is not null "
                "and not_after is not null and not_before is not null group by 1"
            )
            return [_typed(self.path, each, _LIFE) for each in found]

    def last_look(self) -> str | None:
        """When the latest of them began."""
        with _failing(self.path):
            found = self._db.execute(f"select max(looked_at) from {_LAST_ROWS}").fetchone()
        return str(_typed(self.path, found, _shape(str), (0,))[0]) if found[0] is not None else None

    def soonest(self, days: int, most: int) -> list[tuple[Any, ...]]:
        """Rows of sites whose certificate has ended or ends within so many days, the soonest first."""
        with _failing(self.path):
            found = self._db.execute(
                f"select {_COLUMNS} from {_LAST_ROWS} and reached and days_left < ? "
                "order by not_after, position limit ?",
                (days, most),
            )
            return [_typed(self.path, row, _ROW, _MOMENTS) for row in found]

    def count_of_rows(self) -> int:
        """How many rows there are."""
        with _failing(self.path):
            (count,) = self._db.execute(f"select count(*) from {_LAST_ROWS}").fetchone()
        return int(count)

    def gaps(self) -> Iterator[tuple[str, str, str, str, int]]:
        """Site, rule, level, place and whether it is accepted, of the last row of each site."""
        with _failing(self.path):
            found = self._db.execute(
                "select gaps.site, rule, level, place, accepted from sites join gaps on gaps.site = sites.site and "
                "gaps.run = sites.run where sites.listed order by sites.position"
            )
            yield from (_typed(self.path, row, _GAP) for row in found)

    def rules(self) -> list[tuple[str, str, int]]:
        """Rule, level and number of sites with such a gap, of those that were reached; most sites first."""
        with _failing(self.path):
            return self._db.execute(
                "select rule, level, count(distinct gaps.site) as n from sites join gaps on gaps.site = sites.site "
                "and gaps.run = sites.run join rows on rows.site = sites.site and rows.run = sites.run "
                "where sites.listed and reached and not accepted "
                "group by rule, level order by n desc, rule, level"
            ).fetchall()

    def ends(self) -> Iterator[tuple[str, EndRow, str]]:
        """What ends, by site, as the last run tells that saw a certificate; when that was, where it is not the last."""
        telling = f"coalesce({_LAST_TOLD.replace('?', 'sites.site')}, sites.run)"
        with _failing(self.path):
            found = self._db.execute(
                "select ends.site, at, kind, place, words, "
                "case when ends.run = sites.run then '' else coalesce(looked_at, '') end "
                "from sites join ends on ends.site = sites.site "
                "left join rows on rows.site = ends.site and rows.run = ends.run "
                f"where sites.listed and ends.run = {telling} order by at"
            )
            for row in found:
                site, at, kind, place, words, seen = _typed(self.path, row, _END, (1,))
                yield site, EndRow(datetime.datetime.fromisoformat(at), kind, place, words), seen

    def run_counts(self) -> list[RunCount]:
        """Of each run, when it began, and the sites of the list by their worst level as they stood after it."""
        with _failing(self.path):
            runs = self._db.execute("select run, begun from runs order by run").fetchall()
            found = []
            for run, begun in runs:
                counted = self._db.execute(
                    "select case when reached then coalesce(worst, '') end, count(*) from rows join sites using (site) "
                    "where listed and "
                    "rows.run = (select max(run) from rows as r where r.site = rows.site and r.run <= ?) group by 1",
                    (run,),
                )
                levels = {level: int(count) for level, count in counted}
                _typed(self.path, (run, begun), _RUN, (1,))
                found.append(RunCount(run, datetime.datetime.fromisoformat(begun), levels.pop(None, 0), levels))
        return found

    def sites_with_two_runs(self) -> int:
        """How many have an earlier run beside the last."""
        with _failing(self.path):
            (count,) = self._db.execute(f"select count(*) from ({_PAIRS})").fetchone()
        return int(count)

    def sites_that_changed(self) -> list[tuple[str, int, int]]:
        """Sites whose gaps are others than in the run before: the site, the earlier run, the last."""
        columns = "gaps.site, rule, level, place, accepted"
        of_run = f"select {columns} from pairs join gaps on gaps.site = pairs.site and gaps.run = pairs.%s"
        with _failing(self.path):
            return self._db.execute(
                f"with pairs as ({_PAIRS}), "
                f"gone as ({of_run % 'before'} except {of_run % 'after'}), "
                f"come as ({of_run % 'after'} except {of_run % 'before'}) "
                "select pairs.site, pairs.before, pairs.after from pairs where site in "
                "(select site from gone union select site from come) order by pairs.position"
            ).fetchall()

    def was_reached(self, site: str) -> bool:
        """At its last look."""
        with _failing(self.path):
            found = self._db.execute(
                "select reached from rows join sites using (site, run) where site = ?", (site,)
            ).fetchone()
        return bool(found and found[0])

    def review(self, site: str, run: int | None = None) -> Review:
        """One site's whole review; FileError where there is none."""
        with _failing(self.path):
            found = self._db.execute(
                "select review from reviews join sites using (site) where site = ? "
                "and reviews.run = coalesce(?, sites.run)",
                (site, run),
            ).fetchone()
        if found is None:
            raise FileError(f"{self.path.parent} holds no review of {site}.")
        if not isinstance(found[0], bytes):
            raise FileError(f"{self.path} is damaged: a review is no octets.")
        return read_review(unpack(found[0]), f"the review of {site}", is_own=False)

    def has_review(self, site: str, run: int) -> bool:
        with _failing(self.path):
            found = self._db.execute("select 1 from reviews where site = ? and run = ?", (site, run)).fetchone()
        return found is not None

    def fold(self) -> None:
        """Bring the write-ahead log into the database, so that its file alone is the survey."""
        with _failing(self.path):
            self._db.execute("pragma wal_checkpoint(truncate)")


class Again(msgspec.Struct, frozen=True):
    """Which sites are looked at anew."""

    which: str
    """``all``, ``unreachable`` or ``older-than``."""

    age: datetime.timedelta = datetime.timedelta()


def pack(octets: bytes) -> bytes:
    """A review as it is kept."""
    return zstandard.ZstdCompressor(level=3, write_content_size=True).compress(octets)


def unpack(octets: bytes) -> bytes:
    """FileError for what is damaged, or longer than a review may be."""
    try:
        size = zstandard.frame_content_size(octets)
        if not 0 <= size <= MAX_REVIEW:
            raise FileError(f"a kept review is longer than {MAX_REVIEW >> 20} MiB.")
        return zstandard.ZstdDecompressor().decompress(octets, max_output_size=MAX_REVIEW)
    except zstandard.ZstdError as exc:
        raise FileError(f"a kept review is damaged: {exc}.") from exc


def _target_text(target: Any) -> str:
    host = f"[{target.host}]" if ":" in target.host else target.host
    return host if target.port == 443 else f"{host}:{target.port}"


def _connect(file: Path) -> sqlite3.Connection:
    connection = sqlite3.connect(file, timeout=30, check_same_thread=False)
    connection.execute("pragma journal_mode = wal")
    connection.execute("pragma synchronous = full")
    return connection


def _connect_to_read(file: Path) -> sqlite3.Connection:
    """Also from a folder in which nothing can be written."""
    address = file.resolve().as_uri()
    connection = sqlite3.connect(f"{address}?mode=ro", uri=True, timeout=30, check_same_thread=False)
    try:
        connection.execute("select count(*) from sqlite_master").fetchone()
    except sqlite3.OperationalError:
        connection.close()
        connection = sqlite3.connect(f"{address}?immutable=1", uri=True, check_same_thread=False)
    return connection


def _prepare(file: Path, connection: sqlite3.Connection) -> None:
    """Make the tables where there are none."""
    (tables,) = connection.execute("select count(*) from sqlite_master").fetchone()
    if tables:
        _check(file, connection)
        return
    with connection:
        connection.execute(f"pragma application_id = {APPLICATION_ID}")
        connection.execute(f"pragma user_version = {FORMAT}")
        for statement in filter(str.strip, _SCHEMA.split(";")):
            connection.execute(statement)


def _check(file: Path, connection: sqlite3.Connection) -> None:
    (application,) = connection.execute("pragma application_id").fetchone()
    (version,) = connection.execute("pragma user_version").fetchone()
    if application != APPLICATION_ID:
        connection.close()
        raise FileError(f"{file} is a database of another program; it is left as it is.")
    if version != FORMAT:
        connection.close()
        raise FileError(f"{file} has the format {version}; this Pewter reads format {FORMAT}.")
    if _made_of(connection) != _form():
        connection.close()
        raise FileError(f"{file} is damaged: it has other tables than a survey of this format.")


def _made_of(connection: sqlite3.Connection) -> set[tuple[str, str, str]]:
    """Tables, indexes, views and triggers, as they were written."""
    found = connection.execute("select type, name, sql from sqlite_master where name not like 'sqlite_%'").fetchall()
    return {(kind, name, " ".join(str(sql).split())) for kind, name, sql in found}


@functools.cache
def _form() -> frozenset[tuple[str, str, str]]:
    connection = sqlite3.connect(":memory:")
    connection.executescript(_SCHEMA)
    form = frozenset(_made_of(connection))
    connection.close()
    return form


@functools.cache
def _shape(*kinds: Any) -> type[msgspec.Struct]:
    """Of a row: as a struct, msgspec works out once how it is checked."""
    return msgspec.defstruct("Row", [(f"column_{n}", kind) for n, kind in enumerate(kinds)], array_like=True)


_IN_SQLITE: dict[Any, Any] = {datetime.datetime: str, datetime.datetime | None: str | None, bool: int}
_HINTS = get_type_hints(SiteRow)
_IN_ROWS = [*_ROW_FIELDS[:-1], "run", _ROW_FIELDS[-1]]
_COLUMNS = ", ".join(f"rows.{name}" for name in _IN_ROWS)
_ROW = _shape(*(_IN_SQLITE.get(_HINTS.get(name, int), _HINTS.get(name, int)) for name in _IN_ROWS))
_MOMENTS = tuple(
    n for n, name in enumerate(_IN_ROWS) if _HINTS.get(name) in (datetime.datetime, datetime.datetime | None)
)
_GAP, _END = _shape(str, str, str, str, int), _shape(str, str, str, str, str, str)
_LIFE = _shape(str, float, int)
_WAITS, _RUN, _LAST_RUN = _shape(str, str, int), _shape(int, str), _shape(int, str, str | None)


def _typed(file: Path, row: tuple[Any, ...], kinds: Any, moments: Sequence[int] = ()) -> tuple[Any, ...]:
    """A row whose values are of these types, and moments where they should be.  FileError for any other."""
    try:
        msgspec.convert(row, kinds)
        for position in moments:
            if row[position] is not None and datetime.datetime.fromisoformat(row[position]).tzinfo is None:
                raise ValueError(f"{row[position][:40]} has no time zone")
    except (msgspec.ValidationError, ValueError) as exc:
        raise FileError(f"{file} is damaged: {exc}.") from exc
    return row


def _read_settings(file: Path, text: Any) -> Settings:
    try:
        return msgspec.json.decode(text, type=Settings)
    except (msgspec.MsgspecError, TypeError, ValueError) as exc:
        raise FileError(f"{file} is damaged: the options of its last run cannot be read.") from exc


def _locked(folder: Path) -> sqlite3.Connection:
    """A lock that ends with the process that holds it, however it ends."""
    lock = sqlite3.connect(folder / LOCK, timeout=0, isolation_level=None, check_same_thread=False)
    try:
        lock.execute("begin exclusive")
    except sqlite3.OperationalError as exc:
        lock.close()
        if "locked" not in str(exc):
            raise
        raise FileError(f"{folder} is being surveyed by another process.") from None
    return lock


@contextlib.contextmanager
def _failing(file: Path) -> Iterator[None]:
    try:
        yield
    except sqlite3.Error as exc:
        raise FileError(f"{file} cannot be used: {exc}.") from exc
    except OSError as exc:
        raise FileError(f"{file} cannot be used: {exc.strerror or exc}.") from exc


def changes_of_runs(ledger: Ledger) -> RunChanges:
    """Each site's last review against the one before.  Only sites whose gaps or reach differ are read whole."""
    sites: list[SiteChanges] = []
    compared, changed_sites = ledger.sites_with_two_runs(), ledger.sites_that_changed()
    for site, before, after in changed_sites:
        if not (ledger.has_review(site, before) and ledger.has_review(site, after)):
            sites.append(SiteChanges(site, (), "there is no review of one of the two runs", is_known=False))
            continue
        comparison = compare(ledger.review(site, before), ledger.review(site, after))
        changed = tuple(gap for gap in comparison.gaps if gap.change is not Change.STAYED)
        remark = "" if ledger.was_reached(site) else "it could not be reached this time"
        sites.append(SiteChanges(site, changed, remark))
    return RunChanges(compared, compared - len(changed_sites), tuple(sites), tuple(ledger.run_counts()))
