"""Key derivation is refused above a stated cost, before it begins; what programs write is opened."""

import time

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, Encoding, PrivateFormat, pkcs12
from hypothesis import given
from hypothesis import strategies as st

from pewter.octets import DecodeError
from pewter.pki.crls import Crl, read_crl
from pewter.pki.derivation import MAX_ROUNDS, why_too_costly
from pewter.pki.files import FileKind, read_file
from support.certificates import intermediate, leaf
from support.derivations import encrypted_by_pbkdf2, encrypted_by_scrypt, pkcs_12_of_rounds
from support.status import signed_list


@pytest.mark.parametrize(
    ("octets", "why"),
    [
        (encrypted_by_pbkdf2(2048), ""), (encrypted_by_pbkdf2(MAX_ROUNDS), ""), (encrypted_by_scrypt(1 << 14), ""), (pkcs_12_of_rounds(100_000), ""), (b"", ""), (b"\x30\x80" * 1000, ""),
        (encrypted_by_pbkdf2(2_000_000_000), "its key derivation asks for 2,000,000,000 rounds; 5,000,000 are given"),
        (encrypted_by_pbkdf2(1 << 20_000), "its key derivation asks for more than 1,000,000,000,000 rounds; 5,000,000 are given"),
        (encrypted_by_scrypt(1 << 23), "its key derivation asks for 8,192 MiB of memory; 256 MiB are given"),
        (pkcs_12_of_rounds(2_000_000_000), "its key derivation asks for 2,000,000,000 rounds; 5,000,000 are given"),
    ],
)  # fmt: skip
def test_what_opening_would_cost(octets, why):
    assert why_too_costly(octets) == why


@given(st.binary(max_size=200))
def test_any_octets_have_a_cost_in_words(octets):
    assert isinstance(why_too_costly(octets), str)


FORMS = {
    "pkcs-8": lambda key, word: key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, word),
    "traditional": lambda key, word: key.private_bytes(Encoding.PEM, PrivateFormat.TraditionalOpenSSL, word),
    "pkcs-8-der": lambda key, word: key.private_bytes(Encoding.DER, PrivateFormat.PKCS8, word),
    "pkcs-12": lambda key, word: pkcs12.serialize_key_and_certificates(b"x", key, leaf().certificate, [intermediate().certificate], word),
    "pkcs-12-sha-1": lambda key, word: pkcs12.serialize_key_and_certificates(
        b"x", key, leaf().certificate, None, PrivateFormat.PKCS12.encryption_builder().kdf_rounds(200_000).key_cert_algorithm(pkcs12.PBES.PBESv1SHA1And3KeyTripleDESCBC).hmac_hash(hashes.SHA1()).build(b"word"),
    ),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
def test_what_programs_write_is_opened(form):
    octets = FORMS[form](leaf().key, BestAvailableEncryption(b"word"))
    found = read_file("x", octets, lambda words: b"word")
    assert [each.problem for each in found.items if each.kind is FileKind.PRIVATE_KEY] == [""]


@pytest.mark.parametrize(
    ("octets", "words"),
    [
        (encrypted_by_pbkdf2(2_000_000_000), "2,000,000,000 rounds"), (encrypted_by_scrypt(1 << 26), "65,536 MiB"), (pkcs_12_of_rounds(2_000_000_000), "2,000,000,000 rounds"),
    ],
)  # fmt: skip
def test_a_key_that_costs_too_much_is_named_and_not_opened(octets, words):
    begun = time.process_time()
    found = read_file("x", octets, lambda asked: b"word")
    assert any(words in each for each in (*found.problems, *(item.problem for item in found.items)))
    assert time.process_time() - begun < 1


def test_a_list_of_empty_entries_is_no_list_that_is_walked_through():
    real = read_crl(signed_list(intermediate(), 7))
    fields = {name: getattr(real, name) for name in Crl.__slots__}
    of_empties = Crl(**{**fields, "entries": b"\x30\x00" * 6_000_000 + b"\x02\x01\x09"})
    begun = time.process_time()
    assert of_empties.find(7) is None
    with pytest.raises(DecodeError, match="an entry of 0 octets"):
        of_empties.find(9)
    assert time.process_time() - begun < 1
