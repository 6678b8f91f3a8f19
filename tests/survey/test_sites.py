"""Lists of sites in every form, and what is wrong in them."""

import pytest

from pewter.errors import FileError
from pewter.survey.sites import read_list, words_for_wrong


def read(text):
    octets = text if isinstance(text, bytes) else text.encode()
    found = read_list(octets, "list")
    return [
        " ".join(f"{each.host}:{each.port}" if each.port != 443 else each.host for each in site.targets)
        for site in found.sites
    ], found


@pytest.mark.parametrize(
    ("text", "sites"),
    [
        pytest.param("a.example\nb.example\n", ["a.example", "b.example"], id="names"),
        pytest.param("# all\n\n a.example  # ours\n", ["a.example"], id="comments-and-blanks"),
        pytest.param(
            "a.example www.a.example,shop.a.example\n", ["a.example www.a.example shop.a.example"], id="several-of-one"
        ),
        pytest.param(
            "https://a.example/x?y\nhttp://b.example:8080/\na.example:8443\n",
            ["a.example", "b.example", "a.example:8443"],
            id="urls-and-ports",
        ),
        pytest.param(
            b"\xef\xbb\xbfA.Example.\r\nB.EXAMPLE\r\n", ["a.example", "b.example"], id="bom-crlf-capitals-final-dot"
        ),
        pytest.param("a.example\rb.example", ["a.example", "b.example"], id="cr-alone"),
        pytest.param("b\xfccher.example\nxn--bcher-kva.example\n", ["xn--bcher-kva.example"], id="idn-twice"),
        pytest.param("rank,domain\n1,a.example\n2,b.example\n", ["a.example", "b.example"], id="csv"),
        pytest.param('"Name";"Owner"\n"a.example";"x, y"\n', ["a.example"], id="csv-semicolons-and-quotes"),
        pytest.param("# c\nhost\na.example\n", ["a.example"], id="one-column-with-a-head"),
        pytest.param("192.0.2.7\n[2001:db8::7]\n", ["192.0.2.7", "2001:db8::7"], id="addresses"),
    ],
)
def test_forms(text, sites):
    assert read(text)[0] == sites


def test_doubles_are_joined_and_counted():
    sites, found = read("a.example\nA.example.\na.example b.example\nc.example\n")
    assert (sites, found.doubles) == (["a.example b.example", "c.example"], 2)


def test_wrong_lines_are_named_and_cost_no_other():
    sites, found = read(b"a.example\n\xff\xfe\nb.example\nno spaces/allowed?\n" + b"x" * 5000 + b"\nrank\n")
    assert sites[:2] == ["a.example", "b.example"]
    assert [each.number for each in found.wrong][:1] == [2]
    words = list(words_for_wrong(found.wrong * 4))
    assert words[0].startswith("line 2 is no site: ")
    assert words[-1].endswith("more lines are no sites")


def test_a_hundred_thousand_lines():
    sites, found = read("\n".join(f"site{number}.example" for number in range(100_000)))
    assert (len(sites), found.doubles, found.wrong) == (100_000, 0, ())


@pytest.mark.parametrize("text", ["", "\n# nothing\n", "domain,x\n"])
def test_nothing_in_it(text):
    with pytest.raises(FileError, match="list names no site: write one host name a line"):
        read(text)
