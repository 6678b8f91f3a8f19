"""Every reader of hostile octets takes time that grows with them, and no faster: three doublings, and the ratio held."""

import contextlib
import json
import time
from pathlib import Path

import msgspec
import pytest

from pewter.errors import FileError
from pewter.escape import escaped, json_escaped
from pewter.gather.codings import uncompressed
from pewter.judge.review import make_review
from pewter.octets import DecodeError
from pewter.pki import covers, read_certificate, read_certificate_blocks
from pewter.pki.crls import condense_crl, read_crl
from pewter.pki.derivation import why_too_costly
from pewter.pki.files import read_file
from pewter.pki.ocsp import read_ocsp_response
from pewter.pki.pem import read_public_keys
from pewter.plan.site_file import site_file_of
from pewter.report.sheet import UNICODE, wrap
from pewter.report.terminal import render_terminal
from pewter.web.cookies import mask_set_cookie, read_set_cookie
from pewter.web.debug_pages import debug_signs
from pewter.web.har import HarError, read_har
from pewter.web.heads import find_head, read_head
from pewter.web.hsts import read_sts
from pewter.web.pages import decode_page, read_page
from pewter.web.refresh import read_refresh
from pewter.web.secrets import mask_field, without_secrets_in
from pewter.web.urls import InvalidUrl, read_location, read_url
from support.cases import case, hop, journey
from support.certificates import HOST, NOW, leaf, parsed

BASE = read_url(f"https://{HOST}/")
SITE_FILE = Path("pewter.toml")


def text(reader, *units):
    return [(reader, unit, lambda made: made) for unit in units]


def octets(reader, *units):
    return [(reader, unit, lambda made: made.encode("latin-1")) for unit in units]


def reads_head(made: bytes) -> None:
    head = b"HTTP/1.1 200 OK\r\n" + made + b"\r\n\r\n"
    with contextlib.suppress(DecodeError):
        find_head(head, ended=True)
    read_head(head)


def har(made: str) -> None:
    entry = {
        "request": {"url": f"https://{HOST}/{made}"},
        "response": {
            "status": 302,
            "headers": [{"name": "Location", "value": made}, {"name": "Set-Cookie", "value": made}],
        },
    }
    read_har(json.dumps({"log": {"entries": [entry]}}).encode(), NOW)


def cookies(made: str) -> None:
    """Judged and rendered: as many cookies as characters, a hundredth of them."""
    fields = [("Set-Cookie", f"c{n}=1") for n in range(len(made) // 100)]
    ways = [journey(hop(f"{BASE}{n}", 200, *fields[n : n + 100])) for n in range(0, len(fields), 100)]
    render_terminal(make_review(case(*ways)), 100, UNICODE)


def covered(made: str) -> None:
    """Every name of a certificate is held against it."""
    extensions = msgspec.structs.replace(
        parsed(leaf()).extensions, dns_names=tuple(f"n{n}.example" for n in range(len(made) // 20))
    )
    certificate = msgspec.structs.replace(parsed(leaf()), extensions=extensions)
    assert all(covers(certificate, name) for name in extensions.dns_names)


READERS = [
    *text(covered, "x"),
    *text(mask_set_cookie, "a=", ";a", ", b=", "=,", "\t", "a; Path=/, ", "__Host-"),
    *text(lambda made: mask_field("Location", made), "//a@", "@", "https:", "/\\", "a" * 50),
    *text(without_secrets_in, "?a=b&", ";", "//a@", "#", "/;a=", "?", "a"),
    *text(lambda made: read_set_cookie(made, BASE, NOW), "a=", ";a=b", " ", "; Expires=1:", "9"),
    *text(read_sts, "max-age=1;", '"', "a=;", "9", " "),
    *text(read_refresh, "0;", " ", "9", "url=", "'", ";url"),
    *text(lambda made: read_location(made, BASE), "../", "a@", "%", "\\", "?", "\t", "http:"),
    *text(debug_signs, "Warning: ", "at a.b(", "Traceback ", "\n", "a.b.c:", "Exception: ", " in /a.php on line "),
    *text(escaped, "\u202e", "a\u0301", "\uff37", "x"),
    *text(lambda made: wrap(made, 80), "a ", "\uff37", " ", "a" * 99 + " "),
    *text(har, "?a=", ";", "../", "=,"),
    *octets(reads_head, "A: b\r\n", " c\r\n", "nonsense\n", "Set-Cookie: a=b\r\n", "\r", ":", "A" * 60),
    *octets(lambda made: read_file("x", made), "-----BEGIN CERTIFICATE-----\n", "-----END X-----", "a:\n", "BEGIN ", "-", "MII", "0\x82", "\\n", "\n\n"),
    *octets(read_certificate_blocks, "-----BEGIN CERTIFICATE-----\n", "A", "-----BEGIN CERTIFICATE-----A"),
    *octets(read_public_keys, "-----BEGIN PUBLIC KEY-----\n", "x\n", "A" * 60 + "\n"),
    *octets(lambda made: read_certificate(leaf().der[:40] + made), "0\x84\x00\x00\xff\x00", "\x30\x00", "\x06\x01\x01"),
    *octets(lambda made: condense_crl(made, range(9)), "0\x84\x00\x00\xff\x00", "0\x00"),
    *octets(read_crl, "0\x84\x00\x00\xff\x00", "0\x00"),
    *octets(read_ocsp_response, "0\x84\x00\x00\xff\x00", "0\x00"),
    *octets(why_too_costly, "0\x84\x00\x00\xff\x00", "0\x00", "\x04\x80", "\x30\x80"),
    *octets(lambda made: site_file_of(SITE_FILE, made), "a", "[", "a.", "{a=", "'", "#\n", "k=1\n", "9"),
    *octets(lambda made: json_escaped(b'"' + made.decode("latin-1").encode() + b'"'), "\xe9", "\x85", "x"),
    *octets(lambda made: decode_page(made, ""), "<", "<!--", "<meta charset", "<meta content='charset=", "<a b=", "<?xml encoding=", "charset"),
    *octets(lambda made: read_page(made, BASE), "<script><!--", "<script>", "<!--", "&#0", "&a", "<svg><![CDATA[", "<img srcset='a (", "<img srcset='a,", "<script type=module>import "),
    *octets(lambda made: uncompressed(made, "br", 1 << 20), "\x1b", "\x00", "x"),
    *octets(lambda made: uncompressed(made, "gzip, deflate, br, zstd", 1 << 20), "\x1f\x8b", "(\xb5/\xfd"),
    *text(cookies, "x"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("reader", "unit", "made"), READERS, ids=lambda value: repr(value)[:24] if isinstance(value, str) else ""
)
def test_time_grows_with_the_octets(reader, unit, made):
    for _ in range(3):  # what else runs takes caches away, and with them time
        spent = []
        for size in (25_000, 50_000, 100_000, 200_000):
            content = made(unit * (size // len(unit)))
            begun = time.process_time()
            with contextlib.suppress(DecodeError, InvalidUrl, HarError, FileError):
                reader(content)
            spent.append(time.process_time() - begun)
        if spent[-1] < max(16 * spent[0], 0.4):
            return
    raise AssertionError(spent)
