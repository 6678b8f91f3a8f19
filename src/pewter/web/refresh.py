"""The Refresh field and its twin in a page, by which a page moves on by itself (HTML section 4.2.5.3)."""

import re
from collections.abc import Iterator

import msgspec

from pewter.evidence import Move, MoveKind, Page

from .urls import Url, resolve

_TIME = re.compile(r"[\t\n\f\r ]*+([0-9]{0,9}+)[0-9]*+([0-9.]*+)")
_SEPARATOR = re.compile(r"[\t\n\f\r ]*+[;,]?[\t\n\f\r ]*+")
_URL = re.compile(r"[Uu][Rr][Ll][\t\n\f\r ]*+=[\t\n\f\r ]*+")

LONGEST_SECONDS = 30
"""Of a move that counts: what comes later is a slide show, or a page that shows itself anew."""


class Refresh(msgspec.Struct, frozen=True):
    """One that can be read."""

    seconds: int
    url: str
    """As written; empty where the page shows itself anew."""

    @property
    def moves_on(self) -> bool:
        return bool(self.url) and self.seconds <= LONGEST_SECONDS


def read_refresh(value: str) -> Refresh | None:
    """Read ``0; url=https://x.example/``; None where browsers do nothing."""
    time = _TIME.match(value)
    assert time is not None
    if not time[1] and not time[2].startswith("."):
        return None
    seconds, position = int(time[1] or 0), time.end()
    if position == len(value):
        return Refresh(seconds, "")
    if value[position] not in ";,\t\n\f\r ":
        return None
    separator = _SEPARATOR.match(value, position)
    assert separator is not None
    rest = value[separator.end() :]
    if (named := _URL.match(rest)) is not None:
        rest = rest[named.end() :]
    if rest[:1] in {'"', "'"}:
        rest = rest[1:].partition(rest[0])[0]
    return Refresh(seconds, rest.strip("\t\n\f\r "))


def moves_of(refresh_values: tuple[str, ...], page: Page | None, url: Url) -> Iterator[Move]:
    """Where an answer moves its visitors by itself, by the Refresh field first; http and https alone."""
    for value in refresh_values[:1]:
        refresh = read_refresh(value)
        resolved = resolve(refresh.url, str(url)) if refresh is not None and refresh.moves_on else None
        if resolved is not None and resolved.startswith("http"):
            yield Move(MoveKind.REFRESH_FIELD, resolved)
    for move in page.moves if page is not None else ():
        if move.url.startswith("http"):
            yield move
