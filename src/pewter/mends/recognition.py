"""Which program answers: by what it says in its fields, and by what applications give away."""

import re
from collections.abc import Iterable, Sequence

from .kinds import Kind

_BY_PRODUCT = {
    "nginx": Kind.NGINX,
    "openresty": Kind.NGINX,
    "apache": Kind.APACHE,
    "microsoft-iis": Kind.IIS,
    "caddy": Kind.CADDY,
    "lighttpd": Kind.LIGHTTPD,
    "litespeed": Kind.LITESPEED,
    "envoy": Kind.ENVOY,
    "cloudflare": Kind.EDGE,
    "cloudfront": Kind.EDGE,
    "akamaighost": Kind.EDGE,
}
"""By the product that a Server field begins with (RFC 9110 section 10.2.4)."""

_PRODUCT = re.compile(r"([A-Za-z0-9!#$%&'*+.^_`|~-]{1,40})(?:/(\d{1,6}(?:\.\d{1,6}){0,3}))?(?:[ \t(]|\Z)")
_OF_COOKIES = (
    (re.compile(r"sessionid|csrftoken"), Kind.DJANGO),
    (re.compile(r"connect\.sid"), Kind.EXPRESS),
    (re.compile(r"_[a-z0-9_]{1,60}_session"), Kind.RAILS),
    (re.compile(r"laravel_session|[a-z0-9_]{1,60}_session"), Kind.LARAVEL),
    (re.compile(r"JSESSIONID"), Kind.SPRING),
    (re.compile(r"PHPSESSID"), Kind.PHP),
)
_OF_POWER = (("express", Kind.EXPRESS), ("php", Kind.PHP))


def by_server_field(values: Iterable[str]) -> tuple[Kind | None, tuple[int, ...]]:
    """The kind and its version, of the first Server field that names a kind.

    ``Apache Tomcat``, ``Apache-Coyote`` and ``ApacheTrafficServer`` are not httpd; ``cloudflare-nginx`` is no nginx.
    """
    for value in values:
        match = _PRODUCT.match(value[:200].strip())
        if match is None or value[match.end() : match.end() + 6].lower() == "tomcat":
            continue
        kind = _BY_PRODUCT.get(match[1].lower())
        if kind is not None:
            return kind, tuple(map(int, match[2].split("."))) if match[2] else ()
    return None, ()


_OF_SIGNS = {
    "Django's debug page": Kind.DJANGO,
    "Laravel's exception page": Kind.LARAVEL,
    "Rails' exception page": Kind.RAILS,
    "a PHP error with its file": Kind.PHP,
    "phpinfo()": Kind.PHP,
    "a Node.js stack trace": Kind.EXPRESS,
}


def by_debug_page(seen: str) -> Kind | None:
    """The framework whose debug page was seen, by the sign in the words for it."""
    return next((kind for sign, kind in _OF_SIGNS.items() if sign in seen), None)


def by_application(cookies: Sequence[str], powered_by: Iterable[str]) -> Kind | None:
    """The framework that sets cookies of these names, or names itself."""
    for pattern, kind in _OF_COOKIES:
        if any(pattern.fullmatch(name[:100]) for name in cookies):
            return kind
    named = [value.strip().lower()[:100] for value in powered_by]
    return next((kind for start, kind in _OF_POWER for value in named if value.startswith(start)), None)
