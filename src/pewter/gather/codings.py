"""Content codings (RFC 9110 section 8.4.1), unfolded within a bound, as far as browsers take them."""

import io
import zlib
from collections.abc import Callable

import brotli
import zstandard

MAX_CODINGS = 4


class NotSoCoded(Exception):
    """A body that is not in the coding that it says."""


def uncompressed(octets: bytes, encoding: str, most: int, *, is_https: bool = True) -> tuple[bytes, bool, str]:
    """The body, whether it is only a part of it, and why browsers do not unfold it.

    Never more than ``most`` octets at a time, however far a few of them would unfold.  A coding that nobody knows is
    passed over, as browsers do; brotli and zstandard they take over https alone.
    """
    names = [name.strip().lower() for name in encoding.split(",")]
    is_part = False
    for name in reversed(names[-MAX_CODINGS:]):
        unfold = _CODINGS.get(name)
        if unfold is None or not octets:
            continue
        if name in OVER_HTTPS and not is_https:
            return b"", True, f"Content-Encoding is {name}, which browsers take over https alone"
        try:
            octets, more = unfold(octets, most)
        except NotSoCoded:
            return b"", True, f"Content-Encoding is {name[:20]}, and the body does not unpack"
        is_part |= more
    return octets, is_part, ""


OVER_HTTPS = frozenset({"br", "zstd"})
_CHECKS = ("incorrect data check", "incorrect length check")
"""What comes behind a body of gzip and does not fit it: browsers do not look."""


def _of_zlib(octets: bytes, most: int) -> tuple[bytes, bool]:
    for window in (zlib.MAX_WBITS | 32, -zlib.MAX_WBITS):  # deflate comes with a header of zlib's, and without
        unfold = zlib.decompressobj(window)
        try:
            page = unfold.decompress(octets, most)
        except zlib.error as exc:
            if str(exc).endswith(_CHECKS):
                return _without_check(octets, window, most)
            continue
        return page, bool(unfold.unconsumed_tail)
    raise NotSoCoded


def _without_check(octets: bytes, window: int, most: int) -> tuple[bytes, bool]:
    """All but the check, which is in the last eight octets: those are given one by one."""
    unfold = zlib.decompressobj(window)
    page = b""
    for position in (0, *range(max(len(octets) - _CHECK_OCTETS, 1), len(octets))):
        end = max(len(octets) - _CHECK_OCTETS, 1) if position == 0 else position + 1
        try:
            page += unfold.decompress(octets[position:end], most - len(page) or 1)
        except zlib.error:
            break
    return page[:most], bool(unfold.unconsumed_tail)


_CHECK_OCTETS = 8


def _of_brotli(octets: bytes, most: int) -> tuple[bytes, bool]:
    try:
        return _brotli_in_pieces(octets, most, len(octets))
    except brotli.error:
        pass
    try:
        # What comes behind the end is passed over: the end is found octet by octet.
        return _brotli_in_pieces(octets[:MAX_IN_PIECES], most, 1)
    except brotli.error:
        raise NotSoCoded from None


MAX_IN_PIECES = 1 << 16


def _brotli_in_pieces(octets: bytes, most: int, size: int) -> tuple[bytes, bool]:
    unfold = brotli.Decompressor()
    page = bytearray()
    for start in range(0, len(octets), size):
        page += unfold.process(octets[start : start + size], output_buffer_limit=most)
        if unfold.is_finished() or len(page) >= most:
            break
    return bytes(page[:most]), not unfold.is_finished()


def _of_zstandard(octets: bytes, most: int) -> tuple[bytes, bool]:
    try:
        unfold = zstandard.ZstdDecompressor(max_window_size=1 << 23)
        with unfold.stream_reader(io.BytesIO(octets), read_across_frames=True) as reader:
            page = reader.read(most)
            return page, bool(reader.read(1))
    except zstandard.ZstdError:
        raise NotSoCoded from None


_CODINGS: dict[str, Callable[[bytes, int], tuple[bytes, bool]]] = {
    "gzip": _of_zlib,
    "x-gzip": _of_zlib,
    "deflate": _of_zlib,
    "br": _of_brotli,
    "zstd": _of_zstandard,
}
