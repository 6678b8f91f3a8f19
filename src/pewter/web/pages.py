"""Reading an HTML page for its URLs, as browsers find them (HTML, W3C Mixed Content level 2).

A real HTML parser (selectolax) builds the tree; where a URL can stand, and what a browser does with
it, is decided here.  What stands in ``noscript`` and ``template`` is no part of a shown page.
"""

import hashlib
import html
import re
from collections.abc import Callable, Iterator

from selectolax.lexbor import LexborHTMLParser, LexborNode

from pewter.evidence import Move, Page, Reference, Statement, Use

from .debug_pages import debug_signs
from .style_sheets import urls_in_style
from .urls import InvalidUrl, Url, read_location, resolve, split_reference

MAX_REFERENCES = 2000
MAX_LINKS = 400
MAX_DEPTH = 2000
_PLAIN = ("http://", "ws://")

_NOSCRIPT = re.compile(r"<noscript\b.*?(?:</noscript\s*>|\Z)", re.DOTALL | re.IGNORECASE)
_TAG = re.compile(r"<(/?)([A-Za-z][A-Za-z0-9-]{0,40})")
_NEVER_DEEP = frozenset(
    (
        *("area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track", "wbr"),  # void
        *(
            "p",
            "li",
            "td",
            "th",
            "tr",
            "dt",
            "dd",
            "option",
            "tbody",
            "thead",
            "tfoot",
            "optgroup",
        ),  # end by themselves
        *("path", "circle", "rect", "line", "use", "image", "polygon", "g", "stop"),  # drawn without end tags
    )
)

_SITEMAP_LOCATION = re.compile(r"<loc>\s{0,20}([^<\s]{1,2000}+)", re.IGNORECASE)
_CHARSET = re.compile(r"charset\s*=\s*[\"']?([A-Za-z0-9_:.-]{1,40})", re.IGNORECASE)
_REFRESH = re.compile(r"""\s*[0-9.]*\s*[;,]?\s*(?:url\s*=\s*)?["']?([^"'>\s]+)""", re.IGNORECASE)
_REFRESH_AT_ONCE = re.compile(r"\s*([0-9]*)(?:\.[0-9]*)?\s*[;,]")
_SCRIPT_MOVE = re.compile(
    r"""(?:window\.|document\.|self\.|top\.)?location(?:\.href)?\s*=\s*["']([^"'\s]{1,2000})["']"""
    r"""|location\.(?:replace|assign)\(\s*["']([^"'\s]{1,2000})["']"""
)
_SCRIPT_FETCH = re.compile(
    r"""(?:\bfetch\(\s*|\bnew\s+(?:WebSocket|EventSource|Worker|SharedWorker)\(\s*|\.open\(\s*["'][A-Z]+["']\s*,\s*"""
    r"""|\bimport\(\s*|\bimportScripts\(\s*|\bsendBeacon\(\s*)["'`]((?:http|ws)://[^"'`\s]{1,2000})["'`]"""
)
_DATA_SCRIPTS = ("application/ld+json", "application/json", "text/template", "text/html", "text/x-template")

# Elements whose one attribute is fetched: tag, attribute, use.
_FETCHED: dict[str, tuple[tuple[str, Use], ...]] = {
    "script": (("src", Use.SCRIPT),),
    "iframe": (("src", Use.FRAME),),
    "frame": (("src", Use.FRAME),),
    "embed": (("src", Use.PLUGIN),),
    "object": (("data", Use.PLUGIN),),
    "audio": (("src", Use.AUDIO_VIDEO),),
    "video": (("src", Use.AUDIO_VIDEO), ("poster", Use.IMAGE)),
    "track": (("src", Use.TRACK),),
    "body": (("background", Use.IMAGE),),
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
_PRELOADED = {"image": Use.IMAGE, "audio": Use.AUDIO_VIDEO, "video": Use.AUDIO_VIDEO}
"""A preload is treated as what it is for."""

_FEEDS = ("application/rss+xml", "application/atom+xml", "application/feed+json")


def decode_page(octets: bytes, content_type: str) -> str:
    """Text of a page: byte order mark, then the field's charset, then a meta in its first 1,024 octets, then UTF-8."""
    for mark, encoding in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if octets.startswith(mark):
            return octets[len(mark) :].decode(encoding, "replace")
    match = _CHARSET.search(content_type) or _CHARSET.search(octets[:1024].decode("latin-1"))
    try:
        return octets.decode(match[1] if match else "utf-8", "replace")
    except LookupError:
        return octets.decode("utf-8", "replace")


def read_page(octets: bytes, url: Url, content_type: str = "", *, truncated: bool = False) -> Page:
    """Read an HTML page that came from ``url``; never raises, whatever the octets are."""
    text = decode_page(octets, content_type)
    # With scripting on, as in browsers, what stands in noscript is text; the parser knows no scripting.
    shown = _without_deep_end(_NOSCRIPT.sub(" ", text))
    reader = _PageReader(LexborHTMLParser(shown), url)
    reader.read()
    return Page(
        url=str(url),
        sha256=hashlib.sha256(octets).hexdigest(),
        octets=len(octets),
        truncated=truncated,
        title=reader.title[:200],
        references=tuple(dict.fromkeys(reader.references))[:MAX_REFERENCES],
        statements=tuple(dict.fromkeys(reader.statements)),
        moves=tuple(dict.fromkeys(reader.moves)),
        upgrades_requests=reader.upgrades_requests,
        style_sheets=tuple(dict.fromkeys(reader.style_sheets)),
        inner_links=tuple(dict.fromkeys(reader.inner_links))[:MAX_LINKS],
        debug_signs=debug_signs(text),
    )


def _without_deep_end(text: str) -> str:
    """The page up to where its elements are nested deeper than any honest page's.

    The parser's time grows with the square of the depth: 100,000 nested elements took it 45 s.
    """
    depth = 0
    for match in _TAG.finditer(text):
        if match[2].lower() in _NEVER_DEEP:
            continue
        depth = max(depth - 1, 0) if match[1] else depth + 1
        if depth > MAX_DEPTH:
            return text[: match.start()]
    return text


def read_style_sheet(octets: bytes, url: Url, *, truncated: bool = False) -> Page:
    """Read a style sheet for its URLs."""
    found = []
    for raw, use, place in urls_in_style(octets.decode("utf-8", "replace")):
        resolved = _resolve(raw, str(url))
        if resolved is not None and resolved.startswith(_PLAIN):
            found.append(Reference(resolved, use, place))
    return Page(
        url=str(url),
        sha256=hashlib.sha256(octets).hexdigest(),
        octets=len(octets),
        truncated=truncated,
        references=tuple(dict.fromkeys(found))[:MAX_REFERENCES],
    )


def read_sitemap(octets: bytes, url: Url, *, truncated: bool = False) -> Page:
    """The addresses of a sitemap (sitemaps.org protocol) as statements, the first MAX_LINKS of them."""
    locations = _SITEMAP_LOCATION.findall(octets.decode("utf-8", "replace"))[:MAX_LINKS]
    resolved = (_resolve(html.unescape(text), str(url)) for text in locations)
    return Page(
        url=str(url),
        sha256=hashlib.sha256(octets).hexdigest(),
        octets=len(octets),
        truncated=truncated,
        statements=tuple(dict.fromkeys(Statement("sitemap", each) for each in resolved if each is not None)),
    )


def _resolve(raw: str, base: str) -> str | None:
    """An absolute URL as text, normalised where it is http or https; None for what is none."""
    text = raw.strip()
    if not text or text.startswith("#"):
        return None
    reference = resolve(split_reference(base), split_reference(text))
    scheme = (reference.scheme or "").lower()
    if scheme in {"http", "https"}:
        try:
            return str(read_location(str(reference), read_location(base, _ANY)))
        except InvalidUrl:
            return None
    return str(reference) if scheme in {"ws", "wss"} else None


_ANY = Url("https", "any.example", 443, "/")


class _PageReader:
    def __init__(self, tree: LexborHTMLParser, url: Url) -> None:
        self._tree = tree
        self._url = url
        self._base = str(url)
        self.title = ""
        self.references: list[Reference] = []
        self.statements: list[Statement] = []
        self.moves: list[Move] = []
        self.style_sheets: list[str] = []
        self.inner_links: list[str] = []
        self.upgrades_requests = False

    def read(self) -> None:
        root = self._tree.root
        if root is None:
            return
        base = self._tree.css_first("base[href]")
        if base is not None and (resolved := _resolve(_attribute(base, "href"), self._base)) is not None:
            self._base = resolved
            self.statements.append(Statement("base", resolved))
        title = self._tree.css_first("head > title")
        self.title = title.text(strip=True) if title is not None else ""
        for node in _shown(root):
            handle: Callable[[LexborNode], None] | None = getattr(self, f"_take_{node.tag}", None)
            if handle is not None:
                handle(node)
            for attribute, use in _FETCHED.get(node.tag or "", ()):
                self._refer(_attribute(node, attribute), use, f"{node.tag} {attribute}")
            if style := _attribute(node, "style"):
                self._take_style_text(style, "style attribute")

    def _refer(self, raw: str, use: Use, place: str, *, post: bool = False) -> None:
        resolved = _resolve(raw, self._base) if raw else None
        if resolved is not None and resolved.startswith(_PLAIN) and len(self.references) < 2 * MAX_REFERENCES:
            self.references.append(Reference(resolved, use, place, post))

    def _take_style_text(self, text: str, place: str) -> None:
        for raw, use, where in urls_in_style(text):
            self._refer(raw, use, place if where.startswith("url()") else where)

    def _take_style(self, node: LexborNode) -> None:
        self._take_style_text(node.text(), "style element")

    def _take_img(self, node: LexborNode) -> None:
        in_set = bool(_attribute(node, "srcset")) or _has_sources(node.parent)
        self._refer(_attribute(node, "src"), Use.IMAGE_SET if in_set else Use.IMAGE, "img src")
        self._take_srcset(_attribute(node, "srcset"), "img srcset")

    def _take_source(self, node: LexborNode) -> None:
        self._take_srcset(_attribute(node, "srcset"), "source srcset")
        if node.parent is not None and node.parent.tag in {"audio", "video"}:
            self._refer(_attribute(node, "src"), Use.AUDIO_VIDEO, "source src")

    def _take_srcset(self, text: str, place: str) -> None:
        for candidate in re.split(r",\s+|,(?=https?:)", text):
            self._refer(candidate.strip().split(" ")[0].rstrip(","), Use.IMAGE_SET, place)

    def _take_input(self, node: LexborNode) -> None:
        if _attribute(node, "type").lower() == "image":
            self._refer(_attribute(node, "src"), Use.IMAGE, "input src")
        self._refer(_attribute(node, "formaction"), Use.FORM, "input formaction")

    def _take_button(self, node: LexborNode) -> None:
        self._refer(_attribute(node, "formaction"), Use.FORM, "button formaction")

    def _take_form(self, node: LexborNode) -> None:
        post = _attribute(node, "method").lower() == "post"
        self._refer(_attribute(node, "action"), Use.FORM, "form action", post=post)

    def _take_a(self, node: LexborNode) -> None:
        raw = _attribute(node, "href")
        self._refer(raw, Use.LINK, f"{node.tag} href")
        resolved = _resolve(raw, self._base)
        if resolved is None or len(self.inner_links) > 4 * MAX_LINKS:
            return
        try:
            url = read_location(resolved, self._url)
        except InvalidUrl:
            return
        if url.host == self._url.host and url.target != "/":
            self.inner_links.append(url.target)

    _take_area = _take_a

    def _take_link(self, node: LexborNode) -> None:
        raw = _attribute(node, "href")
        relations = _attribute(node, "rel").lower().split()
        resolved = _resolve(raw, self._base)
        for relation in relations:
            if relation in _LINK_USES:
                use = _LINK_USES[relation]
                if use is Use.PRELOAD:
                    use = _PRELOADED.get(_attribute(node, "as").lower(), use)
                self._refer(raw, use, f"link rel={relation}")
        if resolved is None:
            return
        if "stylesheet" in relations and resolved.startswith(self._url.origin + "/"):
            self.style_sheets.append(resolved)
        if "canonical" in relations:
            self.statements.append(Statement("canonical", resolved))
        if "alternate" in relations and "stylesheet" not in relations:
            if _attribute(node, "hreflang"):
                self.statements.append(Statement("hreflang", resolved))
            elif _attribute(node, "type").lower() in _FEEDS:
                self.statements.append(Statement("feed", resolved))

    def _take_meta(self, node: LexborNode) -> None:
        content = _attribute(node, "content")
        if _attribute(node, "property").lower() == "og:url":
            resolved = _resolve(content, self._base)
            if resolved is not None:
                self.statements.append(Statement("og:url", resolved))
        equivalent = _attribute(node, "http-equiv").lower()
        if equivalent == "content-security-policy" and has_upgrade_directive(content):
            self.upgrades_requests = True
        if equivalent == "refresh":
            self._take_refresh(content)

    def _take_refresh(self, content: str) -> None:
        at_once = _REFRESH_AT_ONCE.match(content)
        target = _REFRESH.match(content[at_once.end() :]) if at_once is not None else None
        if at_once is None or target is None or int(at_once[1][:6] or 0) > 30:
            return  # a page that shows itself anew, or a slide show
        resolved = _resolve(target[1], self._base)
        if resolved is not None:
            self.moves.append(Move("meta refresh", resolved))

    def _take_script(self, node: LexborNode) -> None:
        if _attribute(node, "src") or _attribute(node, "type").lower() in _DATA_SCRIPTS:
            return
        text = node.text()[:200_000]
        for match in _SCRIPT_FETCH.finditer(text):
            self._refer(match[1], Use.FETCH, "inline script")
        if len(text) > 2000:
            return  # a script of that length does more than move on
        for match in _SCRIPT_MOVE.finditer(text):
            resolved = _resolve(match[1] or match[2], self._base)
            if resolved is not None:
                self.moves.append(Move("script", resolved))


def has_upgrade_directive(policy: str) -> bool:
    """Whether a Content-Security-Policy value says upgrade-insecure-requests (W3C, its section 3.1)."""
    return any(part.strip().lower() == "upgrade-insecure-requests" for part in re.split(r"[;,]", policy))


def _has_sources(parent: LexborNode | None) -> bool:
    """Whether an image stands in a picture element with sources: then it is chosen from a set."""
    return parent is not None and parent.tag == "picture" and parent.css_first("source[srcset]") is not None


def _attribute(node: LexborNode, name: str) -> str:
    return node.attributes.get(name) or ""


def _shown(root: LexborNode) -> Iterator[LexborNode]:
    """Element nodes in document order, without what stands in noscript or template; no recursion."""
    stack = [root]
    while stack:
        node = stack.pop()
        yield node
        if node.tag in {"noscript", "template"}:
            continue
        children = []
        child = node.child
        while child is not None:
            if child.tag and not child.tag.startswith("-"):
                children.append(child)
            child = child.next
        stack.extend(reversed(children))
