"""Coverage-guided fuzzing of every parser of hostile octets, with atheris: ``make fuzz`` (10 minutes).

The first octet says which parser the rest is for.  Whatever comes, a parser answers or raises its own
error type; anything else ends the run with the input that did it.
"""

import datetime
import os
import sys
import time
from pathlib import Path

import atheris
import dns.exception
import dns.message
import dns.rrset

from pewter.evidence import HowEnded

with atheris.instrument_imports(include=["pewter"]):
    from pewter.errors import FileError
    from pewter.escape import escaped
    from pewter.evidence import Name, Offer
    from pewter.gather.codings import uncompressed
    from pewter.gather.name_service import lookup_of
    from pewter.names.answers import soa_above
    from pewter.names.caa import RelevantSet, climb, may_issue, oddities, read_caa
    from pewter.names.https_records import read_https, read_set
    from pewter.names.messages import read_reply
    from pewter.names.signatures import key_tags, signatures_in
    from pewter.names.zones import delegation_in
    from pewter.octets import DecodeError
    from pewter.pki import read_certificate
    from pewter.pki.crls import condense_crl, read_crl
    from pewter.pki.derivation import why_too_costly
    from pewter.pki.files import read_file
    from pewter.pki.forms import form_faults
    from pewter.pki.keys import read_key_facts
    from pewter.pki.ocsp import read_ocsp_response
    from pewter.pki.timestamps import read_timestamps
    from pewter.plan.site_file import site_file_of
    from pewter.report.sheet import wrap
    from pewter.tls import Conversation
    from pewter.tls.hellos import read_client_hello, read_offered_versions, read_server_hello, read_server_name
    from pewter.tls.messages import read_certificate as read_certificate_message
    from pewter.tls.messages import read_certificate_1_3, read_certificate_verify, read_server_key_exchange
    from pewter.tls.ssl2 import Ssl2Trial, read_ssl2_server_hello
    from pewter.tls.trial import Trial
    from pewter.web.cookies import mask_set_cookie, read_set_cookie
    from pewter.web.har import HarError, read_har
    from pewter.web.heads import find_head, read_head
    from pewter.web.hsts import read_sts
    from pewter.web.pages import read_page, read_sitemap, read_style_sheet
    from pewter.web.refresh import read_refresh
    from pewter.web.secrets import without_secrets_in
    from pewter.web.urls import InvalidUrl, read_location, read_url, resolve

RANDOM = bytes(range(64))
OFFERS = (
    Offer((0x0304, 0x0303), "x.example"),
    Offer((0x0303,), "x.example"),
    Offer((0x0301,), None),
    Offer((0x0300,), None),
)


def certificate(octets: bytes) -> None:
    read = read_certificate(octets)
    if not hasattr(read, "reason"):
        form_faults(read)
        str(read.subject), str(read.key), read.title


def client_hello(octets: bytes) -> None:
    hello = read_client_hello(octets)
    read_offered_versions(hello)
    read_server_name(hello)


def stream(client, octets: bytes) -> None:
    """Fed in pieces, as they come from a socket."""
    client.start()
    step = 1 + (octets[0] if octets else 0)
    for start in range(0, len(octets), step):
        client.receive(octets[start : start + step])
    client.peer_ended(HowEnded.CLOSED, "end")
    assert client.answer is not None


BASE = read_url("https://www.x.example/a/b?c")
SITE_FILE = Path("pewter.toml")
AT = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)


def text(octets: bytes) -> str:
    return octets.decode("latin-1")


def page(octets: bytes) -> None:
    """The first octet picks how much of the rest is its charset."""
    cut = octets[0] % 16 if octets else 0
    read_page(octets[1 + cut :], BASE, f"text/html; charset={text(octets[1 : 1 + cut])}")


def body(octets: bytes) -> None:
    """In each coding, and in two."""
    for encoding in ("gzip", "deflate", "br", "zstd", "gzip, br"):
        uncompressed(octets, encoding, 1 << 16)


def head(octets: bytes) -> None:
    for is_secure in (False, True):
        end = find_head(octets, ended=True, is_secure=is_secure)
        if end:
            read_head(octets[:end])


def location(octets: bytes) -> None:
    """What comes out can be read again and stays as it is."""
    resolve(text(octets), str(BASE))
    url = read_location(text(octets), BASE)
    assert read_url(str(url)) == url


def name_answer(octets: bytes) -> None:
    """A whole message, and what the readers of its records and zones make of it."""
    for kind in ("A", "CAA", "HTTPS", "DNSKEY"):
        reply = read_reply(octets[:2] + b"\x84" + octets[3:], int.from_bytes(octets[:2], "big"), "x.example", kind)
        if reply is None:
            continue
        Name("x.example", True, (lookup_of("x.example", "A", reply),)).addresses  # noqa: B018
        delegation_in(reply, "x.example")
        soa_above(reply, "x.example")
        key_tags(reply, "x.example")
        signatures_in(reply, "x.example")
        found = climb("x.example", lambda above, reply=reply: reply)
        if isinstance(found, RelevantSet):
            may_issue(found, "x.example", ("ca.example",))
            [oddities(each) for each in found.records]
        read_set([each.data for each in reply.answer if each.type == "HTTPS"])


def dns_data(octets: bytes) -> None:
    str(read_https(octets))
    oddities(read_caa(octets))


def derivation(octets: bytes) -> None:
    assert isinstance(why_too_costly(octets), str)


def printed(octets: bytes) -> None:
    shown = octets.decode("utf-8", "surrogateescape")
    assert escaped(shown).isprintable()
    assert all(map(str.isprintable, wrap(escaped(shown), 20)))
    assert "s3cr3t" not in without_secrets_in(shown.replace("s3cr3t", "") + "?a=s3cr3t")


def fields(octets: bytes) -> None:
    read_set_cookie(text(octets), BASE, AT)
    assert len(mask_set_cookie(text(octets))) <= len(octets)
    read_sts(text(octets))
    read_refresh(text(octets))


PARSERS = (
    certificate,
    read_ocsp_response,
    lambda octets: (condense_crl(octets, range(9)), read_crl(octets)),
    read_timestamps,
    read_key_facts,
    lambda octets: read_file("x", octets),
    client_hello,
    read_server_hello,
    read_certificate_message,
    read_certificate_1_3,
    read_certificate_verify,
    lambda octets: read_server_key_exchange(octets, 0x0303, elliptic=True),
    lambda octets: read_server_key_exchange(octets, 0x0303, elliptic=False),
    read_ssl2_server_hello,
    lambda octets: stream(Conversation(OFFERS[0], RANDOM), octets),
    lambda octets: stream(Conversation(OFFERS[1], RANDOM), octets),
    lambda octets: stream(Conversation(OFFERS[2], RANDOM), octets),
    lambda octets: stream(Trial(OFFERS[1], RANDOM, to_key_exchange=True), octets),
    lambda octets: stream(Trial(OFFERS[3], RANDOM), octets),
    lambda octets: stream(Ssl2Trial(RANDOM), octets),
    page,
    lambda octets: read_style_sheet(octets, BASE),
    lambda octets: read_sitemap(octets, BASE),
    head,
    body,
    location,
    fields,
    lambda octets: read_har(octets, AT),
    name_answer,
    lambda octets: site_file_of(SITE_FILE, octets),
    derivation,
    printed,
    dns_data,
)
NAMES = [
    "certificate",
    "ocsp",
    "crl",
    "timestamps",
    "keys",
    "files",
    "client-hello",
    "server-hello",
    "certificates",
    "certificates-1.3",
    "verify",
    "exchange-ec",
    "exchange",
    "ssl2",
    "conversation-1.3",
    "conversation-1.2",
    "conversation-1.0",
    "trial",
    "trial-ssl3",
    "trial-ssl2",
    "page",
    "style-sheet",
    "sitemap",
    "head",
    "body",
    "url",
    "fields",
    "har",
    "dns",
    "site-file",
    "derivation",
    "printed",
    "dns-data",
]
"""PEWTER_FUZZ=NAME fuzzes one parser alone."""

ONLY = os.environ.get("PEWTER_FUZZ")
COUNTS = {"inputs": 0, "refused": 0}
BEGUN = time.monotonic()


def try_one(data: bytes) -> None:
    if not data:
        return
    COUNTS["inputs"] += 1
    if COUNTS["inputs"] % 100_000 == 0:
        print(
            f"fuzz: {COUNTS['inputs']} inputs, {COUNTS['refused']} refused, {time.monotonic() - BEGUN:.0f} s",
            flush=True,
        )
    try:
        PARSERS[NAMES.index(ONLY) if ONLY else data[0] % len(PARSERS)](data[1:])
    except (DecodeError, InvalidUrl, HarError, FileError, dns.exception.DNSException):
        COUNTS["refused"] += 1


def _dns_answer(kind: str) -> bytes:
    response = dns.message.make_response(dns.message.make_query("x.example", kind, want_dnssec=True))
    for records in (
        ("x.example.", "CNAME", "y.x.example."),
        ("x.example.", "CAA", '0 issue "ca.example; a=b"'),
        ("x.example.", "HTTPS", "1 . alpn=h2 ipv4hint=192.0.2.7"),
        ("x.example.", "SOA", "a. b. 1 2 3 4 5"),
    ):
        response.answer.append(dns.rrset.from_text(records[0], 60, "IN", records[1], records[2]))
    response.authority.append(dns.rrset.from_text("x.example.", 60, "IN", "NS", "ns.x.example."))
    response.additional.append(dns.rrset.from_text("ns.x.example.", 60, "IN", "A", "192.0.2.53"))
    return response.to_wire()


def seeds(folder: Path) -> None:
    """Real octets to begin with: certificates, and whole answers of servers."""
    import cryptography_vectors

    folder.mkdir(parents=True, exist_ok=True)
    vectors = Path(cryptography_vectors.__file__).parent / "x509"
    for number, file in enumerate([*vectors.glob("*.der"), *(vectors / "ocsp").glob("*.der")][:60]):
        (folder / f"vector{number}").write_bytes(bytes((1 if "ocsp" in str(file) else 0,)) + file.read_bytes())
    hello = (
        bytes.fromhex("160303003a020000360303")
        + bytes(32)
        + bytes.fromhex("00c02f00000eff0100010000170000000b00020100")
    )
    for number, example in enumerate(
        (
            b'\x05utf-8<base href=//y.example><img srcset="http://a/ 1x, b 2x"><meta http-equiv=refresh content="0;url=http:b">',
            b'@import "http://a"; a { background: url(http://b/\\29) }',
            b"<urlset><url><loc>http://www.x.example/</loc></url></urlset>",
            b"HTTP/1.1 200 OK\r\nSet-Cookie : a=b\r\nContent-Length: 0\r\n\r\n",
            b"http:\\\\[::1]:99999/\t%zz/..//",
            b"__Host-a=b; Max-Age=-1; Expires=Wed, 21 Oct 2026 07:28:00 GMT; Domain=.x.example; SameSite=None; Path=/",
            b'{"log": {"entries": [{"request": {"url": "http://a/"}, "response": {"status": 200, "headers": []}}]}}',
            dns.message.make_response(dns.message.make_query("x.example", "A")).to_wire(),
            b'[site]\nnames = ["x.example"]\n[expect]\nhsts_minimum_age = "5 days"\n[[accept]]\ngap = "hsts/absent"\n',
            bytes.fromhex(
                "302f06092a864886f70d01050d3022301806092a864886f70d01050c300b0408000000000000000002010a3006060160040100"
            ),
            "\u202e?a=b#c;d=e".encode(),
            bytes.fromhex("00010000010003026832000400040505050500"),
        ),
        start=20,
    ):
        (folder / f"web{number}").write_bytes(bytes((number,)) + example)
    for number, kind in enumerate(("A", "CAA", "HTTPS", "DNSKEY")):
        (folder / f"dns{number}").write_bytes(bytes((27,)) + _dns_answer(kind))
    for which in range(14, 19):
        (folder / f"hello{which}").write_bytes(bytes((which, 40)) + hello)


if __name__ == "__main__":
    corpus = Path(sys.argv[1])
    seeds(corpus)
    atheris.Setup([sys.argv[0], str(corpus), *sys.argv[2:]], try_one)
    atheris.Fuzz()
