"""HAR recordings: what is taken over, and what never is."""

import base64
import json

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.evidence import Landed, StopCause, WayIn
from pewter.web.har import HarError, read_har
from pewter.web.secrets import mask_field, without_secrets, without_secrets_in
from pewter.web.urls import read_url
from support.certificates import NOW


def entry(url, status=200, *headers, content=None, **request):
    return {
        "startedDateTime": "2026-11-23T13:00:00.000+01:00",
        "serverIPAddress": "192.0.2.10",
        "request": {
            "url": url,
            "method": "GET",
            "headers": [{"name": "Cookie", "value": "session=topsecret"}],
            **request,
        },
        "response": {
            "status": status,
            "headers": [{"name": name, "value": value} for name, value in headers],
            "content": content or {},
        },
    }


def har(*entries) -> bytes:
    return json.dumps({"log": {"version": "1.2", "entries": list(entries)}}).encode()


LOGIN = entry(
    "https://x.example/login?next=/account&token=topsecret", 302,
    ("Location", "/account?ticket=topsecret"), ("Set-Cookie", "session=topsecret; Path=/; HttpOnly\ncsrf=topsecret"),
    ("X-Auth", "topsecret"), postData={"text": "password=topsecret"},
)  # fmt: skip
ACCOUNT = entry(
    "https://x.example/account?ticket=topsecret", 200, ("Strict-Transport-Security", "max-age=5"), ("content-type", "text/html"),
    content={"mimeType": "text/html", "text": "<title>topsecret</title><img src=http://x.example/i?key=topsecret><p>topsecret"},
)  # fmt: skip
IMAGE = entry("https://cdn.example/i.png", 200)


def parts_of(octets: bytes):
    """Journeys and pages, where nothing is left out."""
    found = read_har(octets, NOW)
    assert not (found.answers_left_out or found.pages_left_out)
    return found.journeys, found.pages


def test_what_is_too_much_is_said():
    long = "x" * (9 << 20)
    shown = {"mimeType": "text/html", "text": "<p>" + "x" * (1 << 20)}
    many = [entry(f"https://x.example/{number}", content=shown) for number in range(17)]
    found = read_har(har(entry("https://x.example/long", content={"mimeType": "text/html", "text": long}), *many), NOW)
    assert (len(found.journeys), len(found.pages)) == (18, 8)
    assert found.pages_left_out == 10
    found = read_har(har(*[entry(f"https://x.example/{number}") for number in range(5002)]), NOW)
    assert (len(found.journeys), found.answers_left_out) == (5000, 2)


def test_redirects_become_a_journey():
    journeys, pages = parts_of(har(LOGIN, IMAGE, ACCOUNT))
    login, image = journeys
    assert [hop.url for hop in login.hops] == [
        "https://x.example/login?next=&token=",
        "https://x.example/account?ticket=",
    ]
    assert (login.reason, login.end, image.hops[0].url) == (WayIn.RECORDED, Landed(), "https://cdn.example/i.png")
    assert login.hops[0].values("Set-Cookie") == ("session=*********; Path=/; HttpOnly", "csrf=*********")
    assert login.hops[1].values("strict-transport-security") == ("max-age=5",)
    assert login.hops[0].at == NOW
    assert pages[0].references[0].url == "http://x.example/i?key="
    assert login.hops[1].page == pages[0].sha256


def test_nothing_secret_is_taken_over():
    assert b"topsecret" not in msgspec.json.encode(read_har(har(LOGIN, IMAGE, ACCOUNT), NOW))


def test_base64_pages():
    text = base64.b64encode(b"<script src=http://a.example/x.js></script>").decode()
    _, pages = parts_of(
        har(entry("https://x.example/", content={"mimeType": "text/html", "text": text, "encoding": "base64"}))
    )
    assert pages[0].references[0].url == "http://a.example/x.js"


def test_what_is_passed_over():
    journeys, _ = parts_of(
        har(entry("data:text/html,x"), entry("https://x.example/", 0), entry("chrome-extension://x/"))
    )
    assert journeys == ()


def test_redirect_that_cannot_be_followed():
    (journey,), _ = parts_of(har(entry("https://x.example/", 302, ("Location", "file:///x"))))
    assert journey.end.cause is StopCause.BAD_LOCATION


@pytest.mark.parametrize(
    "octets",
    [
        b"",
        b"{",
        b"[]",
        b'{"log": {}}',
        b'{"log": {"entries": [{"request": 1}]}}',
        b"\xff\xfe",
        har(LOGIN)[:-30],
        b"[" * 100_000,
    ],
    ids=["empty", "open", "list", "no-entries", "wrong-type", "no-text", "cut-short", "deep"],
)
def test_what_is_no_recording(octets):
    with pytest.raises(HarError):
        read_har(octets, NOW)


@given(
    st.recursive(
        st.none() | st.text() | st.integers(), lambda c: st.lists(c) | st.dictionaries(st.text(), c), max_leaves=6
    )
)
def test_hostile_recordings_return_or_raise_har_error(content):
    try:
        read_har(json.dumps({"log": {"entries": [{"request": content, "response": {}}, content]}}).encode(), NOW)
    except HarError:
        pass


@pytest.mark.parametrize(
    ("text", "kept"),
    [
        ("https://x.example/a?b=c&d", "https://x.example/a?b=&"),
        ("https://x.example/a", "https://x.example/a"),
        ("https://x.example/?", "https://x.example/?"),
        ("https://x.example/a;jsessionid=4f2a/b;v?x=1", "https://x.example/a;jsessionid=/b;?x="),
        (f"https://x.example/?{'n' * 41}=v", "https://x.example/?="),
    ],
)
def test_urls_keep_names_alone(text, kept):
    assert str(without_secrets(read_url(text))) == kept
    assert without_secrets_in(text) == kept


SECRET = "s3cr3t-7f9aC0ffee"
TEXTS = {
    "query": "/a?token={}", "long-name": "/a?" + "n" * 60 + "={}", "second": "/a?q=1&token={}", "bare": "/a?{}", "fragment": "/a#access_token={}",
    "bare-fragment": "/a#{}", "fragment-behind-query": "/a?q=1#t={}", "parameter": "/a;jsessionid={}", "bare-parameter": "/a;{}/b",
    "user": "https://me:{}@x.example/", "user-alone": "https://{}@x.example/", "two-users": "https://a@{}@x.example/", "backslashes": "https:\\\\me:{}@x.example\\",
    "no-slash": "https:me:{}@x.example/", "relative-user": "//me:{}@x.example/",
}  # fmt: skip
PAGES = {
    "reference": "<img src='http://x.example/i?key={}'>", "fragment": "<a href='http://x.example/#{}'>x</a>", "form": "<form action='http://x.example/f?k={}'>",
    "canonical": "<link rel=canonical href='/a?s={}'>", "title": "<title>{}</title>", "text": "<p>{}", "style": "<link rel=stylesheet href='/s.css?v={}'>",
    "refresh": "<meta http-equiv=refresh content='0;url=/a?t={}'>", "script-move": "<script>location='/a?t={}'</script>", "comment": "<!-- {} -->",
    "fetch": "<script>fetch('http://x.example/?k={}')</script>", "user": "<img src='http://me:{}@x.example/i'>", "csp": "<meta http-equiv=Content-Security-Policy content='report-uri /r?t={}'>",
    "parameter": "<img src='http://x.example/i;s={}'>", "value": "<input type=hidden name=csrf value='{}'>", "base": "<base href='/a?b={}'><a href=x>",
}  # fmt: skip
COOKIES = {
    "value": "a={}", "nameless": "{}", "quoted": 'a="{}"', "second-joined": "a=1, b={}", "joined-behind-attributes": "a=1; Path=/, b={}; Secure",
    "unknown-attribute": "a=1; Path=/; Ticket={}", "bare-attribute": "a=1; {}", "two-lines": "a=1\nb={}", "prefix": "__Host-{}", "deleted": "a={}; Max-Age=0",
    "expires-joined": "a=1; Expires=Thu, 01 Jan 2099 00:00:00 GMT, b={}",
}  # fmt: skip
NAMES = {"plain": "Set-Cookie", "lower": "set-cookie", "blank": "Set-Cookie ", "tab": "Set-Cookie\t", "second": "Set-Cookie2", "cookie": "Cookie", "token": "X-Auth-Token"}  # fmt: skip


def planted(template: str) -> str:
    return template.replace("{}", SECRET)


RECORDED = [
    *(pytest.param(entry(planted("https://x.example" + text)), id=f"url-{title}") for title, text in TEXTS.items() if text[0] == "/" and text[1] != "/"),
    *(pytest.param(entry("https://x.example/", 302, ("Location", planted(text))), id=f"location-{title}") for title, text in TEXTS.items()),
    *(pytest.param(entry("https://x.example/", 200, ("Content-Security-Policy", planted(f"report-uri https://r.example{text}"))), id=f"policy-{title}") for title, text in TEXTS.items() if text[0] == "/"),
    *(pytest.param(entry("https://x.example/", content={"mimeType": "text/html", "text": planted(text)}), id=f"page-{title}") for title, text in PAGES.items()),
    *(pytest.param(entry("https://x.example/", 200, (NAMES["blank"], planted(text))), id=f"cookie-{title}") for title, text in COOKIES.items()),
    *(pytest.param(entry("https://x.example/", 200, (name, planted("a={}"))), id=f"field-{title}") for title, name in NAMES.items()),
    pytest.param({**entry("https://x.example/"), "serverIPAddress": SECRET}, id="address"),
    pytest.param({**entry("https://x.example/"), "startedDateTime": SECRET}, id="time"),
    pytest.param(entry("https://x.example/", method=SECRET), id="method"),
]  # fmt: skip


@pytest.mark.parametrize("recorded", RECORDED)
def test_no_planted_secret_is_kept_of_a_recording(recorded):
    assert SECRET.encode() not in msgspec.json.encode(read_har(har(recorded), NOW))


@pytest.mark.parametrize("cookie", COOKIES.values(), ids=COOKIES)
@pytest.mark.parametrize("name", NAMES.values(), ids=NAMES)
def test_no_planted_secret_is_kept_of_a_field(name, cookie):
    assert SECRET not in mask_field(name, planted(cookie))


@pytest.mark.parametrize(
    ("name", "value", "kept"),
    [
        ("Location", "https://me:pw@x.example/a?b=c#d", "https://x.example/a?b=c#d"),
        ("Link", "<https://a@b@x.example/>; rel=x", "<https://x.example/>; rel=x"),
        ("WWW-Authenticate", "Basic realm=x", "Basic realm=x"),
        ("Strict-Transport-Security", "max-age=1", "max-age=1"),
        ("X-Api-Key", "abc", "***"),
        ("Set-Cookie", "a=1; Path=/; http-only; Odd=x; Expires=Thu, 01 Jan 2099 00:00:00 GMT", "a=*; Path=/; http-only; Odd=*; Expires=Thu, 01 Jan 2099 00:00:00 GMT"),
    ],
)  # fmt: skip
def test_what_stays_of_a_field(name, value, kept):
    assert mask_field(name, value) == kept


@pytest.mark.parametrize(
    "moment", ["0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59-12:00", "yesterday", "", "2026-13-01"]
)
def test_odd_dates_are_passed_over(moment):
    (journey,), _ = parts_of(har({**entry("https://x.example/"), "startedDateTime": moment}))
    assert journey.hops[0].at == NOW


def test_base64_that_is_no_ascii_is_no_page():
    content = {"mimeType": "text/html", "text": "caf\u00e9", "encoding": "base64"}
    assert parts_of(har(entry("https://x.example/", content=content)))[1] == ()
