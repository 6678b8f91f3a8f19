"""Where URLs stand in pages and style sheets, and what else a page says."""

import time
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pewter.evidence import Move, MoveKind, Statement, StatementKind, Use
from pewter.web.debug_pages import debug_signs, versions_in_field
from pewter.web.further_ways import choose_ways_in
from pewter.web.markup import EndTag, StartTag, read_markup
from pewter.web.pages import decode_page, has_upgrade_directive, read_page, read_sitemap, read_style_sheet
from pewter.web.refresh import Refresh, read_refresh
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
        (f"<script type=application/ld+json src={P}>fetch('{P}')</script><script type=text/x-template>fetch('{P}')</script>", []),
        (f"<script language=vbscript src={P}></script><script type=importmap src={P}></script>", []),
        (f"<script type=module src={P}></script><script type=' Text/JavaScript ' src={P}2>", [(Use.SCRIPT, "script src")] * 2),
        (f"<iframe srcdoc=\"<script src='{P}'></script><img src={P}>\">", [(Use.SCRIPT, "script src in srcdoc"), (Use.IMAGE, "img src in srcdoc")]),
        ("<img src='ht\ttp://cdn.exa\nmple/p'>", [(Use.IMAGE, "img src")]),
        (f"<image src={P}><picture><img src={P}1></picture>", [(Use.IMAGE, "img src")] * 2),
        (f"<img srcset='/a, {P} 2x'>", [(Use.IMAGE_SET, "img srcset")]),
        (f"<style>p{{background:image-set('{P}' 1x)}} q{{background:ur\\6c({P}2)}}</style>", [(Use.IMAGE, "style element")] * 2),
        (f"<style>q{{content:'{P}'}} @namespace url({P});</style>", []),
        (f"<script type=module>import x from '{P}'; import \"{P}2\"; export * from '{P}3'; let y = 'import {P}4'</script>", [(Use.SCRIPT, "import in a module")] * 3),
        (f"<script>import x from '{P}'</script>", []),
        (f"<script nomodule src={P}></script><script nomodule type=module src={P}2></script>", [(Use.SCRIPT, "script src")]),
        (f"<iframe src=\"data:text/html,<script src='{P}'></script>\">", [(Use.SCRIPT, "script src in srcdoc")]),
        ("<iframe src='data:text/html;charset=utf-8;base64,PHNjcmlwdCBzcmM9aHR0cDovL2Nkbi5leGFtcGxlL3A+PC9zY3JpcHQ+'>", [(Use.SCRIPT, "script src in srcdoc")]),
        (f"<iframe src='data:text/plain,<img src={P}>'><iframe src='data:text/html;base64,####'>", []),
        (f"<table background={P}><tr background={P}2><td background={P}3>", [(Use.IMAGE, "table background"), (Use.IMAGE, "tr background"), (Use.IMAGE, "td background")]),
        (f"<img srcset='{P} 1q, {P}2 1x 2x, {P}3 0w, {P}4 -1x, {P}5 1w 1x, {P}6 7h, {P}7 1w 2h, {P}8 1.5e3x, {P}9 (a,b)'>", [(Use.IMAGE_SET, "img srcset")] * 2),
        (f"<script><!--<script></script><img src={P}></script><img src={P}2>", [(Use.IMAGE, "img src")]),
        (f"<script><!--><script></script><img src={P}>", [(Use.IMAGE, "img src")]),
        (f"<script><!--<scripty></script><img src={P}>", [(Use.IMAGE, "img src")]),
        (f"<svg><![CDATA[<img src={P}>]]></svg><img src={P}2>", [(Use.IMAGE, "img src")]),
        (f"<img src='{P}?a&noti;b&#00000000104;'>", [(Use.IMAGE, "img src")]),
        # names that must pick nothing of ours
        ("<refresh><srcset><style_text><anchor><take><_take><read content='0;url=http://x'>", []),
        ("<img src=//cdn.example/a><img src=a><img src='data:image/png,x'><a href=mailto:x>", []),
        ("<base href=http://old.example/><img src=a.png>", [(Use.IMAGE, "img src")]),
    ],
)  # fmt: skip
def test_every_place_of_a_url(body, found):
    assert uses(body) == found


@pytest.mark.parametrize(
    ("markup", "upgrades", "early"),
    [
        pytest.param("{m}{p}", True, False, id="in-time"),
        pytest.param("{p}{m}", True, True, id="behind-the-part"),
        pytest.param("<title>x</title>{m}{p}", True, False, id="behind-what-belongs-to-the-head"),
        pytest.param("<p>x</p>{m}{p}", False, False, id="in-the-body"),
        pytest.param("<body>{m}{p}", False, False, id="at-the-beginning-of-the-body"),
    ],
)
def test_where_a_policy_stands(markup, upgrades, early):
    policy = "<meta http-equiv=Content-Security-Policy content=upgrade-insecure-requests>"
    page = read_page(markup.format(m=policy, p=f"<script src={P}></script>").encode(), HERE)
    assert (page.upgrades_requests, [each.is_early for each in page.references]) == (upgrades, [early])


@pytest.mark.parametrize(
    ("octets", "text"),
    [
        pytest.param(b"<meta charset=utf-16>\xc3\xa9", "é", id="utf-16-means-utf-8"),
        pytest.param(b"<!-- <meta charset=latin1> -->\xc3\xa9", "é", id="in-a-comment"),
        pytest.param(b"<p title='<meta charset=latin1>'>\xc3\xa9", "é", id="in-an-attribute"),
        pytest.param(b"<meta name=x content='charset=latin1'>\xc3\xa9", "é", id="of-another-meta"),
        pytest.param(
            b"<meta http-equiv=content-type content='text/html; charset=latin1'>\xe9", "é", id="of-content-type"
        ),
        pytest.param(b"\xef\xbb\xbf<meta charset=latin1>\xc3\xa9", "é", id="a-mark-goes-first"),
        pytest.param("\ufeff<meta charset=latin1>é".encode("utf-16-le"), "é", id="a-mark-of-utf-16"),
        pytest.param(b"<!--" + b"x" * 2000 + b"--><meta charset=latin1>\xe9", "é", id="further-down"),
        pytest.param(b"<?xml version='1.0' encoding='latin1'?>\xe9", "é", id="of-xml"),
    ],
)
def test_encodings_of_pages(octets, text):
    assert decode_page(octets, "text/html").endswith(text)


def test_form_method_and_resolution():
    page = read_page(b"<base href='http://old.example/a/'><form method=POST action='../send?x=1'></form>", HERE)
    (form,) = page.references
    assert (form.url, form.post) == ("http://old.example/send?x=1", True)
    assert page.statements == (Statement(StatementKind.BASE, "http://old.example/a/"),)


def test_what_the_page_claims_and_where_it_moves():
    page = read_page(
        b"""<title> A &amp; B </title><link rel=canonical href=http://x.example/>
        <meta property=og:url content=/here><link rel=alternate hreflang=fr href=/fr>
        <link rel=alternate type=application/rss+xml href=/feed>
        <meta http-equiv=refresh content="0;URL='/next'">
        <script>window.location.href = "https://y.example/"; location.replace('/z')</script>
        <link rel=stylesheet href=/s.css><link rel=stylesheet href=https://cdn.example/c.css>
        <meta http-equiv=Content-Security-Policy content="img-src *; Upgrade-Insecure-Requests">
        <a href=/login>l</a><a href=https://www.x.example/a/b?c=d>m</a><a href=https://y.example/q>n</a><a href=/>h</a>""",
        HERE,
    )
    assert page.title == "A & B"
    assert page.statements == (
        Statement(StatementKind.CANONICAL, "http://x.example/"), Statement(StatementKind.OG_URL, "https://www.x.example/here"),
        Statement(StatementKind.HREFLANG, "https://www.x.example/fr"), Statement(StatementKind.FEED, "https://www.x.example/feed"),
    )  # fmt: skip
    assert page.moves == (
        Move(MoveKind.META_REFRESH, "https://www.x.example/next"), Move(MoveKind.SCRIPT, "https://y.example/"), Move(MoveKind.SCRIPT, "https://www.x.example/z"),
    )  # fmt: skip
    assert page.style_sheets == ("https://www.x.example/s.css",)
    assert page.inner_links == ("/login", "/a/b?c=d")
    assert page.upgrades_requests


@pytest.mark.parametrize(
    ("script", "certain"),
    [
        ("location='/a'", [True]), ("\n  top.location.href = '/a';", [True]), ("x();location.assign('/a')", [True]),
        ("if (y) location='/a'", [False]), ("function f(){ location='/a' }", [False]), ("{x};location='/a'", [False]),
        ("a.location='/a'" + " " * 2000, []),
    ],
)  # fmt: skip
def test_moves_of_scripts(script, certain):
    assert [move.certain for move in read_page(f"<script>{script}</script>".encode(), HERE).moves] == certain


@pytest.mark.parametrize(
    ("value", "expected"),
    [
        # HTML section 4.2.5.3, step by step
        ("0;url=/a", Refresh(0, "/a")), ("0;/a", Refresh(0, "/a")), ("0,url='/a b'c", Refresh(0, "/a b")), ("5", Refresh(5, "")),
        (" 3.5 ; URL = \"/a\"", Refresh(3, "/a")), ("0 /a", Refresh(0, "/a")), (".;url=/a", Refresh(0, "/a")), ("0;urlx", Refresh(0, "urlx")),
        ("", None), ("x;url=/a", None), ("0url=/a", None), (";url=/a", None), ("9" * 30 + ";url=/a", Refresh(999999999, "/a")),
    ],
)  # fmt: skip
def test_refresh(value, expected):
    assert read_refresh(value) == expected


@pytest.mark.parametrize("content", ["30", "5", "", "x;url=/", "99; url=/late"])
def test_refreshes_that_are_no_moves(content):
    assert read_page(f'<meta http-equiv=refresh content="{content}">'.encode(), HERE).moves == ()


@pytest.mark.parametrize(
    ("text", "tags"),
    [
        ("<A href=x&amp;y HREF=z data-x='a>b'>t</a >", [StartTag("a", {"href": "x&y", "data-x": "a>b"}), EndTag("a")]),
        ("<!-- <a> --><!--><b><!-- --!><i><!bogus <u>><?x><s></ x><q a='", [StartTag("b", {}), StartTag("i", {}), StartTag("s", {})]),
        ("<style>x</styles></style><title>a&lt;b</title>", [StartTag("style", {}, "x</styles>"), EndTag("style"), StartTag("title", {}, "a<b"), EndTag("title")]),
        ("<template><img><template></template><b></template><q>", [StartTag("q", {})]),
        ("<svg><script/><use></svg><p>", [StartTag("svg", {}), StartTag("script", {}, "", True), StartTag("use", {}, "", True), EndTag("svg"), StartTag("p", {})]),
        ("<a ='x' =y z>", [StartTag("a", {"='x'": "y", "z": ""})]),
        ("<a href='?a=1&copy=2&lt;&#x41;&copyx&copy'>", [StartTag("a", {"href": "?a=1&copy=2<A&copyx\u00a9"})]),
        ("1 < 2 <3 <plaintext><a>", []),
    ],
)  # fmt: skip
def test_markup(text, tags):
    assert list(read_markup(text)) == tags


@pytest.mark.parametrize(
    ("octets", "content_type", "text"),
    [
        (b"caf\xc3\xa9", "text/html", "caf\xe9"),
        (b"caf\xe9", "text/html; charset=ISO-8859-1", "caf\xe9"),
        (b"<meta charset=windows-1252>\x80", "", "<meta charset=windows-1252>\u20ac"),
        (b"\xef\xbb\xbfcaf\xc3\xa9", "text/html; charset=latin-1", "caf\xe9"),
        (b"\xff\xfea\x00", "", "a"),
        (b"caf\xe9", "text/html; charset=no-such-charset", "caf\ufffd"),
        # Python's own codecs are no WHATWG labels: some of them compute for minutes, some raise
        (b"caf\xe9", "text/html; charset=punycode", "caf\ufffd"),
        (b"a", "text/html; charset=idna", "a"),
        (b"a", "text/html; charset=base64", "a"),
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


HOSTILE = {
    "deep": "<div>", "links": "<a href=/x>", "formatting": "<b c=1><p>x", "attributes": " a1=b", "open-quotes": "<a b='", "comments": "<!--",
    "style": "<style>/*http:", "url": "url(", "brackets": "<p style='http:(((((((((", "references": "&am", "srcdoc": "<iframe srcdoc='", "titles": "<title>",
    "images": "<picture><img src=http://a/>", "candidates": "<img srcset='http://a/, ", "script": "fetch( ", "moves": "<script>location= ", "signs": "<b>Warning</b>: ",
    "traces": "Exception: at a.b.c(", "refresh": "<meta http-equiv=refresh content='0 ", "long": "x",
}  # fmt: skip


@pytest.mark.parametrize("kind", HOSTILE)
def test_hostile_pages_are_read_in_linear_time(kind):
    """The bounds are of work, not of a machine's mood: three doublings, and the ratio of the processor's time held."""
    spent = []
    for size in (100_000, 200_000, 400_000, 800_000):
        body = (("<a" if kind == "attributes" else "") + HOSTILE[kind] * (size // len(HOSTILE[kind]))).encode()
        begun = time.process_time()
        read_page(body, HERE)
        read_style_sheet(body, HERE)
        spent.append(time.process_time() - begun)
    assert spent[-1] < max(16 * spent[0], 0.5), spent


def test_a_long_base_costs_its_share_of_work():
    """A base of 60,000 characters counts for each of the links below it."""
    page = read_page(
        b"<base href='/" + b"a/" * 30_000 + b"'>" + b"".join(b"<img src=%d>" % n for n in range(5_000)), HERE
    )
    assert page.truncated


def test_frames_within_a_page_have_one_share_of_work():
    frames = b"".join(b"<iframe srcdoc='<img src=%d>'></iframe>" % n for n in range(12_000))
    assert read_page(frames, HERE).truncated


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


ERROR_PAGES = Path(__file__).parent / "error_pages"
"""As the programs sent them (Spring's from memory), long ones cut."""

SIGNS = {
    "django-404": ["Django's debug page"], "django-500": ["a Python traceback", "Django's debug page"],
    "werkzeug-500": ["a Python traceback", "the Werkzeug debugger"], "express-500": ["a Node.js stack trace"],
    "php-html": ["a PHP error with its file"], "php-text": ["a PHP error with its file"], "phpinfo": ["phpinfo()"],
    "rails-404": ["Rails' exception page", "a Ruby stack trace"], "rails-500": ["Rails' exception page"],
    "tomcat-500": ["a Java stack trace"], "spring-500": ["a Java stack trace"],
}  # fmt: skip
VERSIONS = {
    "nginx-404": ["nginx/1.22.1"], "nginx-503": ["nginx/1.22.1"], "apache-404": ["Apache/2.4.71"],
    "tomcat-404": ["Apache Tomcat/10.1.60"], "tomcat-500": ["Apache Tomcat/10.1.60"],
}  # fmt: skip


@pytest.mark.parametrize("file", sorted(ERROR_PAGES.glob("*.html")), ids=lambda file: file.stem)
def test_real_error_pages(file):
    """Debug output is called so, and a default error page is not."""
    page = read_page(file.read_bytes(), HERE)
    assert (list(page.debug_signs), list(page.versions)) == (SIGNS.get(file.stem, []), VERSIONS.get(file.stem, []))


@pytest.mark.parametrize(
    ("text", "signs"),
    [
        ("Traceback (most recent call last): is what Python prints", []),
        ("Illuminate\\Database\\QueryException", ["Laravel's exception page"]),
        ("Symfony\\Component\\HttpKernel\\Kernel", ["Symfony's exception page"]),
        ("at Shop.Cart.Pay(String id) in C:\\src\\Cart.cs:line 12", ["an ASP.NET stack trace"]),
        ("Server Error in '/' Application. Runtime Error", []),
        ("goroutine 1 [running]:\nmain.main()", ["a Go panic"]),
        ("<h1>Software error:</h1><pre>x at /srv/a.pl line 3.", ["a Perl error with its file"]),
        ("You have an error in your SQL syntax", ["a database error"]),
        ("CONSOLE_MODE = true,", ["a command console"]),
        ("Warning: it may rain in Paris", []),
        ("<center>nginx</center> 404 not found; an error occurred", []),
    ],
)
def test_signs_of_debug_pages(text, signs):
    assert list(debug_signs(text)) == signs


@pytest.mark.parametrize(
    ("value", "versions"),
    [
        ("Apache/2.4.62 (Debian) OpenSSL/3.0.15", ["Apache/2.4.62", "OpenSSL/3.0.15"]),
        ("nginx", []), ("Apache/2", []), ("PHP/8.2.1", ["PHP/8.2.1"]), ("a/" * 5000, []),
    ],
)  # fmt: skip
def test_versions_in_fields(value, versions):
    assert list(versions_in_field(value)) == versions


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
    assert read_sitemap(octets, HERE).statements == (
        Statement(StatementKind.SITEMAP, "http://www.x.example/a?b=1&c=2"),
    )
    assert read_sitemap(b"<loc>" * 100_000, HERE).statements == ()
