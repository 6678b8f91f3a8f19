"""Which links of a home page become ways in, and why."""

import re
from collections.abc import Iterator, Sequence

MAX_FOUND = 4
ABSENT_PATH = "/pewter-no-such-page"
"""A page that no site has: what it answers shows the error page."""

SITEMAP_PATH = "/sitemap.xml"
UNKNOWN_HOST = "no-such-host.invalid"
"""A host that is nobody's (RFC 2606 section 2)."""

_LOOKS = (
    ("login", re.compile(r"log-?in|sign-?in|anmeld|connexion|auth(?:\b|/)", re.IGNORECASE)),
    ("account", re.compile(r"account|profile|register|sign-?up|konto|basket|cart|checkout", re.IGNORECASE)),
    ("admin", re.compile(r"admin|manage|backend|dashboard", re.IGNORECASE)),
    ("search", re.compile(r"search|suche|recherche|[?&]q=", re.IGNORECASE)),
)
_LOGOUT = re.compile(r"log-?out|sign-?out|abmeld|delete|remove|unsubscribe", re.IGNORECASE)
_FILE = re.compile(
    r"\.(?:pdf|zip|jpe?g|png|gif|svg|webp|mp[34]|xml|json|ics|css|js|docx?|xlsx?|gz|exe)(?:\?|\Z)", re.IGNORECASE
)


def choose_ways_in(inner_links: Sequence[str], taken: Sequence[str]) -> Iterator[tuple[str, str]]:
    """Paths with what they look like, at most MAX_FOUND: ``("/account/login", "login")``.

    One for each look, the first link that has it, and one deep page: the first with two or more parts
    in its path.  Never one that logs out or deletes, never a file to download.
    """
    left = [path for path in inner_links if path not in taken and not _LOGOUT.search(path) and not _FILE.search(path)]
    found = 0
    for look, pattern in _LOOKS:
        path = next((each for each in left if pattern.search(each)), None)
        if path is not None and found < MAX_FOUND:
            left.remove(path)
            found += 1
            yield path, look
    deep = next((each for each in left if each.partition("?")[0].strip("/").count("/") >= 1), None)
    if deep is not None and found < MAX_FOUND:
        yield deep, "deep page"
