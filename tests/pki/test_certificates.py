import datetime

import pytest
from cryptography import x509
from hypothesis import given
from hypothesis import strategies as st

from pewter.lab.authority import issue_ca, issue_server
from pewter.octets import DecodeError
from pewter.pki import MalformedCertificate, presented_names, read_certificate, read_certificate_blocks, read_store
from pewter.pki.der import DerReader, read_oid, read_time
from pewter.pki.distinguished_names import read_distinguished_name
from support.certificates import FAR_OFF, HOST, LONG_AGO, NOW, intermediate, key, leaf, parsed, root


def test_every_field_agrees_with_the_cryptography_package():
    issued = issue_server(
        [HOST, "*.x.example", "192.0.2.7", "2001:db8::7"], intermediate(), LONG_AGO, FAR_OFF, key=key("x")
    )
    ours, theirs = parsed(issued), issued.certificate
    assert (ours.version, ours.serial) == (3, theirs.serial_number)
    assert (ours.not_before, ours.not_after) == (theirs.not_valid_before_utc, theirs.not_valid_after_utc)
    assert str(ours.subject) == theirs.subject.rfc4514_string()
    assert str(ours.issuer) == theirs.issuer.rfc4514_string()
    assert (ours.tbs, ours.signature) == (theirs.tbs_certificate_bytes, theirs.signature)
    assert presented_names(ours) == (HOST, "*.x.example", "192.0.2.7", "2001:db8::7")
    assert ours.extensions.purposes == ("1.3.6.1.5.5.7.3.1",)
    assert (str(ours.key), ours.title) == ("EC P-256", HOST)
    authority = theirs.extensions.get_extension_for_class(x509.AuthorityKeyIdentifier).value
    assert ours.extensions.authority_key_identifier == authority.key_identifier
    assert parsed(intermediate()).extensions.is_ca
    assert parsed(intermediate()).extensions.may_sign_certificates


@pytest.mark.parametrize(
    ("kind", "description"),
    [("RSA 2048", "RSA 2048"), ("P-384", "EC P-384"), ("Ed25519", "Ed25519"), ("Ed448", "Ed448")],
)
def test_keys_are_described(kind, description):
    issued = issue_server([HOST], intermediate(), LONG_AGO, FAR_OFF, key=key(kind, kind))
    assert str(parsed(issued).key) == description


def test_ca_details():
    ca = issue_ca(
        "X",
        root(),
        LONG_AGO,
        FAR_OFF,
        key=key("X"),
        path_length=0,
        permitted_dns=["x.example"],
        ca_issuers="http://a.example/r",
    )
    facts = parsed(ca).extensions
    assert (facts.path_length, facts.name_constraints.permitted.dns) == (0, ("x.example",))
    assert facts.ca_issuers == ("http://a.example/r",)


def flip(octets: bytes, old: bytes, new: bytes) -> bytes:
    assert octets.count(old) >= 1
    return octets.replace(old, new, 1)


GOOD = leaf().der


@pytest.mark.parametrize(
    ("octets", "reason"),
    [
        pytest.param(b"", "Certificate, octet 0: 2 octets expected, 0 left", id="nothing"),
        pytest.param(b"rubbish", "Certificate, octet 0: tag 0x30 expected, 0x72 found", id="no-der"),
        pytest.param(GOOD[:-1], "Certificate, octet 4:", id="cut-short"),
        pytest.param(GOOD + b"\0", "Certificate, octet", id="more-behind-it"),
        pytest.param(flip(GOOD, b"\xa0\x03\x02\x01\x02", b"\xa0\x03\x02\x01\x07"), "version, octet 0: version 7", id="version"),
        pytest.param(flip(GOOD, b"\x17\x0d26", b"\x17\x0d2x"), "not", id="date-with-a-letter"),
        pytest.param(b"\x30\x80\x00\x00", "length octet 0x80", id="indefinite-length"),
        pytest.param(b"\x30\x84\xff\xff\xff\xff", "4294967295 octets expected", id="huge-length"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_says_why(octets, reason):
    read = read_certificate(octets)
    assert isinstance(read, MalformedCertificate)
    assert reason in read.reason
    assert read.der == octets


@given(st.binary(max_size=200), st.integers(0, len(GOOD)))
def test_hostile_certificates_never_raise(octets, position):
    read_certificate(octets)
    read_certificate(GOOD[:position] + octets + GOOD[position + len(octets) :])


@pytest.mark.parametrize(
    ("tag", "text", "expected"),
    [
        pytest.param(0x17, b"491231235959Z", datetime.datetime(2049, 12, 31, 23, 59, 59, tzinfo=datetime.UTC), id="2049"),
        pytest.param(0x17, b"500101000000Z", datetime.datetime(1950, 1, 1, tzinfo=datetime.UTC), id="1950"),
        pytest.param(0x18, b"99991231235959Z", datetime.datetime(9999, 12, 31, 23, 59, 59, tzinfo=datetime.UTC), id="no-end"),
        pytest.param(0x17, b"2601010000Z", None, id="without-seconds"),
        pytest.param(0x18, b"20260101000000.5Z", None, id="fraction"),
        pytest.param(0x18, b"20261301000000Z", None, id="thirteenth-month"),
        pytest.param(0x18, b"00000101000000Z", None, id="year-zero"),
        pytest.param(0x0C, b"20260101000000Z", None, id="no-time-type"),
    ],
)  # fmt: skip
def test_times(tag, text, expected):
    element = DerReader(bytes((tag, len(text))) + text, "test").next()
    if expected is None:
        with pytest.raises(DecodeError):
            read_time(element, "test")
    else:
        assert read_time(element, "test") == expected


@pytest.mark.parametrize(
    ("octets", "text"),
    [("551d11", "2.5.29.17"), ("2a864886f70d010101", "1.2.840.113549.1.1.1"), ("8837 03".replace(" ", ""), "2.999.3")],
)
def test_object_identifiers(octets, text):
    assert read_oid(bytes.fromhex(octets), "test") == text


def name_of(*attributes: tuple[str, int, bytes]) -> bytes:
    oids = {"CN": "550403", "O": "55040a"}

    def wrap(tag: int, content: bytes) -> bytes:
        return bytes((tag, len(content))) + content

    return wrap(
        0x30,
        b"".join(
            wrap(0x31, wrap(0x30, wrap(6, bytes.fromhex(oids[kind])) + wrap(tag, value)))
            for kind, tag, value in attributes
        ),
    )


@pytest.mark.parametrize(
    ("one", "other", "equal"),
    [
        pytest.param(("CN", 0x13, b"Root CA"), ("CN", 0x0C, b"Root CA"), True, id="printable-and-utf8"),
        pytest.param(("CN", 0x13, b"Root  CA "), ("CN", 0x13, b"root ca"), True, id="blanks-and-case"),
        pytest.param(("CN", 0x13, b"Root CA"), ("O", 0x13, b"Root CA"), False, id="another-attribute"),
        pytest.param(("CN", 0x13, b"Root CA"), ("CN", 0x13, b"RootCA"), False, id="blank-within-counts"),
    ],
)
def test_names_compare_as_names(one, other, equal):
    first, second = read_distinguished_name(name_of(one)), read_distinguished_name(name_of(other))
    assert (first.comparable == second.comparable) is equal


def test_name_as_text_is_escaped():
    name = read_distinguished_name(name_of(("O", 0x0C, b"A, B"), ("CN", 0x0C, b"x")))
    assert (str(name), name.title) == ("CN=x,O=A\\, B", "x")
    assert str(read_distinguished_name(b"\x30\x00")) == "(empty name)"


@pytest.mark.parametrize(
    ("octets", "count"),
    [
        pytest.param(leaf().pem + b"text between\r\n" + root().pem, 2, id="pem"),
        pytest.param(leaf().pem.replace(b"\n", b"\r\n"), 1, id="crlf"),
        pytest.param(leaf().der, 1, id="der"),
        pytest.param(leaf().key_pem, 0, id="key-alone"),
        pytest.param(b"-----BEGIN CERTIFICATE-----\nAAA\n-----END CERTIFICATE-----", 0, id="broken-base64"),
        pytest.param(b"", 0, id="empty"),
        pytest.param(b"\x30\x06\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x07\x02", 0, id="broken-pkcs7"),
    ],
)
def test_certificate_blocks(octets, count):
    assert len(read_certificate_blocks(octets)) == count


def test_pkcs7_as_some_cas_publish_issuers():
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.serialization import pkcs7

    octets = pkcs7.serialize_certificates([root().certificate, intermediate().certificate], serialization.Encoding.DER)
    assert set(read_certificate_blocks(octets)) == {root().der, intermediate().der}


def test_store_finds_an_anchor_by_name_and_key():
    store = read_store("mine", root().pem + b"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n")
    assert store.anchors_like(parsed(root())) == store.anchors
    same_name = issue_ca("Root", None, LONG_AGO, NOW, key=key("another key"))
    assert store.anchors_like(parsed(same_name)) == ()
