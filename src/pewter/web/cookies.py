"""Set-Cookie as user agents read it (RFC 6265bis): what they keep, what they drop, and why.

Evidence keeps the name, the attributes and the length of a cookie, never its value; a jar with values
lives as long as one journey and never leaves the process.
"""

import datetime
import enum
import re

import msgspec

from pewter.evidence import is_ip_address

from .fields import IgnoredField
from .suffixes import registrable_domain
from .urls import Url

MAX_NAME_AND_VALUE = 4096
MAX_ATTRIBUTE_VALUE = 1024
MAX_ATTRIBUTES = 60
"""Of one cookie that are read apart."""

MAX_SET = 300
"""Set-Cookie fields of one answer that are read."""

MAX_COOKIES = 180
"""Cookies that one journey keeps; browsers stop near this for one site."""

LONGEST_LIFE = datetime.timedelta(days=400)
"""User agents cap every lifetime at this."""

_CONTROLS = re.compile(r"[\x00-\x08\x0a-\x1f\x7f]")
_MAX_AGE = re.compile(r"-?[0-9]++\Z")
_PREFIX = re.compile(r"__(?:Host|Secure)-", re.IGNORECASE)
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")


class Cookie(msgspec.Struct, frozen=True):
    """One cookie that a user agent keeps."""

    name: str
    value: str
    domain: str
    host_only: bool
    path: str
    secure: bool
    http_only: bool = False
    same_site: str | None = None
    """As sent; None where the attribute is missing."""

    life: datetime.timedelta | None = None
    """None for a cookie that ends with the browser's session; capped at LONGEST_LIFE."""

    dropped_by: str = ""
    """The one browser that keeps no such cookie; empty where all keep it."""

    @property
    def is_capped(self) -> bool:
        """It asked for a life of LONGEST_LIFE or more."""
        return self.life == LONGEST_LIFE

    @property
    def deletes(self) -> bool:
        """It has expired already: that is how a server deletes a cookie."""
        return self.life is not None and self.life <= datetime.timedelta()

    @property
    def key(self) -> tuple[str, str, bool, str]:
        """What a later cookie replaces it by."""
        return self.name, self.domain, self.host_only, self.path

    def goes_to(self, url: Url) -> bool:
        """Whether the user agent sends it to ``url``."""
        host_matches = url.host == self.domain if self.host_only else domain_matches(url.host, self.domain)
        return host_matches and path_matches(url.path, self.path) and (url.is_https or not self.secure)


class RefusalKind(enum.Enum):
    """Which rule of user agents a cookie breaks."""

    OVER_HTTP = "Secure over http"
    NONE_NOT_SECURE = "SameSite=None without Secure"
    PREFIX = "name prefix"
    OTHER = "other"


class IgnoredCookie(IgnoredField, frozen=True):
    """A Set-Cookie of which user agents keep nothing."""

    kind: RefusalKind = RefusalKind.OTHER
    kept_by: str = ""
    """The one browser that keeps it all the same."""


_SHOWN_ATTRIBUTES = frozenset(
    {"domain", "path", "expires", "max-age", "samesite", "secure", "httponly", "partitioned", "priority"}
)
_NEXT_COOKIE = re.compile(r",[ \t]*+[^=;,]{1,200}+=")
_BARE_WORD = re.compile(r"[A-Za-z-]{1,12}\Z")


def mask_set_cookie(value: str) -> str:
    """The field value with every octet of a cookie's value replaced by ``*``.

    Control characters stay, and so does a name prefix in the value of a cookie without a name, since
    user agents drop a cookie for these.  ``session=4f2a; Path=/`` becomes ``session=****; Path=/``.
    Attributes stay where they are known ones, of others the name; what looks like one more cookie, joined by a
    comma, is masked like the first.
    """
    pair, *attributes = value.split(";")
    name, equals, content = pair.partition("=")
    if not equals:
        name, content = "", pair
    content = content.strip(" \t")
    prefix = match[0] if not name.strip(" \t") and (match := _PREFIX.match(content)) else ""
    masked = f"{name}{equals}{prefix}{_stars(content[len(prefix) :])}"
    return ";".join((masked, *map(_mask_attribute, attributes)))


def _stars(text: str) -> str:
    return "".join(each if _CONTROLS.match(each) or each == "\t" else "*" for each in text)


def _mask_attribute(attribute: str) -> str:
    name, equals, content = attribute.partition("=")
    if name.strip(" \t").lower() not in _SHOWN_ATTRIBUTES:
        shown = name if _BARE_WORD.match(name.strip(" \t")) else _stars(name)
        return f"{shown}{equals}{_stars(content)}"
    joined = _NEXT_COOKIE.search(content)
    if joined is None:
        return attribute
    return f"{name}{equals}{content[: joined.end()]}{_stars(content[joined.end() :])}"


def read_set_cookie(value: str, url: Url, at: datetime.datetime) -> Cookie | IgnoredCookie:
    """Read one Set-Cookie field value that came from ``url`` at ``at``.

    The result is IgnoredCookie wherever user agents keep nothing of it, with the reason; a cookie that
    has expired already :attr:`~Cookie.deletes` the one that is kept.
    """
    if _CONTROLS.search(value):
        return IgnoredCookie("a control character")
    pair, *attributes = value.split(";", MAX_ATTRIBUTES)
    name, equals, content = (part.strip(" \t") for part in pair.partition("="))
    if not equals:
        name, content = "", name
    if not name and not content:
        return IgnoredCookie("name and value are empty")
    if "\t" in name or "\t" in content:
        return IgnoredCookie("a tab in name or value", kept_by="" if "\t" in name else "Firefox")
    if len(name) + len(content) > MAX_NAME_AND_VALUE:
        return IgnoredCookie(f"name and value are over {MAX_NAME_AND_VALUE} octets")
    given = read_attributes(attributes)
    scope = _read_scope(given, url)
    if isinstance(scope, IgnoredCookie):
        return scope
    domain, host_only, path = scope
    cookie = Cookie(
        name, content, domain, host_only, path, "secure" in given, "httponly" in given, given.get("samesite"),
        _read_life(given, at), "Firefox" if equals and not name else "",
    )  # fmt: skip
    return _refusal(cookie, given, url) or cookie


def read_attributes(attributes: list[str]) -> dict[str, str]:
    """By name in lower case; of a repeated attribute the last counts, an overlong one not at all."""
    given: dict[str, str] = {}
    for attribute in attributes:
        name, _, value = (part.strip(" \t") for part in attribute.partition("="))
        if len(value) <= MAX_ATTRIBUTE_VALUE:
            given[name.lower()] = value
    return given


def _read_scope(given: dict[str, str], url: Url) -> tuple[str, bool, str] | IgnoredCookie:
    """Domain, whether it is the host alone, and path; or why the Domain is refused."""
    path = given.get("path", "")
    if not path.startswith("/"):
        path = default_path(url.path)
    attribute = given.get("domain", "").lower()
    domain = attribute.removeprefix(".")
    if not attribute:
        return url.host, True, path
    if not domain:
        return IgnoredCookie("Domain names no host")
    own = registrable_domain(url.host)
    if domain == url.host:
        return domain, own is None, path  # of a public suffix, and of an address, only the host itself
    if not domain_matches(url.host, domain):
        return IgnoredCookie(f"Domain {domain} does not match {url.host}")
    if own is None or not domain_matches(domain, own):
        return IgnoredCookie(f"Domain {domain} is a public suffix, or above that of {url.host}")
    return domain, False, path


def _refusal(cookie: Cookie, given: dict[str, str], url: Url) -> IgnoredCookie | None:
    if cookie.secure and not url.is_https:
        return IgnoredCookie("Secure in a plain http answer", RefusalKind.OVER_HTTP)
    if given.get("samesite", "").lower() == "none" and not cookie.secure:
        return IgnoredCookie("SameSite=None without Secure", RefusalKind.NONE_NOT_SECURE)
    if "partitioned" in given and not cookie.secure:
        return IgnoredCookie("Partitioned without Secure")
    prefix = (cookie.name or cookie.value).lower()
    if not prefix.startswith(("__secure-", "__host-")):
        return None
    if not cookie.name:
        return IgnoredCookie("no name, and a value that begins like a name prefix", RefusalKind.PREFIX)
    if not cookie.secure:
        words = f"the prefix {cookie.name[: prefix.index('-') + 1]} without Secure"
        return IgnoredCookie(words, RefusalKind.PREFIX)
    if prefix.startswith("__host-") and given.get("domain"):
        return IgnoredCookie("the prefix __Host- with Domain", RefusalKind.PREFIX)
    if prefix.startswith("__host-") and given.get("path") != "/":
        return IgnoredCookie(
            "the prefix __Host- without Path=/", RefusalKind.PREFIX, kept_by="Firefox" if cookie.path == "/" else ""
        )
    return None


def _read_life(given: dict[str, str], at: datetime.datetime) -> datetime.timedelta | None:
    """Max-Age before Expires; what cannot be read counts as not given."""
    max_age = given.get("max-age", "")
    if _MAX_AGE.match(max_age):
        # Digits beyond these only say "for ever", which the cap cuts anyway.
        seconds = int(max_age[:12])
        return min(datetime.timedelta(seconds=seconds), LONGEST_LIFE)
    expires = read_cookie_date(given["expires"]) if "expires" in given else None
    return min(expires - at, LONGEST_LIFE) if expires is not None else None


def read_cookie_date(text: str) -> datetime.datetime | None:
    """A date by the tolerant algorithm of RFC 6265bis: tokens in any order; None where it fails."""
    time: tuple[int, int, int] | None = None
    day = month = year = None
    for token in re.split(r"[\t\x20-\x2f\x3b-\x40\x5b-\x60\x7b-\x7e]+", text):
        if time is None and (match := re.match(r"([0-9]{1,2}):([0-9]{1,2}):([0-9]{1,2})(?![0-9])", token)):
            time = (int(match[1]), int(match[2]), int(match[3]))
        elif day is None and (match := re.match(r"([0-9]{1,2})(?![0-9])", token)):
            day = int(match[1])
        elif month is None and token[:3].lower() in _MONTHS:
            month = _MONTHS.index(token[:3].lower()) + 1
        elif year is None and (match := re.match(r"([0-9]{2,4})(?![0-9])", token)):
            year = int(match[1])
    if time is None or day is None or month is None or year is None:
        return None
    if year < 100:
        year += 1900 if year >= 70 else 2000
    if year < 1601:
        return None
    try:
        return datetime.datetime(year, month, day, *time, tzinfo=datetime.UTC)
    except ValueError:
        return None


def domain_matches(host: str, domain: str) -> bool:
    """An IP address has no subdomains."""
    if host == domain:
        return True
    return host.endswith("." + domain) and not is_ip_address(host)


def path_matches(request_path: str, cookie_path: str) -> bool:
    if not request_path.startswith(cookie_path):
        return False
    return cookie_path.endswith("/") or request_path[len(cookie_path) :][:1] in {"", "/"}


def default_path(request_path: str) -> str:
    """Up to, but without, the last slash."""
    return request_path[: request_path.rfind("/")] or "/"


class CookieJar:
    """The cookies of one journey, or of what is set in one answer."""

    def __init__(self) -> None:
        self._cookies: dict[tuple[str, str, bool, str], Cookie] = {}

    def copy(self) -> "CookieJar":
        """What it holds now, for another that goes on by itself."""
        other = CookieJar()
        other._cookies = dict(self._cookies)
        return other

    def take(self, set_cookie_values: tuple[str, ...], url: Url, at: datetime.datetime) -> None:
        """Keep what a user agent would keep of an answer from ``url``; the first MAX_SET of them are read."""
        for value in set_cookie_values[:MAX_SET]:
            cookie = read_set_cookie(value, url, at)
            if not isinstance(cookie, Cookie) or (not url.is_https and self._has_secure_twin(cookie)):
                continue
            if cookie.deletes:
                self._cookies.pop(cookie.key, None)
            elif cookie.key in self._cookies or len(self._cookies) < MAX_COOKIES:
                self._cookies[cookie.key] = cookie

    def _has_secure_twin(self, cookie: Cookie) -> bool:
        """A plain http answer may not overwrite a Secure cookie of the same name whose scope overlaps."""
        return any(
            kept.secure
            and kept.name == cookie.name
            and (domain_matches(kept.domain, cookie.domain) or domain_matches(cookie.domain, kept.domain))
            and path_matches(cookie.path, kept.path)
            for kept in self._cookies.values()
        )

    def field_for(self, url: Url) -> str | None:
        """The Cookie field value for a request to ``url``; longer paths first."""
        going = sorted((each for each in self._cookies.values() if each.goes_to(url)), key=lambda each: -len(each.path))
        return "; ".join(f"{each.name}={each.value}" if each.name else each.value for each in going) or None
