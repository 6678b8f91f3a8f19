"""One HTTP request over a connection of its own, or over one that the journey already has.

Which address is contacted is decided here, never by a look-up on the way, and nothing is taken from the environment.
Heads are read as browsers read them (:mod:`pewter.web.heads`); h11 then finds the end of the body.
"""

import asyncio
import contextlib
import datetime
import functools
import re
import ssl
import time
from collections.abc import AsyncIterator, Iterator

import h11
import msgspec

from pewter.evidence import Hop, NoConnection, StopCause, Unseen
from pewter.octets import DecodeError
from pewter.tls import fingerprint
from pewter.version import __version__
from pewter.web.heads import Head, NoAnswer, find_head, read_head
from pewter.web.redirects import FOLLOWED
from pewter.web.secrets import mask_field
from pewter.web.urls import Url

from .codings import uncompressed
from .hellos import failed_connection
from .network import Network
from .routes import Destination
from .slots import Priority
from .streams import Stream, open_stream

MAX_DRAINED = 1 << 16
"""Octets of a redirect's body that are read so that its connection can be used again."""

MAX_PAGE = 1 << 20
"""Octets of a page or style sheet that are read, before and after it is uncompressed."""

MAX_INTERIM = 8
"""Interim answers (1xx) that are passed over."""

PAGE_SECONDS = 5.0
"""For the body of a page: what has come by then is read as far as it goes."""

USER_AGENT = f"Pewter/{__version__} (HTTPS review; GET only)"
BROWSER_AGENT = "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/156.0.0.0 Safari/537.36"
"""Sent only where a site may answer by the name: to see what it shows to visitors."""


def _fields(*, is_https: bool, as_browser: bool) -> list[tuple[str, str]]:
    """What a current browser sends for an address that was typed, in its order; only the name is Pewter's own.

    A site may answer by language, by coding or by any of these: a visitor's answer is wanted.  Over plain http browsers
    leave out what is for trustworthy origins alone (Fetch Metadata section 2).
    """
    fields = [
        ("Upgrade-Insecure-Requests", "1"),
        ("User-Agent", BROWSER_AGENT if as_browser else USER_AGENT),
        ("Accept", "text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8"),
    ]
    if is_https:
        fields += [
            ("Sec-Fetch-Site", "none"),
            ("Sec-Fetch-Mode", "navigate"),
            ("Sec-Fetch-User", "?1"),
            ("Sec-Fetch-Dest", "document"),
        ]
    codings = "gzip, deflate, br, zstd" if is_https else "gzip, deflate"
    return [*fields, ("Accept-Encoding", codings), ("Accept-Language", "en-US,en;q=0.9")]


_ALERT = re.compile(r"(?:SSLV3|TLSV1|TLSV13)_(?:ALERT_)?([A-Z_]+)\Z")
_ALERT_NAMES = {"no_protocols": "no_application_protocol", "inappropriate_fallback": "inappropriate_fallback"}
_TLS_FAILURES = {
    "WRONG_VERSION_NUMBER": "what came is no TLS",
    "HTTP_REQUEST": "what came is no TLS",
    "PACKET_LENGTH_TOO_LONG": "what came is no TLS",
    "BAD_PACKET_LENGTH": "what came is no TLS",
    "UNSUPPORTED_PROTOCOL": "no protocol version in common",
    "NO_SHARED_CIPHER": "no cipher suite in common",
    "EXCESSIVE_MESSAGE_SIZE": "a handshake message is longer than 100 KB",
    "DH_KEY_TOO_SMALL": "the server's Diffie-Hellman group is too small",
    "BAD_SIGNATURE": "the handshake's signature does not verify",
    "WRONG_SIGNATURE_TYPE": "no signature algorithm in common",
    "DIGEST_CHECK_FAILED": "the handshake does not verify",
}
"""OpenSSL's reasons in the words of the field; any other is said in general."""

_CLOSED_IN_HANDSHAKE = "no TLS connection: the server closed it in the handshake"
CLIENT_CERTIFICATE = "the server demands a client certificate"


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


class Answered(msgspec.Struct, frozen=True):
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


class Failed(msgspec.Struct, frozen=True):
    """No answer came."""

    cause: StopCause | None
    """None where nothing may be concluded about the site."""

    detail: str
    may_pass: bool = False
    """It broke off without a word: the next try may fare better."""

    is_silent: bool = False
    """Nothing came in time."""


class BrokenOff(Exception):
    """The connection ended, or what came is no answer; says what in words."""

    def __init__(self, words: str, *, cause: StopCause = StopCause.NO_ANSWER, may_pass: bool = False) -> None:
        super().__init__(words)
        self.failed = Failed(cause, words, may_pass)


class Connection:
    """An HTTP/1.1 connection to one origin at one destination."""

    def __init__(self, origin: str, destination: Destination, network: Network, step_seconds: float) -> None:
        self.origin = origin
        self.destination = destination
        self._liveness = network.liveness
        self._threads = network.threads
        self._step_seconds = step_seconds
        self._stream: Stream | None = None
        self._left = b""
        """Octets that came after the last answer."""

    async def close(self) -> None:
        if self._stream is not None:
            self._stream.abort()

    async def get(
        self, url: Url, cookie: str | None, host: str | None = None, *, as_browser: bool = False
    ) -> Answered | Failed:
        """GET ``url``, with another Host where one is given; the caller sets the deadline."""
        begun = time.monotonic()
        try:
            failure = await self._connect(url)
            if failure is not None:
                return failure
            async with self._liveness.answer(self.destination):
                head, body = await self._ask(url, cookie, host, as_browser=as_browser)
            self._liveness.answered(self.destination)
            return await self._answered(url, head, body, begun)
        except BrokenOff as exc:
            return exc.failed

    async def get_in_time(
        self, url: Url, cookie: str | None = None, host: str | None = None, *, as_browser: bool = False
    ) -> Answered | Failed:
        """:meth:`get` with one deadline over all of it."""
        try:
            async with asyncio.timeout(self._step_seconds):
                return await self.get(url, cookie, host, as_browser=as_browser)
        except TimeoutError:
            seconds = self._liveness.seconds(self.destination, self._step_seconds, is_plain=not url.is_https)
            self._liveness.stays_silent(self.destination)
            return Failed(StopCause.NO_ANSWER, f"no whole answer within {seconds:g} s", is_silent=True)

    async def get_body(self, url: Url, max_octets: int) -> tuple[Head, bytes | None]:
        """Head and body of ``url``; None in place of a body over ``max_octets``.  Raises BrokenOff."""
        failure = await self._connect(url)
        if failure is not None:
            raise BrokenOff(failure.detail)
        head, body = await self._ask(url, None, None, as_browser=False)
        octets = bytearray()
        whole = await body.read_into(octets, max_octets)
        return head, bytes(octets) if whole else None

    async def _connect(self, url: Url) -> Failed | None:
        if self._stream is not None:
            return None
        there = self.destination
        try:
            async with self._liveness.exchange(there, self._step_seconds, connection_only=not url.is_https):
                context = permissive_context() if url.is_https else None
                self._stream = await open_stream(there.connect_address, there.connect_port, context, url.host)
            self._liveness.taken(there)
            if url.is_https:
                self._liveness.heard(there)
        except UnicodeError:
            return Failed(StopCause.NO_TLS, f"{url.host[:80]} cannot stand in a hello")
        except ssl.SSLError as exc:
            self._liveness.heard(there)
            return _failed_handshake(exc)
        except ConnectionResetError as exc:
            self._liveness.heard(there)
            if url.is_https and exc.errno is None:  # an end within the handshake
                return Failed(StopCause.NO_TLS, _CLOSED_IN_HANDSHAKE, may_pass=True)
            return Failed(StopCause.NO_CONNECTION, "the connection was reset", may_pass=True)
        except TimeoutError:
            raise
        except OSError as exc:
            self._liveness.heard(there)
            failure = failed_connection(exc, there.address)
            if isinstance(failure, NoConnection):
                return Failed(StopCause.NO_CONNECTION, failure.detail)
            assert isinstance(failure, Unseen)
            return Failed(None, failure.reason)
        return None

    async def _ask(self, url: Url, cookie: str | None, host: str | None, *, as_browser: bool) -> tuple[Head, "_Body"]:
        assert self._stream is not None
        engine = h11.Connection(h11.CLIENT)
        fields = [("Host", host or url.origin.partition("://")[2])]
        fields += _fields(is_https=url.is_https, as_browser=as_browser)
        if cookie is not None:
            fields.append(("Cookie", cookie))
        try:
            # h11 refuses octets that may not stand in a field: a cookie of the site may hold such.
            request = h11.Request(
                method="GET",
                target=url.target,
                headers=[(name.encode("ascii"), value.encode("latin-1")) for name, value in fields],
            )
        except (h11.LocalProtocolError, UnicodeError) as exc:
            raise BrokenOff("the request cannot be written") from exc
        octets = (engine.send(request) or b"") + (engine.send(h11.EndOfMessage()) or b"")
        try:
            await self._write(octets)
            for _ in range(MAX_INTERIM):
                head = await self._read_head(is_secure=url.is_https)
                if not 100 <= head.status < 200 or head.status == 101:
                    break
        except DecodeError as exc:
            closed = isinstance(exc, NoAnswer)
            words = exc.problem if closed else f"the answer is no HTTP: {exc.problem}"
            raise BrokenOff(words, may_pass=closed) from exc
        left, self._left = self._left, b""
        if head.framing:
            try:
                engine.receive_data(head.framing + left)
                engine.next_event()
            except h11.RemoteProtocolError as exc:
                raise BrokenOff(f"the answer is no HTTP that a browser takes (status {head.status})") from exc
        return head, _Body(self, engine if head.framing else None, left)

    async def _read_head(self, *, is_secure: bool) -> Head:
        octets, since = bytearray(self._left), 0
        ended = False
        while (end := find_head(octets, ended=ended, since=since, is_secure=is_secure)) is None:
            since = len(octets)
            piece = await self.read()
            self._liveness.heard(self.destination)
            ended = not piece
            octets += piece
        self._left = bytes(octets[end:])
        return await self._threads.off_the_loop(end, read_head, bytes(octets[:end]))

    async def _write(self, octets: bytes) -> None:
        """Raises BrokenOff."""
        assert self._stream is not None
        with _broken_off():
            await self._stream.write(octets)

    async def read(self) -> bytes:
        """What comes next; empty at the end.  Raises BrokenOff."""
        assert self._stream is not None
        with _broken_off():
            return await self._stream.read()

    async def _answered(self, url: Url, head: Head, body: "_Body", begun: float) -> Answered:
        elapsed = time.monotonic() - begun
        set_cookie = head.values("Set-Cookie")
        masked = await self._threads.off_the_loop(sum(len(value) for _, value in head.fields), _mask, head.fields)
        certificate = self._stream.certificate if self._stream is not None else None
        hop = Hop(
            url=str(url),
            address=self.destination.address,
            status=head.status,
            fields=masked,
            at=_now(),
            certificate=fingerprint(certificate) if certificate is not None else None,
            elapsed_seconds=round(elapsed, 3),
            oddities=head.oddities,
        )
        content_type = ", ".join(head.values("Content-Type"))
        if head.status in FOLLOWED and any(value.strip() for value in head.values("Location")):
            return Answered(hop, set_cookie, certificate, await _drain(body))
        if not _is_text(content_type):
            return Answered(hop, set_cookie, certificate, reusable=False)
        octets, truncated = await _read_page(body)
        encoding = ", ".join(head.values("Content-Encoding"))
        size = len(octets) if not encoding else MAX_PAGE
        unfold = functools.partial(uncompressed, is_https=url.is_https)
        page, is_part, fault = await self._threads.off_the_loop(size, unfold, octets, encoding, MAX_PAGE)
        truncated |= is_part
        if fault:
            hop = msgspec.structs.replace(hop, body_fault=fault)
        return Answered(hop, set_cookie, certificate, False, page, content_type, truncated)


@contextlib.contextmanager
def _broken_off() -> Iterator[None]:
    """What the system or OpenSSL says of a connection, as BrokenOff."""
    try:
        yield
    except ssl.SSLError as exc:
        failure = _failed_handshake(exc)
        raise BrokenOff(failure.detail, cause=failure.cause or StopCause.NO_ANSWER) from exc
    except OSError as exc:
        raise BrokenOff("the connection broke before an answer", may_pass=True) from exc


def _now() -> datetime.datetime:
    """To the millisecond: more says nothing of a server's clock."""
    now = datetime.datetime.now(datetime.UTC)
    return now.replace(microsecond=now.microsecond // 1000 * 1000)


def _mask(fields: tuple[tuple[str, str], ...]) -> tuple[tuple[str, str], ...]:
    return tuple((name, mask_field(name, value)) for name, value in fields)


class _Body:
    """What follows a head, as far as its end."""

    def __init__(self, connection: Connection, engine: h11.Connection | None, left: bytes) -> None:
        self._connection = connection
        self._engine = engine
        """None for an answer without a head: all that comes is its body."""

        self._left = left
        self.can_go_on = False
        """After the end: the server keeps the connection."""

    async def read_into(self, octets: bytearray, most: int) -> bool:
        """Read until it ends or is longer than ``most``; whether it ended.  Raises BrokenOff where it is broken."""
        while len(octets) <= most:
            piece = await self._next()
            if piece is None:
                return True
            octets += piece
        return False

    async def _next(self) -> bytes | None:
        if self._engine is None:
            piece, self._left = self._left or await self._connection.read(), b""
            return piece or None
        try:
            while True:
                event = self._engine.next_event()
                match event:
                    case h11.Data(data=data):
                        return bytes(data)
                    case h11.EndOfMessage():
                        self.can_go_on = self._engine.our_state is h11.DONE is self._engine.their_state
                        return None
                    case h11.NEED_DATA:
                        self._engine.receive_data(await self._connection.read())
                    case _:
                        return None
        except h11.RemoteProtocolError as exc:
            raise BrokenOff("the body is broken off") from exc


@contextlib.asynccontextmanager
async def lone_connection(
    url: Url, destination: Destination, network: Network, step_seconds: float
) -> AsyncIterator[Connection]:
    """A connection for one request that is no part of a journey."""
    async with network.slots.connection(destination.address, Priority.ASIDE):
        connection = Connection(url.origin, destination, network, step_seconds)
        try:
            yield connection
        finally:
            await connection.close()


async def fetch_once(
    url: Url, destination: Destination, network: Network, step_seconds: float, host: str | None = None
) -> Answered | Failed:
    """One request on a connection of its own, that is no part of a journey; bounded by one deadline."""
    async with lone_connection(url, destination, network, step_seconds) as connection:
        return await connection.get_in_time(url, None, host)


def _is_text(content_type: str) -> bool:
    """A page, a style sheet, or octets without a type, which browsers show as a page if they look like one."""
    bare = content_type.partition(";")[0].strip().lower()
    return bare in {"", "text/html", "application/xhtml+xml", "text/css", "text/xml", "application/xml"}


async def _read_page(body: _Body) -> tuple[bytes, bool]:
    """The body up to its bounds in octets and time; and whether that is not all of it."""
    octets, truncated = bytearray(), False
    try:
        async with asyncio.timeout(PAGE_SECONDS):
            truncated = not await body.read_into(octets, MAX_PAGE)
    except (TimeoutError, BrokenOff):
        truncated = True  # cut short or too slow: what came is read
    return bytes(octets[:MAX_PAGE]), truncated


async def _drain(body: _Body) -> bool:
    """Read a short body to its end; whether the connection can go on."""
    try:
        whole = await body.read_into(bytearray(), MAX_DRAINED)
    except BrokenOff:
        return False
    return whole and body.can_go_on


def _failed_handshake(exc: ssl.SSLError) -> Failed:
    """In the words of the RFCs, never in OpenSSL's."""
    reason = exc.reason or ""
    alert = _ALERT.match(reason)
    if alert is not None:
        name = alert[1].lower()
        if name == "certificate_required":
            return Failed(StopCause.NO_TLS, f"{CLIENT_CERTIFICATE} (alert {name})")
        return Failed(StopCause.NO_TLS, f"no TLS connection: alert {_ALERT_NAMES.get(name, name)}")
    if isinstance(exc, ssl.SSLEOFError) or reason == "UNEXPECTED_EOF_WHILE_READING":
        return Failed(StopCause.NO_TLS, _CLOSED_IN_HANDSHAKE, may_pass=True)
    words = _TLS_FAILURES.get(reason, "the handshake failed")
    return Failed(StopCause.NO_TLS, f"no TLS connection: {words}")
