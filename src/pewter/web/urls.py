"""URLs as browsers read them (the WHATWG URL standard), and Location values (RFC 9110 section 10.2.2).

The parser is ada's, which browsers' own tests were written for; here stands what of a URL a review keeps, and in
words why a text is none.
"""

import re
from urllib.parse import quote

import ada_url
import msgspec

from pewter.evidence import read_ip_address
from pewter.kept import kept
from pewter.places import Place, of_url

DEFAULT_PORTS = {"http": 80, "https": 443}
MAX_URL = 65536

_HOST_NAME = re.compile(r"[A-Za-z0-9_*](?:[A-Za-z0-9_-]*)(?:\.[A-Za-z0-9_-]+)*\.?\Z")
_CONTROLS_AND_BLANKS = "".join(map(chr, range(0x21)))
_SCHEME = re.compile(r"([A-Za-z][A-Za-z0-9+.-]{0,40}+):")
_AUTHORITY = re.compile(r"(?:https?:)?[/\\]{0,9}+([^/\\?#]{0,300}+)", re.IGNORECASE)


class InvalidUrl(ValueError):
    """Text that is no URL; says why in words."""


class Url(msgspec.Struct, frozen=True):
    """An http or https URL, normalised: A-labels in lower case, no default port, a path, no fragment, no user."""

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
        return f"{self.scheme}://{in_url(self.host)}" + (
            "" if self.port == DEFAULT_PORTS[self.scheme] else f":{self.port}"
        )

    @property
    def target(self) -> str:
        """Path and query: what stands in the request line."""
        return self.path + (f"?{self.query}" if self.query is not None else "")

    def __str__(self) -> str:
        return self.origin + self.target


@kept(most=2048)  # rules read the same few hundred URLs thousands of times
def read_url(text: str) -> Url:
    """Read an absolute http or https URL as a browser's address bar would; InvalidUrl says what is wrong."""
    return _url_of(text, None)


def read_location(value: str, base: Url) -> Url:
    """The URL that a Location field's value leads to from ``base``; InvalidUrl says why it leads nowhere.

    ``value`` holds the octets as ISO 8859-1, as evidence has them.  Octets beyond ASCII go out again as they came.
    """
    if len(value) > MAX_URL:
        raise InvalidUrl(f"it is {len(value):,} characters long; the limit is {MAX_URL:,}")
    octets = value.encode("latin-1", "replace")
    ascii_only = "".join(chr(octet) if octet < 0x80 else f"%{octet:02X}" for octet in octets)
    if not ascii_only.strip(_CONTROLS_AND_BLANKS):
        raise InvalidUrl("it is empty")
    return _url_of(ascii_only, str(base))


def resolve(text: str, base: str) -> str | None:
    """A reference in a page, resolved against the page's base, without fragment; None for what leads to no host.

    ``http`` and ``https`` are normalised as :class:`Url` has them; ``ws`` and ``wss`` come back as they are.
    """
    if len(text) > MAX_URL:
        return None
    try:
        found = ada_url.URL(_encodable(text), base)
    except ValueError:
        return None
    if found.protocol in {"http:", "https:"}:
        try:
            return str(_taken_apart(found))
        except InvalidUrl:
            return None
    return found.href.partition("#")[0] if found.protocol in {"ws:", "wss:"} else None


def _url_of(text: str, base: str | None) -> Url:
    try:
        found = ada_url.URL(_encodable(text), base) if base is not None else ada_url.URL(_encodable(text))
    except ValueError as exc:
        raise InvalidUrl(_why_invalid(text, has_base=base is not None)) from exc
    if found.protocol not in {"http:", "https:"}:
        raise InvalidUrl(f"its scheme is {found.protocol[:30].removesuffix(':')!r}, not http or https")
    return _taken_apart(found)


def _encodable(text: str) -> str:
    """Lone surrogates, which JSON and file names may bring, as browsers have them: U+FFFD, never a question mark."""
    return text if text.isascii() else text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")


def _taken_apart(found: ada_url.URL) -> Url:
    scheme = found.protocol.removesuffix(":")
    host = found.hostname.removeprefix("[").removesuffix("]")
    if not host.endswith(".."):  # that is an empty label, and stays one
        host = host.removesuffix(".")
    if not host:
        raise InvalidUrl("it names no host")
    if found.port == "0":
        raise InvalidUrl("'0' is no port")
    has_query = bool(found.search) or found.href.partition("#")[0].endswith("?")
    query = found.search.removeprefix("?") if has_query else None
    path = quote(found.pathname, safe="!#$%&'()*+,/:;=?@[]~|-._\\^`{}\"<>")
    return Url(scheme, host, int(found.port or DEFAULT_PORTS[scheme]), path, query)


def _why_invalid(text: str, *, has_base: bool) -> str:
    """What ails a text that the parser refused, in words."""
    bare = text.strip(_CONTROLS_AND_BLANKS).replace("\t", "").replace("\n", "").replace("\r", "")
    scheme = _SCHEME.match(bare)
    if scheme is None and not has_base:
        return "it has no scheme"
    if scheme is not None and scheme[1].lower() not in DEFAULT_PORTS:
        return f"its scheme is {scheme[1][:30].lower()!r}, not http or https"
    match = _AUTHORITY.match(bare)
    authority = match[1].rpartition("@")[2] if match is not None else ""
    host, colon, port = authority.rpartition(":")
    if colon and "]" not in port and not re.fullmatch(r"0*+[0-9]{0,5}", port):
        return f"{port[:20]!r} is no port"
    if colon and port.isdigit() and int(port) > 65535:
        return f"{port[:20]!r} is no port"
    name = host if colon and "]" not in port else authority
    return f"{name[:80]!r} is no host name" if name else "it names no host"


@kept(most=1024)
def read_host(text: str) -> str:
    """A host that a user typed, as certificates and hellos write it: A-labels, lower case, no last dot; or an address.

    Stricter than what a browser takes from a link: InvalidUrl for what no name service holds.
    """
    try:
        return read_ip_address(text)
    except ValueError:
        pass
    name = text.removesuffix(".").lower()
    try:
        if not name.isascii():
            name = ada_url.URL(f"https://{_encodable(name)}/").hostname
    except ValueError as exc:
        raise InvalidUrl(f"{text[:80]!r} is no host name") from exc
    if not _HOST_NAME.match(name) or why_unresolvable(name):
        raise InvalidUrl(f"{text[:80]!r} is no host name")
    return name


def why_unresolvable(host: str) -> str:
    """Why no name service can hold a host's name (RFC 1035 section 2.3.4); empty where one can."""
    labels = host.split(".")
    if not all(labels):
        return f"{host[:80]!r} has an empty label"
    if any(len(label) > 63 for label in labels):
        return f"{host[:80]!r} has a label of more than 63 octets"
    return f"{host[:80]!r} is longer than 253 octets" if len(host) > 253 else ""


def in_url(host: str) -> str:
    """A host as it stands in a URL: an IPv6 address in brackets."""
    return f"[{host}]" if ":" in host else host


def https_origin(host: str) -> str:
    """``https://x.example``, ``https://[2001:db8::1]``."""
    return Url("https", host, DEFAULT_PORTS["https"], "/").origin


def place_of(url: str, address: str = "", *, is_alike: bool = False) -> Place:
    """The place of a URL, as it goes at one address."""
    try:
        host = read_url(url).host
    except InvalidUrl:
        host = ""
    return of_url(url, host, address, is_alike=is_alike)


def place_of_host(scheme: str, host: str) -> Place:
    """The place of a host's home page at the scheme's own port."""
    return place_of(str(Url(scheme, host, DEFAULT_PORTS[scheme], "/")))
