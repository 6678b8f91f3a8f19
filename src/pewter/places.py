"""Where something holds: a type with a text for readers and a key for comparison.

A place is never a text that is taken apart again.  Its text may change from one review to the next, as when a name
gets a second address; its key does not.
"""

import enum

import msgspec


class PlaceKind(enum.Enum):
    """What kind of place it is."""

    SITE = "site"
    ZONE = "zone"
    NAME = "name"
    NAME_SERVER = "name server"
    ENDPOINT = "endpoint"
    FRONT_END = "front end"
    URL = "url"
    COOKIE = "cookie"
    FILE = "file"


class Place(msgspec.Struct, frozen=True, omit_defaults=True):
    """One place; made by the functions below."""

    kind: PlaceKind
    text: str
    """For readers: ``www.x.example at 192.0.2.7``."""

    host: str = ""
    """The host name or IP address (without brackets) that it belongs to; empty for files."""

    port: int = 0
    address: str = ""
    """Of an endpoint, a front end, or a way in by one address."""

    url: str = ""
    """Of a way in or a cookie, where the text says more than the URL."""

    name: str = ""
    """Of a cookie."""

    def __str__(self) -> str:
        return self.text

    @property
    def seen_at(self) -> str:
        """The URL that it is, or at which it is; empty for a place that is none."""
        return self.url or (self.text if self.kind is PlaceKind.URL else "")

    @property
    def key(self) -> str:
        """The same for the same place in another review: neither addresses nor what a reader is told are in it."""
        match self.kind:
            case PlaceKind.SITE:
                return "site"
            case PlaceKind.ENDPOINT:
                return f"endpoint {socket_text(self.host, self.port)}"
            case PlaceKind.FRONT_END:
                return f"front end {socket_text(self.address, self.port)}"
            case PlaceKind.URL:
                return f"url {self.url or self.text}"
            case PlaceKind.COOKIE:
                return f"cookie {self.name} at {self.url}"
            case PlaceKind.FILE:
                return f"file {self.text}"
            case PlaceKind.NAME_SERVER:
                return f"name server {self.name} of {self.host}"
            case PlaceKind.ZONE | PlaceKind.NAME:
                return f"{self.kind.value} {self.host}"


def the_site(text: str) -> Place:
    """The site as a whole; ``text`` says what of it: ``certificates``."""
    return Place(PlaceKind.SITE, text)


def of_name(name: str) -> Place:
    """A host name, or an IP address that was typed as one."""
    return Place(PlaceKind.NAME, name, name)


def of_zone(zone: str) -> Place:
    """A zone by its apex."""
    return Place(PlaceKind.ZONE, f"zone {zone}", zone)


def of_name_server(zone: str, server: str, address: str = "") -> Place:
    """A server of a zone; with its address where one of several is meant."""
    text = f"{server} ({address})" if address else server
    return Place(PlaceKind.NAME_SERVER, text, zone, address=address, name=server)


def of_endpoint(name: str, address: str, port: int, *, is_alone: bool, is_old: bool = False) -> Place:
    """One name at one address and port.

    ``is_alone``: the name has no other address, so that it need not be told; ``is_old``: only old copies of the zone
    still give the address.
    """
    shown = name if port == HTTPS else socket_text(name, port)
    if is_old:
        shown += f" at the old address {address}"
    elif not is_alone:
        shown += f" at {address}"
    return Place(PlaceKind.ENDPOINT, shown, name, port, address)


def of_url(url: str, host: str, address: str = "", *, is_alike: bool = False) -> Place:
    """A URL of ``host``, as it goes at one address; ``is_alike``: as at every other, so that it need not be told."""
    if not address or is_alike:
        return Place(PlaceKind.URL, url, host, address=address)
    return Place(PlaceKind.URL, f"{url} at {address}", host, address=address, url=url)


def of_cookie(url: str, host: str, name: str) -> Place:
    """A cookie that is set at a URL."""
    return Place(PlaceKind.COOKIE, url, host, url=url, name=name)


def of_file(name: str) -> Place:
    """A file as the reviewer named it."""
    return Place(PlaceKind.FILE, name)


def in_file(name: str, host: str, *, is_alone: bool) -> Place:
    """What a file holds for a host; ``is_alone``: the files are for one certificate, so that they need not be told."""
    return Place(PlaceKind.FILE, host if is_alone else f"{host} in {name}", host)


HTTPS = 443


def socket_text(host: str, port: int) -> str:
    """``192.0.2.7:443``, ``[2001:db8::7]:443``."""
    return f"[{host}]:{port}" if ":" in host else f"{host}:{port}"
