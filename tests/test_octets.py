import pytest

from pewter.octets import DecodeError, Reader, read_uint16s, uint16s, vector


def test_reader_takes_a_structure_apart():
    reader = Reader(bytes.fromhex("01 0203 02 aabb 0001 cc"), "test")
    assert (reader.uint(1), reader.uint(2), reader.vector(1)) == (1, 0x0203, b"\xaa\xbb")
    inner = reader.nested(2, "inner")
    assert inner.rest() == b"\xcc"
    assert not reader
    reader.end()


@pytest.mark.parametrize(
    ("octets", "read", "message"),
    [
        pytest.param(b"\x00", lambda r: r.uint(2), "test, octet 0: 2 octets expected, 1 left", id="short"),
        pytest.param(b"\x05ab", lambda r: r.vector(1), "test, octet 1: 5 octets expected, 2 left", id="vector-past-end"),
        pytest.param(b"ab", lambda r: r.end(), "test, octet 0: end expected, 2 octets left", id="left-over"),
    ],
)  # fmt: skip
def test_reader_refuses(octets, read, message):
    with pytest.raises(DecodeError) as caught:
        read(Reader(octets, "test"))
    assert str(caught.value) == message


def test_code_points_both_ways():
    assert read_uint16s(uint16s((0x1301, 0x0A0A)), "suites") == (0x1301, 0x0A0A)
    with pytest.raises(DecodeError):
        read_uint16s(b"\x13", "suites")
    assert vector(b"abc", 2) == b"\x00\x03abc"
