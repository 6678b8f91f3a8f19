"""What many sites come to: their table, and what was found how often, in every format of a survey."""

import bisect
import datetime
import functools
import heapq
import io
import itertools
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from operator import itemgetter
from typing import Any, Protocol, runtime_checkable

import msgspec
from rich.text import Text

from pewter.escape import escaped, json_escaped
from pewter.judge.comparison import CHANGE_TITLES
from pewter.judge.summary import COLUMNS, Row, RunChanges
from pewter.levels import Level
from pewter.phrases import and_more, counted, until

from .metrics import Family, openmetrics
from .rows import table
from .sheet import STYLES, UNICODE, Marks, Sheet

FORMAT = "pewter-survey/1"
FORMAT_OF_CHANGES = "pewter-survey-comparison/1"
MAX_SHOWN, MAX_ERROR = 15, 100
MAX_OF_LEVEL = {Level.BREAKS: 6, Level.EXPOSES: 6, Level.WEAKENS: 6, Level.NOTE: 3}
"""Rules that are shown, so that what every site has does not hide what is bad."""

_OF_ONE_SITE = re.compile(r"(?<=^not contacted: )\S+ is |(?<=^a fault of Pewter's own): .*", re.DOTALL)
MAX_CHANGED = 50
MAX_RUNS = 30
"""The newest that are shown."""

_LEVELS = tuple(level.value for level in Level)


class Rows(Protocol):
    """Rows in the order of the list; they are read anew each time that they are gone through."""

    def __iter__(self) -> Iterator[Row]: ...

    def __len__(self) -> int: ...


@runtime_checkable
class Counted(Protocol):
    """Rows of a database, which counts them many times faster."""

    def count_into(self, tally: "Tally") -> None: ...


class Found(msgspec.Struct, frozen=True, dict=True):
    """A survey as far as it has come."""

    rows: Rows
    rules: Sequence[tuple[str, str, int]]
    """Rule, level, number of sites; most sites first."""

    sites: int
    """Of the list."""

    run: int
    begun: datetime.datetime | None
    is_whole: bool
    titles: dict[str, str] = msgspec.field(default_factory=dict)
    """Of rules."""

    @functools.cached_property
    def tally(self) -> "Tally":
        """All that is counted, in one pass over the rows."""
        tally = Tally()
        if isinstance(self.rows, Counted):
            self.rows.count_into(tally)
        else:
            for row in self.rows:
                tally.add(row)
        return tally

    @property
    def worst_rows(self) -> list[Row]:
        """The worst sites, at most MAX_PAGE_ROWS, in the order of the list."""

        def order(numbered: tuple[int, Row]) -> int:
            _, row = numbered
            return _ORDER.get(row["worst"] or "", 4 if row["reached"] else 5)

        return [
            row for _, row in sorted(heapq.nsmallest(MAX_PAGE_ROWS, enumerate(self.rows), key=order), key=itemgetter(0))
        ]

    @property
    def at(self) -> datetime.datetime | None:
        """The latest look: what is relative to a day is relative to this."""
        return self.tally.at or self.begun


class Tally:
    """Counts over the rows of a survey, in memory that does not grow with them."""

    def __init__(self) -> None:
        self.reached = self.not_reached = self.with_version = self.with_policy = self.with_end = self.with_issuer = 0
        self.at: datetime.datetime | None = None
        self.levels: Counter[str] = Counter()
        self.versions: Counter[str] = Counter()
        self.issuers: Counter[str] = Counter()
        self.lives: dict[str, list[float]] = {}
        """Seconds and certificates of each issuer."""

        self.ages: Counter[str] = Counter()
        self.days_left: Counter[int] = Counter()
        self.errors: Counter[str] = Counter()
        self.seconds: Counter[int] = Counter()
        """By the step of SECONDS below them."""

        self.soon = 0
        self._soonest: list[tuple[float, int, Row]] = []
        self._count = 0

    def add(self, row: Row) -> None:
        """One row; what a database counts comes by the methods below, a value at a time."""
        self.at = max(filter(None, (self.at, row["looked_at"])), default=None)
        self.add_seconds(row["seconds"], 1)
        if not row["reached"]:
            self.add_error(row["error"], 1)
            return
        self.add_level(row["worst"], 1)
        self.add_versions(row["versions"], 1)
        self.add_issuer(row["issuer"], 1)
        if row["issuer"] and row["not_after"] is not None and row["not_before"] is not None:
            self.add_lives(row["issuer"], (row["not_after"] - row["not_before"]).total_seconds(), 1)
        self.add_age(row["hsts_age"], 1)
        self.add_days_left(row["days_left"], 1)
        if row["days_left"] is not None and row["days_left"] < SOON_DAYS:
            self.add_soonest((row,))

    def add_seconds(self, seconds: float, count: int) -> None:
        self.seconds[bisect.bisect_right(SECONDS, float(seconds)) - 1] += count

    def add_error(self, error: str | None, count: int) -> None:
        self.not_reached += count
        kind = _kind_of_error(error)
        if kind in self.errors or len(self.errors) < MAX_KINDS:
            self.errors[kind] += count

    def add_level(self, worst: str | None, count: int) -> None:
        self.reached += count
        self.levels[worst or "no gap"] += count

    def add_versions(self, versions: str | None, count: int) -> None:
        if versions:
            self.with_version += count
            for each in versions.split(", "):
                self.versions[each] += count

    def add_issuer(self, issuer: str | None, count: int) -> None:
        if issuer:
            self.with_issuer += count
            if issuer in self.issuers or len(self.issuers) < MAX_KINDS:
                self.issuers[issuer] += count

    def add_lives(self, issuer: str, seconds: float, count: int) -> None:
        if issuer in self.issuers:
            life = self.lives.setdefault(issuer, [0.0, 0])
            life[0] += seconds
            life[1] += count

    def add_age(self, age: int | None, count: int) -> None:
        if age is not None:
            self.with_policy += count
            self.ages[next(words for most, words in HSTS_STEPS if age < most)] += count

    def add_days_left(self, days: int | None, count: int) -> None:
        if days is not None:
            self.with_end += count
            self.days_left[max(-1, min(days, 7 * WEEKS))] += count
            self.soon += count if days < SOON_DAYS else 0

    def add_soonest(self, rows: Iterable[Row]) -> None:
        for row in rows:
            self._count += 1
            each = (-row["not_after"].timestamp(), -self._count, row)
            if len(self._soonest) < MAX_SOON:
                heapq.heappush(self._soonest, each)
            else:
                heapq.heappushpop(self._soonest, each)

    @property
    def soonest(self) -> list[Row]:
        """Certificates that have ended or end within SOON_DAYS, the soonest first, at most MAX_SOON."""
        return sorted((each[-1] for each in self._soonest), key=lambda row: (row["not_after"], row["site"]))


MAX_SOON, MAX_PAGE_ROWS, MAX_KINDS = 200, 2000, 2000
SOON_DAYS = 30
SECONDS = (0, 0.5, 1, 2, 3, 5, 8, 12, 20, 30, 60, 600)
_ORDER = {level: number for number, level in enumerate(_LEVELS)}


# Counts


def worst_levels(found: Found) -> list[tuple[str, int]]:
    """Reached sites by worst level, without a gap last; those that were not reached apart."""
    return [(level, found.tally.levels.get(level, 0)) for level in (*_LEVELS, "no gap")]


_NO_SIBLING = ("reach/no-address", Level.NOTE.value)
"""That the name with or without www does not exist, of which nearly every site has one: no news of any."""


def main_rules(found: Found) -> list[tuple[str, str, int]]:
    """What is shown of the rules: worst level first, then most sites first."""
    shown: list[tuple[str, str, int]] = []
    for level, most in MAX_OF_LEVEL.items():
        shown += [each for each in found.rules if each[1] == level.value and each[:2] != _NO_SIBLING][:most]
    return shown


def newest_versions(found: Found) -> list[tuple[str, int]]:
    """Sites by each version that they speak."""
    return sorted(found.tally.versions.items(), reverse=True)


def issuers(found: Found) -> list[tuple[str, int]]:
    return found.tally.issuers.most_common(MAX_SHOWN)


def lives_by_issuer(found: Found) -> list[tuple[str, int]]:
    """Mean days from begin to end of each issuer's certificates, of the issuers with most sites."""
    means = {issuer: round(seconds / count / _DAY) for issuer, (seconds, count) in found.tally.lives.items()}
    return [(issuer, means[issuer]) for issuer, _ in issuers(found) if issuer in means]


_DAY = 86400
HSTS_STEPS = (
    (1, "none sent"),
    (30 * _DAY, "under 30 days"),
    (180 * _DAY, "30 to 180 days"),
    (365 * _DAY, "180 to 365 days"),
    (1 << 62, "a year or more"),
)
"""Seconds below which an age is called so."""


def hsts_ages(found: Found) -> list[tuple[str, int]]:
    """Sites of which a policy, or that there is none, was seen."""
    return [(words, found.tally.ages.get(words, 0)) for _, words in HSTS_STEPS]


WEEKS = 14


def ends_by_week(found: Found) -> list[tuple[str, int]]:
    """Certificates that end in each of the next weeks, those that have ended before them, and the rest behind."""
    at, tally = found.at, found.tally
    if at is None or not tally.with_end:
        return []
    counts: Counter[int] = Counter()
    for days, count in tally.days_left.items():
        counts[-1 if days < 0 else min(days // 7, WEEKS)] += count
    weeks: list[tuple[str, int]] = [("ended", counts.get(-1, 0))]
    for week in range(WEEKS):
        begins = at + datetime.timedelta(weeks=week)
        weeks.append((f"from {begins:%Y-%m-%d}", counts.get(week, 0)))
    weeks.append(("later", counts.get(WEEKS, 0)))
    while not weeks[-1][1]:
        weeks.pop()
    return weeks


def seconds_of_sites(found: Found) -> list[tuple[str, int]]:
    """How long looks took."""
    counts = [
        (f"{low:g} to {high:g} s", found.tally.seconds.get(number, 0))
        for number, (low, high) in enumerate(itertools.pairwise(SECONDS))
    ]
    while counts and not counts[-1][1]:
        counts.pop()
    return counts


# Formats


def render_csv(found: Found) -> bytes:
    """One row a site, made a piece at a time."""
    out = io.BytesIO()
    out.write(table(COLUMNS, ()))
    for rows in batched(found.rows):
        out.write(table((), ([_text(row[name]) for name in COLUMNS] for row in rows)).partition(b"\r\n")[2])
    return out.getvalue()


_PIECE = 10_000


def batched(rows: Iterable[Row]) -> Iterator[list[Row]]:
    """So many at a time."""
    source = iter(rows)
    while piece := list(itertools.islice(source, _PIECE)):
        yield piece


def _text(value: Any) -> str:
    if isinstance(value, str):
        return value
    match value:
        case None:
            return ""
        case bool():
            return "true" if value else "false"
        case datetime.datetime():
            return f"{value.isoformat()[:19]}Z"
        case _:
            return str(value)


def render_json(found: Found) -> bytes:
    """Sites and rules, in UTF-8 on one line with its end."""
    content = {
        "format": FORMAT,
        "run": found.run,
        "begun": found.begun,
        "sites": found.sites,
        "is_whole": found.is_whole,
        "rules": [{"rule": rule, "level": level, "sites": count} for rule, level, count in found.rules],
        "rows": list(found.rows),
    }
    return json_escaped(msgspec.json.encode(content)) + b"\n"


def render_openmetrics(found: Found) -> bytes:
    """Counts of sites, and of each site when its certificate ends."""
    states = {"reached": found.tally.reached, "not reached": found.tally.not_reached}
    states["waiting"] = found.sites - len(found.rows)
    ends, renewals = (
        tuple(
            ((("site", row["site"]),), row[name].timestamp())
            for row in found.rows
            if row["reached"] and row[name] is not None
        )
        for name in ("not_after", "renewal")
    )
    families = [
        Family(
            "pewter_survey_sites",
            "Sites by state.",
            "",
            tuple(
                ((("state", state),), float(states.get(state, 0))) for state in ("reached", "not reached", "waiting")
            ),
        ),
        Family(
            "pewter_survey_worst",
            "Reached sites by worst level.",
            "",
            tuple(((("level", level),), float(count)) for level, count in worst_levels(found)),
        ),
        Family(
            "pewter_survey_rule_sites",
            "Sites with a gap by rule.",
            "",
            tuple(((("rule", rule), ("level", level)), float(count)) for rule, level, count in found.rules),
        ),
        Family(
            "pewter_certificate_not_after_timestamp_seconds",
            "The end of the certificate that ends first.",
            "seconds",
            ends,
        ),
        Family("pewter_certificate_renewal_timestamp_seconds", "When its renewal is due.", "seconds", renewals),
    ]
    return openmetrics(families)


def render_summary(found: Found, width: int, marks: Marks = UNICODE) -> Text:
    """For a terminal: how far, how bad, what most often, what ends soon."""
    sheet = Sheet(width, marks)
    reached = found.tally.reached
    state = "" if found.is_whole else f", {found.sites - len(found.rows):,} not looked at yet"
    sheet.line(
        (f"{len(found.rows):,} of {found.sites:,} sites", "bold"),
        f": {reached:,} reached, {len(found.rows) - reached:,} not{state}",
    )
    if reached:
        sheet.heading("Worst level", f"of {reached:,} sites that were reached")
        for level, count in worst_levels(found):
            has_gap = level != "no gap"
            mark, style = (marks.level[Level(level)], STYLES[Level(level)]) if has_gap else (marks.holds, "green")
            sheet.line("  ", (mark, style), f" {level:<8} {count:>7,}  {_share(count, reached)}")
    shown = main_rules(found)
    if shown:
        sheet.heading("Gaps", "worst level first, sites with each")
        for rule, level, count in shown:
            title = found.titles.get(rule, "")
            sheet.line(
                "  ", (marks.level[Level(level)], STYLES[Level(level)]), f" {count:>7,}  {title or rule}",
                (f"  {rule}" if title and len(title) + len(rule) + 16 <= sheet.width else "", "dim"),
            )  # fmt: skip
        if more := len(found.rules) - len(shown):
            sheet.line("  ", f"and {counted(more, 'rule')} more: -w FILE.json holds them all")
    _counted(sheet, "Protocol versions", newest_versions(found), found.tally.with_version)
    _counted(sheet, "Issuers", issuers(found), found.tally.with_issuer)
    _counted(sheet, "HSTS", hsts_ages(found), found.tally.with_policy)
    soon = found.tally.soonest
    if soon:
        sheet.heading("Ends within 30 days", f"{found.tally.soon:,} certificates")
        for row in soon[:MAX_SHOWN]:
            style = "bold red" if row["days_left"] < 0 else "yellow"
            sheet.line(
                "  ",
                (f"{row['not_after']:%Y-%m-%d}  {until(row['not_after'] - row['looked_at']):>14} ", style),
                f" {row['site']}  ",
                (row["issuer"] or "", "dim"),
            )
        if found.tally.soon > MAX_SHOWN:
            sheet.line("  ", and_more(found.tally.soon, MAX_SHOWN).strip())
    errors = found.tally.errors
    if errors:
        sheet.heading("Not reached", f"{found.tally.not_reached:,} sites")
        for why, count in errors.most_common(MAX_SHOWN):
            sheet.line("  ", (marks.unknown, "yellow"), f" {count:>7,}  {why}")
    return sheet.text


def _share(count: int, whole: int) -> str:
    return f"{100 * count / whole:5.1f} %" if whole else ""


def _counted(sheet: Sheet, title: str, counts: Sequence[tuple[str, int]], of: int) -> None:
    if not of:
        return
    sheet.heading(title, f"of {of:,} sites where it was seen")
    for words, count in counts:
        sheet.line("    ", f"{count:>7,}  {_share(count, of)}  {escaped(words)}")


def _kind_of_error(error: str | None) -> str:
    """The same for the same cause: without the address that was not contacted, and without what a fault was."""
    return escaped(_OF_ONE_SITE.sub("", error or "not known"))[:MAX_ERROR]


def render_run_changes(changes: RunChanges, width: int, marks: Marks = UNICODE) -> Text:
    """Rules by how many sites opened or closed them, then the sites."""
    sheet = Sheet(width, marks)
    words = f"{changes.compared:,} sites with two runs: {changes.stayed:,} the same, {len(changes.sites):,} changed"
    if not changes.compared:
        words = "No site was looked at twice: pewter survey LIST --into FOLDER --again looks anew."
    sheet.line((words, "bold"))
    if len(changes.runs) > 1:
        sheet.heading("Runs", "sites by their worst level as they stood after each")
        for each in changes.runs[-MAX_RUNS:]:
            shown = [f"{marks.level[level]} {each.levels.get(level.value, 0):>6,}" for level in Level]
            shown += [f"{marks.holds} {each.levels.get('', 0):>6,}", f"{marks.unknown} {each.not_reached:>6,}"]
            sheet.line("  ", f"{each.run:>3}  {each.begun:%Y-%m-%d %H:%M}  {'  '.join(shown)}")
    gaps = [gap for site in changes.sites for gap in site.gaps]
    for change, title in CHANGE_TITLES.items():
        found = Counter((gap.rule, gap.title) for gap in gaps if gap.change is change)
        if found:
            sheet.heading(title, f"{sum(found.values()):,} gaps")
            for (rule, words), count in found.most_common(MAX_SHOWN):
                sheet.line("  ", f"{count:>7,}  {words}", (f"  {rule}", "dim"))
    if changes.sites:
        sheet.heading("Sites", "those that changed")
        for site in changes.sites[:MAX_CHANGED]:
            counts = Counter(gap.change.value for gap in site.gaps)
            words = ", ".join(f"{count} {change}" for change, count in sorted(counts.items()))
            sheet.flow("  ", (site.site, ""), "; ".join(filter(None, (words, site.remark))), (marks.dot, ""))
        if len(changes.sites) > MAX_CHANGED:
            sheet.line("  ", f"{and_more(len(changes.sites), MAX_CHANGED).strip()}: --json holds them all")
    return sheet.text


def render_run_changes_json(changes: RunChanges) -> bytes:
    """All of it, in UTF-8 on one line with its end."""
    content = {"format": FORMAT_OF_CHANGES, **msgspec.structs.asdict(changes)}
    return json_escaped(msgspec.json.encode(content)) + b"\n"
