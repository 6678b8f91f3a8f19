import datetime

import pytest

from pewter.web.cookies import Cookie, CookieJar, mask_set_cookie, read_cookie_date, read_set_cookie
from pewter.web.fields import IgnoredField
from pewter.web.redirects import NoRedirect, next_url
from pewter.web.sites import are_siblings, paths_for, sibling_of, work_out_canonical
from pewter.web.urls import InvalidUrl, read_url
from support.certificates import NOW

HTTPS, HTTP = read_url("https://www.x.example/shop/cart"), read_url("http://www.x.example/shop/cart")


def is_suffix(domain: str) -> bool:
    return domain in {"example", "co.example"}


def kept(name="a", value="1", domain="www.x.example", host_only=True, path="/shop", secure=False, **others):
    return Cookie(name, value, domain, host_only, path, secure, **others)


@pytest.mark.parametrize(
    ("field", "expected"),
    [
        pytest.param("a=1", kept(), id="plain"),
        pytest.param(" a = 1 ; Path=/", kept(path="/"), id="blanks"),
        pytest.param('a="1;2"', kept(value='"1'), id="quotes-protect-nothing"),
        pytest.param("1", kept(name="", value="1"), id="nameless"),
        pytest.param("a=b=c", kept(value="b=c"), id="first-equals-sign"),
        pytest.param("a=1; path=shop", kept(), id="path-without-slash"),
        pytest.param("a=1; Path=/x; Path=/y", kept(path="/y"), id="last-attribute-counts"),
        pytest.param("a=1; Domain=.x.example", kept(domain="x.example", host_only=False), id="domain-with-dot"),
        pytest.param("a=1; Domain=", kept(), id="empty-domain"),
        pytest.param("a=1; SECURE=false", kept(secure=True), id="secure-with-any-value"),
        pytest.param("__Host-a=1; Secure; Path=/", kept(name="__Host-a", path="/", secure=True), id="host-prefix"),
        pytest.param("a=1; Path=/" + "p" * 1024, kept(), id="long-attribute-is-ignored"),
        pytest.param("=", IgnoredField("name and value are empty"), id="empty"),
        pytest.param("a=1\x07", IgnoredField("a control character"), id="control"),
        pytest.param("a=" + "v" * 4096, IgnoredField("name and value are over 4096 octets"), id="too-long"),
        pytest.param("a=1; Max-Age=0", IgnoredField("it has expired already"), id="expired"),
        pytest.param("a=1; SameSite=None", IgnoredField("SameSite=None without Secure"), id="none-without-secure"),
        pytest.param(
            "a=1; Domain=y.example", IgnoredField("Domain y.example does not match www.x.example"), id="foreign"
        ),
        pytest.param("a=1; Domain=example", IgnoredField("Domain example is a public suffix"), id="suffix"),
        pytest.param("__host-a=1; Secure", IgnoredField("the prefix __Host- without Path=/"), id="no-path"),
        pytest.param("__Secure-a=1", IgnoredField("the prefix __Secure- without Secure"), id="secure-prefix"),
        pytest.param(
            "__Secure-; Secure",
            IgnoredField("no name, and a value that begins like a name prefix"),
            id="nameless-prefix",
        ),
    ],
)
def test_read_set_cookie(field, expected):
    assert read_set_cookie(field, HTTPS, is_suffix, NOW) == expected


def test_secure_cookie_over_http_is_dropped():
    assert read_set_cookie("a=1; Secure", HTTP, is_suffix, NOW) == IgnoredField("Secure in a plain http answer")


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
    jar = CookieJar(is_suffix)
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
        ("06 Nov 1600 08:49:37", None),
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
    cookie = read_set_cookie(f"a=1; {attributes}", HTTPS, is_suffix, NOW)
    assert cookie.life == (datetime.timedelta(days=days) if days is not None else None)


def test_plain_http_may_not_overwrite_a_secure_cookie():
    jar = CookieJar(is_suffix)
    jar.take(("a=1; Secure; Path=/",), HTTPS, NOW)
    jar.take(("a=2; Path=/", "b=3; Path=/"), HTTP, NOW)
    assert jar.field_for(HTTPS) == "a=1; b=3"
