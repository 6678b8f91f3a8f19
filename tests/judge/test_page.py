"""The area page."""

from pewter.evidence import Redirected, Reference, Statement, StatementKind, Use
from pewter.facts.browsers import Prediction
from pewter.facts.visits import predict_visits
from pewter.judge.rules import page as page_rules
from support.cases import case, hop, journey, name, outcomes, page, table, unseen
from support.certificates import HOST

HTTPS = f"https://{HOST}/"
CSP = ("Content-Security-Policy", "default-src 'self'; upgrade-insecure-requests")
OLD = "old.marram-ferries.example"


def refers(use, url="http://cdn.example/x"):
    return Reference(url, use, "place")


def at(*references, fields=(), status=200, url=HTTPS, reason="typed", names=(), **says):
    shown = page(url, references=references, **says)
    way = journey(hop(url, status, *fields, page=shown.sha256), reason=reason)
    return case(way, pages=(shown,), names=names)


PART = "https://cdn.example/a.js"


def with_part(*redirected, is_early=False, fields=(), **says):
    part = Reference(PART, Use.SCRIPT, "script src", is_early=is_early)
    shown = page(HTTPS, parts=(part,), **says)
    return case(journey(hop(HTTPS, 200, *fields, page=shown.sha256)), pages=(shown,), redirected_parts=redirected)


def shows(status, *signs):
    return at(status=status, debug_signs=signs, reason="absent")


def states(*statement):
    claims = (Statement(StatementKind(statement[0]), *statement[1:]),) if statement else ()
    return at(statements=claims, names=[name(HOST), name(OLD)])


HOME = page(HTTPS, style_sheets=(f"{HTTPS}s.css",))
SHEET = page(f"{HTTPS}s.css", "css", references=(refers(Use.FONT),))
WITH_SHEET = case(journey(hop(HTTPS, page=HOME.sha256)), pages=(HOME, SHEET))
SITEMAP = page(f"{HTTPS}sitemap.xml", statements=(Statement(StatementKind.SITEMAP, f"http://{HOST}/a"),))
LOCAL = ("http://127.0.0.1/x.js", "http://localhost:3000/x.js", "http://a.localhost/x.js", "http://[::1]/x.js")
MANY = (refers(Use.SCRIPT, f"http://c.example/{n}.js") for n in range(9))
FOREIGN = at(refers(Use.SCRIPT), url="https://other.example/", debug_signs=("x",))

ONE = page(HTTPS, "x")

CASES = {
    (page_rules.blocked_content, page_rules.no_upgrade_policy): {
        **{each.value: at(refers(each)) for each in Use},
        **{f"{each.value} upgraded by a field": at(refers(each), fields=(CSP,)) for each in Use},
        **{f"{each.value} upgraded by the page": at(refers(each), upgrades_requests=True) for each in Use},
    },
    page_rules.upgraded_content: {each.value: at(refers(each)) for each in Use},
    page_rules.blocked_content: {
        **{url: at(refers(Use.SCRIPT, url)) for url in LOCAL},
        "many": at(*MANY),
        "by-a-style-sheet": WITH_SHEET,
    },
    (page_rules.no_upgrade_policy, page_rules.blocked_content): {
        "script-that-is-redirected": with_part(Redirected(PART, "http://cdn.example/x.js")),
        "script-that-is-redirected-and-upgraded": with_part(Redirected(PART, "http://cdn.example/x.js"), fields=(CSP,)),
        "script-that-is-redirected-before-the-policy": with_part(
            Redirected(PART, "http://cdn.example/x.js"), is_early=True, upgrades_requests=True
        ),
        "script-over-https": with_part(),
        "script-not-answered": with_part(Redirected(PART, why_unseen="no whole answer within 10 s")),
    },
    (page_rules.blocked_content, page_rules.upgraded_content, page_rules.insecure_form): {
        "unknown": case(unseen(HTTPS))
    },
    page_rules.insecure_form: {
        "gap": at(refers(Use.FORM)),
        "link": at(refers(Use.LINK)),
        "upgraded": at(refers(Use.FORM), fields=(CSP,)),
    },
    page_rules.plain_links: {
        "gap": at(refers(Use.LINK, f"http://{HOST}/a")),
        "another-site": at(refers(Use.LINK, "http://other.example/")),
    },
    page_rules.canonical_tag: {
        "holds": states("canonical", HTTPS),
        "http": states("canonical", f"http://{HOST}/"),
        "another-name-of-the-site": states("og:url", f"https://{OLD}/"),
        "hreflang": states("hreflang", "http://fr.marram-ferries.example/"),
        "base": states("base", f"http://{HOST}/"),
        "feed": states("feed", f"https://{HOST}/feed"),
        "none": states(),
        "sitemap": case(pages=(SITEMAP,)),
    },
    page_rules.blank: {
        "gap": case(journey(hop(HTTPS, 200, ("Content-Length", "0")))),
        "one-octet-is-a-page": case(journey(hop(HTTPS, page=ONE.sha256)), pages=(ONE,)),
        "an-error-is-another-rule": case(journey(hop(HTTPS, 500, ("Content-Length", "0")))),
        "not-read": case(journey(hop(HTTPS))),
        "not-reached": case(unseen(HTTPS)),
    },
    page_rules.debug_output: {
        "holds": shows(404),
        "gap": shows(404, "a Python traceback"),
        "on-an-ordinary-page": shows(200, "phpinfo()"),
        "ordinary-page": shows(200),
    },
    page_rules.RULES: {"page-of-another-site": FOREIGN},
}


@table(CASES)
def test_rule(told, rule, looked):
    told(outcomes(rule, looked))


def test_parts_of_a_style_sheet_count_for_the_visit():
    assert predict_visits(WITH_SHEET)[0].meets in {Prediction.NOT_TRUSTED, Prediction.PARTS_BLOCKED}
