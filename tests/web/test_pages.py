"""Where URLs stand in pages and style sheets, and what else a page says."""

import time

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pewter.evidence import Move, Statement, Use
from pewter.web.debug_pages import debug_signs
from pewter.web.further_ways import choose_ways_in
from pewter.web.pages import decode_page, has_upgrade_directive, read_page, read_sitemap, read_style_sheet
from pewter.web.urls import read_url

HERE = read_url("https://www.x.example/shop/")
P = "http://cdn.example/p"


def uses(body: str) -> list[tuple[Use, str]]:
    return [(each.use, each.place) for each in read_page(body.encode(), HERE).references]


@pytest.mark.parametrize(
    ("body", "found"),
    [
        (f"<script src={P}></script>", [(Use.SCRIPT, "script src")]),
        (f"<link rel=stylesheet href={P}>", [(Use.STYLE, "link rel=stylesheet")]),
        (f"<link rel=preload as=font href={P}>", [(Use.PRELOAD, "link rel=preload")]),
        (f"<link rel=manifest href={P}>", [(Use.MANIFEST, "link rel=manifest")]),
        (f'<link rel="shortcut icon" href={P}>', [(Use.IMAGE, "link rel=icon")]),
        (f"<iframe src={P}></iframe>", [(Use.FRAME, "iframe src")]),
        (f"<embed src={P}>", [(Use.PLUGIN, "embed src")]),
        (f"<object data={P}></object>", [(Use.PLUGIN, "object data")]),
        (f"<img src={P}>", [(Use.IMAGE, "img src")]),
        (f"<img src=/a srcset='{P} 1x, /b 2x'>", [(Use.IMAGE_SET, "img srcset")]),
        (f"<picture><source srcset='{P} 2x'><img src={P}></picture>", [(Use.IMAGE_SET, "source srcset"), (Use.IMAGE_SET, "img src")]),
        (f"<video src={P} poster={P}></video>", [(Use.AUDIO_VIDEO, "video src"), (Use.IMAGE, "video poster")]),
        (f"<audio><source src={P}></audio>", [(Use.AUDIO_VIDEO, "source src")]),
        (f"<video><track src={P}></video>", [(Use.TRACK, "track src")]),
        (f"<body background={P}>", [(Use.IMAGE, "body background")]),
        (f"<input type=image src={P}>", [(Use.IMAGE, "input src")]),
        (f"<svg><image href={P} /></svg>", [(Use.IMAGE, "image href")]),
        (f"<svg><image xlink:href={P} /></svg>", [(Use.IMAGE, "image xlink:href")]),
        (f"<p style='background: url({P})'>", [(Use.IMAGE, "style attribute")]),
        (f"<style>@import '{P}.css'; p{{background:url(\"{P}\")}}</style>", [(Use.STYLE, "@import"), (Use.IMAGE, "style element")]),
        (f"<style>@font-face{{src:url({P})}}</style>", [(Use.FONT, "@font-face")]),
        (f"<style>/* url({P}) */</style>", []),
        (f"<script>fetch('{P}')</script>", [(Use.FETCH, "inline script")]),
        ("<script>new WebSocket('ws://x.example/s')</script>", [(Use.FETCH, "inline script")]),
        (f"<script>x.open('GET', '{P}')</script>", [(Use.FETCH, "inline script")]),
        (f"<form action={P}></form><button formaction={P}>", [(Use.FORM, "form action"), (Use.FORM, "button formaction")]),
        (f"<a href={P}>x</a>", [(Use.LINK, "a href")]),
        # no part of a shown page, or no URL that is fetched
        (f"<noscript><img src={P}></noscript><template><img src={P}></template>", []),
        (f"<!-- <img src={P}> -->", []),
        (f"<script type=application/ld+json>{{\"url\": \"{P}\"}}; fetch('{P}')</script>", []),
        ("<img src=//cdn.example/a><img src=a><img src='data:image/png,x'><a href=mailto:x>", []),
        ("<base href=http://old.example/><img src=a.png>", [(Use.IMAGE, "img src")]),
    ],
)  # fmt: skip
def test_every_place_of_a_url(body, found):
    assert uses(body) == found


def test_form_method_and_resolution():
    page = read_page(b"<base href='http://old.example/a/'><form method=POST action='../send?x=1'></form>", HERE)
    (form,) = page.references
    assert (form.url, form.post) == ("http://old.example/send?x=1", True)
    assert page.statements == (Statement("base", "http://old.example/a/"),)


def test_what_the_page_claims_and_where_it_moves():
    page = read_page(
        b"""<title> A &amp; B </title><link rel=canonical href=http://x.example/>
        <meta property=og:url content=/here><link rel=alternate hreflang=fr href=/fr>
        <link rel=alternate type=application/rss+xml href=/feed>
        <meta http-equiv=refresh content="0;URL='/next'">
        <script>window.location.href = "https://y.example/"; location.replace('/z')</script>
        <link rel=stylesheet href=/s.css><link rel=stylesheet href=https://cdn.example/c.css>
        <a href=/login>l</a><a href=https://www.x.example/a/b?c=d>m</a><a href=https://y.example/q>n</a><a href=/>h</a>
        <meta http-equiv=Content-Security-Policy content="img-src *; Upgrade-Insecure-Requests">""",
        HERE,
    )
    assert page.title == "A & B"
    assert page.statements == (
        Statement("canonical", "http://x.example/"), Statement("og:url", "https://www.x.example/here"),
        Statement("hreflang", "https://www.x.example/fr"), Statement("feed", "https://www.x.example/feed"),
    )  # fmt: skip
    assert page.moves == (
        Move("meta refresh", "https://www.x.example/next"), Move("script", "https://y.example/"), Move("script", "https://www.x.example/z"),
    )  # fmt: skip
    assert page.style_sheets == ("https://www.x.example/s.css",)
    assert page.inner_links == ("/login", "/a/b?c=d")
    assert page.upgrades_requests


@pytest.mark.parametrize("content", ["30", "5", "", "x;url=/", "99; url=/late"])
def test_refreshes_that_are_no_moves(content):
    assert read_page(f'<meta http-equiv=refresh content="{content}">'.encode(), HERE).moves == ()


@pytest.mark.parametrize(
    ("octets", "content_type", "text"),
    [
        (b"caf\xc3\xa9", "text/html", "caf\xe9"),
        (b"caf\xe9", "text/html; charset=ISO-8859-1", "caf\xe9"),
        (b"<meta charset=windows-1252>\x80", "", "<meta charset=windows-1252>\u20ac"),
        (b"\xef\xbb\xbfcaf\xc3\xa9", "text/html; charset=latin-1", "caf\xe9"),
        (b"\xff\xfea\x00", "", "a"),
        (b"caf\xe9", "text/html; charset=no-such-charset", "caf\ufffd"),
    ],
)
def test_charsets(octets, content_type, text):
    assert decode_page(octets, content_type) == text


@settings(max_examples=150, deadline=None)
@given(st.binary(max_size=400))
def test_hostile_pages_never_raise(octets):
    read_page(octets, HERE)
    read_page(b"<a href='" + octets + b"'><style>@import '" + octets, HERE)
    read_style_sheet(octets, HERE)


@pytest.mark.parametrize(
    "body",
    [
        b"<div>" * 100_000,
        b"<a href=/x>" * 50_000,
        b"<img src=http://a/" + b"b" * 500_000,
        b"url(" * 100_000,
        b"<style>" + b"/*" * 200_000,
    ],
    ids=["deep", "links", "long-url", "style", "comments"],
)
def test_hostile_pages_are_read_in_time(body):
    begun = time.perf_counter()
    read_page(body, HERE)
    read_style_sheet(body, HERE)
    assert time.perf_counter() - begun < 3


def test_style_sheet_of_its_own():
    sheet = read_style_sheet(b"@import url(http://a.example/x.css); p { background: url('b.png') }", HERE)
    assert [(each.url, each.use) for each in sheet.references] == [("http://a.example/x.css", Use.STYLE)]


@pytest.mark.parametrize(
    ("policy", "expected"),
    [
        ("upgrade-insecure-requests", True),
        ("default-src *; UPGRADE-INSECURE-REQUESTS ;", True),
        ("block-all-mixed-content", False),
        ("", False),
    ],
)
def test_upgrade_directive(policy, expected):
    assert has_upgrade_directive(policy) is expected


@pytest.mark.parametrize(
    ("text", "signs"),
    [
        ("Traceback (most recent call last):", ("a Python traceback",)),
        ("You're seeing this error because you have <code>DEBUG = True</code>", ("Django's debug page",)),
        ("<title>The debugger caught an exception in your WSGI application</title>", ("the Werkzeug debugger",)),
        ("Illuminate\\Database\\QueryException", ("Laravel's exception page",)),
        ("<b>Fatal error</b>: Uncaught Error in <b>/var/www/x.php</b>", ("a PHP error with its file",)),
        ("Rails.root: /srv/app", ("Rails' exception page",)),
        ("java.lang.NullPointerException\n  at com.acme.App.run(App.java:12)", ("a Java stack trace",)),
        ("Whitelabel Error Page", ("Spring's error page",)),
        ("Server Error in '/' Application.", ("an ASP.NET error page",)),
        ("at Object.run (/srv/app/node_modules/express/lib/router.js:1:2)", ("a Node.js stack trace",)),
        ("<center>nginx/1.22.1</center>", ("a server's version",)),
        ("<h3>Apache Tomcat/9.0.1</h3>", ("Apache Tomcat's version",)),
        ("You have an error in your SQL syntax", ("a database error",)),
        ("<center>nginx</center> 404 not found; an error occurred", ()),
    ],
)
def test_signs_of_debug_pages(text, signs):
    assert debug_signs(text) == signs


def test_further_ways_in():
    links = (
        "/logout",
        "/about",
        "/user/login",
        "/login2",
        "/my-account",
        "/a/b/c",
        "/search?q=x",
        "/admin/",
        "/files/x.pdf",
    )
    assert list(choose_ways_in(links, ())) == [
        ("/user/login", "login"), ("/my-account", "account"), ("/admin/", "admin"), ("/search?q=x", "search"),
    ]  # fmt: skip
    assert list(choose_ways_in(("/a/b/c", "/x"), ())) == [("/a/b/c", "deep page")]
    assert list(choose_ways_in(("/login",), ("/login",))) == []


def test_sitemap():
    octets = (
        b"<urlset><url><loc> http://www.x.example/a?b=1&amp;c=2 </loc></url><url><loc>mailto:x</loc></url></urlset>"
    )
    assert read_sitemap(octets, HERE).statements == (Statement("sitemap", "http://www.x.example/a?b=1&c=2"),)
    assert read_sitemap(b"<loc>" * 100_000, HERE).statements == ()
