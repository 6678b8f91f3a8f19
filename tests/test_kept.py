"""What readers keep to give again is bounded in octets: sites choose what they are asked for."""

import gc
import tracemalloc

import pytest

from pewter.crypto import SignatureVerdict
from pewter.evidence import is_ip_address
from pewter.gather.slots import network_of
from pewter.kept import LONGEST, kept
from pewter.pki import Certificate, read_certificate
from pewter.pki.distinguished_names import read_distinguished_name
from pewter.pki.signatures import verify_signature
from pewter.web.urls import InvalidUrl, read_host, read_url
from support.certificates import intermediate, leaf

LONG = 60_000


def name_of(number: int) -> bytes:
    """The DER of a Name with one long commonName."""
    text = f"{number:0{LONG}}".encode()
    value = b"\x0c\x82" + len(text).to_bytes(2, "big") + text
    attribute = b"\x06\x03\x55\x04\x03" + value
    for tag in (0x30, 0x31, 0x30):
        attribute = bytes([tag, 0x82]) + len(attribute).to_bytes(2, "big") + attribute
    return attribute


HOSTILE = {
    "URLs": (read_url, lambda n: f"https://www.marram.example/{n:0{LONG}}"),
    "hosts": (read_host, lambda n: f"{n:0{LONG}}.example"),
    "names in certificates": (read_distinguished_name, name_of),
    "hosts that end in a digit": (is_ip_address, lambda n: f"host{n:0{LONG}}"),
    "addresses": (network_of, lambda n: f"{n:0{LONG}}"),
}


@pytest.mark.parametrize("title", HOSTILE)
def test_long_keys_are_not_kept(title):
    read, key_of = HOSTILE[title]
    tracemalloc.start()
    try:
        for number in range(150):
            try:
                read(key_of(number))
            except InvalidUrl:
                pass
        gc.collect()
        assert tracemalloc.get_traced_memory()[0] < 1 << 20, "150 keys of 60 KB are 9 MB"
    finally:
        tracemalloc.stop()


def test_short_keys_are_read_once_and_long_ones_each_time():
    read = []

    @kept(most=2)
    def length_of(text: str) -> int:
        read.append(text[:3])
        return len(text)

    long = "x" * (LONGEST + 1)
    assert [length_of(each) for each in ("a", "a", long, long, "b", "c", "a")] == [1, 1, 513, 513, 1, 1, 1]
    assert read == ["a", "xxx", "xxx", "b", "c", "a"]


def test_a_checked_signature_keeps_no_certificate():
    certificate, issuer = read_certificate.__wrapped__(leaf("kept.example").der), read_certificate(intermediate().der)
    assert [verify_signature(certificate, issuer) for _ in range(2)] == [SignatureVerdict.VERIFIED] * 2
    sha256 = certificate.sha256
    del certificate
    gc.collect()
    assert not [each for each in gc.get_objects() if isinstance(each, Certificate) and each.sha256 == sha256]
