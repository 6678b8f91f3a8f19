"""The attacks, area by area; what a case needs is told in its first lines, and :mod:`attack.runner` does the rest."""

import datetime
import json
import os
import signal
import threading
import time
import tomllib
import zlib
from collections.abc import Iterator
from pathlib import Path

import dns.flags
import dns.message
import dns.rrset
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.x509.oid import AuthorityInformationAccessOID

from attack.limits import limits
from attack.others_files import others_files
from attack.peers import MIB, TLS
from attack.stage import SECRET, SPOKEN, VOICE, Attack, Stage, answers, head, page, shows
from pewter.lab.authority import Issued, issue_ca, issue_server
from pewter.lab.web_server import Response, VirtualHost
from pewter.pki import der
from support.certificates import FAR_OFF, HOST, LONG_AGO, extension, intermediate, key, leaf, remade, root
from support.derivations import encrypted_by_pbkdf2, encrypted_by_scrypt, pkcs_12_of_rounds
from support.looks import PEER
from support.status import ocsp_response, signed_list

SAID = f"x\n\x1b[2K{VOICE}"
"""Short enough for a common name."""
NOW = datetime.datetime.now(datetime.UTC)
WRONG = (2,)


DATA = tomllib.loads((Path(__file__).parent / "attacks.toml").read_text(encoding="utf-8"))


def octets_of(pieces: list) -> bytes:
    """The octets that pieces of attacks.toml stand for."""
    return b"".join(_piece(piece) for piece in pieces)


def _piece(piece: str | list) -> bytes:
    if isinstance(piece, str):
        return piece.replace("SPOKEN", json.dumps(SPOKEN)[1:-1]).encode("latin-1")
    unit, count = piece[0].encode("latin-1"), piece[1]
    return b"".join(unit % turn for turn in range(count)) if b"%d" in unit else unit * count


# An attack is a line.
# fmt: off
# 1. One answer must not stop the look


def bomb(packer) -> bytes:
    return b"".join(packer.compress(bytes(MIB)) for _ in range(200)) + packer.flush()


BOMBS = {
    "gzip": head(b"Content-Type: text/html", b"Content-Encoding: gzip", body=bomb(zlib.compressobj(9, zlib.DEFLATED, 31))),
    "deflate": head(b"Content-Type: text/html", b"Content-Encoding: deflate", body=bomb(zlib.compressobj(9))),
}


def endless(connection) -> None:
    connection.sendall(head(b"Content-Type: text/html"))
    for _ in range(4000):
        connection.sendall(bytes(1 << 16))


def slow(connection) -> None:
    for octet in head(b"Content-Type: text/html", body=b"x" * 300):
        connection.sendall(bytes((octet,)))
        time.sleep(0.1)


def redirects_on(connection) -> None:
    connection.sendall(head(b"Location: /%d" % time.monotonic_ns(), b"Content-Length: 0", b"Set-Cookie: a=%d" % time.monotonic_ns(), status=b"302 Found"))  # fmt: skip


def stop_the_look() -> Iterator[Attack]:
    for title, pieces in DATA["pages"].items():
        yield Attack("page", title, lambda stage, pieces=pieces: stage.plain(page(octets_of(pieces)[:MIB])))
    for label in DATA["charsets"]["labels"]:
        octets = head(f"Content-Type: text/html; charset={label}".encode(), body=b"caf\xe9 " * 50_000)
        yield Attack("page", f"charset-{label}", lambda stage, octets=octets: stage.plain(answers(octets)))
    for title, pieces in DATA["heads"].items():
        yield Attack("head", title, lambda stage, pieces=pieces: stage.plain(answers(octets_of(pieces))))
    for title, octets in BOMBS.items():
        yield Attack("head", f"{title}-bomb", lambda stage, octets=octets: stage.plain(answers(octets)))
    for script in (endless, slow, redirects_on):
        yield Attack("head", script.__name__, lambda stage, script=script: stage.plain(script), seconds=40)
    for title, pieces in DATA["style-sheets"].items():
        yield Attack('style-sheet', title, lambda stage, pieces=pieces: stage.site(_with_sheet(octets_of(pieces)[:MIB - 1])))


def _with_sheet(sheet: bytes):
    def handle(request) -> Response:
        if request.target == "/s.css":
            return Response(200, (("Content-Type", "text/css"),), sheet)
        return shows(b"<link rel=stylesheet href=/s.css>")(request)

    return handle


# TLS


def tls() -> Iterator[Attack]:
    for title, script in TLS.items():
        yield Attack("tls", title, lambda stage, script=script: stage.speaks(script), seconds=35)


# Certificates


def served(*chain: Issued, **more):
    return lambda stage: stage.site(shows(), chain=chain, **more)


def odd(name: str = HOST, **options) -> Issued:
    return issue_server((name,) if name else (), options.pop('issuer', intermediate()), LONG_AGO, FAR_OFF, key=key('leaf'), **options)


def names(*entries: bytes) -> Issued:
    """subjectAltName with these octets for names."""
    sequence = der.build(der.SEQUENCE, b"".join(der.build(0x82, each) for each in entries))
    return remade(odd(), intermediate(), extension("2.5.29.17", sequence), without=("2.5.29.17",))


CERTIFICATES = {
    "spoken-common-name": (odd(common_name=SAID), intermediate()),
    "spoken-issuer": (odd(issuer=issue_ca(SAID, None, LONG_AGO, FAR_OFF, key=key("spoken"))),),
    "spoken-names": (names(HOST.encode(), *(SPOKEN.encode("utf-8") for _ in range(5))), intermediate()),
    "spoken-names-alone": (names(SPOKEN.encode("utf-8")), intermediate()),
    "blank-names": (names(b"", b" ", b".", b"*", b"*."), intermediate()),
    "null-names": (names(HOST.encode() + b"\0.evil.example"), intermediate()),
    "bidirectional": (odd(common_name="\u202egpj.exe\u2066\U000e0041\u3164"), intermediate()),
    "marks": (odd(common_name="a" + "\u0301" * 30), intermediate()),
    "wide": (odd(common_name="\uff37" * 20), intermediate()),
    "markup": (odd(common_name="[bold red]x[/][link=http://evil]"), intermediate()),
    "names-3000": (names(HOST.encode(), *(b"n%d.example" % n for n in range(3000))), intermediate()),
    "no-names": (odd("", common_name=""), intermediate()),
    "many-addresses": (odd(extra=[(x509.AuthorityInformationAccess([x509.AccessDescription(AuthorityInformationAccessOID.CA_ISSUERS, x509.UniformResourceIdentifier(f"http://a{n}.example/")) for n in range(500)]), False)]),),
}


def certificates() -> Iterator[Attack]:
    for title, chain in CERTIFICATES.items():
        yield Attack("certificate", title, served(*chain))
    same = [issue_ca("Same", root(), LONG_AGO, FAR_OFF, key=key(f"same {n}")) for n in range(8)]
    yield Attack("certificate", "same-named-issuers", served(odd(issuer=same[0]), *same))


# OCSP, CRL and issuers


def asked(answer: bytes, method: str = "ocsp", status: int = 200):
    """A review with --revocation; the CA answers with this."""

    def arguments(stage: Stage):
        url = f"http://ca.{PEER}/x"
        if method == "ocsp":
            extra = [
                (
                    x509.AuthorityInformationAccess(
                        [
                            x509.AccessDescription(
                                AuthorityInformationAccessOID.OCSP, x509.UniformResourceIdentifier(url)
                            )
                        ]
                    ),
                    False,
                )
            ]
        elif method == "crl":
            extra = [(x509.CRLDistributionPoints([x509.DistributionPoint([x509.UniformResourceIdentifier(url)], None, None, None)]), False)]
        else:
            extra = [
                (
                    x509.AuthorityInformationAccess(
                        [
                            x509.AccessDescription(
                                AuthorityInformationAccessOID.CA_ISSUERS, x509.UniformResourceIdentifier(url)
                            )
                        ]
                    ),
                    False,
                )
            ]
        chain = (odd(extra=extra),) if method == "issuer" else (odd(extra=extra), intermediate())
        others = {f"ca.{PEER}": VirtualHost(lambda request: Response(status, (), answer))}
        return stage.site(shows(), *(["--revocation"] if method != "issuer" else []), chain=chain, others=others)

    return arguments


def crl_of(entries: bytes) -> bytes:
    """A list with these entries; its signature is not right, which is told only after it is read."""
    real = signed_list(intermediate(), 7)
    outer = der.DerReader(der.DerReader(real, "").next().content, "")
    tbs = der.DerReader(outer.next().content, "")
    fields = [tbs.next().octets for _ in range(5)]
    return der.build(der.SEQUENCE, der.build(der.SEQUENCE, b''.join(fields) + der.build(der.SEQUENCE, entries)) + outer.next().octets + outer.next().octets)


STATUS = {
    "ocsp-empty": asked(b""), "ocsp-page": asked(b"<html>" * 1000), "ocsp-random": asked(os.urandom(60_000)), "ocsp-too-long": asked(bytes(5 * MIB)),
    "ocsp-deep": asked(b"\x30\x80" * 20_000), "ocsp-foreign": asked(ocsp_response()), "ocsp-500": asked(b"x", status=500),
    "crl-of-empties": asked(crl_of(b"\x30\x00" * 6_000_000), "crl"), "crl-too-long": asked(bytes(20 * MIB), "crl"), "crl-random": asked(b"\x30\x84" + os.urandom(MIB), "crl"),
    "crl-of-entries": asked(crl_of(der.build(der.SEQUENCE, der.build_integer(1 << 70) + b"\x17\x0d260101000000Z") * 400_000), "crl"),
    "issuer-page": asked(b"<html>", "issuer"), "issuer-many": asked(root().pem * 60, "issuer"), "issuer-spoken": asked(issue_ca(SAID, None, LONG_AGO, FAR_OFF, key=key("spoken")).der, "issuer"),
    "issuer-deep": asked(b"\x30\x84\x00\x00\xf0\x00" * 10_000, "issuer"),
}


def lists_for_several(stage: Stage) -> list[str]:
    """Four names, with a certificate and a list of 15 MB each."""
    octets = crl_of(der.build(der.SEQUENCE, der.build_integer(1 << 70) + b"\x17\x0d260101000000Z") * 520_000)
    others, more = {}, []
    for number in range(4):
        name = f"n{number}.{PEER}"
        point = x509.DistributionPoint([x509.UniformResourceIdentifier(f"http://ca{number}.{PEER}/x")], None, None, None)
        chain = (odd(extra=[(x509.CRLDistributionPoints([point]), False)]), intermediate())
        others |= {name: VirtualHost(shows(), chain), f"ca{number}.{PEER}": VirtualHost(lambda request: Response(200, (), octets))}
        more += ["--also", name]
    return stage.site(shows(), "--revocation", *more, others=others)


def status() -> Iterator[Attack]:
    for title, arguments in STATUS.items():
        yield Attack("status", title, arguments)
    yield Attack("status", "crls-for-several", lists_for_several, prepared="limit")


# DNS answers


def respond(query: bytes, *records: str, rdtype: str = "A") -> dns.message.Message:
    message = dns.message.make_response(dns.message.from_wire(query))
    if records and dns.message.from_wire(query).question[0].rdtype.name == rdtype:
        message.answer.append(dns.rrset.from_text(message.question[0].name, 60, "IN", rdtype, *records))
    return message


def aliases(query: bytes) -> bytes:
    message = respond(query)
    name = str(message.question[0].name)
    for number in range(50):
        following = f"a{number}.{HOST}."
        message.answer.append(dns.rrset.from_text(name, 60, "IN", "CNAME", following))
        name = following
    return message.to_wire(max_size=65535)


def truncated(query: bytes) -> bytes:
    message = respond(query)
    message.flags |= dns.flags.TC
    return message.to_wire()


DNS = {
    "wrong-id": lambda query: b"\xff\xff" + respond(query, "192.0.2.1").to_wire()[2:],
    "no-answer": lambda query: None,
    "rubbish": lambda query: os.urandom(500),
    "short": lambda query: query[:3],
    "compression-loop": lambda query: respond(query).to_wire()[:6] + b"\x00\x01\x00\x00\x00\x00" + query[12:] + b"\xc0\x0c" * 20 + b"\xc0\xff",
    "pointer-to-itself": lambda query: query[:2] + b"\x81\x80\x00\x01\x00\x01\x00\x00\x00\x00" + query[12:-11] + b"\xc0\x0c\x00\x01\x00\x01\x00\x00\x00\x3c\x00\x04\x7f\x00\x00\x01",
    "600-addresses": lambda query: respond(query, *(f"127.0.{n // 250}.{n % 250 + 1}" for n in range(600))).to_wire(max_size=65535),
    "aliases": aliases,
    "truncated-for-ever": truncated,
    "servfail": lambda query: respond(query).to_wire()[:3] + b"\x82" + respond(query).to_wire()[4:],
    "spoken-alias": lambda query: respond(query, "x\\013\\010\\027[2KFAKE.example.", rdtype="CNAME").to_wire(),
    "another-name": lambda query: dns.message.make_response(dns.message.make_query("evil.example", "A")).to_wire(),
    "64-kb": lambda query: respond(query).to_wire() + bytes(60_000),
}


def name_answers() -> Iterator[Attack]:
    for title, answer in DNS.items():
        yield Attack("dns", title, lambda stage, answer=answer: stage.named(answer), seconds=40)


# 2. It must not be used against the reviewer's network

PLACES = DATA["places"] | {"wide-digits": "http://\uff11\uff12\uff17.0.0.1:{}/"}
LED = {
    "redirect": lambda url: answers(head(b"Location: " + url.encode(), status=b"302 Found")),
    "refresh": lambda url: page(b"<meta http-equiv=refresh content='0;url=" + url.encode() + b"'>"),
    "script": lambda url: page(b"<script>location='" + url.encode() + b"'</script>"),
}


def led_astray() -> Iterator[Attack]:
    for how, made in LED.items():
        for title, place in PLACES.items():
            if how == "redirect" or title in {"loopback", "mapped"}:
                yield Attack('network', f'{how}-{title}', lambda stage, made=made, place=place: stage.plain(made(place.format(stage.trap()))))

    def whole_host(stage: Stage):
        """A route for every port of a name opens 80 and 443."""
        port = stage.trap()
        arguments = stage.plain(answers(head(f"Location: http://{PEER}:{port}/".encode(), status=b"302 Found")))
        return [*arguments, "--route", f"{PEER}=127.0.0.1"]

    yield Attack("network", "route-for-every-port", whole_host)
    for method in ("ocsp", "crl", "issuer"):
        yield Attack('network', f'certificate-{method}', lambda stage, method=method: _trapped_certificate(stage, method))
    sibling = {"www.marram-ferries.example": "10.0.0.5"}
    yield Attack('network', 'sibling-at-a-private-address', lambda stage: stage.named(lambda query: _zone(query, sibling), '--timeout', '8'), holds=lambda ended: not ended.review['evidence']['endpoints'] or True)


def _zone(query: bytes, table: dict[str, str]) -> bytes:
    name = str(dns.message.from_wire(query).question[0].name).rstrip(".")
    return respond(query, *([table[name]] if name in table else [])).to_wire()


def _trapped_certificate(stage: Stage, method: str):
    url = f"http://127.0.0.1:{stage.trap()}/x"
    access = AuthorityInformationAccessOID.OCSP if method == "ocsp" else AuthorityInformationAccessOID.CA_ISSUERS
    described = x509.AuthorityInformationAccess([x509.AccessDescription(access, x509.UniformResourceIdentifier(url))])
    points = x509.CRLDistributionPoints([x509.DistributionPoint([x509.UniformResourceIdentifier(url)], None, None, None)])
    of = odd(extra=[(points if method == "crl" else described, False)])
    return stage.site(shows(), "--revocation", chain=(of,) if method == "issuer" else (of, intermediate()))


# 3. It must not speak with the site's voice


def voices() -> Iterator[Attack]:
    spoken = SPOKEN.replace("\r", "").replace("\n", "")
    fields = {
        "server": "Server",
        "hsts": "Strict-Transport-Security",
        "cookie": "Set-Cookie",
        "type": "Content-Type",
        "date": "Date",
    }
    for title, name in fields.items():
        octets = head(name.encode() + b": " + spoken.encode("utf-8"))
        yield Attack("voice", f"field-{title}", lambda stage, octets=octets: stage.plain(answers(octets)))
    yield Attack('voice', 'location', lambda stage: stage.plain(answers(head(b'Location: ' + spoken.encode('utf-8'), status=b'302 Found'))))
    yield Attack('voice', 'status-line', lambda stage: stage.plain(answers(b'HTTP/9 ' + spoken.encode('utf-8') + b'\r\n\r\n')))
    yield Attack("voice", "field-name", lambda stage: stage.plain(answers(head(spoken.encode("utf-8") + b": x"))))
    for title, body in DATA["spoken-pages"].items():
        octets = body.replace("SPOKEN", SPOKEN).encode("utf-8")
        yield Attack("voice", f"page-{title}", lambda stage, octets=octets: stage.site(shows(octets)))
    for title, words in DATA["spoken-arguments"].items():
        arguments = [word.replace("SPOKEN", SPOKEN) for word in words]
        yield Attack("voice", f"argument-{title}", lambda stage, arguments=arguments: arguments, statuses=WRONG)
    accepted = f'[site]\nnames = ["{PEER}"]\n[[accept]]\ngap = "redirect/missing"\nwhere = "{PEER}"\nbecause = {json.dumps(SPOKEN)}\nuntil = 2099-01-01\n'
    yield Attack('voice', 'accepted-reason', lambda stage: (stage.file('pewter.toml', accepted), stage.plain(page(b'x')))[1])
    for title, chain in CERTIFICATES.items():
        pem = b"".join(each.pem for each in chain)
        for more in ([], ["--json"], ["--write", "mended.pem", "--trust", "root.pem"]):
            yield Attack('voice', f"bundle-{title}{'-'.join(more[:1])}", lambda stage, pem=pem, more=more: (stage.file('root.pem', root().pem), ['bundle', stage.file('x.pem', pem), *more])[1], statuses=(0, 1))
    yield Attack('voice', 'bundle-text', lambda stage: ['bundle', stage.file('x.pem', b'-----BEGIN ' + SPOKEN.encode('utf-8') + b'\n' + leaf().pem)], statuses=(0, 1))


# 4. It must not leak


def leaks() -> Iterator[Attack]:
    cookies = (f'sid={SECRET}', f'a=1, b={SECRET}', f'a=1; Path=/, b={SECRET}', f'a=1; Ticket={SECRET}', SECRET, f'__Host-x={SECRET}; Secure; Path=/')
    for number, cookie in enumerate(cookies):
        yield Attack('leak', f'cookie-{number}', lambda stage, cookie=cookie: stage.site(shows(b'x', ('Set-Cookie', cookie))))
        octets = head(b"Set-Cookie : " + cookie.encode())
        yield Attack('leak', f'cookie-{number}-blank-before-colon', lambda stage, octets=octets: stage.plain(answers(octets)))
    yield Attack('leak', 'cookie-without-colon', lambda stage: stage.plain(answers(head(b'Set-Cookie sid=' + SECRET.encode()))))
    yield Attack('leak', 'user-in-location', lambda stage: stage.plain(answers(head(f'Location: http://me:{SECRET}@{PEER}/x'.encode(), status=b'302 Found'))))
    yield Attack("leak", "token-field", lambda stage: stage.plain(answers(head(b"X-Auth-Token: " + SECRET.encode()))))
    encoded = key('leaf').private_bytes(serialization.Encoding.DER, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    labelled = intermediate().pem + der_as_pem(encoded)

    def no_key(ended) -> bool:
        kept = [each["der"] for each in ended.review["evidence"]["certificates"]]
        return not any(each in kept for each in _base64_of(encoded))

    yield Attack('leak', 'key-as-certificate', lambda stage: [*stage.site(shows()), '--certificate', stage.file('key.pem', labelled)], holds=no_key)
    recorded = {
        "log": {
            "entries": [
                {
                    "startedDateTime": "x",
                    "request": {
                        "url": f"https://{HOST}/;s={SECRET}?t={SECRET}#{SECRET}",
                        "headers": [{"name": "Cookie", "value": SECRET}],
                    },
                    "response": {
                        "status": 200,
                        "headers": [{"name": "Set-Cookie ", "value": f"a=1, b={SECRET}"}],
                        "content": {"mimeType": "text/html", "text": f"<script>location='/?t={SECRET}'</script>"},
                    },
                }
            ]
        }
    }
    yield Attack('leak', 'har', lambda stage: [*stage.site(shows()), '--har', stage.file('x.har', json.dumps(recorded))])


def der_as_pem(octets: bytes) -> bytes:
    from pewter.pki.pem import write_pem

    return write_pem(octets)


def _base64_of(octets: bytes) -> tuple[str, ...]:
    import base64

    return base64.b64encode(octets).decode(), octets.hex()


# Files


def files() -> Iterator[Attack]:
    for title, pieces in DATA["site-files"].items():
        yield Attack('file', f'site-file-{title}', lambda stage, pieces=pieces: (stage.file('pewter.toml', octets_of(pieces)), ['review'])[1], statuses=WRONG)
    entry = {"request": {"url": f"https://{HOST}/"}, "response": {"status": 200}}
    for title, pieces in DATA["recordings"].items():
        yield Attack('file', f'har-{title}', lambda stage, pieces=pieces: ['review', HOST, '--har', stage.file('x.har', octets_of(pieces))], statuses=WRONG)
    for title, change in {
        "odd-date": {"startedDateTime": "0001-01-01T00:00:00+23:00"}, "late-date": {"startedDateTime": "9999-12-31T23:59:59-23:00"}, "odd-address": {"serverIPAddress": SPOKEN},
        "base64": {"response": {"status": 200, "content": {"mimeType": "text/html", "text": "caf\u00e9", "encoding": "base64"}}}, "status": {"response": {"status": -5}},
        "surrogates": {"request": {"url": "https://x.example/\ud800"}}, "spoken": {"response": {"status": 200, "headers": [{"name": "Server", "value": SPOKEN}]}},
        "spoken-url": {"request": {"url": f"https://{HOST}/{SPOKEN}"}}, "null": {"request": {"url": f"https://{HOST}/\0\0"}},
    }.items():  # fmt: skip
        text = json.dumps({"log": {"entries": [{**entry, **change}]}})
        yield Attack('file', f'har-{title}', lambda stage, text=text: [*stage.site(shows()), '--har', stage.file('x.har', text)], statuses=(0, 1, 2))
    many = json.dumps({"log": {"entries": [{"request": {"url": f"https://{HOST}/{n}"}, "response": {"status": 302, "headers": [{"name": "Location", "value": f"/{n + 1}"}]}} for n in range(5000)]}})  # fmt: skip
    yield Attack("file", "har-5000-redirects", lambda stage: [*stage.site(shows()), "--har", stage.file("x.har", many)])
    cookies = json.dumps({"log": {"entries": [{**entry, "request": {"url": f"https://{HOST}/{n}"}, "response": {"status": 200, "headers": [{"name": "Set-Cookie", "value": f"c{n}=1"}] * 3}} for n in range(4000)]}})  # fmt: skip
    yield Attack('file', 'har-4000-cookies', lambda stage: [*stage.site(shows()), '--har', stage.file('x.har', cookies)], seconds=60)
    rounds = encrypted_by_pbkdf2(2_000_000_000)
    for title, octets in {
        "pkcs-8-rounds": rounds, "pkcs-8-scrypt": encrypted_by_scrypt(1 << 26), "pkcs-12-rounds": pkcs_12_of_rounds(2_000_000_000), "random": os.urandom(MIB), "blocks": leaf().pem * 3000, "names-500000": _many_names(),
        **{title: octets_of(pieces) for title, pieces in DATA["bundles"].items()},
    }.items():  # fmt: skip
        yield Attack('file', f'bundle-{title}', lambda stage, octets=octets: ['bundle', stage.file('x.pem', octets), '--passphrase-file', stage.file('pass', 'x')], statuses=(0, 1, 2))
    for option in ("--trust", "--trust-only", "--certificate", "--ct-logs", "--har"):
        for title, made in {"fifo": _fifo, "device": lambda stage: "/dev/zero", "folder": lambda stage: ".", "nowhere": lambda stage: "nowhere", "long-name": lambda stage: "a" * 300, "no-text": lambda stage: "caf\udce9.pem"}.items():  # fmt: skip
            yield Attack('file', f"{option.strip('-')}-{title}", lambda stage, option=option, made=made: ['review', HOST, option, made(stage)], statuses=WRONG, seconds=8)
    for title, made in {
        "fifo": _fifo,
        "device": lambda stage: "/dev/zero",
        "terminal": lambda stage: "/dev/tty",
    }.items():
        yield Attack('file', f'bundle-{title}', lambda stage, made=made: ['bundle', made(stage)], statuses=WRONG, seconds=8)
        yield Attack('file', f'passphrase-{title}', lambda stage, made=made: ['bundle', stage.file('x.pem', rounds), '--passphrase-file', made(stage)], statuses=(1, 2), seconds=8)
    yield Attack('file', 'site-file-fifo', lambda stage: (os.mkfifo(stage.folder / 'pewter.toml'), ['review'])[1], statuses=WRONG, seconds=8)
    yield Attack('file', 'site-file-device', lambda stage: ((stage.folder / 'pewter.toml').symlink_to('/dev/zero'), ['review'])[1], statuses=WRONG, seconds=8)


def _fifo(stage: Stage) -> str:
    os.mkfifo(stage.folder / "pipe")
    return "pipe"


def _many_names() -> bytes:
    sequence = der.build(der.SEQUENCE, b"".join(der.build(0x82, b"%d.x" % n) for n in range(500_000)))
    return remade(odd(), intermediate(), extension("2.5.29.17", sequence), without=("2.5.29.17",)).pem


# 5. It must not lose


def losses() -> Iterator[Attack]:
    def good(stage: Stage, *more: str):
        return [*stage.site(shows()), *more]

    def still_there(ended) -> bool:
        return (ended.stage.folder / "review.json").exists()

    yield Attack("loss", "full-disk", lambda stage: [*good(stage), "--write", "/dev/full"], statuses=WRONG)
    yield Attack("loss", "no-folder", lambda stage: [*good(stage), "--write", "no/where.json"], statuses=WRONG)
    yield Attack('loss', 'folder-as-file', lambda stage: [*good(stage), '--write', ((stage.folder / 'd.json').mkdir(), 'd.json')[1]], statuses=WRONG)
    yield Attack('loss', 'fifo-as-file', lambda stage: [*good(stage), '--write', (os.mkfifo(stage.folder / 'p.json'), 'p.json')[1]], statuses=WRONG)
    yield Attack('loss', 'read-only-file', lambda stage: [*good(stage), '--write', (stage.file('old.json', 'old'), (stage.folder / 'old.json').chmod(256), 'old.json')[2]], statuses=(0, 1, 2))
    yield Attack("loss", "long-name", lambda stage: [*good(stage), "--write", "a" * 300 + ".json"], statuses=WRONG)
    yield Attack("loss", "name-of-255", lambda stage: [*good(stage), "--write", "a" * 250 + ".json"])
    yield Attack("loss", "folder-goes-away", _folder_that_goes_away, statuses=(2, 3), holds=still_there)
    yield Attack('loss', 'full-output', lambda stage: good(stage), statuses=WRONG, prepared='shell:>/dev/full', holds=still_there)
    yield Attack('loss', 'full-output-json', lambda stage: good(stage, '--json'), statuses=WRONG, prepared='shell:>/dev/full', holds=still_there)
    yield Attack("loss", "full-error", lambda stage: good(stage), prepared="shell:2>/dev/full", holds=still_there)
    yield Attack('loss', 'closed-output', lambda stage: good(stage), statuses=WRONG, prepared='shell:>&-', holds=still_there)
    yield Attack('loss', 'closed-error', lambda stage: good(stage), prepared='shell:2>&-', holds=lambda ended: still_there(ended) and ended.out.count('\n') > 5)
    yield Attack('loss', 'closed-error-json', lambda stage: good(stage, '--json'), prepared='shell:2>&-', holds=lambda ended: bool(json.loads(ended.out)))
    yield Attack("loss", "closed-input", lambda stage: good(stage), prepared="shell:<&-", holds=still_there)
    yield Attack('loss', 'all-closed', lambda stage: good(stage), statuses=WRONG, prepared='shell:<&- >&- 2>&-', holds=still_there)
    yield Attack('loss', 'broken-pipe', lambda stage: good(stage), statuses=(0, 1), prepared='shell:| true', holds=still_there)
    for title, arguments in {
        "rules": ["rules"],
        "help": ["--help"],
        "version": ["--version"],
        "explain": ["explain", "chain/incomplete"],
    }.items():
        yield Attack('loss', f'full-output-{title}', lambda stage, arguments=arguments: arguments, statuses=WRONG, prepared='shell:>/dev/full')
        yield Attack('loss', f'closed-output-{title}', lambda stage, arguments=arguments: arguments, statuses=(0, 2), prepared='shell:>&-')
    silent = lambda stage: stage.speaks(TLS["silent"])  # noqa: E731
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        for after in (0.4, 5.0):
            yield Attack('loss', f'signal-{number.name}-after-{after}', silent, statuses=(130,) if after > 1 else (130, -15, -1), prepared=f'signal:{int(number)} {after}', holds=lambda ended, after=after: after < 1 or still_there(ended))
    yield Attack("loss", "narrow", lambda stage: good(stage), prepared="narrow")
    yield Attack('loss', 'terminal', lambda stage: stage.plain(page(f'<title>{SPOKEN}</title>'.encode())), prepared='terminal')
    yield Attack("loss", "no-text-target", lambda stage: ["review", "caf\udce9.example"], statuses=WRONG)
    yield Attack('loss', 'no-text-path', lambda stage: ['review', HOST, '--path', '/caf\udce9'], statuses=(0, 1, 2, 3), seconds=70)
    yield Attack("loss", "long-target", lambda stage: ["review", "a" * 5000], statuses=WRONG)
    yield Attack('loss', 'bundle-no-text', lambda stage: ['bundle', (stage.file('caf\udce9.pem', leaf().pem), 'caf\udce9.pem')[1], '--json'], statuses=(0, 1))
    yield Attack('loss', 'bundle-onto-itself', lambda stage: ['bundle', stage.file('x.pem', leaf().pem + intermediate().pem), '--trust', stage.file('r.pem', root().pem), '--write', 'x.pem'], statuses=WRONG)
    yield Attack('loss', 'bundle-full-disk', lambda stage: ['bundle', stage.file('x.pem', leaf().pem + intermediate().pem), '--trust', stage.file('r.pem', root().pem), '--write', '/dev/full'], statuses=WRONG)
    yield Attack("loss", "demo-into-file", lambda stage: ["demo", "--into", stage.file("x", "x")], statuses=WRONG)


def _folder_that_goes_away(stage: Stage):
    """The second target's folder is removed while the look runs."""
    (stage.folder / "gone").mkdir()
    threading.Timer(5.0, lambda: (stage.folder / "gone").rmdir()).start()
    return [*stage.speaks(TLS["silent"]), "--write", "gone/r.json"]


ATTACKS: tuple[Attack, ...] = (
    *stop_the_look(), *tls(), *certificates(), *status(), *name_answers(), *led_astray(), *voices(), *leaks(), *files(), *losses(), *others_files(), *limits(),
)  # fmt: skip
