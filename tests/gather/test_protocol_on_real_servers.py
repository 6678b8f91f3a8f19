"""What we find of versions and suites, held against what real servers were set up to accept, suite by suite."""

import subprocess

import pytest

from pewter.evidence import Order, Seen, VersionOutcome, protocols
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.judge.outcomes import Gap, Holds
from pewter.judge.rules import chain, protocol_suites
from pewter.lab.authority import issue_server
from pewter.tls import fingerprint, suite_name, version_name
from pewter.tls.codepoints import group_name
from pewter.tls.primes import well_known_prime
from support.cases import outcomes
from support.certificates import FAR_OFF, LONG_AGO, intermediate, key, root, store
from support.looks import PEER, at_ports, take
from support.servers import free_port, nginx
from support.tls_servers import SETTINGS, Setting, expected_of, install, started

_ALL = ("TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3")

pytestmark = pytest.mark.real_server
COUNTS = {"settings": 0, "versions": 0, "suites": 0}


def names(codes) -> list[str]:
    return sorted(map(suite_name, codes))


@pytest.mark.parametrize("setting", SETTINGS, ids=lambda setting: setting.title)
def test_versions_and_suites_are_those_of_the_setting(setting: Setting, tmp_path):
    expected = expected_of(setting).suites
    with started(setting, tmp_path) as port:
        evidence = take(PEER, routes=at_ports(port), protocol=True, whole=60, step=5)
    protocol = evidence.endpoints[0].protocol
    assert protocol is not None, evidence.endpoints[0].probes
    accepted = {seen.version for seen in protocol.versions if seen.outcome is VersionOutcome.ACCEPTED}
    assert {version_name(each) for each in accepted} == {version_name(each) for each in expected if expected[each]}
    assert all(seen.outcome != "unknown" for seen in protocol.versions), protocol.versions
    COUNTS["settings"] += 1
    COUNTS["versions"] += len(protocol.versions)
    for seen in protocol.suites:
        assert seen.unfinished == ""
        assert names(seen.suites) == names(expected[seen.version]), version_name(seen.version)
        COUNTS["suites"] += seen.asked
        if (
            setting.server_order is True
            and len(seen.suites) > 1
            and setting.server not in {"tlslite-ng", "gnutls-serv"}
        ):
            # HAProxy lets a client that puts ChaCha20 first have it: the rest is the server's choice.
            assert seen.order.is_servers or (setting.server == "haproxy" and seen.order is Order.MIXED)
            if seen.order is Order.SERVER and seen.version < 0x0304:
                assert list(map(suite_name, seen.suites)) == list(map(suite_name, expected[seen.version]))
        if setting.server_order is False and len(seen.suites) > 1 and seen.version < 0x0304:
            assert seen.order is Order.CLIENT


def look(routes):
    evidence = take(PEER, routes=routes, protocol=True, whole=60, step=5)
    protocol = evidence.endpoints[0].protocol
    assert protocol is not None
    return evidence, protocol


def feature(protocol, name: str):
    found = protocol.feature(name)
    assert found is not None, name
    return found.seen


@pytest.mark.parametrize(
    ("groups", "expected"),
    [
        ("X25519", ["X25519"]),
        ("P-384:X25519", ["P-384", "X25519"]),
        ("P-521:P-256:X448:ffdhe3072", ["P-521", "P-256", "X448", "ffdhe3072"]),
    ],
)
def test_groups_and_their_order(tmp_path, groups, expected):
    setting = Setting("s_server", ("TLSv1.2", "TLSv1.3"), "ECDHE+AESGCM", options=("-groups", groups))
    with started(setting, tmp_path) as port:
        _, protocol = look(at_ports(port))
    found = protocol.groups_in(0x0304)
    assert (list(map(group_name, found.groups)), found.unfinished) == (expected, "")
    assert found.order.is_servers or found.order is Order.ONE
    old = protocol.groups_in(0x0303)
    assert set(map(group_name, old.groups)) == {each for each in expected if not each.startswith("ffdhe")}


@pytest.mark.parametrize("groups", ["P-384:P-256", "P-256:P-384:X448", "P-521:P-256:X25519"])
@pytest.mark.parametrize("order", [(), ("-serverpref",)])
def test_groups_beside_the_curve_of_the_key(tmp_path, groups, order):
    """A hello that does not name the curve of an ECDSA key is refused, whatever groups the server has.

    As long as it decides by itself, what it puts behind that curve is never had by anybody.
    """
    options = ("-groups", groups, "-tls1_2", *order)
    setting = Setting("s_server", ("TLSv1.2",), "ECDHE+AESGCM", ("P-256",), options=options)
    with started(setting, tmp_path) as port:
        _, protocol = look(at_ports(port))
    named = groups.split(":")
    expected = named[: named.index("P-256") + 1] if order else named
    assert set(map(group_name, protocol.groups_in(0x0303).groups)) == set(expected)


def test_groups_of_a_server_with_keys_of_both_kinds(tmp_path):
    setting = Setting("nginx", ("TLSv1.2",), "ECDHE+AESGCM", ("RSA 2048", "P-256"), True, finite_field=False)
    with started(setting, tmp_path) as port:
        _, protocol = look(at_ports(port))
    found = set(map(group_name, protocol.groups_in(0x0303).groups))
    assert found == {"X25519", "P-256", "X448", "P-384", "P-521"}


@pytest.mark.parametrize(
    ("options", "name", "expected"),
    [
        pytest.param((), protocols.TICKETS_1_3, Seen(True), id="tickets"),
        pytest.param(("-num_tickets", "0"), protocols.TICKETS_1_3, Seen(False), id="no-tickets"),
        pytest.param((), protocols.EARLY_DATA, Seen(False), id="no-early-data"),
        pytest.param(("-early_data", "-max_early_data", "16384"), protocols.EARLY_DATA, Seen(True), id="early-data"),
        pytest.param(("-alpn", "h2"), protocols.H2, Seen(True), id="h2"),
        pytest.param(("-alpn", "http/1.1,h2"), protocols.H2, Seen(True), id="h2-second"),
        pytest.param(("-alpn", "http/1.1"), protocols.H2, Seen(False), id="no-h2"),
        pytest.param((), protocols.EXTENDED_MASTER_SECRET, Seen(True), id="extended-master-secret"),
        pytest.param((), protocols.SECURE_RENEGOTIATION, Seen(True), id="renegotiation"),
        pytest.param((), protocols.COMPRESSION, Seen(False), id="no-compression"),
        pytest.param((), protocols.GREASE_TOLERANCE, Seen(True), id="grease"),
        pytest.param((), protocols.LARGE_HELLO_TOLERANCE, Seen(True), id="large"),
        pytest.param(("-no_ticket",), protocols.TICKETS_1_2, Seen(False), id="no-tickets-in-1.2"),
    ],
)
def test_options_of_openssl(tmp_path, options, name, expected):
    with started(Setting("s_server", ("TLSv1.2", "TLSv1.3"), "DEFAULT", options=options), tmp_path) as port:
        _, protocol = look(at_ports(port))
    assert feature(protocol, name) == expected


def test_the_fallback_guard(tmp_path):
    with started(Setting("s_server", _ALL, "DEFAULT:@SECLEVEL=0"), tmp_path) as port:
        _, protocol = look(at_ports(port))
    assert feature(protocol, protocols.FALLBACK_GUARD) == Seen(True)


@pytest.mark.parametrize(
    ("make", "bits", "known"),
    [
        (("genpkey", "-genparam", "-algorithm", "DH", "-pkeyopt", "group:ffdhe3072"), 3072, "ffdhe3072 of RFC 7919"),
        (("genpkey", "-genparam", "-algorithm", "DH", "-pkeyopt", "group:dh_1024_160"), 1024, "group 22 of RFC 5114"),
    ],
)
def test_finite_field_parameters(tmp_path, make, bits, known):
    subprocess.run(["openssl", make[0], "-out", "dh.pem", *make[1:]], cwd=tmp_path, check=True, capture_output=True)
    setting = Setting("s_server", ("TLSv1.2",), "DHE:@SECLEVEL=0", options=("-dhparam", "dh.pem", "-tls1_2"))
    with started(setting, tmp_path) as port:
        evidence, protocol = look(at_ports(port))
    assert isinstance(protocol.finite_field, Seen)
    field = protocol.finite_field.value
    assert (field.bits, well_known_prime(field.prime_sha256)) == (bits, known)
    (outcome,) = outcomes(protocol_suites.weak_dh, Case(evidence, Terms(), evidence.begun, ()))
    assert type(outcome) is (Holds if bits >= 2048 else Gap)


def test_certificates_of_both_kinds_of_keys_and_another_default(tmp_path):
    """nginx with RSA and ECDSA side by side, and a default server for another name."""
    setting = Setting("nginx", ("TLSv1.2", "TLSv1.3"), "HIGH", ("RSA 2048", "P-256"), finite_field=False)
    other = issue_server(["other.example"], intermediate(), LONG_AGO, FAR_OFF, key=key("other"))
    (tmp_path / "other.pem").write_bytes(other.pem)
    (tmp_path / "other.key").write_bytes(other.key_pem)
    port = free_port()
    default = f"server {{ listen 127.0.0.1:{port} ssl default_server; ssl_certificate {tmp_path}/other.pem; ssl_certificate_key {tmp_path}/other.key; }}\n"
    issued = install(tmp_path, setting.keys)
    pairs = "".join(
        f"ssl_certificate {tmp_path}/full{n}.pem; ssl_certificate_key {tmp_path}/key{n}.pem;" for n in (0, 1)
    )
    block = f"server {{ listen 127.0.0.1:{port} ssl; server_name {PEER}; {pairs} location / {{ return 200 ok; }} }}"
    with nginx(tmp_path, default + block, port):
        evidence, _ = look(at_ports(port))
    endpoint = evidence.endpoints[0]
    assert {each.chain[0] for each in endpoint.handshakes} == {fingerprint(each.der) for each in issued}
    (gap,) = outcomes(chain.default_differs, Case(evidence, Terms(), evidence.begun, (store(root()),)))
    assert "without a server name: other.example" in gap.seen


def test_gentle_opens_one_connection_at_a_time(tmp_path):
    with started(Setting("s_server", ("TLSv1.3",), "DEFAULT", options=("-tls1_3",)), tmp_path) as port:
        evidence = take(PEER, routes=at_ports(port), protocol=True, whole=60, connections_per_address=1)
    assert [suite.unfinished for suite in evidence.endpoints[0].protocol.suites] == [""]


def test_the_count_of_the_agreement():
    print(f"agreement: {COUNTS}")
