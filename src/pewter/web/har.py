"""HAR recordings (HTTP Archive 1.2) as journeys, so that what appears only behind a login is judged too.

Nothing secret is taken over (:mod:`.secrets`): no request fields, no bodies, no cookie values, and of every query
only the names.  Of the answers' fields only those are kept that a rule reads.
"""

import base64
import binascii
import datetime
from collections.abc import Callable, Iterator
from typing import TypeVar

import msgspec

from pewter.evidence import (
    LANDED,
    Hop,
    Journey,
    Landed,
    Move,
    Page,
    Reference,
    Statement,
    StopCause,
    Stopped,
    WayIn,
    is_ip_address,
)

from .cookies import mask_set_cookie
from .pages import read_page
from .redirects import NoRedirect, next_url
from .secrets import without_secrets, without_secrets_in
from .urls import InvalidUrl, Url, read_url

MAX_ENTRIES = 5000
MAX_PAGE_TEXT = 1 << 20
MAX_FILE = 160 << 20
MAX_PAGES, MAX_ALL_TEXT, MAX_ALL_URLS = 200, 8 << 20, 4 << 20
"""Pages that are read, octets of them all, and characters of the addresses that they refer to."""

MAX_ENTRY = 8 << 20
"""Octets of an entry with its contents; of a longer one the contents are passed over."""

_KEPT_FIELDS = frozenset(
    (
        "content-security-policy",
        "content-type",
        "date",
        "location",
        "server",
        "set-cookie",
        "strict-transport-security",
    )
)


class HarError(ValueError):
    """Octets that are no HAR recording; says why in words."""


class _Field(msgspec.Struct):
    name: str = ""
    value: str = ""


class _Content(msgspec.Struct, rename="camel"):
    mime_type: str = ""
    text: str | None = None
    encoding: str | None = None


class _Request(msgspec.Struct):
    url: str = ""
    method: str = "GET"


class _Head(msgspec.Struct):
    status: int = 0
    headers: list[_Field] = []


class _Response(_Head):
    content: _Content | None = None


class _Entry(msgspec.Struct, rename="camel"):
    """Without its contents."""

    request: _Request
    response: _Head
    started_date_time: str = ""
    server_ip_address: str = msgspec.field(default="", name="serverIPAddress")


class _WholeEntry(_Entry):
    response: _Response


class _Log(msgspec.Struct):
    entries: list[msgspec.Raw]


class _Har(msgspec.Struct):
    log: _Log


class Recording(msgspec.Struct, frozen=True):
    """What a recording comes to."""

    journeys: tuple[Journey, ...]
    pages: tuple[Page, ...]
    answers_left_out: int = 0
    """Behind the first MAX_ENTRIES."""

    pages_left_out: int = 0
    """That were too much to be read."""


def read_har(octets: bytes, at: datetime.datetime, may_go_on: Callable[[], bool] = lambda: True) -> Recording:
    """Journeys and pages of a recording; HarError for what is none.

    Entries that lead to one another by a redirect are one journey.  ``at`` stands for a time that cannot be read.
    Entries are read one after the other, so that the contents of only one are in memory at a time; pages only
    while ``may_go_on`` says so.
    """
    reading = _Reading(at, may_go_on)
    try:
        entries = msgspec.json.decode(octets, type=_Har).log.entries
        hops = [found for entry in entries[:MAX_ENTRIES] if (found := reading.hop(entry)) is not None]
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as exc:
        raise HarError(str(exc)) from exc
    pages = tuple(reading.pages.values())
    return Recording(tuple(_journeys(hops)), pages, max(len(entries) - MAX_ENTRIES, 0), reading.passed_over)


class _Reading:
    """The pages of a recording, within their bounds."""

    def __init__(self, at: datetime.datetime, may_go_on: Callable[[], bool]) -> None:
        self._at = at
        self._may_go_on = may_go_on
        self._text_left = MAX_ALL_TEXT
        self._urls_left = MAX_ALL_URLS
        self.pages: dict[tuple[str, str], Page] = {}
        self.passed_over = 0

    def hop(self, raw: msgspec.Raw) -> tuple[Url, Hop] | None:
        """None for what is no answer of a site."""
        octets = memoryview(raw)
        content: _Content | None = None
        entry: _Entry
        if len(octets) <= MAX_ENTRY:
            entry = whole = msgspec.json.decode(octets, type=_WholeEntry)
            content = whole.response.content
        else:
            entry = msgspec.json.decode(octets, type=_Entry)
            self.passed_over += 1
        try:
            url = without_secrets(read_url(entry.request.url))
        except InvalidUrl:
            return None  # data:, blob:, ws: and extensions' own
        if not 100 <= entry.response.status < 600:
            return None  # answered by the browser itself, or not at all
        hop = _hop(entry, url, self._at)
        page = self._page(content, url)
        if page is not None:
            self.pages[page.url, page.sha256] = page
            hop = msgspec.structs.replace(hop, page=page.sha256)
        return url, hop

    def _page(self, content: _Content | None, url: Url) -> Page | None:
        if content is None or not content.text or "html" not in content.mime_type.lower():
            return None
        if min(self._text_left, self._urls_left) <= 0 or len(self.pages) >= MAX_PAGES or not self._may_go_on():
            self.passed_over += 1
            return None
        octets = _octets_of(content)
        if octets is None:
            return None
        self._text_left -= min(len(octets), MAX_PAGE_TEXT)
        page = read_page(octets[:MAX_PAGE_TEXT], url, "text/html; charset=utf-8", truncated=len(octets) > MAX_PAGE_TEXT)
        self._urls_left -= sum(
            len(each.url) for parts in (page.references, page.statements, page.moves) for each in parts
        )
        return msgspec.structs.replace(
            page,
            title="",
            references=_safe(page.references),
            statements=_safe(page.statements),
            moves=_safe(page.moves),
            style_sheets=tuple(map(without_secrets_in, page.style_sheets)),
            parts=(),  # nothing of a recording is asked for
            inner_links=(),
        )


def _hop(entry: _Entry, url: Url, at: datetime.datetime) -> Hop:
    fields = []
    for field in entry.response.headers:
        name = field.name.strip().lower()
        # Some browsers write several Set-Cookie fields as one value with line ends.
        for value in field.value.split("\n") if name == "set-cookie" else [field.value]:
            if name == "set-cookie":
                fields.append((field.name.strip(), mask_set_cookie(value)))
            elif name in _KEPT_FIELDS:
                fields.append((field.name.strip(), without_secrets_in(value)))
    address = entry.server_ip_address.strip("[]")
    shown = address if is_ip_address(address) else ""
    return Hop(str(url), shown, entry.response.status, tuple(fields), _time(entry, at))


def _time(entry: _Entry, at: datetime.datetime) -> datetime.datetime:
    try:
        moment = datetime.datetime.fromisoformat(entry.started_date_time)
        return moment.astimezone(datetime.UTC) if moment.tzinfo is not None else at
    except (ValueError, OverflowError):  # before the year 1, or after 9999, in UTC
        return at


def _octets_of(content: _Content) -> bytes | None:
    assert content.text is not None
    if content.encoding != "base64":
        return content.text.encode("utf-8", "replace")
    try:
        return base64.b64decode(content.text, validate=False)
    except (binascii.Error, ValueError):  # ValueError: no ASCII
        return None


_T = TypeVar("_T", Reference, Statement, Move)


def _safe(parts: tuple[_T, ...]) -> tuple[_T, ...]:
    return tuple(msgspec.structs.replace(each, url=without_secrets_in(each.url)) for each in parts)


def _journeys(hops: list[tuple[Url, Hop]]) -> Iterator[Journey]:
    """Chains of redirects; an answer that nothing leads to begins a journey of its own."""
    taken: set[int] = set()
    by_url: dict[str, list[int]] = {}
    for position, (url, _) in enumerate(hops):
        by_url.setdefault(str(url), []).append(position)
    for position, (start, _) in enumerate(hops):
        if position in taken:
            continue
        chain, current = [position], position
        end: Landed | Stopped = LANDED
        while True:
            url, hop = hops[current]
            try:
                following = next_url(hop.status, hop.values("Location"), url)
            except InvalidUrl as exc:
                end = Stopped(str(url), StopCause.BAD_LOCATION, f"the Location cannot be followed: {exc}")
                break
            if not isinstance(following, Url):
                assert following is NoRedirect
                break
            later = by_url.get(str(without_secrets(following)), [])
            onward = next((each for each in later if each > current and each not in taken), None)
            if onward is None:
                break  # the recording does not show where it led
            chain.append(onward)
            current = onward
        taken.update(chain)
        yield Journey(str(start), tuple(hops[each][1] for each in chain), end, WayIn.RECORDED)
