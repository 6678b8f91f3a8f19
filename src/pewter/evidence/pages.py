"""What a page says: the URLs in it that a review looks at, and the marks of a debug page."""

import enum

import msgspec


class Use(enum.Enum):
    """What a browser does with a URL in a page."""

    SCRIPT = "script"
    STYLE = "style sheet"
    FRAME = "frame"
    PLUGIN = "plug-in"
    FONT = "font"
    FETCH = "fetch by a script"
    PRELOAD = "preload"
    TRACK = "text track"
    MANIFEST = "manifest"
    IMAGE = "image"
    IMAGE_SET = "image set"
    """``srcset`` and ``picture``: browsers do not upgrade these."""

    AUDIO_VIDEO = "audio or video"
    FORM = "form"
    LINK = "link"


class Reference(msgspec.Struct, frozen=True, omit_defaults=True):
    """One plain-text URL (``http:`` or ``ws:``) in a page or style sheet."""

    url: str
    """Resolved against the page's base."""

    use: Use
    place: str
    """``img src``, ``style attribute``, ``@import``: where it stands."""

    post: bool = False
    """A form that is sent by POST."""

    is_early: bool = False
    """It stands before the meta element by which the page would have it upgraded."""


class Redirected(msgspec.Struct, frozen=True, omit_defaults=True):
    """A part of a page, asked for over https, that is redirected to a plain URL; or that told nothing."""

    url: str
    """As the page has it."""

    to: str = ""
    """The first plain URL on its way."""

    why_unseen: str = ""


class StatementKind(enum.Enum):
    """Where a page claims an address."""

    CANONICAL = "canonical"
    OG_URL = "og:url"
    HREFLANG = "hreflang"
    FEED = "feed"
    BASE = "base"
    SITEMAP = "sitemap"


class Statement(msgspec.Struct, frozen=True, omit_defaults=True):
    """An address that the page claims for itself or its twins."""

    kind: StatementKind
    url: str


class MoveKind(enum.Enum):
    """How a page moves its visitors."""

    REFRESH_FIELD = "Refresh field"
    META_REFRESH = "meta refresh"
    SCRIPT = "script"


class Move(msgspec.Struct, frozen=True, omit_defaults=True):
    """A move that the page itself makes once it is shown."""

    how: MoveKind
    url: str
    certain: bool = True
    """False for a script that may move on only in some cases."""


class Page(msgspec.Struct, frozen=True, omit_defaults=True):
    """One HTML page or style sheet, read as far as its bound."""

    url: str
    sha256: str
    """Of the octets that were read."""

    octets: int
    truncated: bool = False
    title: str = ""
    references: tuple[Reference, ...] = ()
    statements: tuple[Statement, ...] = ()
    moves: tuple[Move, ...] = ()
    upgrades_requests: bool = False
    """A ``meta`` element with Content-Security-Policy says upgrade-insecure-requests."""

    style_sheets: tuple[str, ...] = ()
    """Same-origin style sheets over https that the page links."""

    parts: tuple[Reference, ...] = ()
    """The first scripts, style sheets and frames over https: what a redirect to http would block."""

    inner_links: tuple[str, ...] = ()
    """Paths of links to the page's own host, in order, each once, for finding further ways in."""

    debug_signs: tuple[str, ...] = ()
    """Signs of a debug page: ``a Python traceback``."""

    versions: tuple[str, ...] = ()
    """Exact versions of server software that it names: ``nginx/1.22.1``."""
