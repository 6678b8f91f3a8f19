"""Reading an HTML page for its URLs, as browsers find them (HTML, W3C Mixed Content level 2).

Tags come from :mod:`.markup`; where a URL can stand, and what a browser does with it, is decided here.  What stands
in ``noscript`` and ``template`` is no part of a shown page; a ``srcdoc`` is a page of its own within it.
"""

import base64
import hashlib
import html
import re
import urllib.parse
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import msgspec
import webencodings

from pewter.evidence import Move, MoveKind, Page, Reference, Statement, StatementKind, Use

from .debug_pages import debug_signs, versions_named
from .encodings import PRESCANNED, encoding_in_meta, encoding_of
from .markup import EndTag, StartTag, read_markup
from .refresh import read_refresh
from .style_sheets import may_hold_plain_urls, may_import, urls_in_style
from .urls import InvalidUrl, Url, read_url, resolve

MAX_REFERENCES = 2000
MAX_LINKS = 400
MAX_STATEMENTS = 400
MAX_PARTS = 12
"""Scripts, style sheets and frames over https that are kept."""

MAX_SRCDOC_DEPTH = 3
MAX_URLS = 10_000
"""Different URLs of one page that are resolved."""

MAX_RESOLVED = 16 << 20
"""Characters of references and their bases that are resolved for one page: a long base counts for each link."""

MAX_STYLE_TEXT = 1 << 18
"""Characters of all styles within one page that are read."""

MAX_DATA = 1 << 18
"""Characters of a frame's ``data:`` URL."""

MAX_CANDIDATES = 200
"""Of one ``srcset``."""

_PLAIN = ("http://", "ws://")
_SAYS_CHARSET = re.compile(rb"charset", re.IGNORECASE)

_SITEMAP_LOCATION = re.compile(r"<loc>\s{0,20}+([^<\s]{1,2000}+)", re.IGNORECASE)
_CANDIDATE = re.compile(r"[\t\n\f\r ,]*+([^\t\n\f\r ]++)")
_DESCRIPTORS = re.compile(r"(?:[^,(]|\([^)]*+(?:\)|\Z))*+")
_DENSITY = re.compile(r"(?:[0-9]++(?:\.[0-9]++)?|\.[0-9]++)(?:[eE][+-]?[0-9]++)?x")
_WIDTH = re.compile(r"0*+[1-9][0-9]*+([wh])")
_STATIC_IMPORT = re.compile(
    r"(?:\A|[;}\n\s])(?:import|export)\b[^'\"`;()]{0,999}+[\"']((?:http|ws)://[^\"'\s]{1,2000}+)[\"']"
)
_HEAD = {"html", "head", "title", "meta", "link", "script", "style", "base", "noscript", "template", "noframes"}
"""Elements that do not begin a body (HTML section 13.2.6.4.4)."""
_LOCATION = r"(?:window\.|document\.|self\.|top\.)?location"
_ASSIGNS_LOCATION = (
    rf"{_LOCATION}(?:\.href)?\s{{0,9}}+=\s{{0,9}}+[\"']([^\"'\s]{{1,2000}}+)[\"']"
    rf"|{_LOCATION}\.(?:replace|assign)\(\s{{0,9}}+[\"']([^\"'\s]{{1,2000}}+)[\"']"
)
_SCRIPT_MOVE = re.compile(_ASSIGNS_LOCATION)
_STATEMENT_BEFORE = re.compile(r"(?:\A|[;\n])\s{0,200}+\Z|(?:\A|\n)\s{0,200}+(?:<!--|//<!\[CDATA\[)\s{0,200}+\Z")
_TO_HTTPS = re.compile(
    rf"{_LOCATION}\.protocol\s{{0,9}}+=\s{{0,9}}+[\"']https:?[\"']"
    rf"|{_LOCATION}(?:\.href\s{{0,9}}+=|\s{{0,9}}+=|\.replace\(|\.assign\()\s{{0,9}}+"
    rf"(?:{_LOCATION}(?:\.href|\.toString\(\))?\.replace\(\s{{0,9}}+[\"'/]\^?http:|[\"']https:(?://)?[\"']\s{{0,9}}+\+)"
)
"""The page's own address over https."""

_IF_PLAIN = re.compile(
    rf"if\s{{0,9}}+\(\s{{0,9}}+{_LOCATION}\.protocol\s{{0,9}}+(?:!==?\s{{0,9}}+[\"']https:[\"']|===?\s{{0,9}}+[\"']http:[\"'])"
    r"\s{0,9}+\)\s{0,9}+\{?\s{0,99}+\Z"
)
_SCRIPT_FETCH = re.compile(
    r"""(?:\bfetch\(\s{0,99}+|\bnew\s{1,99}+(?:WebSocket|EventSource|Worker|SharedWorker)\(\s{0,99}+"""
    r"""|\.open\(\s{0,99}+["'][A-Z]{1,20}["']\s{0,99}+,\s{0,99}+"""
    r"""|\bimport\(\s{0,99}+|\bimportScripts\(\s{0,99}+|\bsendBeacon\(\s{0,99}+)"""
    r"""["'`]((?:http|ws)://[^"'`\s]{1,2000}+)["'`]"""
)
_LONGEST_MOVING_SCRIPT = 2000
"""Characters: a longer script does more than move on."""

_SCRIPT_TYPES = frozenset(
    f"{kind}/{language}"
    for kind in ("text", "application")
    for language in ("javascript", "ecmascript", "x-javascript", "x-ecmascript")
) | frozenset(f"text/{name}" for name in ("jscript", "livescript", *(f"javascript1.{minor}" for minor in range(6))))
"""JavaScript MIME type essence matches (WHATWG MIME Sniffing section 4.6): any other type is a block of data."""

# Elements whose one attribute is fetched: tag, attribute, use.
_FETCHED: dict[str, tuple[tuple[str, Use], ...]] = {
    "iframe": (("src", Use.FRAME),),
    "frame": (("src", Use.FRAME),),
    "embed": (("src", Use.PLUGIN),),
    "object": (("data", Use.PLUGIN),),
    "audio": (("src", Use.AUDIO_VIDEO),),
    "video": (("src", Use.AUDIO_VIDEO), ("poster", Use.IMAGE)),
    "track": (("src", Use.TRACK),),
    **dict.fromkeys(("body", "table", "thead", "tbody", "tfoot", "tr", "td", "th"), (("background", Use.IMAGE),)),
    "image": (("href", Use.IMAGE), ("xlink:href", Use.IMAGE)),
    "use": (("href", Use.IMAGE_SET), ("xlink:href", Use.IMAGE_SET)),
}
_LINK_USES = {
    "stylesheet": Use.STYLE,
    "preload": Use.PRELOAD,
    "modulepreload": Use.PRELOAD,
    "prefetch": Use.PRELOAD,
    "manifest": Use.MANIFEST,
    "icon": Use.IMAGE,
    "apple-touch-icon": Use.IMAGE,
}
_LOADED = frozenset({Use.SCRIPT, Use.STYLE, Use.FRAME})
_PRELOADED = {"image": Use.IMAGE, "audio": Use.AUDIO_VIDEO, "video": Use.AUDIO_VIDEO}
"""A preload is treated as what it is for."""

_FEEDS = ("application/rss+xml", "application/atom+xml", "application/feed+json")


def decode_page(octets: bytes, content_type: str) -> str:
    """Text of a page: byte order mark, then the field's charset, then what the page says itself, then UTF-8.

    Labels are those of the WHATWG Encoding standard alone: one that it does not know counts as UTF-8.
    """
    encoding = encoding_of(octets, content_type)
    if encoding is None and _SAYS_CHARSET.search(octets, PRESCANNED):
        # Further down, where only the tags tell: browsers begin again with it.
        tags = read_markup(octets.decode("latin-1"))
        labels = (encoding_in_meta(tag.attributes) for tag in tags if isinstance(tag, StartTag) and tag.name == "meta")
        encoding = next((each for each in labels if each is not None), None)
    text, _ = webencodings.decode(octets, encoding or webencodings.UTF8)
    return str(text)


def read_page(octets: bytes, url: Url, content_type: str = "", *, truncated: bool = False) -> Page:
    """Read an HTML page that came from ``url``; never raises, whatever the octets are, in time linear in them."""
    text = decode_page(octets, content_type)
    reader = _PageReader(url)
    reader.read(text)
    found = reader.found
    return Page(
        url=str(url),
        sha256=hashlib.sha256(octets).hexdigest(),
        octets=len(octets),
        truncated=truncated or reader.is_exhausted,
        title=found.title[:200],
        references=tuple(found.references)[:MAX_REFERENCES],
        statements=tuple(found.statements),
        moves=tuple(found.moves),
        upgrades_requests=found.upgrades_requests,
        style_sheets=tuple(found.style_sheets),
        parts=tuple(found.parts),
        inner_links=tuple(found.inner_links)[:MAX_LINKS],
        debug_signs=debug_signs(text),
        versions=versions_named(text),
    )


def read_style_sheet(octets: bytes, url: Url, *, truncated: bool = False) -> Page:
    """Read a style sheet for its URLs."""
    reader = _PageReader(url)
    reader.take_style_text(octets.decode("utf-8", "replace"), "")
    return Page(
        url=str(url),
        sha256=hashlib.sha256(octets).hexdigest(),
        octets=len(octets),
        truncated=truncated or reader.is_exhausted,
        references=tuple(reader.found.references)[:MAX_REFERENCES],
        style_sheets=tuple(reader.found.style_sheets),
    )


def read_sitemap(octets: bytes, url: Url, *, truncated: bool = False) -> Page:
    """The addresses of a sitemap (sitemaps.org protocol) as statements, the first MAX_LINKS of them."""
    locations = _SITEMAP_LOCATION.findall(octets.decode("utf-8", "replace"))[:MAX_LINKS]
    resolved = (resolve(html.unescape(text), str(url)) for text in locations)
    return Page(
        url=str(url),
        sha256=hashlib.sha256(octets).hexdigest(),
        octets=len(octets),
        truncated=truncated,
        statements=tuple(
            dict.fromkeys(Statement(StatementKind.SITEMAP, each) for each in resolved if each is not None)
        ),
    )


@dataclass
class _Found:
    """What a page says; each once, in the order of the page."""

    title: str = ""
    references: dict[Reference, None] = field(default_factory=dict)
    statements: dict[Statement, None] = field(default_factory=dict)
    moves: dict[Move, None] = field(default_factory=dict)
    style_sheets: dict[str, None] = field(default_factory=dict)
    parts: dict[Reference, None] = field(default_factory=dict)
    inner_links: dict[str, None] = field(default_factory=dict)
    upgrades_requests: bool = False


class _PageReader:
    def __init__(self, url: Url, base: str | None = None, depth: int = 0) -> None:
        self._url = url
        self._base = base or str(url)
        self._depth = depth
        """How deep in srcdoc frames it stands."""

        self._picture_sources = 0
        self._open: dict[str, bool] = {"picture": False, "audio": False, "video": False}
        self._resolved = 0
        self._known: dict[str, str | None] = {}
        """What was resolved already: templates repeat themselves."""

        self._style_read = 0
        self._in_body = False
        self.found = _Found()
        self.is_exhausted = False
        """A bound was reached: the page holds more."""

    def read(self, text: str) -> None:
        tags = list(read_markup(text))
        base = next((tag for tag in tags if isinstance(tag, StartTag) and tag.name == "base" and tag.get("href")), None)
        if base is not None and not self._depth and (resolved := self._resolve(base.get("href"))) is not None:
            self._base = resolved
            self._known = {}
            self._state(StatementKind.BASE, resolved)
        for tag in tags:
            if isinstance(tag, EndTag):
                if tag.name in self._open:
                    self._open[tag.name] = False
                continue
            self._take(tag)

    def _take(self, tag: StartTag) -> None:
        self._in_body |= tag.name not in _HEAD
        if tag.name in self._open:
            self._open[tag.name] = True
            self._picture_sources = 0
        handle = _HANDLERS.get("img" if tag.name == "image" and not tag.is_foreign else tag.name)
        if handle is not None:
            handle(self, tag)
        for attribute, use in _FETCHED.get(tag.name, ()):
            self._refer(tag.get(attribute), use, f"{tag.name} {attribute}")
        if style := tag.get("style"):
            self.take_style_text(style, "style attribute")

    # Shared by all

    def _resolve(self, raw: str) -> str | None:
        """Absolute, without fragment; None for what leads to no host, or once the page has had its share of work."""
        text = raw.strip()
        if not text or text.startswith("#"):
            return None
        if text in self._known:
            return self._known[text]
        self._resolved += len(text) + len(self._base)
        if self._resolved > MAX_RESOLVED or len(self._known) >= MAX_URLS:
            self.is_exhausted = True
            return None
        self._known[text] = resolve(text, self._base)
        return self._known[text]

    def _refer(self, raw: str, use: Use, place: str, *, post: bool = False) -> None:
        self._refer_to(self._resolve(raw) if raw else None, use, place, post=post)

    def _refer_to(self, resolved: str | None, use: Use, place: str, *, post: bool = False) -> None:
        if resolved is None:
            return
        if use in _LOADED and resolved.startswith("https://") and len(self.found.parts) < MAX_PARTS:
            self.found.parts[Reference(resolved, use, place)] = None
        if not resolved.startswith(_PLAIN):
            return
        if len(self.found.references) >= MAX_REFERENCES:
            self.is_exhausted = True
            return
        inside = " in srcdoc" if self._depth else ""
        self.found.references[Reference(resolved, use, place + inside, post)] = None

    def _state(self, kind: StatementKind, url: str | None) -> None:
        if url is not None and not self._depth and len(self.found.statements) < MAX_STATEMENTS:
            self.found.statements[Statement(kind, url)] = None

    def _move(self, how: MoveKind, raw: str, *, certain: bool = True) -> None:
        resolved = self._resolve(raw)
        if resolved is not None and not self._depth and len(self.found.moves) < MAX_STATEMENTS:
            self.found.moves[Move(how, resolved, certain)] = None

    def take_style_text(self, text: str, place: str) -> None:
        """The URLs of a style; ``place`` says where it stands, if not in a sheet of its own."""
        if self._base.startswith("https:") and not may_hold_plain_urls(text) and not may_import(text):
            return
        self._style_read += len(text)
        if self._style_read > MAX_STYLE_TEXT:
            self.is_exhausted = True
            return
        for raw, use, where in urls_in_style(text):
            resolved = self._resolve(raw) if raw else None
            self._refer_to(resolved, use, place if place and where.startswith("url()") else where)
            if use is Use.STYLE and resolved is not None and resolved.startswith(self._url.origin + "/"):
                self.found.style_sheets[resolved] = None

    # Elements

    def _take_title(self, tag: StartTag) -> None:
        if not tag.is_foreign and not self._depth and not self.found.title:
            self.found.title = " ".join(tag.content[:1000].split())

    def _take_style(self, tag: StartTag) -> None:
        self.take_style_text(tag.content, "style element")

    def _take_img(self, tag: StartTag) -> None:
        in_set = bool(tag.get("srcset")) or (self._open["picture"] and self._picture_sources > 0)
        self._refer(tag.get("src"), Use.IMAGE_SET if in_set else Use.IMAGE, "img src")
        self._take_srcset(tag.get("srcset"), "img srcset")

    def _take_source(self, tag: StartTag) -> None:
        if self._open["picture"] and tag.get("srcset"):
            self._picture_sources += 1
            self._take_srcset(tag.get("srcset"), "source srcset")
        if self._open["audio"] or self._open["video"]:
            self._refer(tag.get("src"), Use.AUDIO_VIDEO, "source src")

    def _take_srcset(self, text: str, place: str) -> None:
        """As HTML section 4.8.4.2.2 splits it: a URL that ends in a comma has no descriptors."""
        position = 0
        for _ in range(MAX_CANDIDATES):
            candidate = _CANDIDATE.match(text, position)
            if candidate is None:
                return
            position, descriptors = candidate.end(), ""
            if not candidate[1].endswith(","):
                match = _DESCRIPTORS.match(text, position)
                assert match is not None
                position, descriptors = match.end(), match[0]
            if _are_descriptors(descriptors.split()):
                self._refer(candidate[1].rstrip(","), Use.IMAGE_SET, place)
        self.is_exhausted = True

    def _take_input(self, tag: StartTag) -> None:
        if tag.get("type").lower() == "image":
            self._refer(tag.get("src"), Use.IMAGE, "input src")
        self._refer(tag.get("formaction"), Use.FORM, "input formaction")

    def _take_button(self, tag: StartTag) -> None:
        self._refer(tag.get("formaction"), Use.FORM, "button formaction")

    def _take_form(self, tag: StartTag) -> None:
        self._refer(tag.get("action"), Use.FORM, "form action", post=tag.get("method").lower() == "post")

    def _take_anchor(self, tag: StartTag) -> None:
        resolved = self._resolve(tag.get("href"))
        self._refer_to(resolved, Use.LINK, f"{tag.name} href")
        if resolved is None or self._depth or len(self.found.inner_links) >= MAX_LINKS:
            return
        try:
            url = read_url(resolved)
        except InvalidUrl:
            return
        if url.host == self._url.host and url.target != "/":
            self.found.inner_links[url.target] = None

    def _take_link(self, tag: StartTag) -> None:
        relations = tag.get("rel").lower().split()
        resolved = self._resolve(tag.get("href"))
        if resolved is None:
            return
        for relation in relations[:9]:
            if relation in _LINK_USES:
                use = _LINK_USES[relation]
                if use is Use.PRELOAD:
                    use = _PRELOADED.get(tag.get("as").lower(), use)
                self._refer_to(resolved, use, f"link rel={relation}")
        if "stylesheet" in relations and resolved.startswith(self._url.origin + "/"):
            self.found.style_sheets[resolved] = None
        if "canonical" in relations:
            self._state(StatementKind.CANONICAL, resolved)
        if "alternate" in relations and "stylesheet" not in relations:
            if tag.get("hreflang"):
                self._state(StatementKind.HREFLANG, resolved)
            elif tag.get("type").lower() in _FEEDS:
                self._state(StatementKind.FEED, resolved)

    def _take_meta(self, tag: StartTag) -> None:
        content = tag.get("content")
        if tag.get("property").lower() == "og:url":
            self._state(StatementKind.OG_URL, self._resolve(content))
        equivalent = tag.get("http-equiv").lower()
        is_policy = equivalent == "content-security-policy" and not self._in_body and not self._depth
        if is_policy and has_upgrade_directive(content) and not self.found.upgrades_requests:
            self.found.upgrades_requests = True
            early = (msgspec.structs.replace(each, is_early=True) for each in self.found.references)
            self.found.references = dict.fromkeys(early)
            parts = (msgspec.structs.replace(each, is_early=True) for each in self.found.parts)
            self.found.parts = dict.fromkeys(parts)
        if equivalent == "refresh":
            refresh = read_refresh(content)
            if refresh is not None and refresh.moves_on:
                self._move(MoveKind.META_REFRESH, refresh.url)

    def _take_script(self, tag: StartTag) -> None:
        if not _is_script(tag):
            return
        source = tag.get("src") or (tag.get("href") or tag.get("xlink:href") if tag.is_foreign else "")
        if source:
            self._refer(source, Use.SCRIPT, "script src")
            return
        text = tag.content[:200_000]
        for match in _SCRIPT_FETCH.finditer(text):
            self._refer(match[1], Use.FETCH, "inline script")
        if tag.get("type").strip("\t\n\f\r ").lower() == "module":
            for match in _STATIC_IMPORT.finditer(text):
                self._refer(match[1], Use.SCRIPT, "import in a module")
        if len(text) > _LONGEST_MOVING_SCRIPT:
            return
        if self._base.startswith("http:") and (found := _TO_HTTPS.search(text)) is not None:
            before = text[: found.start()]
            is_plain = _IF_PLAIN.search(before) is not None
            certain = is_plain or (_STATEMENT_BEFORE.search(before) is not None and "{" not in before)
            self._move(MoveKind.SCRIPT, f"https:{self._base.partition(':')[2]}", certain=certain)
        for match in _SCRIPT_MOVE.finditer(text):
            certain = _STATEMENT_BEFORE.search(text[: match.start()]) is not None
            self._move(MoveKind.SCRIPT, match[1] or match[2], certain=certain and "{" not in text[: match.start()])

    def _take_iframe(self, tag: StartTag) -> None:
        if not (inner := tag.get("srcdoc") or _text_of_data(tag.get("src"))):
            return
        if self._depth >= MAX_SRCDOC_DEPTH:
            self.is_exhausted = True
            return
        frame = _PageReader(self._url, self._base, self._depth + 1)
        frame._known = self._known  # one base, one share of work
        frame._resolved, frame._style_read = self._resolved, self._style_read
        frame.read(inner)
        self._resolved, self._style_read = frame._resolved, frame._style_read
        self.found.references |= frame.found.references
        self.found.parts |= frame.found.parts
        self.is_exhausted |= frame.is_exhausted


_HANDLERS: dict[str, Callable[[_PageReader, StartTag], None]] = {
    "title": _PageReader._take_title,
    "style": _PageReader._take_style,
    "img": _PageReader._take_img,
    "source": _PageReader._take_source,
    "input": _PageReader._take_input,
    "button": _PageReader._take_button,
    "form": _PageReader._take_form,
    "a": _PageReader._take_anchor,
    "area": _PageReader._take_anchor,
    "link": _PageReader._take_link,
    "meta": _PageReader._take_meta,
    "script": _PageReader._take_script,
    "iframe": _PageReader._take_iframe,
}
"""What is done with each element beside fetching one attribute: nothing that a page says picks a method by its name."""


def _are_descriptors(words: Sequence[str]) -> bool:
    """Whether what stands behind a candidate is at most one width or density: else browsers pass over it."""
    widths = [match[1] for word in words if (match := _WIDTH.fullmatch(word)) is not None]
    densities = [word for word in words if _DENSITY.fullmatch(word) is not None]
    if len(widths) + len(densities) != len(words) or len(densities) > 1:
        return False
    return sorted(widths) in ([], ["w"], ["h", "w"]) and not (widths and densities)


def _text_of_data(url: str) -> str:
    """Of a ``data:`` URL that is a page (RFC 2397); else empty."""
    head, comma, body = url.strip()[:MAX_DATA].partition(",")
    kind = head.lower()
    if not comma or not kind.startswith("data:text/html"):
        return ""
    octets = urllib.parse.unquote_to_bytes(body)
    if kind.endswith(";base64"):
        try:
            octets = base64.b64decode(octets + b"=" * (-len(octets) % 4))
        except ValueError:
            return ""
    return octets.decode("utf-8", "replace")


def _is_script(tag: StartTag) -> bool:
    """Whether a browser runs, and so fetches, it: a block of data is left alone (HTML section 4.12.1.1)."""
    kind = tag.attributes.get("type")
    if kind is None:
        language = tag.get("language")
        kind = f"text/{language}" if language else ""
    kind = kind.strip("\t\n\f\r ").lower()
    if "nomodule" in tag.attributes and kind != "module":
        return False  # for browsers that are long gone
    return kind in _SCRIPT_TYPES or kind in {"", "module"}


def has_upgrade_directive(policy: str) -> bool:
    """Whether a Content-Security-Policy value says upgrade-insecure-requests (W3C, its section 3.1)."""
    return any(part.strip().lower() == "upgrade-insecure-requests" for part in re.split(r"[;,]", policy))
