import pytest

from pewter.evidence import Reference, Statement, Use
from pewter.judge import page as page_rules
from pewter.judge.browsers import Meeting
from pewter.judge.outcomes import Unknown
from pewter.judge.visits import predict_visits
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


@pytest.mark.parametrize("use", list(Use))
def test_what_is_blocked_and_what_is_upgraded(told, use):
    told(judged(page_rules.blocked_content, refers(use)))
    told(judged(page_rules.upgraded_content, refers(use)))
    told(judged(page_rules.no_upgrade_policy, refers(use)))
    for saying in ({"fields": (CSP,)}, {"upgrades_requests": True}):
        told(judged(page_rules.blocked_content, refers(use), **saying))
        told(judged(page_rules.no_upgrade_policy, refers(use), **saying))


@pytest.mark.parametrize(
    "url", ["http://127.0.0.1/x.js", "http://localhost:3000/x.js", "http://a.localhost/x.js", "http://[::1]/x.js"]
)
def test_local_addresses_are_no_mixed_content(told, url):
    told(judged(page_rules.blocked_content, refers(Use.SCRIPT, url)))


@pytest.mark.parametrize("rule", [page_rules.blocked_content, page_rules.upgraded_content, page_rules.insecure_form])
def test_home_page_not_reached_is_unknown(rule):
    assert outcomes(rule, case(unseen(HTTPS))) == [Unknown(HTTPS, "not reached")]


def test_many_parts_are_counted(told):
    told(judged(page_rules.blocked_content, *(refers(Use.SCRIPT, f"http://c.example/{n}.js") for n in range(9))))


def test_style_sheets_of_the_page_count(told):
    home = page(HTTPS, style_sheets=(f"{HTTPS}s.css",))
    sheet = page(f"{HTTPS}s.css", "css", references=(refers(Use.FONT),))
    looked = case(journey(hop(HTTPS, page=home.sha256)), pages=(home, sheet))
    told(outcomes(page_rules.blocked_content, looked))
    (visit,) = predict_visits(looked)
    assert visit.meets is Meeting.NOT_TRUSTED or visit.meets is Meeting.PARTS_BLOCKED


def test_insecure_form(told):
    told(judged(page_rules.insecure_form, refers(Use.FORM)))
    told(judged(page_rules.insecure_form, refers(Use.LINK)))
    told(judged(page_rules.insecure_form, refers(Use.FORM), fields=(CSP,)))


def test_plain_links(told):
    told(judged(page_rules.plain_links, refers(Use.LINK, f"http://{HOST}/a")))
    told(judged(page_rules.plain_links, refers(Use.LINK, "http://other.example/")))


@pytest.mark.parametrize(
    "statement",
    [
        pytest.param(Statement("canonical", HTTPS), id="holds"),
        pytest.param(Statement("canonical", f"http://{HOST}/"), id="http"),
        pytest.param(Statement("og:url", "https://old.marram-ferries.example/"), id="another-name-of-the-site"),
        pytest.param(Statement("hreflang", "http://fr.marram-ferries.example/"), id="hreflang"),
        pytest.param(Statement("base", f"http://{HOST}/"), id="base"),
        pytest.param(Statement("feed", f"https://{HOST}/feed"), id="feed"),
    ],
)
def test_canonical_tag(told, statement):
    names = [name(HOST), name("old.marram-ferries.example")]
    told(judged(page_rules.canonical_tag, statements=(statement,), names=names))
    told(judged(page_rules.canonical_tag, names=names))


def test_sitemap_counts_as_a_claim(told):
    claims = page(f"{HTTPS}sitemap.xml", statements=(Statement("sitemap", f"http://{HOST}/a"),))
    told(outcomes(page_rules.canonical_tag, case(pages=(claims,))))


@pytest.mark.parametrize(
    ("status", "signs"),
    [
        pytest.param(404, (), id="holds"),
        pytest.param(404, ("a Python traceback",), id="gap"),
        pytest.param(200, ("phpinfo()",), id="on-an-ordinary-page"),
        pytest.param(200, (), id="ordinary-page"),
    ],
)
def test_debug_output(told, status, signs):
    told(judged(page_rules.debug_output, status=status, debug_signs=signs, reason="absent"))


def test_pages_of_other_sites_are_left_alone(told):
    for rule in page_rules.RULES:
        told(judged(rule, refers(Use.SCRIPT), url="https://other.example/", debug_signs=("x",)))
