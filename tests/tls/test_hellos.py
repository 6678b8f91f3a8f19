import hashlib
import sys

import pytest
from cryptography.hazmat.primitives import asymmetric
from cryptography.hazmat.primitives.asymmetric import mlkem, x25519
from hypothesis import given
from hypothesis import strategies as st

from pewter.evidence import Offer
from pewter.octets import DecodeError
from pewter.tls.codepoints import ExtensionType, Group, Version, alert_name, group_name, version_name, version_of_name
from pewter.tls.hellos import (
    HELLO_RETRY_RANDOM,
    ClientHello,
    Extension,
    ServerHello,
    build_client_hello,
    build_server_hello,
    read_client_hello,
    read_extensions,
    read_offered_versions,
    read_server_hello,
    read_server_name,
)
from pewter.tls.offers import GROUPS, cipher_suites, make_hello
from pewter.tls.primes import well_known_prime
from pewter.tls.shares import make_share, prime_of
from pewter.tls.suites import table

RANDOM, SESSION = bytes(range(32)), bytes(range(32, 64))
TLS_1_3 = Extension(ExtensionType.SUPPORTED_VERSIONS, b"\x03\x04")


@pytest.mark.parametrize(
    "hello",
    [
        pytest.param(ClientHello(RANDOM, 0x0303, (0x1301, 0x0A0A)), id="no-extensions"),
        pytest.param(ClientHello(RANDOM, 0x0303, (0x1301,), SESSION, b"\x00\x01", (Extension(0, b""), Extension(0, b"x"))), id="repeated-extension"),
    ],
)  # fmt: skip
def test_client_hello_both_ways(hello):
    assert read_client_hello(build_client_hello(hello)[4:]) == hello


@pytest.mark.parametrize(
    ("hello", "version", "is_retry"),
    [
        pytest.param(ServerHello(0x0303, RANDOM, SESSION, 0x1301, 0, (TLS_1_3,)), 0x0304, False, id="1.3"),
        pytest.param(ServerHello(0x0303, RANDOM, b"", 0xC02F, 0, ()), 0x0303, False, id="1.2"),
        pytest.param(ServerHello(0x0303, HELLO_RETRY_RANDOM, SESSION, 0x1301, 0, (TLS_1_3,)), 0x0304, True, id="retry"),
        pytest.param(ServerHello(0x0303, RANDOM[:24] + b"DOWNGRD\x01", b"", 0xC02F, 0, ()), 0x0303, False, id="downgraded"),
        pytest.param(ServerHello(0x7F1C, RANDOM, b"", 0x0A0A, 0, ()), 0x7F1C, False, id="unknown-values-survive"),
    ],
)  # fmt: skip
def test_server_hello_both_ways(hello, version, is_retry):
    read = read_server_hello(build_server_hello(hello)[4:])
    assert read == hello
    assert (read.version, read.is_hello_retry) == (version, is_retry)


def test_extension_that_reaches_past_its_block():
    with pytest.raises(DecodeError, match="40 octets expected, 2 left"):
        read_extensions(bytes.fromhex("0010 0028 aabb"))


@given(st.binary(max_size=300))
def test_readers_of_hostile_octets_return_or_raise_decode_error(octets):
    for read in (read_client_hello, read_server_hello, read_extensions):
        try:
            read(octets)
        except DecodeError:
            pass


@pytest.mark.parametrize(
    ("versions", "server_name", "legacy_version", "extensions"),
    [
        pytest.param((0x0304, 0x0303), "x.example", 0x0303, {0, 10, 11, 13, 16, 5, 18, 23, 43, 45, 51, 0xFF01}, id="modern"),
        pytest.param((0x0303,), "x.example", 0x0303, {0, 10, 11, 13, 0xFF01}, id="tls-1.2-is-plain"),
        pytest.param((0x0301,), "x.example", 0x0301, {0, 10, 11, 0xFF01}, id="tls-1.0"),
        pytest.param((0x0303,), "192.0.2.7", 0x0303, {10, 11, 13, 0xFF01}, id="no-address-in-server-name"),
        pytest.param((0x0303,), "2001:db8::7", 0x0303, {10, 11, 13, 0xFF01}, id="no-ipv6-address-either"),
    ],
)  # fmt: skip
def test_hello_for_an_offer(versions, server_name, legacy_version, extensions):
    hello = make_hello(Offer(versions, server_name), RANDOM, SESSION, ())
    assert hello.legacy_version == legacy_version
    assert {extension.type for extension in hello.extensions} == extensions
    assert read_offered_versions(hello)[: len(versions)] == versions
    assert read_server_name(hello) == (server_name if 0 in extensions else None)


def test_every_offered_suite_is_in_the_table_and_none_twice():
    suites = cipher_suites((0x0304, 0x0303))
    assert len(suites) == len(set(suites))
    assert set(suites) <= set(table())
    assert not {table()[code].authentication for code in suites} & {"anon", "PSK", "KRB5"}


@pytest.mark.parametrize("group", GROUPS)
def test_key_shares_agree(group):
    ours, theirs = make_share(group), make_share(group)
    assert ours.agree(theirs.public) == theirs.agree(ours.public)
    with pytest.raises(DecodeError):
        ours.agree(b"\x04" + bytes(7))


def test_no_share_for_a_group_that_cannot_be_computed():
    with pytest.raises(ValueError, match="0x11ED"):
        make_share(0x11ED)


def test_the_hybrid_share_agrees():
    share = make_share(Group.X25519MLKEM768)
    secret, ciphertext = mlkem.MLKEM768PublicKey.from_public_bytes(share.public[:1184]).encapsulate()
    theirs = x25519.X25519PrivateKey.generate()
    both = theirs.exchange(x25519.X25519PublicKey.from_public_bytes(share.public[1184:]))
    assert share.agree(ciphertext + theirs.public_key().public_bytes_raw()) == secret + both
    for rubbish in (b"", bytes(100), ciphertext):
        with pytest.raises(DecodeError):
            share.agree(rubbish)


def test_without_ml_kem_the_hybrid_share_has_the_form_of_a_key_and_no_secret(monkeypatch):
    monkeypatch.setitem(sys.modules, "cryptography.hazmat.primitives.asymmetric.mlkem", None)
    monkeypatch.delattr(asymmetric, "mlkem", raising=False)
    share = make_share(Group.X25519MLKEM768)
    packed = int.from_bytes(share.public[:1152], "little")
    assert len(share.public) == 1184 + 32
    assert all(packed >> 12 * position & 0xFFF < 3329 for position in range(768))
    with pytest.raises(DecodeError, match="a share without its secret"):
        share.agree(bytes(1120))


@pytest.mark.parametrize("group", [Group.FFDHE2048, Group.FFDHE3072])
def test_finite_fields_are_those_of_the_standard(group):
    octets = prime_of(group).to_bytes(prime_of(group).bit_length() // 8, "big")
    assert well_known_prime(hashlib.sha256(octets).hexdigest()) == f"{group_name(group)} of RFC 7919"
    with pytest.raises(DecodeError, match="no number of ffdhe"):
        make_share(group).agree((1).to_bytes(len(octets), "big"))


def test_names_of_code_points():
    assert [version_name(v) for v in (0x0300, 0x0304, 0x7F1C)] == ["SSL 3.0", "TLS 1.3", "version 0x7F1C"]
    assert [alert_name(d) for d in (40, 70, 200)] == ["handshake_failure", "protocol_version", "alert 200"]
    assert version_of_name("TLS 1.2") == Version.TLS_1_2
    assert version_of_name("TLS 9") is None
