import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.octets import DecodeError
from pewter.web.cookies import (
    MAX_COOKIES,
    Cookie,
    CookieJar,
    IgnoredCookie,
    RefusalKind,
    mask_set_cookie,
    read_cookie_date,
    read_set_cookie,
)
from pewter.web.heads import find_head, read_head
from pewter.web.redirects import NoRedirect, next_url
from pewter.web.sites import are_siblings, paths_for, sibling_of, work_out_canonical
from pewter.web.urls import InvalidUrl, read_url
from support.certificates import NOW

HTTPS, HTTP = read_url("https://www.x.example/shop/cart"), read_url("http://www.x.example/shop/cart")


PREFIX, OTHER, NONE = RefusalKind.PREFIX, RefusalKind.OTHER, RefusalKind.NONE_NOT_SECURE
GONE = datetime.timedelta()


def ignored(reason, kind=OTHER, kept_by=""):
    return IgnoredCookie(reason, kind, kept_by)


def kept(name="a", value="1", domain="www.x.example", host_only=True, path="/shop", secure=False, **others):
    return Cookie(name, value, domain, host_only, path, secure, **others)


@pytest.mark.parametrize(
    ("field", "expected"),
    [
        pytest.param("a=1", kept(), id="plain"),
        pytest.param(" a = 1 ; Path=/", kept(path="/"), id="blanks"),
        pytest.param('a="1;2"', kept(value='"1'), id="quotes-protect-nothing"),
        pytest.param("1", kept(name="", value="1"), id="nameless"),
        pytest.param("=1", kept(name="", value="1", dropped_by="Firefox"), id="name-left-out"),
        pytest.param("a=b=c", kept(value="b=c"), id="first-equals-sign"),
        pytest.param("a=1; path=shop", kept(), id="path-without-slash"),
        pytest.param("a=1; Path=/x; Path=/y", kept(path="/y"), id="last-attribute-counts"),
        pytest.param("a=1; Domain=.x.example", kept(domain="x.example", host_only=False), id="domain-with-dot"),
        pytest.param("a=1; Domain=", kept(), id="empty-domain"),
        pytest.param("a=1; SECURE=false", kept(secure=True), id="secure-with-any-value"),
        pytest.param("__Host-a=1; Secure; Path=/", kept(name="__Host-a", path="/", secure=True), id="host-prefix"),
        pytest.param("a=1; Path=/" + "p" * 1024, kept(), id="long-attribute-is-ignored"),
        pytest.param("=", ignored("name and value are empty"), id="empty"),
        pytest.param("a=1\x07", ignored("a control character"), id="control"),
        pytest.param("a=" + "v" * 4096, ignored("name and value are over 4096 octets"), id="too-long"),
        pytest.param("a=1; Max-Age=0", kept(life=GONE), id="expired-deletes"),
        pytest.param("a=1; SameSite=None", ignored("SameSite=None without Secure", NONE), id="none-without-secure"),
        pytest.param("a=1; Domain=y.example", ignored("Domain y.example does not match www.x.example"), id="foreign"),
        pytest.param("a=1; Domain=example", ignored("Domain example is a public suffix, or above that of www.x.example"), id="suffix"),
        pytest.param("a=1; Domain=.", ignored("Domain names no host"), id="dot-alone"),
        pytest.param("a\tb=1", ignored("a tab in name or value"), id="tab-in-name"),
        pytest.param("a=1\t2", ignored("a tab in name or value", kept_by="Firefox"), id="tab-in-value"),
        pytest.param("__host-a=1; Secure", ignored("the prefix __Host- without Path=/", PREFIX), id="no-path"),
        pytest.param("__Secure-a=1", ignored("the prefix __Secure- without Secure", PREFIX), id="secure-prefix"),
        pytest.param("__Secure-; Secure", ignored("no name, and a value that begins like a name prefix", PREFIX), id="nameless-prefix"),
    ],
)  # fmt: skip
def test_read_set_cookie(field, expected):
    assert read_set_cookie(field, HTTPS, NOW) == expected


def test_secure_cookie_over_http_is_dropped():
    assert read_set_cookie("a=1; Secure", HTTP, NOW) == ignored("Secure in a plain http answer", RefusalKind.OVER_HTTP)


@pytest.mark.parametrize(
    ("url", "sent"),
    [
        ("https://www.x.example/shop/cart", "deep=3; host=1; wide=2"),
        ("https://www.x.example/shopping", "host=1; wide=2"),
        ("https://x.example/shop", "wide=2"),
        ("http://www.x.example/", "wide=2"),
        ("https://y.example/", None),
    ],
)
def test_jar_sends_what_a_browser_would(url, sent):
    jar = CookieJar()
    jar.take(("host=1; Path=/; Secure", "wide=2; Path=/; Domain=x.example", "deep=3", "gone=4; Max-Age=0"), HTTPS, NOW)
    assert jar.field_for(read_url(url)) == sent


@pytest.mark.parametrize(
    ("field", "masked"),
    [
        ("session=4f2a; Path=/", "session=****; Path=/"),
        ("nameless", "********"),
        ("a=x\x07y", "a=*\x07*"),
        ("a=b=c;Secure", "a=***;Secure"),
        ("a=", "a="),
    ],
)
def test_values_are_masked(field, masked):
    assert mask_set_cookie(field) == masked


@pytest.mark.parametrize(
    ("status", "locations", "expected"),
    [
        (301, ("/a",), "https://www.x.example/a"),
        (308, ("https://y.example",), "https://y.example/"),
        (301, ("/a", "/a"), "https://www.x.example/a"),
        (300, ("/a",), NoRedirect),
        (304, ("/a",), NoRedirect),
        (200, ("/a",), NoRedirect),
        (302, (), NoRedirect),
        (302, (" ",), NoRedirect),
    ],
)
def test_where_a_browser_goes_next(status, locations, expected):
    found = next_url(status, locations, HTTPS)
    assert (found if found is NoRedirect else str(found)) == expected


def test_two_different_locations_are_an_error():
    with pytest.raises(InvalidUrl, match="2 Location fields that differ"):
        next_url(301, ("/a", "/b"), HTTPS)


def test_siblings():
    def is_apex(name: str) -> bool:
        return name == "x.example"

    assert [sibling_of(n, is_apex) for n in ("x.example", "www.x.example", "a.x.example")] == [
        "www.x.example",
        "x.example",
        None,
    ]
    assert are_siblings("www.a.x.example", "a.x.example")
    assert not are_siblings("b.x.example", "x.example")


def test_canonical_is_where_most_ways_in_land():
    landings = ["https://x.example", "https://www.x.example", "https://www.x.example"]
    assert work_out_canonical(landings, "x.example") == "https://www.x.example"
    assert work_out_canonical([], "x.example") == "https://x.example"


def test_paths_for_one_name_and_for_all():
    paths = ("/", "/a?b=c", "T.example/login", "/")
    assert paths_for("x.example", paths) == ("/", "/a?b=c")
    assert paths_for("t.example", paths) == ("/", "/a?b=c", "/login")


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("Sun, 06 Nov 1994 08:49:37 GMT", datetime.datetime(1994, 11, 6, 8, 49, 37, tzinfo=datetime.UTC)),
        ("Sunday, 06-Nov-94 08:49:37 GMT", datetime.datetime(1994, 11, 6, 8, 49, 37, tzinfo=datetime.UTC)),
        ("Nov 6 08:49:37 2069", datetime.datetime(2069, 11, 6, 8, 49, 37, tzinfo=datetime.UTC)),
        ("06 nov 69 1:2:3", datetime.datetime(2069, 11, 6, 1, 2, 3, tzinfo=datetime.UTC)),
        ("06 nov 70 1:2:3", datetime.datetime(1970, 11, 6, 1, 2, 3, tzinfo=datetime.UTC)),
        ("06 nov 99 1:2:3", datetime.datetime(1999, 11, 6, 1, 2, 3, tzinfo=datetime.UTC)),
        ("06 nov 100 1:2:3", None),
        ("06 Nov 1600 08:49:37", None),
        ("06 Nov 1601 08:49:37", datetime.datetime(1601, 11, 6, 8, 49, 37, tzinfo=datetime.UTC)),
        ("31 Feb 2026 08:49:37", None),
        ("06 Nov 2026 25:00:00", None),
        ("tomorrow", None),
    ],
)
def test_cookie_dates(text, expected):
    assert read_cookie_date(text) == expected


@pytest.mark.parametrize(
    ("attributes", "days"),
    [
        ("Max-Age=86400", 1),
        ("Max-Age=99999999999", 400),
        ("Expires=Tue, 24 Nov 2026 12:00:00 GMT", 1),
        ("Expires=Tue, 24 Nov 2099 12:00:00 GMT", 400),
        ("Max-Age=86400; Expires=Tue, 24 Nov 2099 12:00:00 GMT", 1),
        ("Max-Age=1.5; Expires=Tue, 24 Nov 2026 12:00:00 GMT", 1),
        ("Expires=soon", None),
        ("", None),
    ],
)
def test_life_of_a_cookie(attributes, days):
    cookie = read_set_cookie(f"a=1; {attributes}", HTTPS, NOW)
    assert cookie.life == (datetime.timedelta(days=days) if days is not None else None)


def test_plain_http_may_not_overwrite_a_secure_cookie():
    jar = CookieJar()
    jar.take(("a=1; Secure; Path=/",), HTTPS, NOW)
    jar.take(("a=2; Path=/", "b=3; Path=/"), HTTP, NOW)
    assert jar.field_for(HTTPS) == "a=1; b=3"


@pytest.mark.parametrize(
    ("host", "domain", "refused"),
    [
        ("shop.co.uk", "co.uk", True), ("a.shop.co.uk", "shop.co.uk", False), ("me.github.io", "github.io", True),
        ("b.s3.dualstack.us-east-1.amazonaws.com", "amazonaws.com", True), ("192.0.2.7", "0.2.7", True),
    ],
)  # fmt: skip
def test_no_cookie_for_more_than_the_hosts_own_domain(host, domain, refused):
    """Above the host's own public suffix, private ones included, also where that domain is no suffix itself."""
    read = read_set_cookie(f"a=1; Domain={domain}", read_url(f"https://{host}/"), NOW)
    assert isinstance(read, IgnoredCookie) is refused


@pytest.mark.parametrize(
    ("answers", "sent"),
    [
        pytest.param([["a=1; Path=/"], ["a=; Max-Age=0; Path=/"]], None, id="deleted-by-age"),
        pytest.param([["a=1; Path=/"], ["a=; Expires=Thu, 01 Jan 1970 00:00:00 GMT; Path=/"]], None, id="deleted-by-date"),
        pytest.param([["a=1; Path=/"], ["a=; Max-Age=0; Path=/other"]], "a=1", id="another-path-deletes-nothing"),
        pytest.param([["a=1; Path=/", "a=2; Secure; Path=/"]], "a=2", id="last-of-one-answer"),
        pytest.param([[f"c{n}=1; Path=/" for n in range(MAX_COOKIES)], ["new=1; Path=/", "c0=2; Path=/"]], "; ".join(["c0=2", *(f"c{n}=1" for n in range(1, MAX_COOKIES))]), id="an-update-counts-in-a-full-jar"),
    ],
)  # fmt: skip
def test_what_the_jar_holds_after_answers(answers, sent):
    jar = CookieJar()
    for fields in answers:
        jar.take(tuple(fields), HTTPS, NOW)
    assert jar.field_for(HTTPS) == sent


BODY = b"page"


@pytest.mark.parametrize(
    ("octets", "status", "fields", "oddities"),
    [
        (b"HTTP/1.1 200 OK\r\nA: b\r\n\r\n", 200, (("A", "b"),), []),
        (b"HTTP/1.0 404 \r\nA:b\r\nA: c \r\n\r\n", 404, (("A", "b"), ("A", "c")), []),
        (b"HTTP/1.1 200 OK\r\nA : b\r\n\r\n", 200, (("A", "b"),), ["a blank before the colon of A"]),
        (b"HTTP/1.1 200 OK\nA: b\n\n", 200, (("A", "b"),), ["lines that end in LF alone"]),
        (b"HTTP/1.1 200 OK\r\nA: b\r\n  c\r\n\r\n", 200, (("A", "b c"),), ["a folded field"]),
        (b"HTTP/1.1 200\r\n\r\n", 200, (), ["a status line without the space after the status: 'HTTP/1.1 200'", "no fields"]),
        (b"HTTP/1.1 OK\r\nA: b\r\n\r\n", 200, (("A", "b"),), ["an odd status line: 'HTTP/1.1 OK'"]),
        (b"HTTP/7.3 301 x\r\nA: b\r\n\r\n", 301, (("A", "b"),), ["an odd status line: 'HTTP/7.3 301 x'"]),
        (b"\r\nHTTP/1.1 200 OK\r\nA: b\r\n\r\n", 200, (("A", "b"),), ["octets before the status line"]),
        (b"HTTP/1.1 200 OK\r\nnonsense\r\nA: b\r\n\r\n", 200, (("A", "b"),), ["a line that is no field"]),
        (b"", 200, (), ["no status line and no fields at all (HTTP/0.9)"]),
    ],
)  # fmt: skip
def test_heads_as_browsers_read_them(octets, status, fields, oddities):
    end = find_head(octets + BODY, ended=False) if octets else find_head(b"<!doctype", ended=False)
    assert end == len(octets)
    head = read_head(octets)
    assert (head.status, head.fields, list(head.oddities)) == (status, fields, oddities)


@pytest.mark.parametrize(
    ("octets", "problem"),
    [
        pytest.param(b"", "closed without an answer", id="nothing"),
        pytest.param(b"HTTP/1.1 200 OK", "the connection ended after 15 octets of a head", id="cut"),
        pytest.param(b"HTTP/1.1 200 OK\r\n" + b"A: b\r\n" * 50_000, "its header fields are longer than 256 KiB", id="too-long"),
    ],
)  # fmt: skip
def test_heads_that_browsers_refuse(octets, problem):
    with pytest.raises(DecodeError, match=problem):
        find_head(octets, ended=True)


def test_lengths_that_differ_are_refused_and_one_that_is_none_is_passed_over():
    head = b"HTTP/1.1 200 OK\r\nContent-Length: 1\r\nContent-Length: %s\r\n\r\n"
    with pytest.raises(DecodeError, match="two values of Content-Length that differ"):
        read_head(head % b"2")
    assert b"Content-Length: 1\r\n" in read_head(head % b"many").framing


@given(st.binary(max_size=300), st.booleans())
def test_hostile_heads_end_in_a_head_or_decode_error(octets, ended):
    try:
        end = find_head(b"HTTP/1.1 " + octets, ended=ended)
        head = read_head((b"HTTP/1.1 " + octets)[: end or 0])
    except DecodeError:
        return
    assert 100 <= head.status <= 999
