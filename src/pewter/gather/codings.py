"""Content codings (RFC 9110 section 8.4.1), unfolded within a bound, as far as browsers take them."""

import io
import zlib
from collections.abc import Callable

import brotli
import zstandard

MAX_CODINGS = 4


class NotSoCoded(Exception):
    """A body that is not in the coding that it says."""


def uncompressed(octets: bytes, encoding: str, most: int) -> tuple[bytes, bool, str]:
    """The body, whether it is only a part of it, and why it does not unfold.

    Never more than ``most`` octets at a time, however far a few of them would unfold.  A coding that nobody knows is
    passed over, as browsers do.
    """
    names = [name.strip().lower() for name in encoding.split(",")]
    is_part = False
    for name in reversed(names[-MAX_CODINGS:]):
        unfold = _CODINGS.get(name)
        if unfold is None or not octets:
            continue
        try:
            octets, more = unfold(octets, most)
        except NotSoCoded:
            return b"", True, f"Content-Encoding is {name[:20]}, and the body does not unpack"
        is_part |= more
    return octets, is_part, ""


def _of_zlib(octets: bytes, most: int) -> tuple[bytes, bool]:
    for window in (zlib.MAX_WBITS | 32, -zlib.MAX_WBITS):  # deflate comes with a header of zlib's, and without
        unfold = zlib.decompressobj(window)
        try:
            page = unfold.decompress(octets, most)
        except zlib.error:
            continue
        return page, bool(unfold.unconsumed_tail)
    raise NotSoCoded


def _of_brotli(octets: bytes, most: int) -> tuple[bytes, bool]:
    unfold = brotli.Decompressor()
    try:
        page = bytes(unfold.process(octets, output_buffer_limit=most))
    except brotli.error:
        raise NotSoCoded from None
    return page[:most], not unfold.can_accept_more_data() and not unfold.is_finished()


def _of_zstandard(octets: bytes, most: int) -> tuple[bytes, bool]:
    try:
        with zstandard.ZstdDecompressor(max_window_size=1 << 23).stream_reader(io.BytesIO(octets)) as reader:
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
