"""HAR recordings: what is taken over, and what never is."""

import base64
import json

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.evidence import Landed, StopCause
from pewter.web.har import HarError, read_har, without_query_values
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


def test_redirects_become_a_journey():
    journeys, pages = read_har(har(LOGIN, IMAGE, ACCOUNT), NOW)
    login, image = journeys
    assert [hop.url for hop in login.hops] == [
        "https://x.example/login?next=&token=",
        "https://x.example/account?ticket=",
    ]
    assert (login.reason, login.end, image.hops[0].url) == ("recorded", Landed(), "https://cdn.example/i.png")
    assert login.hops[0].values("Set-Cookie") == ("session=*********; Path=/; HttpOnly", "csrf=*********")
    assert login.hops[1].values("strict-transport-security") == ("max-age=5",)
    assert login.hops[0].at == NOW
    assert pages[0].references[0].url == "http://x.example/i?key="
    assert login.hops[1].page == pages[0].sha256


def test_nothing_secret_is_taken_over():
    assert b"topsecret" not in msgspec.json.encode(read_har(har(LOGIN, IMAGE, ACCOUNT), NOW))


def test_base64_pages():
    text = base64.b64encode(b"<script src=http://a.example/x.js></script>").decode()
    _, pages = read_har(
        har(entry("https://x.example/", content={"mimeType": "text/html", "text": text, "encoding": "base64"})), NOW
    )
    assert pages[0].references[0].url == "http://a.example/x.js"


def test_what_is_passed_over():
    journeys, _ = read_har(
        har(entry("data:text/html,x"), entry("https://x.example/", 0), entry("chrome-extension://x/")), NOW
    )
    assert journeys == ()


def test_redirect_that_cannot_be_followed():
    (journey,), _ = read_har(har(entry("https://x.example/", 302, ("Location", "file:///x"))), NOW)
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
    ],
)
def test_queries_keep_their_names_alone(text, kept):
    assert str(without_query_values(read_url(text))) == kept
