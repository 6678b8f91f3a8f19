"""Stapling and revocation with nginx and a real ``openssl ocsp`` responder, and CRLs from a server of the lab."""

import subprocess
from contextlib import contextmanager

import msgspec
import pytest
from cryptography import x509

from pewter.evidence import Seen, Unseen
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.judge.outcomes import Gap, Unknown
from pewter.judge.rules import chain_status
from pewter.lab.authority import Issued, issue_ca, issue_server
from pewter.lab.web_server import Response, VirtualHost
from pewter.places import the_site
from support.cases import outcomes
from support.certificates import FAR_OFF, LONG_AGO, key, root, store
from support.looks import PEER, at_ports, take, take_in, world
from support.servers import free_port, need, nginx, running
from support.status import signed_list

CA_HOST = "ca.skerry-trust.example"
MUST_STAPLE = (x509.TLSFeature([x509.TLSFeatureType.status_request]), False)
ISSUER = issue_ca("Responding CA", root(), LONG_AGO, FAR_OFF, key=key("Responding CA", "RSA 2048"))


def issued_for(ocsp_port: int, **options) -> Issued:
    return issue_server(
        [PEER], ISSUER, LONG_AGO, FAR_OFF, key=key("server"), ocsp=f"http://127.0.0.1:{ocsp_port}/", **options
    )


@contextmanager
def ocsp_responder(folder, of: Issued, port: int, *, revoked: bool = False):
    """``openssl ocsp`` with an index of one certificate."""
    when = "261101000000Z,superseded" if revoked else ""
    serial = f"{of.certificate.serial_number:X}"
    serial = serial.zfill(len(serial) + len(serial) % 2)
    (folder / "index.txt").write_text(
        f"{'R' if revoked else 'V'}\t491231235959Z\t{when}\t{serial}\tunknown\t/CN={PEER}\n"
    )
    (folder / "issuer.pem").write_bytes(ISSUER.pem)
    (folder / "issuer.key").write_bytes(ISSUER.key_pem)
    command = [need("openssl"), "ocsp", "-port", str(port), "-index", "index.txt", "-CA", "issuer.pem",
               "-rsigner", "issuer.pem", "-rkey", "issuer.key", "-ndays", "3", "-ignore_err"]  # fmt: skip
    # A connection that is closed at once sends this responder round in circles.
    with running(command, port, folder, ready=b"ACCEPT"):
        yield


def case_of(evidence) -> Case:
    return Case(evidence, Terms(), evidence.begun, (store(root()),))


def nginx_block(folder, port: int, *lines: str) -> str:
    return (
        f"server {{ listen 127.0.0.1:{port} ssl; ssl_certificate {folder}/full.pem; ssl_certificate_key {folder}/leaf.key;\n"
        f"ssl_trusted_certificate {folder}/trusted.pem; {' '.join(lines)} location / {{ return 200 ok; }} }}"
    )


def install(folder, of: Issued) -> None:
    (folder / "full.pem").write_bytes(of.pem + ISSUER.pem)
    (folder / "leaf.key").write_bytes(of.key_pem)
    (folder / "trusted.pem").write_bytes(ISSUER.pem + root().pem)


@pytest.mark.real_server
def test_nginx_staples_what_openssl_answers(told, tmp_path):
    """nginx has no staple for its first handshake: a certificate that demands one is asked about again."""
    ocsp_port, port = free_port(), free_port()
    of = issued_for(ocsp_port, extra=[MUST_STAPLE])
    install(tmp_path, of)
    with (
        ocsp_responder(tmp_path, of, ocsp_port),
        nginx(tmp_path, nginx_block(tmp_path, port, "ssl_stapling on;"), port),
    ):
        case = case_of(take(routes=at_ports(port)))
    told(outcomes(chain_status.staple_missing, case), dated=False)
    told(outcomes(chain_status.staple_broken, case), dated=False)
    told(outcomes(chain_status.revoked, case), dated=False)


@pytest.mark.real_server
def test_nginx_that_cannot_reach_the_responder(told, tmp_path):
    port = free_port()
    of = issued_for(free_port(), extra=[MUST_STAPLE])
    install(tmp_path, of)
    with nginx(tmp_path, nginx_block(tmp_path, port, "ssl_stapling on;"), port):
        case = case_of(take(routes=at_ports(port)))
    told(outcomes(chain_status.staple_missing, case), dated=False)


@pytest.mark.real_server
@pytest.mark.parametrize("revoked", [False, True])
def test_nginx_with_a_staple_from_a_file(told, tmp_path, revoked):
    """``openssl ocsp`` writes the response, and says itself what it holds."""
    port, ocsp_port = free_port(), free_port()
    of = issued_for(ocsp_port)
    install(tmp_path, of)
    (tmp_path / "leaf.pem").write_bytes(of.pem)
    with ocsp_responder(tmp_path, of, ocsp_port, revoked=revoked):
        asked = subprocess.run(
            ["openssl", "ocsp", "-issuer", "issuer.pem", "-cert", "leaf.pem", "-url", f"http://127.0.0.1:{ocsp_port}",
             "-respout", "staple.der", "-CAfile", "trusted.pem", "-no_nonce"],
            cwd=tmp_path, capture_output=True, text=True,
        )  # fmt: skip
    assert ("leaf.pem: revoked" if revoked else "leaf.pem: good") in asked.stdout
    block = nginx_block(tmp_path, port, "ssl_stapling on;", f"ssl_stapling_file {tmp_path}/staple.der;")
    with nginx(tmp_path, block, port):
        case = case_of(take(routes=at_ports(port)))
    told(outcomes(chain_status.revoked, case), dated=False)
    told(outcomes(chain_status.staple_broken, case), dated=False)


@pytest.mark.real_server
@pytest.mark.parametrize("revoked", [False, True])
def test_asking_a_real_responder(told, tmp_path, revoked):
    port, ocsp_port = free_port(), free_port()
    of = issue_server([PEER], ISSUER, LONG_AGO, FAR_OFF, key=key("server"), ocsp=f"http://{CA_HOST}/")
    install(tmp_path, of)
    routes = (*at_ports(port), f"{CA_HOST}:80=127.0.0.1:{ocsp_port}")
    with ocsp_responder(tmp_path, of, ocsp_port, revoked=revoked), nginx(tmp_path, nginx_block(tmp_path, port), port):
        case = case_of(take(routes=routes, revocation=True))
    told(outcomes(chain_status.revoked, case), dated=False)


def ca_world(of: Issued, answer: Response):
    return world(
        {
            PEER: VirtualHost(lambda request: Response(200, (), b"ok"), (of, ISSUER)),
            CA_HOST: VirtualHost(lambda request: answer),
        }
    )


LISTED = issue_server([PEER], ISSUER, LONG_AGO, FAR_OFF, key=key("server"), crl=f"http://{CA_HOST}/1.crl")


@pytest.mark.parametrize(
    ("answer", "words"),
    [
        pytest.param(Response(200, (), signed_list(ISSUER, 5)), "ran out", id="stale"),
        pytest.param(Response(404), "status 404", id="absent"),
        pytest.param(Response(302, (("Location", "http://127.0.0.1:9/"),)), "status 302", id="redirect"),
        pytest.param(Response(200, (), b"x" * (17 << 20)), "more than 16777216 octets", id="huge"),
        pytest.param(Response(200, (), b"<html>"), "CertificateList", id="a-page"),
    ],
)
def test_lists_that_are_no_answer(told, answer, words):
    with ca_world(LISTED, answer) as up:
        evidence = take_in(up, PEER, revocation=True)
    if "ran out" in words:
        evidence = msgspec.structs.replace(evidence, begun=FAR_OFF)
    case = case_of(evidence)
    told(outcomes(chain_status.revoked, case), dated=False)


def test_a_list_that_names_the_certificate(told):
    with ca_world(LISTED, Response(200, (), signed_list(ISSUER, LISTED.certificate.serial_number))) as up:
        evidence = take_in(up, PEER, revocation=True)
    assert [type(each.answer) for each in evidence.status_answers] == [Seen]
    at = signed_list.__globals__["NOW"]
    told(outcomes(chain_status.revoked, case_of(msgspec.structs.replace(evidence, begun=at))), dated=False)


def test_what_was_revoked_stays_revoked_whatever_day_is_judged_for():
    """The list had run out by then; it was in date when it came."""
    with ca_world(LISTED, Response(200, (), signed_list(ISSUER, LISTED.certificate.serial_number))) as up:
        evidence = msgspec.structs.replace(take_in(up, PEER, revocation=True), begun=signed_list.__globals__["NOW"])
    later = Case(evidence, Terms(), FAR_OFF, (store(root()),))
    assert [type(each) for each in outcomes(chain_status.revoked, later)] == [Gap]


def test_an_address_in_the_reviewers_own_network_is_not_asked():
    inward = issue_server(
        [PEER],
        ISSUER,
        LONG_AGO,
        FAR_OFF,
        key=key("server"),
        ocsp="http://127.0.0.1:22/",
        crl="http://169.254.169.254/x",
    )
    with ca_world(inward, Response(404)) as up:
        evidence = take_in(up, PEER, revocation=True)
    assert {each.url for each in evidence.status_answers} == {"http://127.0.0.1:22/", "http://169.254.169.254/x"}
    assert all(
        isinstance(each.answer, Unseen) and "not contacted" in each.answer.reason for each in evidence.status_answers
    )


def test_nothing_is_asked_unless_wished():
    with ca_world(LISTED, Response(200, (), b"")) as up:
        evidence = take_in(up, PEER)
    assert evidence.status_answers == ()
    assert outcomes(chain_status.revoked, case_of(evidence)) == [
        Unknown(the_site("certificates"), chain_status.NOT_ASKED)
    ]


def test_names_that_share_the_certificate_are_looked_up():
    of = issue_server(
        [PEER, "www.skerry.example", "gone.skerry.example", "*.wild.example"],
        ISSUER,
        LONG_AGO,
        FAR_OFF,
        key=key("server"),
    )
    with world(
        {
            PEER: VirtualHost(lambda request: Response(200, (), b"ok"), (of, ISSUER)),
            "www.skerry.example": VirtualHost(lambda request: Response(200)),
        }
    ) as up:
        evidence = take_in(up, PEER, max_covered_names=20)
    assert [(each.name, each.addresses) for each in evidence.covered_names] == [
        ("gone.skerry.example", ()),
        ("www.skerry.example", ("192.0.2.10",)),
    ]


def test_a_long_list_is_kept_with_what_was_asked_of_it():
    serials = (*range(1000, 1300), LISTED.certificate.serial_number)
    with ca_world(LISTED, Response(200, (), signed_list(ISSUER, *serials))) as up:
        evidence = take_in(up, PEER, revocation=True)
    (answer,) = evidence.status_answers
    assert answer.signed_digest is not None
    assert len(answer.answer.value) < 1000
    case = case_of(msgspec.structs.replace(evidence, begun=signed_list.__globals__["NOW"]))
    assert [type(each) for each in outcomes(chain_status.revoked, case)] == [Gap]
