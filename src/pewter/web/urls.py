"""URLs: splitting, resolving references, and reading Location as browsers do (RFC 3986, RFC 9110 section 10.2.2)."""

import functools
import ipaddress
import re
from dataclasses import dataclass, replace
from urllib.parse import quote

import idna

DEFAULT_PORTS = {"http": 80, "https": 443}
MAX_URL = 65536

# RFC 3986 appendix B.
_SPLIT = re.compile(r"(?:([^:/?#]+):)?(?://([^/?#]*))?([^?#]*)(?:\?([^#]*))?(?:#(.*))?", re.DOTALL)
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*\Z")
_HOST_NAME = re.compile(r"[A-Za-z0-9_*](?:[A-Za-z0-9_-]*)(?:\.[A-Za-z0-9_-]+)*\.?\Z")
_CONTROLS_AND_BLANKS = "".join(map(chr, range(0x21)))


class InvalidUrl(ValueError):
    """Text that is no URL; says why in words."""


@dataclass(frozen=True, slots=True)
class Reference:
    """The five parts of a URI reference; None where a part is not there at all (RFC 3986 section 5.2.1)."""

    scheme: str | None
    authority: str | None
    path: str
    query: str | None
    fragment: str | None

    def __str__(self) -> str:
        """Recomposed (section 5.3)."""
        text = f"{self.scheme}:" if self.scheme is not None else ""
        text += f"//{self.authority}" if self.authority is not None else ""
        text += self.path
        text += f"?{self.query}" if self.query is not None else ""
        return text + (f"#{self.fragment}" if self.fragment is not None else "")


@dataclass(frozen=True, slots=True)
class Url:
    """An http or https URL, normalised: A-labels in lower case, no default port, a path, no fragment."""

    scheme: str
    host: str
    """A host name without a last dot, or an IP address without brackets."""

    port: int
    path: str
    """From the first ``/``; without the query."""

    query: str | None = None

    @property
    def is_https(self) -> bool:
        return self.scheme == "https"

    @property
    def origin(self) -> str:
        """``https://www.marram-ferries.example`` (RFC 6454 section 6.2)."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{self.scheme}://{host}" + ("" if self.port == DEFAULT_PORTS[self.scheme] else f":{self.port}")

    @property
    def target(self) -> str:
        """Path and query: what stands in the request line."""
        return self.path + (f"?{self.query}" if self.query is not None else "")

    def __str__(self) -> str:
        return self.origin + self.target


def split_reference(text: str) -> Reference:
    """Take a URI reference apart; every text is one."""
    match = _SPLIT.fullmatch(text)
    assert match is not None  # the expression matches every string
    scheme, authority, path, query, fragment = match.groups()
    if scheme is not None and not _SCHEME.match(scheme):
        # "1x:y" has no scheme, so the colon belongs to the path.
        return Reference(None, None, text.split("?", maxsplit=1)[0].split("#", maxsplit=1)[0], query, fragment)
    return Reference(scheme, authority, path, query, fragment)


def resolve(base: Reference, reference: Reference) -> Reference:
    """Resolve a reference against a base (RFC 3986 section 5.2.2, strict)."""
    if reference.scheme is not None:
        return replace(reference, path=remove_dot_segments(reference.path))
    if reference.authority is not None:
        return replace(reference, scheme=base.scheme, path=remove_dot_segments(reference.path))
    query = reference.query
    if not reference.path:
        path = base.path
        query = base.query if query is None else query
    elif reference.path.startswith("/"):
        path = remove_dot_segments(reference.path)
    else:
        path = remove_dot_segments(_merge(base, reference.path))
    return Reference(base.scheme, base.authority, path, query, reference.fragment)


def _merge(base: Reference, path: str) -> str:
    """RFC 3986 section 5.2.3."""
    if base.authority is not None and not base.path:
        return "/" + path
    return base.path[: base.path.rfind("/") + 1] + path


def remove_dot_segments(path: str) -> str:
    """RFC 3986 section 5.2.4, in one pass over the segments."""
    segments = path.split("/")
    kept: list[str] = []
    for position, segment in enumerate(segments):
        is_last = position == len(segments) - 1
        if segment == ".." and position > 0:
            if len(kept) > 1:
                kept.pop()
            if is_last:
                kept.append("")
        elif segment in {".", ".."}:
            if is_last and position > 0:
                kept.append("")
        else:
            kept.append(segment)
    result = "/".join(kept)
    # "./x" and "../x" lose their first segment without gaining a slash; an absolute path keeps its own.
    return "/" + result if path.startswith("/") and not result.startswith("/") else result


@functools.lru_cache(maxsize=4096)  # rules read the same few hundred URLs thousands of times
def read_url(text: str) -> Url:
    """Read an absolute http or https URL as a browser's address bar would; InvalidUrl says what is wrong."""
    return _url_of(split_reference(_as_browsers_read(text)))


def read_location(value: str, base: Url) -> Url:
    """The URL that a Location value leads to from ``base``; InvalidUrl says why it leads nowhere.

    As browsers do: blanks around it, tabs and line ends within it are dropped, and ``\\`` counts as ``/``.
    """
    if len(value) > MAX_URL:
        raise InvalidUrl(f"it is {len(value):,} characters long; the limit is {MAX_URL:,}")
    text = _as_browsers_read(value)
    if not text:
        raise InvalidUrl("it is empty")
    return _url_of(resolve(split_reference(str(base)), split_reference(text)))


def _as_browsers_read(text: str) -> str:
    text = text.strip(_CONTROLS_AND_BLANKS)
    text = text.replace("\t", "").replace("\n", "").replace("\r", "")
    head, mark, tail = text.partition("?")
    scheme = split_reference(head).scheme
    if scheme is None or scheme.lower() in DEFAULT_PORTS:
        head = head.replace("\\", "/")
    return head + mark + tail


def _url_of(reference: Reference) -> Url:
    scheme = (reference.scheme or "").lower()
    if scheme not in DEFAULT_PORTS:
        raise InvalidUrl(f"its scheme is {scheme[:30]!r}, not http or https" if scheme else "it has no scheme")
    authority = reference.authority
    if not authority:
        raise InvalidUrl("it names no host")
    host_and_port = authority.rpartition("@")[2]
    host, port = _split_port(host_and_port, DEFAULT_PORTS[scheme])
    path = remove_dot_segments(reference.path) or "/"
    query = _encode(reference.query) if reference.query is not None else None
    return Url(scheme, read_host(host), port, _encode(path), query)


def _split_port(text: str, default: int) -> tuple[str, int]:
    if text.startswith("["):
        host, bracket, rest = text[1:].partition("]")
        if not bracket or (rest and not rest.startswith(":")):
            raise InvalidUrl(f"{text[:80]!r} is no host and port")
        digits = rest[1:]
    else:
        host, _, digits = text.partition(":")
    if not digits:
        return host, default
    if not re.fullmatch(r"[0-9]{1,5}", digits) or not 0 < int(digits) < 65536:
        raise InvalidUrl(f"{digits[:20]!r} is no port")
    return host, int(digits)


@functools.lru_cache(maxsize=1024)
def read_host(text: str) -> str:
    """A host as certificates and hellos write it: A-labels, lower case, no last dot; or an IP address."""
    try:
        return str(ipaddress.ip_address(text))
    except ValueError:
        pass
    name = text.removesuffix(".").lower()
    if not name.isascii():
        try:
            name = idna.encode(name, uts46=True).decode("ascii")
        except idna.IDNAError as exc:
            raise InvalidUrl(f"{text[:80]!r} is no host name: {exc}") from exc
    if not _HOST_NAME.match(name) or len(name) > 253 or any(not 0 < len(label) < 64 for label in name.split(".")):
        raise InvalidUrl(f"{text[:80]!r} is no host name")
    return name


def _encode(text: str) -> str:
    """Percent-encode what may not stand in a request line; Location octets came in as ISO 8859-1."""
    return quote(text, safe="!#$%&'()*+,/:;=?@[]~|-._", encoding="latin-1" if _is_latin(text) else "utf-8")


def _is_latin(text: str) -> bool:
    return all(ord(character) < 256 for character in text)
