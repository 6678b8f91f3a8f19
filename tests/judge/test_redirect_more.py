"""The rest of the redirect area, and what an unknown Host is answered."""

import pytest

from pewter.evidence import HostProbe, Move, Reference, Seen, Statement, Unseen, Use
from pewter.judge import reach, redirect
from pewter.judge.expectations import Expectations, Wishes
from pewter.judge.outcomes import Gap, Holds
from pewter.web.further_ways import UNKNOWN_HOST
from support.cases import case, endpoint, handshake, hop, journey, name, outcomes, page, stored, unseen
from support.certificates import HOST, intermediate, leaf

APEX = "marram-ferries.example"
HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
NAMES = [name(HOST), name(APEX)]


def judged(rule, *journeys, **options):
    options.setdefault("wishes", Wishes(canonical=f"https://{HOST}"))
    return outcomes(rule, case(*journeys, names=options.pop("names", NAMES), **options))


MOVING = page(HTTP, moves=(Move("meta refresh", HTTPS),))
STAYING = page(HTTP, moves=(Move("script", f"http://{HOST}/en"),))


@pytest.mark.parametrize(
    ("way", "shown"),
    [
        pytest.param(journey(HTTP, HTTPS), None, id="holds"),
        pytest.param(journey(hop(HTTP, page=MOVING.sha256)), MOVING, id="gap"),
        pytest.param(journey(hop(HTTP, page=STAYING.sha256)), STAYING, id="move-within-http-is-missing"),
    ],
)  # fmt: skip
def test_by_page(told, way, shown):
    pages = (shown,) if shown else ()
    told(judged(redirect.by_page, way, pages=pages))
    missing = judged(redirect.missing, way, pages=pages)
    assert any(isinstance(outcome, Gap) for outcome in missing) is (shown is STAYING)


@pytest.mark.parametrize(
    "way",
    [
        pytest.param(journey(HTTP, HTTPS), id="holds"),
        pytest.param(journey(f"http://{APEX}/", HTTP, HTTPS), id="gap"),
        pytest.param(journey(HTTP), id="never-https-is-missing"),
    ],
)
def test_plain_hop(told, way):
    told(judged(redirect.plain_hop, way))


@pytest.mark.parametrize(
    "way",
    [
        pytest.param(journey(f"http://{APEX}/", f"https://{APEX}/", HTTPS), id="holds"),
        pytest.param(journey(f"http://{APEX}/", HTTPS), id="gap"),
        pytest.param(journey(HTTPS), id="https-is-left-alone"),
    ],
)  # fmt: skip
def test_host_before_https(told, way):
    told(judged(redirect.host_before_https, way))


@pytest.mark.parametrize("count", [pytest.param(2, id="holds-at-the-limit"), pytest.param(3, id="gap")])
def test_many_hops(told, count):
    way = journey(*(f"{HTTPS}{n}" for n in range(count + 1)))
    told(judged(redirect.many_hops, way))
    assert isinstance(judged(redirect.many_hops, way, wishes=Wishes(Expectations(maximum_redirects=9)))[0], Holds)
    assert judged(redirect.many_hops, unseen(HTTP)) == []


EXPIRED = leaf(HOST, left=-4)


@pytest.mark.parametrize(
    ("issued", "kind"), [pytest.param(leaf(), Holds, id="holds"), pytest.param(EXPIRED, Gap, id="gap")]
)
def test_through_bad_certificate(told, issued, kind):
    way = journey(hop(HTTPS, 301, issued=issued), hop(f"https://{APEX}/"))
    options = {"endpoints": [endpoint(handshake(issued, intermediate()))], "certificates": stored(issued)}
    found = judged(redirect.through_bad_certificate, way, **options)
    told(found)
    if kind is Gap:
        assert found[0].seen == f"301 from {HTTPS} behind a warning: date (ended 2026-11-19)"
    last = journey(hop(HTTP, 301), hop(HTTPS, issued=issued))
    assert judged(redirect.through_bad_certificate, last, **options) == []


def probed(answer):
    return (HostProbe(HOST, "http", UNKNOWN_HOST, answer),)


@pytest.mark.parametrize(
    "answer",
    [
        pytest.param(Seen(hop(HTTP, 301, ("Location", HTTPS))), id="holds"),
        pytest.param(Seen(hop(HTTP, 301, ("Location", f"https://{UNKNOWN_HOST}/"))), id="gap"),
        pytest.param(Unseen("closed"), id="unknown"),
    ],
)  # fmt: skip
def test_reflects_host(told, answer):
    told(judged(redirect.reflects_host, host_probes=probed(answer)))


HOME = page(HTTP, title="Marram Ferries")


@pytest.mark.parametrize(
    "answer",
    [
        pytest.param(Seen(hop(HTTP, 200, page=HOME.sha256)), id="gap"),
        pytest.param(Seen(hop(HTTP, 404, page=HOME.sha256)), id="404-holds"),
        pytest.param(Seen(hop(HTTP, 200)), id="another-page-holds"),
        pytest.param(Unseen("closed"), id="unknown"),
    ],
)
def test_unknown_host(told, answer):
    way = journey(hop(HTTP, page=HOME.sha256))
    found = judged(reach.unknown_host, way, pages=(HOME,), host_probes=probed(answer))
    told(found)


@pytest.mark.parametrize(
    "way",
    [
        pytest.param(journey(HTTP, f"https://{APEX}/"), id="holds"),
        pytest.param(journey(HTTP, "https://shop.other.example/"), id="gap"),
        pytest.param(unseen(HTTP), id="not-landed"),
    ],
)
def test_off_site(told, way):
    told(judged(redirect.off_site, way))


def test_no_canonical(told):
    one, other = page(HTTPS), page(f"https://{APEX}/")
    ways = (journey(hop(HTTPS, page=one.sha256)), journey(hop(f"https://{APEX}/", page=other.sha256)))
    told(judged(redirect.no_canonical, *ways, pages=(one, other)))
    claim = (Statement("canonical", HTTPS),)
    claimed = (page(HTTPS, statements=claim), page(f"https://{APEX}/", statements=claim))
    told(judged(redirect.no_canonical, *ways, pages=claimed))
    moved = (ways[0], journey(f"https://{APEX}/", hop(HTTPS, page=one.sha256)))
    told(judged(redirect.no_canonical, *moved, pages=(one,)))


@pytest.mark.parametrize(
    ("status", "post"),
    [
        pytest.param(301, True, id="gap"),
        pytest.param(308, True, id="308-keeps-the-method"),
        pytest.param(301, False, id="get-form-is-left-alone"),
    ],
)
def test_rewritten_method(told, status, post):
    form = page(HTTPS, references=(Reference(f"{HTTP}send", Use.FORM, "form action", post),))
    ways = (journey(hop(HTTPS, page=form.sha256)), journey(hop(HTTP, status, ("Location", HTTPS)), hop(HTTPS)))
    found = judged(redirect.rewritten_method, *ways, pages=(form,))
    told(found)


def test_absent_pages_count_only_where_they_may():
    gone = journey(
        f"http://{HOST}/pewter-no-such-page", hop(f"https://{HOST}/pewter-no-such-page", 404), reason="absent"
    )
    assert judged(redirect.broken_target, gone) == []
    assert judged(redirect.missing, journey(HTTP, HTTPS), gone) == [Holds(HTTP, "leaves plain http")]
