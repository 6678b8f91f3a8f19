"""The rest of the HSTS area, and what it means for the end of a certificate."""

import pytest

from pewter.evidence import Name, NoConnection
from pewter.judge import date, hsts
from pewter.judge.expectations import Wishes
from pewter.judge.outcomes import Holds, Unknown
from support.cases import ADDRESS, case, endpoint, handshake, hop, journey, name, outcomes, stored, unseen
from support.certificates import HOST, intermediate, leaf

APEX = "marram-ferries.example"
OLD = f"old.{APEX}"
HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
STS = "Strict-Transport-Security"
YEAR, FULL = "max-age=31536000", "max-age=31536000; includeSubDomains"
SUPPOSED = Wishes(suppose=("hsts",))


def answer(url, *values, status=200, **options):
    return hop(url, status, *((STS, value) for value in values), **options)


def judged(rule, *hops_or_journeys, **options):
    ways = [each if not hasattr(each, "status") else journey(each) for each in hops_or_journeys]
    return outcomes(rule, case(*ways, **options))


@pytest.mark.parametrize(
    ("rule", "gap", "holds"),
    [
        pytest.param(hsts.invalid, ["max-age"], [YEAR], id="invalid"),
        pytest.param(hsts.twice, [YEAR, YEAR], [YEAR], id="twice"),
        pytest.param(hsts.zero, ["max-age=0"], ["max-age=1"], id="zero"),
        pytest.param(hsts.preload_unready, [f"{YEAR}; preload"], None, id="preload_unready"),
    ],
)
def test_one_answer_decides(told, rule, gap, holds):
    told(judged(rule, answer(HTTPS, *gap)))
    if holds is not None:
        told(judged(rule, answer(HTTPS, *holds)))
    told(judged(rule, answer(HTTPS)))
    if rule is not hsts.preload_unready:
        assert judged(rule, unseen(HTTPS)) == [Unknown(HOST, "not reached")]


def test_invalid_quotes_the_field_and_the_reason(told):
    told(judged(hsts.invalid, answer(HTTPS, "max-age=1; max-age=2")))
    told(judged(hsts.absent, answer(HTTPS, "max-age=1; max-age=2")))


@pytest.mark.parametrize("plain", [pytest.param([YEAR], id="gap"), pytest.param([], id="holds")])
def test_over_http(told, plain):
    told(judged(hsts.over_http, answer(HTTP, *plain, status=301)))
    told(judged(hsts.over_http, answer(HTTPS, YEAR)))


@pytest.mark.parametrize(
    "error",
    [
        pytest.param([], id="missing-on-the-error-page"),
        pytest.param(["max-age=5"], id="another-policy"),
        pytest.param([YEAR], id="holds"),
    ],
)
def test_uneven(told, error):
    told(judged(hsts.uneven, answer(HTTPS, YEAR), answer(f"{HTTPS}gone", *error, status=404)))
    told(judged(hsts.uneven, answer(HTTPS), answer(f"{HTTPS}gone", status=404)))
    assert judged(hsts.uneven, unseen(HTTPS)) == [Unknown(HOST, "not reached")]


@pytest.mark.parametrize(
    ("host", "policy"),
    [
        pytest.param(APEX, YEAR, id="gap"),
        pytest.param(APEX, FULL, id="holds"),
        pytest.param(HOST, YEAR, id="www-is-left-alone"),
        pytest.param(APEX, "max-age=0", id="switched-off-is-another-rule"),
    ],
)
def test_no_subdomains(told, host, policy):
    told(judged(hsts.no_subdomains, answer(f"https://{host}/", policy), names=[name(host)]))


NAMES = [name(APEX), name(HOST)]
CROSSING = journey(f"http://{APEX}/", answer(f"https://{APEX}/", YEAR, status=301), answer(HTTPS, YEAR))
SKIPPING = journey(f"http://{APEX}/", answer(HTTPS, YEAR))


@pytest.mark.parametrize(
    "ways",
    [
        pytest.param([CROSSING], id="holds"),
        pytest.param([SKIPPING], id="only-www"),
        pytest.param([SKIPPING, journey(answer(f"https://{APEX}/", YEAR))], id="never-crossed"),
        pytest.param([journey(answer(HTTPS))], id="no-policy-at-all-is-absent"),
    ],
)  # fmt: skip
def test_apex_never_seen(told, ways):
    told(outcomes(hsts.apex_never_seen, case(*ways, names=NAMES)))


def ready(policy=f"{FULL}; preload", first=f"https://{APEX}/"):
    issued = leaf(APEX, HOST)
    ways = (
        journey(hop(f"http://{APEX}/", 301, ("Location", first)), answer(f"https://{APEX}/", policy, issued=issued)),
        journey(answer(f"https://{APEX}/", policy, issued=issued)),
    )
    return case(
        *ways,
        names=[name(APEX)],
        endpoints=[endpoint(handshake(issued, intermediate()), host=APEX)],
        certificates=stored(issued),
    )


def test_preload_requirements_one_by_one(told):
    assert outcomes(hsts.preload_unready, ready()) == [Holds(APEX, "every requirement is met")]
    told(outcomes(hsts.preload_unready, ready("max-age=5; preload")))


REFUSED = NoConnection("refused", "the connection was refused")
EXPIRED = leaf(OLD, left=-4)


def below(issued, policy=FULL, wishes=Wishes()):  # noqa: B008
    good = leaf(APEX)
    ways = (journey(answer(f"https://{APEX}/", policy, issued=good)), journey(answer(f"https://{OLD}/", issued=issued)))
    endpoints = [
        endpoint(handshake(good, intermediate()), host=APEX),
        endpoint(handshake(issued, intermediate()), host=OLD),
    ]
    return case(
        *ways, names=[name(APEX), name(OLD)], endpoints=endpoints, certificates=stored(good, issued), wishes=wishes
    )


@pytest.mark.parametrize(
    "looked",
    [
        pytest.param(below(leaf(OLD)), id="holds"),
        pytest.param(below(EXPIRED), id="gap"),
        pytest.param(below(EXPIRED, YEAR), id="without-subdomains"),
        pytest.param(below(EXPIRED, YEAR, SUPPOSED), id="supposed"),
    ],
)  # fmt: skip
def test_would_lock_out(told, looked):
    told(outcomes(hsts.would_lock_out, looked))


def test_supposed_policy_takes_the_place_of_what_is_sent(told):
    told(judged(hsts.absent, answer(HTTPS), wishes=SUPPOSED))
    told(judged(hsts.short, answer(HTTPS, "max-age=1"), wishes=SUPPOSED))


@pytest.mark.parametrize("values", [[YEAR], []], ids=["gap", "holds"])
def test_on_address(told, values):
    looked = [Name("192.0.2.7", True, (), ("192.0.2.7",))]
    told(judged(hsts.on_address, answer("https://192.0.2.7/", *values), names=looked))
    told(judged(hsts.on_address, answer(HTTPS, *values)))


@pytest.mark.parametrize(
    ("left", "policy"),
    [
        pytest.param(60, YEAR, id="holds"),
        pytest.param(8, YEAR, id="expiring"),
        pytest.param(-4, YEAR, id="expired"),
        pytest.param(8, None, id="no-policy"),
    ],
)
def test_hsts_locks_out(told, left, policy):
    issued = leaf(HOST, left=left)
    found = case(
        journey(answer(HTTPS, *([policy] if policy else []))),
        endpoints=[endpoint(handshake(issued, intermediate()), address=ADDRESS)],
        certificates=stored(issued),
    )
    told(outcomes(date.hsts_locks_out, found))
    assert outcomes(date.hsts_locks_out, case(endpoints=[endpoint(REFUSED)])) == [
        Unknown(HOST, "the connection was refused")
    ]


def test_absent_means_on_no_answer(told):
    """A policy on a later answer of the same host is uneven; of a bare name whose www has one, another rule speaks."""
    later = journey(answer(HTTPS, status=302), answer(f"{HTTPS}en/", YEAR))
    for rule in (hsts.absent, hsts.uneven):
        told(judged(rule, later))
    www = journey(answer(f"https://{APEX}/", status=301), answer(HTTPS, YEAR))
    for rule in (hsts.absent, hsts.apex_never_seen):
        told(outcomes(rule, case(www, names=NAMES)))
    absent_apex = [name(HOST), Name(APEX, False)]
    for rule in (hsts.absent, hsts.apex_never_seen):
        told(outcomes(rule, case(journey(answer(HTTPS, YEAR)), names=absent_apex)))
