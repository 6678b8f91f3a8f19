"""One HTTP request over a connection of its own, or over one that the journey already has.

HTTPX carries the exchange; which address is contacted is decided here, never by its own look-up, and
nothing is taken from the environment.
"""

import asyncio
import contextlib
import datetime
import functools
import ssl
import time
import zlib
from collections.abc import AsyncIterator
from dataclasses import dataclass

import httpx

from pewter import __version__
from pewter.evidence import Hop, NoConnection, StopCause, Unseen
from pewter.tls import fingerprint
from pewter.web.cookies import mask_set_cookie
from pewter.web.redirects import FOLLOWED
from pewter.web.urls import Url

from .hellos import failed_connection
from .routes import Destination, socket_text
from .slots import Priority, Slots

MAX_DRAINED = 1 << 16
"""Octets of a redirect's body that are read so that its connection can be used again."""

MAX_PAGE = 1 << 20
"""Octets of a page or style sheet that are read, before and after it is uncompressed."""

PAGE_SECONDS = 5.0
"""For the body of a page: what has come by then is read as far as it goes."""

USER_AGENT = f"Pewter/{__version__} (HTTPS review; GET and HEAD only)"


@functools.cache
def permissive_context() -> ssl.SSLContext:
    """A context that accepts whatever the local OpenSSL can still speak: judging is not its business."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    context.set_ciphers("ALL:@SECLEVEL=0")
    context.options |= getattr(ssl, "OP_LEGACY_SERVER_CONNECT", 0x4)
    context.minimum_version = ssl.TLSVersion.MINIMUM_SUPPORTED
    return context


@dataclass(frozen=True, slots=True)
class Answered:
    """The head of an answer, what of it must not be kept, and whether the connection can go on."""

    hop: Hop
    set_cookie: tuple[str, ...]
    """The field values with the cookies' values, for the journey's own jar alone."""

    certificate: bytes | None
    reusable: bool
    body: bytes = b""
    """Of an answer that is shown as a page; else empty."""

    content_type: str = ""
    truncated: bool = False


@dataclass(frozen=True, slots=True)
class Failed:
    """No answer came."""

    cause: StopCause | None
    """None where nothing may be concluded about the site."""

    detail: str


class Connection:
    """An HTTP/1.1 connection to one origin at one destination."""

    def __init__(self, origin: str, destination: Destination) -> None:
        self.origin = origin
        self.destination = destination
        self._transport = httpx.AsyncHTTPTransport(
            verify=permissive_context(), http1=True, http2=False, trust_env=False, retries=0
        )

    async def close(self) -> None:
        await self._transport.aclose()

    async def get(self, url: Url, cookie: str | None, host: str | None = None) -> Answered | Failed:
        """GET ``url``, with another Host where one is given; the caller sets the deadline."""
        begun = time.monotonic()
        try:
            response = await self._transport.handle_async_request(self._request(url, cookie, host))
            try:
                return await self._answered(url, response, begun)
            finally:
                await response.aclose()
        except httpx.ConnectError as exc:
            return _failed_connect(exc, self.destination.address)
        except (httpx.HTTPError, httpx.InvalidURL, httpx.StreamError, ssl.SSLError, OSError) as exc:
            return Failed(StopCause.NO_ANSWER, _words(exc))

    async def get_body(self, url: Url, max_octets: int) -> tuple[int, bytes | None]:
        """Status and body of ``url``; None in place of a body over ``max_octets``.  Raises httpx.HTTPError."""
        response = await self._transport.handle_async_request(self._request(url, None))
        body = bytearray()
        try:
            whole = await _read_into(body, response, max_octets)
        finally:
            await response.aclose()
        return response.status_code, bytes(body) if whole else None

    def _request(self, url: Url, cookie: str | None, host: str | None = None) -> httpx.Request:
        headers = [
            ("Host", host or url.origin.partition("://")[2]),
            ("User-Agent", USER_AGENT),
            ("Accept", "text/html,application/xhtml+xml,*/*;q=0.8"),
            ("Accept-Encoding", "identity"),
        ]
        if cookie is not None:
            headers.append(("Cookie", cookie))
        there = socket_text(self.destination.connect_address, self.destination.connect_port)
        target = httpx.URL(f"{url.scheme}://{there}")
        return httpx.Request(
            "GET",
            target.copy_with(raw_path=url.target.encode("ascii")),
            headers=[(name.encode("ascii"), value.encode("latin-1")) for name, value in headers],
            extensions={"sni_hostname": url.host},
        )

    async def _answered(self, url: Url, response: httpx.Response, begun: float) -> Answered:
        elapsed = time.monotonic() - begun
        fields = [(name.decode("latin-1"), value.decode("latin-1")) for name, value in response.headers.raw]
        set_cookie = tuple(value for name, value in fields if name.lower() == "set-cookie")
        masked = tuple(
            (name, mask_set_cookie(value) if name.lower() == "set-cookie" else value) for name, value in fields
        )
        certificate = _peer_certificate(response) if url.is_https else None
        hop = Hop(
            url=str(url),
            address=self.destination.address,
            status=response.status_code,
            fields=masked,
            at=datetime.datetime.now(datetime.UTC),
            certificate=fingerprint(certificate) if certificate is not None else None,
            elapsed_seconds=elapsed,
        )
        content_type = str(response.headers.get("content-type", ""))
        if response.status_code in FOLLOWED and response.headers.get("location", "").strip():
            return Answered(hop, set_cookie, certificate, await _drain(response))
        if not _is_text(content_type):
            return Answered(hop, set_cookie, certificate, reusable=False)
        body, truncated = await _read_page(response)
        return Answered(hop, set_cookie, certificate, False, body, content_type, truncated)


@contextlib.asynccontextmanager
async def lone_connection(
    url: Url, destination: Destination, slots: Slots, priority: Priority, step_seconds: float
) -> AsyncIterator[Connection]:
    """A connection for one request that is no part of a journey; TimeoutError once its one deadline has passed."""
    async with slots.connection(destination.address, priority), asyncio.timeout(step_seconds):
        connection = Connection(url.origin, destination)
        try:
            yield connection
        finally:
            await connection.close()


async def fetch_once(
    url: Url, destination: Destination, slots: Slots, step_seconds: float, host: str | None = None
) -> Answered | Failed:
    """One request on a connection of its own, that is no part of a journey; bounded by one deadline."""
    try:
        async with lone_connection(url, destination, slots, Priority.HANDSHAKE, step_seconds) as connection:
            return await connection.get(url, None, host)
    except TimeoutError:
        return Failed(StopCause.NO_ANSWER, f"no whole answer within {step_seconds:g} s")


def _is_text(content_type: str) -> bool:
    """A page, a style sheet, or octets without a type, which browsers show as a page if they look like one."""
    bare = content_type.partition(";")[0].strip().lower()
    return bare in {"", "text/html", "application/xhtml+xml", "text/css", "text/xml", "application/xml"}


async def _read_into(octets: bytearray, response: httpx.Response, most: int) -> bool:
    """Read a body as it comes, until it ends or is longer than ``most``; whether it ended."""
    async for piece in response.aiter_raw():
        octets += piece
        if len(octets) > most:
            return False
    return True


async def _read_page(response: httpx.Response) -> tuple[bytes, bool]:
    """The body up to its bounds in octets and time, uncompressed; and whether that is not all of it."""
    octets, truncated = bytearray(), False
    try:
        async with asyncio.timeout(PAGE_SECONDS):
            truncated = not await _read_into(octets, response, MAX_PAGE)
    except (TimeoutError, httpx.HTTPError, httpx.StreamError):
        truncated = True  # cut short or too slow: what came is read
    return _uncompressed(bytes(octets[:MAX_PAGE]), str(response.headers.get("content-encoding", "")), truncated)


def _uncompressed(octets: bytes, encoding: str, truncated: bool) -> tuple[bytes, bool]:
    """Never more than MAX_PAGE octets, however far a few of them would unfold."""
    name = encoding.strip().lower()
    if name in {"", "identity"}:
        return octets, truncated
    if name not in {"gzip", "x-gzip", "deflate"}:
        return b"", True  # not asked for, and not to be had here
    try:
        unfold = zlib.decompressobj(zlib.MAX_WBITS | 32)
        page = unfold.decompress(octets, MAX_PAGE)
    except zlib.error:
        return b"", True
    return page, truncated or bool(unfold.unconsumed_tail)


async def _drain(response: httpx.Response) -> bool:
    """Read a short body to its end; false where it is longer, or broken."""
    try:
        whole = await _read_into(bytearray(), response, MAX_DRAINED)
    except (httpx.HTTPError, httpx.StreamError):
        return False
    return whole and str(response.headers.get("connection", "")).lower() != "close"


def _peer_certificate(response: httpx.Response) -> bytes | None:
    stream = response.extensions.get("network_stream")
    ssl_object = stream.get_extra_info("ssl_object") if stream is not None else None
    return ssl_object.getpeercert(binary_form=True) if ssl_object is not None else None


def _failed_connect(exc: httpx.ConnectError, address: str) -> Failed:
    """By the deepest cause that tells: layers in between wrap the system's error in sentences of their own."""
    causes: list[BaseException] = [exc]
    while (cause := causes[-1].__cause__ or causes[-1].__context__) is not None and cause not in causes:
        causes.append(cause)
    for cause in causes:
        if isinstance(cause, ssl.SSLError):
            reason = (cause.reason or "").replace("_", " ").lower()
            return Failed(StopCause.NO_TLS, f"no TLS connection: {reason or cause}")
    for cause in reversed(causes):
        if isinstance(cause, OSError) and cause.errno is not None:
            failure = failed_connection(cause, address)
            if isinstance(failure, NoConnection):
                return Failed(StopCause.NO_CONNECTION, failure.detail)
            assert isinstance(failure, Unseen)
            return Failed(None, failure.reason)
    return Failed(StopCause.NO_CONNECTION, str(exc) or "no connection came about")


def _words(exc: Exception) -> str:
    match exc:
        case httpx.RemoteProtocolError() if "buffer too long" in str(exc):
            return "its header fields are longer than 100 KiB"
        case httpx.RemoteProtocolError():
            return f"the answer is no HTTP: {exc}" if "disconnected" not in str(exc) else "closed without an answer"
        case httpx.ReadError() | OSError():
            return "the connection broke before an answer"
        case _:
            return f"no answer: {exc}" if str(exc) else f"no answer ({type(exc).__name__})"
