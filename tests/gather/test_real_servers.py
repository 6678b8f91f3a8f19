"""Our hellos and journeys against openssl s_server and nginx."""

import pytest

from pewter.evidence import Ended, Handshake, HowEnded, Landed, Proof
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.judge.outcomes import Gap
from pewter.judge.rules import chain, hsts, redirect
from pewter.lab.authority import Issued, issue_server
from pewter.tls import fingerprint
from support.cases import outcomes
from support.certificates import FAR_OFF, HOST, LONG_AGO, intermediate, key, root, store
from support.looks import PEER, at_ports, take
from support.servers import free_port, nginx, openssl_server

pytestmark = pytest.mark.real_server


def prepare(folder, kind: str, **options) -> Issued:
    names = [PEER, HOST]
    issued = issue_server(names, intermediate(), LONG_AGO, FAR_OFF, key=key(f"server {kind}", kind), **options)
    (folder / "leaf.pem").write_bytes(issued.pem)
    (folder / "chain.pem").write_bytes(intermediate().pem)
    (folder / "fullchain.pem").write_bytes(issued.pem + intermediate().pem)
    (folder / "leaf.key").write_bytes(issued.key_pem)
    return issued


def answers(port: int):
    evidence = take(routes=at_ports(port))
    return [probe.answer for probe in evidence.endpoints[0].probes]


@pytest.mark.parametrize("kind", ["RSA 2048", "P-256", "P-384", "Ed25519"])
def test_openssl_with_every_kind_of_key(tmp_path, kind):
    issued = prepare(tmp_path, kind)
    with openssl_server(tmp_path) as port:
        modern, tls_1_2, older = answers(port)
    for answer, version in ((modern, 0x0304), (tls_1_2, 0x0303)):
        assert isinstance(answer, Handshake)
        assert (answer.version, answer.proof) == (version, Proof.VERIFIED)
        assert answer.chain == (fingerprint(issued.der), fingerprint(intermediate().der))
    assert not isinstance(older, Handshake)


@pytest.mark.parametrize(
    ("options", "group", "suite", "retried"),
    [
        pytest.param(["-groups", "P-384"], 0x0018, None, True, id="retry-to-p-384"),
        pytest.param(["-groups", "P-521"], 0x0019, None, True, id="retry-to-p-521"),
        pytest.param(["-groups", "X448"], 0x001E, None, True, id="retry-to-x448"),
        pytest.param(["-groups", "P-256"], 0x0017, None, False, id="p-256-at-once"),
        pytest.param(["-ciphersuites", "TLS_AES_256_GCM_SHA384"], 0x001D, 0x1302, False, id="aes-256"),
        pytest.param(["-ciphersuites", "TLS_CHACHA20_POLY1305_SHA256"], 0x001D, 0x1303, False, id="chacha20"),
    ],
)
def test_openssl_with_every_group_and_suite_of_tls_1_3(tmp_path, options, group, suite, retried):
    prepare(tmp_path, "P-256")
    with openssl_server(tmp_path, *options) as port:
        modern = answers(port)[0]
    assert (modern.group, modern.hello_retry, modern.proof) == (group, retried, Proof.VERIFIED)
    assert suite is None or modern.cipher_suite == suite


@pytest.mark.parametrize(
    ("options", "expected"),
    [
        pytest.param(["-tls1_2"], [0x0303, 0x0303, None], id="1.2-only"),
        pytest.param(["-tls1", "-cipher", "ALL:@SECLEVEL=0"], [None, None, 0x0301], id="1.0-only"),
        pytest.param(["-tls1_1", "-cipher", "ALL:@SECLEVEL=0"], [None, None, 0x0302], id="1.1-only"),
        pytest.param(["-cipher", "ALL:@SECLEVEL=0"], [0x0304, 0x0303, 0x0302], id="all"),
    ],
)
def test_openssl_versions(tmp_path, options, expected):
    prepare(tmp_path, "RSA 2048")
    with openssl_server(tmp_path, *options) as port:
        found = answers(port)
    assert [answer.version if isinstance(answer, Handshake) else None for answer in found] == expected
    for answer in found:
        assert not isinstance(answer, Ended) or answer.how is not HowEnded.SILENT


def test_openssl_that_asks_for_a_client_certificate(tmp_path):
    prepare(tmp_path, "P-256")
    with openssl_server(tmp_path, "-Verify", "1") as port:
        assert all(isinstance(answer, Handshake) for answer in answers(port)[:2])


ISSUER_HOST = "ca.marram-ferries.example"


def site(folder, plain: int, secure: int, plain_block: str, secure_block: str, certificate: str) -> str:
    return f"""
    server {{ listen 127.0.0.1:{plain}; server_name {PEER}; {plain_block} }}
    server {{ listen 127.0.0.1:{plain}; server_name {ISSUER_HOST}; root {folder}/published; }}
    server {{
        listen 127.0.0.1:{secure} ssl; server_name {PEER};
        ssl_certificate {folder}/{certificate}; ssl_certificate_key {folder}/leaf.key;
        {secure_block}
    }}"""


@pytest.mark.parametrize(
    ("plain_block", "secure_block", "certificate", "gaps"),
    [
        pytest.param("return 301 https://$server_name$request_uri;", "add_header Strict-Transport-Security max-age=31536000 always; location / { return 200 page; }", "fullchain.pem", set(), id="clean"),
        pytest.param("location = / { return 301 https://$server_name/; } location / { return 200 page; }", "location / { return 200 page; }", "fullchain.pem", {"redirect/partial", "hsts/absent"}, id="partial"),
        pytest.param(
            "return 302 https://$host/;", "add_header Strict-Transport-Security max-age=60; location / { return 200 page; }",
            "leaf.pem", {"redirect/temporary", "redirect/drops-path", "hsts/short", "redirect/reflects-host", "chain/incomplete"}, id="careless",
        ),
        pytest.param("return 301 https://$host$request_uri;", "return 301 http://$host$request_uri;", "fullchain.pem", {"redirect/loop", "redirect/reflects-host", "hsts/absent"}, id="circle"),
    ],
)  # fmt: skip
def test_nginx_configurations(tmp_path, plain_block, secure_block, certificate, gaps):
    issued = prepare(tmp_path, "P-256", ca_issuers=f"http://{ISSUER_HOST}/issuer.crt")
    (tmp_path / "published").mkdir()
    (tmp_path / "published" / "issuer.crt").write_bytes(intermediate().der)
    plain, secure = free_port(), free_port()
    routes = (*at_ports(secure, plain), f"{ISSUER_HOST}:80=192.0.2.53", f"192.0.2.53:80=127.0.0.1:{plain}")
    with nginx(tmp_path, site(tmp_path, plain, secure, plain_block, secure_block, certificate), secure):
        evidence = take(routes=routes, paths=("/", "/login"))
    case = Case(evidence, Terms(), evidence.begun, (store(root()),))
    rules = (*redirect.RULES, *hsts.RULES, *chain.RULES)
    assert {rule.name for rule in rules for outcome in outcomes(rule, case) if isinstance(outcome, Gap)} == gaps
    handshakes = evidence.endpoints[0].handshakes
    assert {handshake.proof for handshake in handshakes} == {Proof.VERIFIED}
    assert handshakes[0].chain[0] == fingerprint(issued.der)
    assert any(isinstance(journey.end, Landed) for journey in evidence.journeys) is ("redirect/loop" not in gaps)
