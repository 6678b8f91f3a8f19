"""``pewter bundle`` driven on files in a temporary folder: every form, and every way in which pasting goes wrong."""

import base64
import datetime
import json
import re
import subprocess
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, pkcs7, pkcs12
from cryptography.x509.oid import NameOID

from pewter.lab.authority import DAY, Issued, issue_ca, issue_server
from support.certificates import key
from support.program import pewter

DER, PEM = serialization.Encoding.DER, serialization.Encoding.PEM
TRADITIONAL, PKCS8 = serialization.PrivateFormat.TraditionalOpenSSL, serialization.PrivateFormat.PKCS8
PLAIN = serialization.NoEncryption()
HOST = "freight.marram-ferries.example"


@pytest.fixture(scope="module")
def made():
    """Root, CA and leaf that are good today: the built program has its own clock."""
    now = datetime.datetime.now(datetime.UTC).replace(microsecond=0)
    root = issue_ca("Tern Root", None, now - 900 * DAY, now + 900 * DAY, key=key("Tern Root"))
    ca = issue_ca("Tern CA", root, now - 400 * DAY, now + 400 * DAY, key=key("Tern CA"))
    leaf = issue_server(
        [HOST],
        ca,
        now - 20 * DAY,
        now + 70 * DAY,
        key=key("freight", "RSA 2048"),
        ca_issuers="http://ca.tern.example/ca.crt",
    )
    old = issue_server([HOST], ca, now - 80 * DAY, now + 10 * DAY, key=key("freight", "RSA 2048"))
    return {"root": root, "ca": ca, "leaf": leaf, "old": old}


@pytest.fixture
def folder(tmp_path, made):
    (tmp_path / "root.pem").write_bytes(made["root"].pem)
    return tmp_path


def run(folder: Path, files: dict[str, bytes], *options: str) -> subprocess.CompletedProcess[str]:
    for name, octets in files.items():
        (folder / name).write_bytes(octets)
    return pewter("bundle", *files, "--trust", "root.pem", *options, folder=folder)


def rules(folder: Path, files: dict[str, bytes], *options: str) -> set[str]:
    result = run(folder, files, "--json", *options)
    assert "Traceback" not in result.stderr
    return {each["rule"] for each in json.loads(result.stdout)["outcomes"] if each["outcome"]["type"] == "gap"}


def test_a_good_bundle_passes(folder, made):
    result = run(
        folder, {"full.pem": made["leaf"].pem + made["ca"].pem, "key.pem": made["leaf"].key_pem}, "--name", HOST
    )
    assert result.returncode == 0
    assert "Whole and in order: it can be installed." in result.stdout
    assert re.search(rf"private key, RSA 2048, key [0-9a-f]{{8}}, belongs to {HOST}", result.stdout)
    digests = re.findall(r"key ([0-9a-f]{8})", result.stdout)
    assert digests[0] == digests[-1]  # of the certificate and of its key
    assert "leaf ← Tern CA ← Tern Root (--trust)" in result.stdout


def traditional(issued: Issued, password: bytes | None = None) -> bytes:
    return issued.key.private_bytes(PEM, TRADITIONAL, BestAvailableEncryption(password) if password else PLAIN)


def store(made, password: bytes | None) -> bytes:
    encryption = BestAvailableEncryption(password) if password else PLAIN
    leaf = made["leaf"]
    return pkcs12.serialize_key_and_certificates(
        b"freight", leaf.key, leaf.certificate, [made["ca"].certificate], encryption
    )


@pytest.mark.parametrize(
    "octets",
    [
        pytest.param(lambda m: m["leaf"].pem + m["ca"].pem, id="pem"),
        pytest.param(lambda m: (m["leaf"].pem + m["ca"].pem).replace(b"\n", b"\r\n"), id="crlf"),
        pytest.param(lambda m: b"subject=CN = x\n\n" + m["leaf"].pem + b"issuer text\n" + m["ca"].pem, id="text-around"),
        pytest.param(lambda m: m["leaf"].pem.rstrip() + b"\n" + m["ca"].pem.rstrip(), id="no-line-end-at-the-end"),
        pytest.param(lambda m: pkcs7.serialize_certificates([m["leaf"].certificate, m["ca"].certificate], DER), id="pkcs-7"),
        pytest.param(lambda m: pkcs7.serialize_certificates([m["leaf"].certificate, m["ca"].certificate], PEM), id="pkcs-7-pem"),
        pytest.param(lambda m: store(m, None), id="pkcs-12-open"),
    ],
)  # fmt: skip
def test_forms_that_hold_the_whole_chain(folder, made, octets):
    assert rules(folder, {"chain": octets(made)}) == set()


@pytest.mark.parametrize(
    "octets",
    [
        pytest.param(lambda i: i.key_pem, id="pkcs-8"),
        pytest.param(traditional, id="pkcs-1"),
        pytest.param(lambda i: i.key.private_bytes(DER, PKCS8, PLAIN), id="pkcs-8-der"),
        pytest.param(lambda i: i.key.private_bytes(DER, TRADITIONAL, PLAIN), id="pkcs-1-der"),
        pytest.param(lambda i: traditional(i, b"gannet"), id="pkcs-1-encrypted"),
        pytest.param(lambda i: i.key.private_bytes(PEM, PKCS8, BestAvailableEncryption(b"gannet")), id="pkcs-8-encrypted"),
        pytest.param(lambda i: i.key.private_bytes(DER, PKCS8, BestAvailableEncryption(b"gannet")), id="pkcs-8-der-encrypted"),
    ],
)  # fmt: skip
def test_keys_of_every_form_belong_to_their_certificate(folder, made, octets):
    (folder / "pass.txt").write_text("gannet\n")
    files = {"full.pem": made["leaf"].pem + made["ca"].pem, "key": octets(made["leaf"])}
    result = run(folder, files, "--passphrase-file", "pass.txt")
    assert (result.returncode, f"belongs to {HOST}" in result.stdout) == (0, True)


def test_a_sec1_key(folder, made):
    issued = issued_for(made, HOST, label="freight EC")
    files = {
        "full.pem": issued.pem + made["ca"].pem,
        "key.pem": b"-----BEGIN EC PARAMETERS-----\nBggqhkjOPQMBBw==\n-----END EC PARAMETERS-----\n"
        + traditional(issued),
    }
    assert rules(folder, files) == set()


@pytest.mark.parametrize(
    ("files", "gap", "words"),
    [
        pytest.param(lambda m: {"f": b""}, "bundle/unreadable", "the file is empty", id="empty"),
        pytest.param(lambda m: {"f": bytes(range(256)) * 9}, "bundle/unreadable", "neither PEM nor DER", id="binary"),
        pytest.param(lambda m: {"f": b"hello"}, "bundle/no-certificate", "there is no certificate and no key", id="text"),
        pytest.param(lambda m: {"f": b"<!doctype html><h1>404"}, "bundle/unreadable", "a web page, not a certificate", id="web-page"),
        pytest.param(lambda m: {"f": m["leaf"].key_pem}, "bundle/no-certificate", "a private key in the certificate's place", id="key-only"),
        pytest.param(lambda m: {"f": m["ca"].pem}, "bundle/no-certificate", "certificates of CAs alone", id="chain-only"),
        pytest.param(lambda m: {"f": request(m)}, "bundle/no-certificate", "a certificate request (CSR)", id="request"),
        pytest.param(lambda m: {"f": m["leaf"].pem}, "bundle/issuer-missing", "It is at http://ca.tern.example/ca.crt", id="no-issuer"),
        pytest.param(lambda m: {"f": m["leaf"].pem, "g": m["ca"].pem}, "bundle/in-parts", "whole, in separate files: f, g", id="issuer-in-another-file"),
        pytest.param(lambda m: {"f": m["leaf"].pem + m["ca"].pem.rstrip()[:-5]}, "bundle/unreadable", "last line (END) is missing", id="no-last-line"),
        pytest.param(lambda m: {"f": m["leaf"].pem.rstrip() + m["ca"].pem}, "bundle/unreadable", "joined without a line end", id="joined"),
        pytest.param(lambda m: {"f": (m["leaf"].pem + m["ca"].pem) * 2}, "chain/superfluous", "was sent already", id="twice"),
        pytest.param(lambda m: {"f": m["ca"].pem + m["leaf"].pem}, "bundle/leaf-not-first", "begins with Tern CA", id="leaf-last"),
        pytest.param(lambda m: {"f": m["leaf"].pem + m["ca"].pem, "k": key_of_another()}, "bundle/key-mismatch", "belongs to no certificate here", id="another-key"),
        pytest.param(lambda m: {"f": m["leaf"].pem + m["ca"].pem, "k": traditional(m["leaf"], b"x")}, "bundle/unreadable", "no passphrase was given", id="closed-key"),
        pytest.param(lambda m: {"f": store(m, b"x")}, "bundle/unreadable", "no passphrase was given", id="closed-pkcs-12"),
        pytest.param(lambda m: {"f": m["leaf"].pem.replace(b"MII", b"M*I", 1)}, "bundle/unreadable", "not base64", id="damaged-base64"),
        pytest.param(lambda m: {"f": m["leaf"].pem.replace(b"-----BEGIN", "\u2014\u2014BEGIN".encode(), 1)}, "bundle/unreadable", "five hyphens", id="long-dashes"),
        pytest.param(lambda m: {"f": m["leaf"].pem.replace(b"\n", b"\\n")}, "bundle/unreadable", "written as \\n", id="escaped-line-ends"),
        pytest.param(lambda m: {"f": b"\xef\xbb\xbf" + m["leaf"].pem + m["ca"].pem}, "bundle/unreadable", "byte order mark", id="byte-order-mark"),
        pytest.param(lambda m: {"f": base64.encodebytes(m["leaf"].der)}, "bundle/unreadable", "BEGIN and END lines are missing", id="bare-base64"),
        pytest.param(lambda m: {"f": b"\xfe\xed\xfe\xed\0\0\0\2"}, "bundle/unreadable", "Java key store", id="java-key-store"),
        pytest.param(lambda m: {"f": m["leaf"].der[:300]}, "bundle/unreadable", "cannot be read", id="half-a-certificate"),
    ],
)  # fmt: skip
def test_what_goes_wrong_in_pasting(folder, made, files, gap, words):
    result = run(folder, files(made))
    assert result.returncode == (0 if gap in {"chain/superfluous", "bundle/in-parts"} else 1)
    assert gap in result.stdout
    assert words in " ".join(result.stdout.split())
    assert "Traceback" not in result.stderr


def request(made) -> bytes:
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, HOST)])
    return (
        x509.CertificateSigningRequestBuilder()
        .subject_name(name)
        .sign(made["leaf"].key, hashes.SHA256())
        .public_bytes(PEM)
    )


def key_of_another() -> bytes:
    return key("freight EC").private_bytes(PEM, PKCS8, PLAIN)


def test_a_wrong_passphrase_is_said(folder, made):
    (folder / "pass.txt").write_text("skua")
    files = {"full.pem": made["leaf"].pem + made["ca"].pem, "key.pem": traditional(made["leaf"], b"gannet")}
    result = run(folder, files, "--passphrase-file", "pass.txt")
    assert (result.returncode, "the passphrase does not open it" in result.stdout) == (1, True)


def test_the_mended_chain_is_written_in_order_and_without_keys(folder, made):
    files = {"mess.pem": made["leaf"].key_pem + made["root"].pem + made["ca"].pem + made["leaf"].pem + made["ca"].pem}
    result = run(folder, files, "--write", "mended.pem")
    assert "Wrote mended.pem" in result.stdout
    assert (folder / "mended.pem").read_bytes() == made["leaf"].pem + made["ca"].pem
    again = pewter("bundle", "mended.pem", "--trust", "root.pem", folder=folder)
    assert (again.returncode, "it can be installed" in again.stdout) == (0, True)
    verified = subprocess.run(
        ["openssl", "verify", "-CAfile", "root.pem", "-untrusted", "mended.pem", "mended.pem"],
        cwd=folder,
        capture_output=True,
    )
    assert verified.returncode == 0


def test_nothing_is_lost_by_writing(folder, made):
    files = {"full.pem": made["leaf"].pem + made["ca"].pem}
    over_input = run(folder, files, "--write", "full.pem")
    (folder / "other.pem").write_text("precious")
    over_other = run(folder, files, "--write", "other.pem")
    assert (over_input.returncode, over_other.returncode) == (2, 2)
    assert (folder / "other.pem").read_text() == "precious"
    assert "exists already" in over_other.stderr
    incomplete = run(folder, {"leaf.pem": made["leaf"].pem}, "--write", "new.pem")
    assert (incomplete.returncode, (folder / "new.pem").exists()) == (1, False)
    assert "new.pem was not written: Tern CA" in " ".join(incomplete.stdout.split())


def test_names_and_dates(folder, made):
    full = {"full.pem": made["leaf"].pem + made["ca"].pem}
    assert rules(folder, full, "--name", "www.x.example") == {"name/not-covered"}
    assert "date/expired" in rules(folder, full, "--as-of", "2099-01-01")


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        pytest.param((), "No file.", id="nothing"),
        pytest.param((".",), "is a folder", id="folder"),
        pytest.param(("nowhere.pem",), "cannot be read: No such file", id="no-such-file"),
        pytest.param(("root.pem", "--name", "a b"), "no host name", id="bad-name"),
        pytest.param(("root.pem", "--as-of", "soon"), "is no date", id="bad-date"),
        pytest.param(("root.pem", "--trust", "big"), "MiB", id="200-mb-trust"),
        pytest.param(("big",), "big is longer than 16 MiB", id="200-mb"),
        pytest.param(("root.pem", "--write", "no/where.pem", "--trust-only", "root.pem"), "", id="no-folder"),
    ],
)
def test_bad_usage(folder, arguments, words):
    with (folder / "big").open("wb") as file:
        file.truncate(200 << 20)
    result = pewter("bundle", *arguments, folder=folder)
    assert result.returncode in {1, 2}
    assert words in result.stderr
    assert "Traceback" not in result.stderr


def test_hostile_names_do_not_reach_the_terminal(folder, made):
    now = datetime.datetime.now(datetime.UTC)
    hostile = issue_server(
        [HOST],
        made["ca"],
        now - DAY,
        now + DAY,
        common_name="\x1b[2J<script>x</script>\r\nroot: yes",
        key=key("freight EC"),
    )
    result = run(folder, {"full.pem": hostile.pem + made["ca"].pem})
    assert "\x1b" not in result.stdout
    assert "\nroot: yes" not in result.stdout


def issued_for(made, *names: str, by: str = "ca", label: str = "another") -> Issued:
    dates = (getattr(made["leaf"].certificate, f"not_valid_{end}_utc") for end in ("before", "after"))
    return issue_server(list(names), made[by], *dates, key=key(label))


WWW, BARE = "www.marram-ferries.example", "marram-ferries.example"


@pytest.mark.parametrize("names", [(), ("--name", WWW, "--name", BARE)])
def test_a_certificate_without_its_twin_is_not_in_order(folder, made, names):
    result = run(folder, {"f": issued_for(made, WWW).pem + made["ca"].pem}, *names)
    text = " ".join(result.stdout.split())
    assert "Whole and in order" not in text
    assert ("name/sibling-not-covered" if names else f"covers {WWW}, and not {BARE}") in text


def test_a_name_that_nothing_covers_is_told_of_a_certificate_pasted_twice(folder, made):
    files = {"f": (made["leaf"].pem + made["ca"].pem) * 2}
    assert "name/not-covered" in rules(folder, files, "--name", "www.other.example")


def test_each_of_several_certificates_is_judged(folder, made):
    other = issued_for(made, "tickets.marram-ferries.example")
    late = issue_server(
        ["timetable.marram-ferries.example"], made["ca"], made["leaf"].certificate.not_valid_before_utc,
        made["leaf"].certificate.not_valid_before_utc + datetime.timedelta(hours=1), key=key("late"),
    )  # fmt: skip
    files = {"a.pem": made["leaf"].pem + made["ca"].pem, "b.pem": other.pem + made["ca"].pem, "c.pem": late.pem}
    result = run(folder, {**files, "ca.pem": made["ca"].pem}, "--json")
    found = {
        (each["rule"], each["outcome"]["where"]["text"])
        for each in json.loads(result.stdout)["outcomes"]
        if each["outcome"]["type"] == "gap"
    }
    assert found == {
        ("chain/incomplete", "timetable.marram-ferries.example in c.pem"), ("date/expired", "timetable.marram-ferries.example in c.pem"),
    }  # fmt: skip
