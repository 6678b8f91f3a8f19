"""``pewter bundle`` with a network: what a host serves, and issuers that are fetched."""

import pytest

from pewter.lab.authority import issue_ca, issue_server
from pewter.lab.web_server import Response, VirtualHost
from support.certificates import FAR_OFF, LONG_AGO, key, root
from support.looks import PEER, world
from support.program import pewter

CA_HOST = "ca.skerry-trust.example"
ISSUER = issue_ca("Fetched CA", root(), LONG_AGO, FAR_OFF, key=key("Fetched CA"))
OLD, NEW = (
    issue_server(
        [PEER],
        ISSUER,
        LONG_AGO + days * (FAR_OFF - LONG_AGO) / 100,
        FAR_OFF,
        key=key("server"),
        ca_issuers=f"http://{CA_HOST}/ca.crt",
    )
    for days in (0, 1)
)


@pytest.fixture
def up(tmp_path):
    (tmp_path / "root.pem").write_bytes(root().pem)
    (tmp_path / "new.pem").write_bytes(NEW.pem + ISSUER.pem)
    (tmp_path / "old.pem").write_bytes(OLD.pem + ISSUER.pem)
    (tmp_path / "leaf.pem").write_bytes(NEW.pem)
    hosts = {
        PEER: VirtualHost(lambda request: Response(200), (OLD, ISSUER)),
        CA_HOST: VirtualHost(lambda request: Response(200, (), ISSUER.der)),
    }
    with world(hosts) as running:
        yield running, tmp_path


def run(up, *arguments: str):
    running, folder = up
    routes = [part for route in running.routes for part in ("--route", route)]
    return pewter("bundle", *arguments, "--resolver", running.resolver, *routes, "--trust", "root.pem", folder=folder)


def test_a_renewed_file_against_the_running_server(up):
    result = run(up, "new.pem", "--live", PEER)
    assert "serves another certificate" in result.stdout
    assert "older than the file" in " ".join(result.stdout.split())
    assert result.returncode == 0, result.stderr


def test_the_certificate_that_is_served(up):
    assert f"✓ {PEER}: serves this certificate" in run(up, "old.pem", "--live", PEER).stdout


def test_what_a_server_sends_can_be_written_as_a_file(up):
    result = run(up, "--live", PEER, "--write", "sent.pem")
    assert (up[1] / "sent.pem").read_bytes() == OLD.pem + ISSUER.pem
    assert f"as sent by {PEER}" in result.stdout


def test_a_missing_issuer_is_fetched_and_written(up):
    result = run(up, "leaf.pem", "--fetch", "--write", "full.pem")
    assert (up[1] / "full.pem").read_bytes() == NEW.pem + ISSUER.pem
    assert f"Fetched CA is at http://{CA_HOST}/ca.crt" in " ".join(result.stdout.split())


def test_a_dead_host_is_said(up):
    result = run(up, "new.pem", "--live", "nowhere.skerry.example")
    assert "? nowhere.skerry.example: " in result.stdout
    assert "Traceback" not in result.stderr
