"""The list of a survey: one site a line, or a table with a column of names."""

import csv
import io
from collections.abc import Iterator, Sequence

import msgspec

from pewter.errors import FileError, UsageError
from pewter.escape import escaped
from pewter.evidence import Target
from pewter.phrases import and_more
from pewter.plan.texts import read_target

MAX_LIST = 64 << 20
"""Octets of a list."""

MAX_LINE = 4096
MAX_NAMES = 100
"""Names of one site on a line."""

COLUMNS = ("site", "name", "names", "host", "hostname", "domain", "url")
"""Heads of a column of names, the first of these that there is."""


class Site(msgspec.Struct, frozen=True):
    """One line of the list."""

    targets: tuple[Target, ...]
    """The first decides the site."""

    line: int

    @property
    def key(self) -> str:
        """By what the ledger knows it: the first name, with its port where that is not 443."""
        first = self.targets[0]
        return first.host if first.port == 443 else f"{first.host}:{first.port}"


class WrongLine(msgspec.Struct, frozen=True):
    """One that names no site."""

    number: int
    why: str


class SiteList(msgspec.Struct, frozen=True):
    """What a list comes to."""

    sites: tuple[Site, ...]
    wrong: tuple[WrongLine, ...]
    doubles: int
    """Lines whose site stood on an earlier line."""


def read_list(octets: bytes, title: str) -> SiteList:
    """A list: names or URLs, several of one site apart by blanks or commas, ``#`` comments; or CSV with a head line.

    Byte order mark, line ends of any system, capitals, final dots and Unicode names are taken.  Wrong lines are named
    and cost no other.  Raises FileError for what holds no line at all.
    """
    sites: dict[str, Site] = {}
    wrong: list[WrongLine] = []
    doubles = lines = 0
    for number, names in _lines(octets):
        lines += 1
        try:
            site = _site(number, names)
        except UsageError as exc:
            wrong.append(WrongLine(number, str(exc)))
            continue
        known = sites.get(site.key)
        if known is None:
            sites[site.key] = site
            continue
        doubles += 1
        if set(site.targets) - set(known.targets):
            joined = tuple(dict.fromkeys((*known.targets, *site.targets)))[:MAX_NAMES]
            sites[site.key] = Site(joined, known.line)
    if not lines:
        raise FileError(f"{title} names no site: write one host name a line.")
    return SiteList(tuple(sites.values()), tuple(wrong), doubles)


def _site(number: int, names: Sequence[str]) -> Site:
    if not names:
        raise UsageError("no name stands there.")
    if any(len(each) > MAX_LINE for each in names):
        raise UsageError(f"it is longer than {MAX_LINE} characters.")
    if len(names) > MAX_NAMES:
        raise UsageError(f"it has {len(names)} names; at most {MAX_NAMES} are of one site.")
    read = [read_target(each) for each in names]
    return Site(tuple(dict.fromkeys(Target(each.host, each.port) for each in read)), number)


def _lines(octets: bytes) -> Iterator[tuple[int, Sequence[str]]]:
    """The names of each line that is neither blank nor a comment, with its number from 1."""
    head_at: int | None = None
    column: _Column | None = None
    for number, line in enumerate(_texts(octets), start=1):
        stripped = line.strip()
        if not stripped or stripped.startswith("#"):
            continue
        if head_at is None:
            head_at, column = number, _column(line)
        if column is not None:
            if number > head_at:
                yield number, _cells_of(line, column)
            continue
        yield number, stripped.partition(" #")[0].replace(",", " ").replace(";", " ").split()


def _texts(octets: bytes) -> Iterator[str]:
    """Lines with any line end, one at a time; of one that is longer than any may be its beginning."""
    with io.TextIOWrapper(io.BytesIO(octets), "utf-8-sig", errors="replace", newline=None) as text:
        while line := text.readline(_LONGEST):
            is_whole = len(line) < _LONGEST or line.endswith("\n")
            while not is_whole:
                rest = text.readline(_LONGEST)
                is_whole = len(rest) < _LONGEST or rest.endswith("\n")
            yield line.removesuffix("\n")


_LONGEST = 64 * MAX_LINE + 2
"""Characters of a line of a table, and one more."""


class _Column(msgspec.Struct, frozen=True):
    """Where the names are in a table."""

    position: int
    delimiter: str


def _column(head: str) -> _Column | None:
    """None where the first line is no head line."""
    for delimiter in (",", ";", "\t"):
        cells = [cell.strip().lower().strip('"') for cell in head.split(delimiter)]
        for name in COLUMNS:
            if name in cells and (len(cells) > 1 or name == head.strip().lower()):
                return _Column(cells.index(name), delimiter)
    return None


def _cells_of(line: str, column: _Column) -> Sequence[str]:
    if len(line) > 64 * MAX_LINE:
        return ("x" * (MAX_LINE + 1),)
    cells = next(csv.reader(io.StringIO(line), delimiter=column.delimiter), [])
    if len(cells) <= column.position:
        return ()
    return cells[column.position].replace(",", " ").replace(";", " ").split()


def words_for_wrong(wrong: Sequence[WrongLine], shown: int = 5) -> Iterator[str]:
    """A sentence for each of the first, and how many there are beside."""
    for each in wrong[:shown]:
        yield f"line {each.number} is no site: {escaped(each.why)[:200]}"
    if len(wrong) > shown:
        yield f"{and_more(len(wrong), shown, 'lines').strip()} are no sites"
