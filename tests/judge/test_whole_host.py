"""Lines that are printed, held against the whole evidence of a host, and what is told for the situation at hand."""

import shlex

import msgspec
import pytest

from pewter.cli.main import with_defaults
from pewter.evidence import HostProbe, HowFailed, NoConnection, Reference, StopCause, Stopped, Unseen, Use
from pewter.judge.mending import server_of
from pewter.judge.outcomes import Gap, Holds, Unknown
from pewter.judge.review import make_review
from pewter.judge.rules import RULES, hsts, reach, redirect, redirect_ends
from pewter.judge.wording import words_for
from pewter.levels import Level
from pewter.mends.kinds import Kind
from pewter.places import of_name
from support.cases import case, endpoint, handshake, hop, journey, name, outcomes, page, stored
from support.certificates import HOST, intermediate, leaf
from support.dns import SOA, WWW, ZONE, changed

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
NGINX, DJANGO = ("Server", "nginx"), ("Set-Cookie", "sessionid=1; Path=/")
CSP = "Content-Security-Policy"
PART = Reference("http://other.example/x.js", Use.SCRIPT, "script src")


def entries(*ways, **more):
    return {entry.rule: entry for entry in make_review(case(*ways, **more)).results.gaps}


def lines_of(entry):
    return "\n".join(piece.lines for each in entry.configurations for piece in each.pieces)


# A policy is that of the pages for which the line is


def with_blocked_part(*policies, error=""):
    """Pages with a part over http and these policies, and an error page with one of its own."""
    ways, pages = [], []
    for number, policy in enumerate(policies):
        url = f"{HTTPS}{number or ''}"
        shown = page(url, f"page {number}", references=(PART,))
        pages.append(shown)
        fields = ((CSP, policy),) if policy else ()
        ways.append(journey(hop(url, 200, NGINX, *fields, page=shown.sha256)))
    if error:
        ways.insert(0, journey(hop(f"{HTTPS}none", 404, NGINX, (CSP, error)), reason="absent"))
    return entries(*ways, pages=tuple(pages))["page/blocked-content"]


def test_the_policy_of_an_error_page_is_not_that_of_the_host():
    assert "default-src 'none'" not in lines_of(with_blocked_part("", error="default-src 'none'"))
    assert '"upgrade-insecure-requests"' in lines_of(with_blocked_part("", error="default-src 'none'"))
    own = lines_of(with_blocked_part("img-src 'self'", error="default-src 'none'"))
    assert "\"img-src 'self'; upgrade-insecure-requests\"" in own


@pytest.mark.parametrize("policies", [("img-src 'self'", "default-src 'self'"), ("", "default-src 'self'")])
def test_where_pages_differ_there_is_no_line_for_all_of_them(policies):
    entry = with_blocked_part(*policies)
    assert lines_of(entry) == ""
    assert [each.held_back.partition(",")[0] for each in entry.configurations] == ["no line for the whole host"]


# Nobody is led to https while https leads back


BACK = journey(hop(HTTPS, 302, ("Location", f"{HTTP}x"), NGINX), hop(f"{HTTP}x", 200, NGINX))


@pytest.mark.parametrize("rule", ["redirect/missing", "redirect/partial"])
def test_redirect_lines_wait_for_what_leads_back_to_http(rule):
    mixed = [journey(hop(f"{HTTP}a", 301, ("Location", f"{HTTPS}a"), NGINX), hop(f"{HTTPS}a", 200, NGINX))]
    ways = [journey(hop(HTTP, 200, NGINX)), BACK, *(mixed if rule == "redirect/partial" else ())]
    found = entries(*ways)
    number = found["redirect/downgrade"].number
    assert lines_of(found[rule]) == ""
    assert {each.held_back for each in found[rule].configurations} == {
        f"not yet: https://{HOST} leads back to http (gap {number}), and this would make a circle; mend that first"
    }
    assert lines_of(found["redirect/downgrade"])
    first = make_review(case(*ways, endpoints=[endpoint(handshake())])).results.first
    assert [step.what for step in first][:1] == ["Take out what leads from https back to http"]


def test_without_the_way_back_they_are_there():
    assert lines_of(entries(journey(hop(HTTP, 200, NGINX)), journey(hop(HTTPS, 200, NGINX)))["redirect/missing"])


def test_a_policy_for_all_below_waits_for_those_without_https():
    apex, shop = "marram-ferries.example", "shop.marram-ferries.example"
    policy = ("Strict-Transport-Security", "max-age=31536000")
    served = leaf(apex)

    def looked(*more_endpoints):
        home = hop(f"https://{apex}/", 200, policy, NGINX, issued=served)
        ways = [journey(hop(f"http://{apex}/", 301, ("Location", f"https://{apex}/"), NGINX), home), journey(home)]
        endpoints = [endpoint(handshake(served, intermediate()), host=apex), *more_endpoints]
        return entries(*ways, names=[name(apex), name(shop)], endpoints=endpoints, certificates=stored(served))

    refused = NoConnection(HowFailed.REFUSED, "the connection was refused")
    held = looked(endpoint(refused, host=shop))
    number = held["reach/closed"].number
    assert [each.held_back for each in held["hsts/no-subdomains"].configurations] == [
        f"not yet: includeSubDomains would reach {shop}, which opens only behind a warning, or not at all (gap {number}); "
        "mend that first"
    ]
    assert "includeSubDomains" in lines_of(looked()["hsts/no-subdomains"])


# Of two programs one is enough, or both are needed


def test_where_two_programs_could_do_it_one_is_said_to_be_enough():
    ways = (journey(hop(HTTP, 200, NGINX, DJANGO)), journey(hop(HTTPS, 200, NGINX, DJANGO)))
    found = entries(*ways)
    missing = [(each.server, each.choice) for each in found["redirect/missing"].configurations]
    assert missing == [
        ("nginx", "Either these lines or those for Django, one of the two is enough; these first"),
        ("Django", "Only in place of the lines for nginx"),
    ]
    cookie = [(each.server, each.choice) for each in found["cookie/not-secure"].configurations]
    assert cookie == [
        ("Django", "Either these lines or those for nginx, one of the two is enough; these first"),
        ("nginx", "Only in place of the lines for Django"),
    ]
    round_trip = journey(
        hop(HTTP, 301, ("Location", HTTPS), NGINX, DJANGO), hop(HTTPS, 301, ("Location", HTTP), NGINX, DJANGO),
        end=Stopped(HTTP, StopCause.LOOP, "comes round"),
    )  # fmt: skip
    loop = [each.choice for each in entries(round_trip)["redirect/loop"].configurations if each.pieces]
    assert not loop[1:] or loop[0].startswith("Both these lines and those for ")


def test_one_program_has_no_choice():
    found = entries(journey(hop(HTTP, 200, NGINX)), journey(hop(HTTPS, 200, NGINX)))
    assert {each.choice for entry in found.values() for each in entry.configurations} == {""}


# The right mend for the situation


def test_a_page_that_is_there_over_https_lacks_its_redirect():
    ways = (journey(hop(f"{HTTP}login", 404)), journey(hop(f"{HTTPS}login", 200)))
    (gap,) = (each for each in outcomes(redirect_ends.broken_target, case(*ways)) if isinstance(each, Gap))
    assert gap.mend.startswith("Over https the page is there: what is missing is the redirect.")
    (gap,) = (each for each in outcomes(redirect_ends.broken_target, case(ways[0])) if isinstance(each, Gap))
    assert gap.mend.startswith("Bring the page back")


def test_preload_of_www_is_met_where_the_apex_is_ready():
    """Lists take registrable domains: www says it along with its apex."""
    field = ("Strict-Transport-Security", "max-age=63072000; includeSubDomains; preload")
    apex = "marram-ferries.example"
    both = leaf(apex, HOST)

    def good(host):
        return hop(f"https://{host}/", 200, field, issued=both)

    ways = [
        way
        for host in (apex, HOST)
        for way in (
            journey(hop(f"http://{host}/", 301, ("Location", f"https://{host}/")), good(host)),
            journey(good(host)),
        )
    ]
    served = [endpoint(handshake(both, intermediate()), host=host) for host in (apex, HOST)]
    more = {"endpoints": served, "certificates": stored(both)}
    found = outcomes(hsts.preload_unready, case(*ways, names=[name(apex), name(HOST)], **more))
    assert [(type(each), each.seen) for each in found] == [
        (Holds, "every requirement is met"),
        (Holds, f"{apex}, which is what lists take, meets every requirement"),
    ]
    alone = outcomes(hsts.preload_unready, case(*ways[2:], names=[name(HOST)], **more))
    assert [type(each) for each in alone] == [Gap]


@pytest.mark.parametrize(
    ("refused", "outcome"), [(True, Holds), (False, Unknown)], ids=["closed-without-an-answer", "not-reached"]
)
@pytest.mark.parametrize("rule", [reach.unknown_host, redirect.reflects_host])
def test_a_made_up_host_that_is_hung_up_on_is_refused(rule, refused, outcome):
    probe = HostProbe(HOST, "http", "no-such-host.invalid", Unseen("closed without an answer"), refused)
    (found,) = outcomes(rule, case(host_probes=(probe,)))
    assert type(found) is outcome
    assert "closed without an answer" in getattr(found, "seen", "") + getattr(found, "reason", "")


def test_what_passes_on_and_does_not_name_itself_is_an_edge():
    via = journey(hop(HTTPS, 200, ("Via", "1.1 edge-7")))
    assert server_of(case(via), HOST)[0] is Kind.EDGE
    assert server_of(case(journey(hop(HTTPS, 200, ("Via", "1.1 x"), NGINX))), HOST)[0] is Kind.NGINX
    assert server_of(case(journey(hop(HTTPS, 200))), HOST)[0] is None
    hints = make_review(case(via)).results.hints
    assert hints == (f"An edge service answers for {HOST}: --origin ADDRESS looks at the server behind it, too.",)
    four = [f"{each}.marram-ferries.example" for each in "abcd"]
    ways = [journey(hop(f"https://{each}/", 200, ("Via", "1.1 edge-7"))) for each in four]
    (hint,) = make_review(case(*ways, names=[name(each) for each in four])).results.hints
    assert hint.startswith(f"An edge service answers for {four[0]}, {four[1]} and {four[2]} and more: --origin ")


def test_what_was_seen_at_an_old_address_is_one_thing():
    """A server is behind and the resolver gives its answer: nothing of that address is judged as the site's."""
    dns = changed(
        {
            f"r {WWW} A": f"NOERROR ra; {WWW} A 300 5.5.5.9",
            f"2 {WWW} A": f"NOERROR aa; {WWW} A 300 5.5.5.9",
            f"2 {ZONE} SOA": f"NOERROR aa; {SOA.replace(' 7 7200', ' 6 7200')}",
        }
    )
    looked = case(
        journey(hop(HTTP, 200)), journey(hop(HTTPS, 200)), names=[name(WWW, "5.5.5.9")], dns=dns,
        endpoints=[endpoint(handshake(), address="5.5.5.9")],
    )  # fmt: skip
    results = make_review(looked).results
    assert not [entry.rule for entry in results.gaps if not entry.rule.startswith("dns/")]
    reasons = {entry.reason for entry in results.unknowns if "old address" in entry.reason}
    assert reasons == {
        "seen at the old address 5.5.5.9, which an old copy still gives until 2026-11-23 12:05 UTC; the name servers "
        "give 5.5.5.10"
    }


# Checks


@pytest.mark.parametrize("rule", RULES, ids=lambda rule: rule.name)
def test_every_check_asks_the_place_of_the_gap(rule):
    """No placeholder is left, and a gap at an http page is not looked for at an https one, nor the other way round."""
    for url in (f"{HTTP}login", f"{HTTPS}login"):
        gap = Gap(msgspec.structs.replace(of_name(HOST), url=url), "x", "y")
        check = words_for(case(), rule, gap).check
        assert "{" not in check.replace("%{http_code}", "").replace("%{size_download}", ""), check
        if "{url}" in rule.words.check:
            assert url in check
    assert "cert.pem" not in rule.words.check or rule.area == "bundle" or rule.name == "chain/anchor-refused"


def test_the_check_of_a_lock_out_names_the_hosts_below():
    rule = next(each for each in RULES if each.name == "hsts/would-lock-out")
    looked = case(names=[name("x.example"), name("a.x.example"), name("$(b).x.example")])
    check = words_for(looked, rule, Gap(of_name("x.example"), "x", "y", level=Level.EXPOSES)).check
    assert check == f"pewter review x.example --also {shlex.quote('$(b).x.example')} --also a.x.example"


@pytest.mark.parametrize(
    ("typed", "given"),
    [
        (["--wait"], ["--wait", "2 days"]),
        (["--wait", "review.json"], ["--wait", "2 days", "review.json"]),
        (["--wait", "2 hours"], ["--wait", "2 hours"]),
        (["--wait", "2", "hours"], ["--wait", "2 hours"]),
        (["--wait", "2", "review.json"], ["--wait", "2", "review.json"]),
        (["--wait", "forever"], ["--wait", "forever"]),
        (["--wait", "--every", "1 minute"], ["--wait", "2 days", "--every", "1 minute"]),
    ],
)
def test_what_follows_wait_is_a_duration_or_told_to_be_none(typed, given):
    assert with_defaults(typed) == given
