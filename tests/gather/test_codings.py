"""Bodies in the codings that they say, and such as are not: what came of each was seen in two browsers."""

import gzip
import zlib

import brotli
import pytest
import zstandard

from pewter.gather.codings import uncompressed

PAGE = b"<!doctype html><title>x</title>page"
GZIP, BROTLI, ZSTANDARD = gzip.compress(PAGE), brotli.compress(PAGE), zstandard.compress(PAGE)
BAD = "Content-Encoding is {}, and the body does not unpack"
PLAIN = "Content-Encoding is {}, which browsers take over https alone"


@pytest.mark.parametrize(
    ("encoding", "octets", "page", "fault"),
    [
        pytest.param("", PAGE, PAGE, "", id="none"),
        pytest.param("gzip", GZIP, PAGE, "", id="gzip"),
        pytest.param("x-gzip", GZIP + b"rubbish", PAGE, "", id="gzip-and-rubbish"),
        pytest.param("gzip", GZIP[:-8] + bytes(8), PAGE, "", id="gzip-with-a-wrong-sum"),
        pytest.param("gzip", GZIP[:-9], PAGE[:-1], "", id="gzip-cut"),
        pytest.param("gzip", PAGE, b"", BAD.format("gzip"), id="not-gzip"),
        pytest.param("gzip", b"", b"", "", id="nothing"),
        pytest.param("deflate", zlib.compress(PAGE), PAGE, "", id="deflate"),
        pytest.param("Deflate", zlib.compress(PAGE)[2:-4], PAGE, "", id="deflate-without-head"),
        pytest.param("deflate", PAGE, b"", BAD.format("deflate"), id="not-deflate"),
        pytest.param("br", BROTLI, PAGE, "", id="br"),
        pytest.param("br", BROTLI + b"rubbish", PAGE, "", id="br-and-rubbish"),
        pytest.param("br", PAGE, b"", BAD.format("br"), id="not-br"),
        pytest.param("zstd", ZSTANDARD, PAGE, "", id="zstd"),
        pytest.param("zstd", ZSTANDARD * 2, PAGE * 2, "", id="zstd-twice"),
        pytest.param("zstd", ZSTANDARD + b"rubbish", b"", BAD.format("zstd"), id="zstd-and-rubbish"),
        pytest.param("zstd", PAGE, b"", BAD.format("zstd"), id="not-zstd"),
        pytest.param("squeezed", PAGE, PAGE, "", id="unknown"),
        pytest.param("gzip, br", brotli.compress(GZIP), PAGE, "", id="two"),
        pytest.param("gzip, br", BROTLI, b"", BAD.format("gzip"), id="two-and-one-of-them-is-not"),
    ],
)
def test_codings(encoding, octets, page, fault):
    found, _, why = uncompressed(octets, encoding, 1 << 20)
    assert (found, why) == (page, fault)


@pytest.mark.parametrize("encoding", ["br", "zstd"])
def test_over_plain_http(encoding):
    assert uncompressed(BROTLI, encoding, 1 << 20, is_https=False) == (b"", True, PLAIN.format(encoding))


@pytest.mark.parametrize("encoding", ["gzip", "br", "zstd", "gzip, gzip"])
def test_never_more_than_the_bound(encoding):
    packers = {"gzip": gzip.compress, "br": brotli.compress, "zstd": zstandard.compress}
    octets = bytes(20 << 20)
    for name in encoding.split(", "):
        octets = packers[name](octets)
    page, is_part, fault = uncompressed(octets, encoding, 1 << 16)
    assert (len(page) <= 1 << 16, is_part, fault) == (True, True, "")
