"""Set-Cookie as user agents read it (RFC 6265bis), as far as following a journey needs it.

A jar lives as long as one journey and never leaves the process: evidence keeps the name, the
attributes and the length of a cookie, never its value.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass

from pewter.evidence import is_ip_address

from .fields import IgnoredField
from .urls import Url

MAX_NAME_AND_VALUE = 4096
MAX_ATTRIBUTE_VALUE = 1024
MAX_COOKIES = 180
"""Cookies that one journey keeps; browsers stop near this for one site."""

_CONTROLS = re.compile(r"[\x00-\x08\x0a-\x1f\x7f]")
_MAX_AGE = re.compile(r"-?[0-9]+\Z")


@dataclass(frozen=True, slots=True)
class Cookie:
    """One cookie that a user agent keeps."""

    name: str
    value: str
    domain: str
    host_only: bool
    path: str
    secure: bool

    def goes_to(self, url: Url) -> bool:
        """Whether the user agent sends it to ``url``."""
        host_matches = url.host == self.domain if self.host_only else domain_matches(url.host, self.domain)
        return host_matches and path_matches(url.path, self.path) and (url.is_https or not self.secure)


def mask_set_cookie(value: str) -> str:
    """The field value with every octet of the cookie's value replaced by ``*``; control characters stay.

    ``session=4f2a; Path=/`` becomes ``session=****; Path=/``.
    """
    pair, semicolon, attributes = value.partition(";")
    name, equals, content = pair.partition("=")
    if not equals:
        name, content = "", pair
    masked = "".join(character if _CONTROLS.match(character) else "*" for character in content.strip(" \t"))
    return f"{name}{equals}{masked}{semicolon}{attributes}"


def read_set_cookie(value: str, url: Url, is_public_suffix: Callable[[str], bool]) -> Cookie | IgnoredField:
    """Read one Set-Cookie field value received from ``url``.

    The result is IgnoredField wherever user agents keep nothing of it.  A cookie that is already
    expired counts as ignored, since a journey lasts seconds.
    """
    if _CONTROLS.search(value):
        return IgnoredField("a control character")
    pair, *attributes = value.split(";")
    name, equals, content = (part.strip(" \t") for part in pair.partition("="))
    if not equals:
        name, content = "", name
    if not name and not content:
        return IgnoredField("name and value are empty")
    if len(name) + len(content) > MAX_NAME_AND_VALUE:
        return IgnoredField(f"name and value are over {MAX_NAME_AND_VALUE} octets")
    given = _read_attributes(attributes)
    if _MAX_AGE.match(given.get("max-age", "")) and int(given["max-age"][:20]) <= 0:
        return IgnoredField("Max-Age has it expire at once")
    secure = "secure" in given
    if secure and not url.is_https:
        return IgnoredField("Secure in a plain http answer")
    if given.get("samesite", "").lower() == "none" and not secure:
        return IgnoredField("SameSite=None without Secure")
    path = given.get("path", "")
    explicit_root = path == "/"
    if not path.startswith("/"):
        path = default_path(url.path)
    domain = given.get("domain", "").removeprefix(".").lower()
    host_only = not domain
    if domain:
        if is_public_suffix(domain):
            if domain != url.host:
                return IgnoredField(f"Domain {domain} is a public suffix")
            host_only = True
        elif not domain_matches(url.host, domain):
            return IgnoredField(f"Domain {domain} does not match {url.host}")
    prefix = (name or content).lower()
    if prefix.startswith(("__secure-", "__host-")) and not (name and secure):
        return IgnoredField("a name prefix whose conditions are not met")
    if prefix.startswith("__host-") and ("domain" in given or not explicit_root):
        return IgnoredField("the prefix __Host- without Path=/, or with Domain")
    return Cookie(name, content, domain or url.host, host_only, path, secure)


def _read_attributes(attributes: list[str]) -> dict[str, str]:
    """By name in lower case; of a repeated attribute the last counts."""
    given: dict[str, str] = {}
    for attribute in attributes:
        name, _, value = (part.strip(" \t") for part in attribute.partition("="))
        if len(value) <= MAX_ATTRIBUTE_VALUE:
            given[name.lower()] = value
    return given


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
    """The cookies of one journey."""

    def __init__(self, is_public_suffix: Callable[[str], bool]) -> None:
        self._is_public_suffix = is_public_suffix
        self._cookies: dict[tuple[str, str, bool, str], Cookie] = {}

    def take(self, set_cookie_values: tuple[str, ...], url: Url) -> None:
        """Keep what a user agent would keep of an answer from ``url``."""
        for value in set_cookie_values:
            cookie = read_set_cookie(value, url, self._is_public_suffix)
            if isinstance(cookie, Cookie) and len(self._cookies) < MAX_COOKIES:
                self._cookies[cookie.name, cookie.domain, cookie.host_only, cookie.path] = cookie

    def field_for(self, url: Url) -> str | None:
        """The Cookie field value for a request to ``url``; longer paths first."""
        going = sorted((each for each in self._cookies.values() if each.goes_to(url)), key=lambda each: -len(each.path))
        return "; ".join(f"{each.name}={each.value}" if each.name else each.value for each in going) or None
