import pytest

from pewter.evidence import Reference, Statement, Use
from pewter.judge import page as page_rules
from pewter.judge.outcomes import Gap, Holds, Unknown
from pewter.judge.visits import Meeting, predict_visits
from support.cases import case, hop, journey, name, outcomes, page, unseen
from support.certificates import HOST

HTTPS = f"https://{HOST}/"
CSP = ("Content-Security-Policy", "default-src 'self'; upgrade-insecure-requests")


def refers(use, url="http://cdn.example/x"):
    return Reference(url, use, "place")


def judged(rule, *references, fields=(), status=200, url=HTTPS, reason="typed", names=(), **says):
    shown = page(url, references=references, **says)
    way = journey(hop(url, status, *fields, page=shown.sha256), reason=reason)
    return outcomes(rule, case(way, pages=(shown,), names=names))


def kinds(rule, *references, **options):
    return [type(outcome) for outcome in judged(rule, *references, **options)]


BLOCKED = [
    Use.SCRIPT,
    Use.STYLE,
    Use.FRAME,
    Use.PLUGIN,
    Use.FONT,
    Use.FETCH,
    Use.PRELOAD,
    Use.TRACK,
    Use.MANIFEST,
    Use.IMAGE_SET,
]
UPGRADED = [Use.IMAGE, Use.AUDIO_VIDEO]


@pytest.mark.parametrize("use", list(Use))
def test_what_is_blocked_and_what_is_upgraded(use):
    assert kinds(page_rules.blocked_content, refers(use)) == [Gap if use in BLOCKED else Holds]
    assert kinds(page_rules.upgraded_content, refers(use)) == [Gap if use in UPGRADED else Holds]
    fetched = use in BLOCKED or use in UPGRADED
    assert kinds(page_rules.no_upgrade_policy, refers(use)) == ([Gap] if fetched else [])
    for saying in ({"fields": (CSP,)}, {"upgrades_requests": True}):
        assert kinds(page_rules.blocked_content, refers(use), **saying) == [Holds]
        assert kinds(page_rules.no_upgrade_policy, refers(use), **saying) == [Holds]


@pytest.mark.parametrize(
    "url", ["http://127.0.0.1/x.js", "http://localhost:3000/x.js", "http://a.localhost/x.js", "http://[::1]/x.js"]
)
def test_local_addresses_are_no_mixed_content(url):
    assert kinds(page_rules.blocked_content, refers(Use.SCRIPT, url)) == [Holds]


@pytest.mark.parametrize("rule", [page_rules.blocked_content, page_rules.upgraded_content, page_rules.insecure_form])
def test_home_page_not_reached_is_unknown(rule):
    assert outcomes(rule, case(unseen(HTTPS))) == [Unknown(HTTPS, "not reached")]


def test_many_parts_are_counted():
    (gap,) = judged(page_rules.blocked_content, *(refers(Use.SCRIPT, f"http://c.example/{n}.js") for n in range(9)))
    assert gap.seen.splitlines()[-1] == "and 5 more"


def test_style_sheets_of_the_page_count():
    home = page(HTTPS, style_sheets=(f"{HTTPS}s.css",))
    sheet = page(f"{HTTPS}s.css", "css", references=(refers(Use.FONT),))
    looked = case(journey(hop(HTTPS, page=home.sha256)), pages=(home, sheet))
    assert [type(outcome) for outcome in outcomes(page_rules.blocked_content, looked)] == [Gap]
    (visit,) = predict_visits(looked)
    assert visit.meets is Meeting.NOT_TRUSTED or visit.meets is Meeting.PARTS_BLOCKED


def test_insecure_form():
    assert kinds(page_rules.insecure_form, refers(Use.FORM)) == [Gap]
    assert kinds(page_rules.insecure_form, refers(Use.LINK)) == [Holds]
    assert kinds(page_rules.insecure_form, refers(Use.FORM), fields=(CSP,)) == [Holds]


def test_plain_links():
    assert kinds(page_rules.plain_links, refers(Use.LINK, f"http://{HOST}/a")) == [Gap]
    assert kinds(page_rules.plain_links, refers(Use.LINK, "http://other.example/")) == [Holds]


@pytest.mark.parametrize(
    ("statement", "expected"),
    [
        pytest.param(Statement("canonical", HTTPS), [Holds], id="holds"),
        pytest.param(Statement("canonical", f"http://{HOST}/"), [Gap], id="http"),
        pytest.param(Statement("og:url", "https://old.marram-ferries.example/"), [Gap], id="another-name-of-the-site"),
        pytest.param(Statement("hreflang", "http://fr.marram-ferries.example/"), [Gap], id="hreflang"),
        pytest.param(Statement("base", f"http://{HOST}/"), [Gap], id="base"),
        pytest.param(Statement("feed", f"https://{HOST}/feed"), [Holds], id="feed"),
    ],
)
def test_canonical_tag(statement, expected):
    names = [name(HOST), name("old.marram-ferries.example")]
    assert kinds(page_rules.canonical_tag, statements=(statement,), names=names) == expected
    assert kinds(page_rules.canonical_tag, names=names) == []


def test_sitemap_counts_as_a_claim():
    claims = page(f"{HTTPS}sitemap.xml", statements=(Statement("sitemap", f"http://{HOST}/a"),))
    (gap,) = outcomes(page_rules.canonical_tag, case(pages=(claims,)))
    assert (gap.where, gap.seen) == (f"{HTTPS}sitemap.xml", f"sitemap http://{HOST}/a")


@pytest.mark.parametrize(
    ("status", "signs", "expected"),
    [
        pytest.param(404, (), [Holds], id="holds"),
        pytest.param(404, ("a Python traceback",), [Gap], id="gap"),
        pytest.param(200, ("phpinfo()",), [Gap], id="on-an-ordinary-page"),
        pytest.param(200, (), [], id="ordinary-page"),
    ],
)
def test_debug_output(status, signs, expected):
    assert kinds(page_rules.debug_output, status=status, debug_signs=signs, reason="absent") == expected


def test_pages_of_other_sites_are_left_alone():
    for rule in page_rules.RULES:
        assert kinds(rule, refers(Use.SCRIPT), url="https://other.example/", debug_signs=("x",)) == []
