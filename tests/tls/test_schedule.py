"""The TLS 1.3 key schedule against the values of RFC 8448.

They were taken from the tests of Go's crypto/tls (key_schedule_test.go, "derived from
draft-ietf-tls-tls13-vectors-07", which became RFC 8448), as Debian's golang source package has them.
"""

import pytest
from cryptography.hazmat.primitives import hashes

from pewter.octets import DecodeError
from pewter.tls.schedule import RecordProtection, derive_secret, digest, extract, handshake_secret, message_hash

SHA256 = hashes.SHA256()

EARLY = bytes.fromhex("33ad0a1c607ec03b09e6cd9893680ce210adf300aa1f2660e1b22e10f170f92a")
DERIVED = bytes.fromhex("6f2615a108c702c5678f54fc9dbab69716c076189c48250cebeac3576c3611ba")
SHARED = bytes.fromhex("8bd4054fb55b9d63fdfbacf9f04b9f0d35e6d63f537563efd46272900f89492d")
HANDSHAKE = bytes.fromhex("1dc826e93606aa6fdc0aadc12f741b01046aa6b99f691ed221a9f0ca043fbeac")


@pytest.mark.parametrize(
    ("salt", "ikm", "expected"),
    [
        pytest.param(b"", bytes(32), EARLY, id="early"),
        pytest.param(DERIVED, SHARED, HANDSHAKE, id="handshake"),
        pytest.param(bytes.fromhex("43de77e0c77713859a944db9db2590b53190a65b3ee2e4f12dd7a0bb7ce254b4"), bytes(32), bytes.fromhex("18df06843d13a08bf2a449844c5f8a478001bc4d4c627984d5a41da8d0402919"), id="master"),
    ],
)  # fmt: skip
def test_extract(salt, ikm, expected):
    assert extract(SHA256, salt, ikm) == expected


def test_derived_secret_hashes_the_empty_string():
    assert derive_secret(SHA256, EARLY, "derived", b"") == DERIVED


def test_handshake_secret_from_the_shared_secret():
    assert handshake_secret(SHA256, SHARED) == HANDSHAKE


def test_traffic_key_and_iv():
    secret = bytes.fromhex("b67b7d690cc16c4e75e54213cb2d37b4e9c912bcded9105d42befd59d391ad38")
    protection = RecordProtection(0x1301, secret)
    assert protection.key == bytes.fromhex("3fce516009c21727d0f2e4e86ee403bc")
    assert protection.iv == bytes.fromhex("5d313eb2671276ee13000b30")


def test_message_hash_stands_for_the_first_hello():
    assert message_hash(SHA256, b"hello") == b"\xfe\x00\x00\x20" + digest(SHA256, b"hello")


@pytest.mark.parametrize("suite", [0x1301, 0x1302, 0x1303])
def test_tampered_record_is_refused(suite):
    with pytest.raises(DecodeError, match="does not decrypt"):
        RecordProtection(suite, bytes(48)).open(b"\x17\x03\x03\x00\x20", bytes(32))
