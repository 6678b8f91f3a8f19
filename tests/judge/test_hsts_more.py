"""The rest of the HSTS area, and what it means for the end of a certificate."""

import pytest

from pewter.evidence import Name, NoConnection
from pewter.judge import date, hsts
from pewter.judge.expectations import Wishes
from pewter.judge.outcomes import Gap, Holds, Unknown
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


def kinds(rule, *ways, **options):
    return [type(outcome) for outcome in judged(rule, *ways, **options)]


@pytest.mark.parametrize(
    ("rule", "gap", "holds"),
    [
        pytest.param(hsts.invalid, ["max-age"], [YEAR], id="invalid"),
        pytest.param(hsts.twice, [YEAR, YEAR], [YEAR], id="twice"),
        pytest.param(hsts.zero, ["max-age=0"], ["max-age=1"], id="zero"),
        pytest.param(hsts.preload_unready, [f"{YEAR}; preload"], None, id="preload_unready"),
    ],
)
def test_one_answer_decides(rule, gap, holds):
    assert kinds(rule, answer(HTTPS, *gap)) == [Gap]
    if holds is not None:
        assert kinds(rule, answer(HTTPS, *holds)) == [Holds]
    assert kinds(rule, answer(HTTPS)) == []
    if rule is not hsts.preload_unready:
        assert judged(rule, unseen(HTTPS)) == [Unknown(HOST, "not reached")]


def test_invalid_quotes_the_field_and_the_reason():
    (gap,) = judged(hsts.invalid, answer(HTTPS, "max-age=1; max-age=2"))
    assert gap.seen == f"{STS}: max-age=1; max-age=2 is ignored by browsers: directive max-age is given twice"
    assert kinds(hsts.absent, answer(HTTPS, "max-age=1; max-age=2")) == []


@pytest.mark.parametrize(("plain", "kind"), [pytest.param([YEAR], Gap, id="gap"), pytest.param([], Holds, id="holds")])
def test_over_http(plain, kind):
    assert kinds(hsts.over_http, answer(HTTP, *plain, status=301)) == [kind]
    assert kinds(hsts.over_http, answer(HTTPS, YEAR)) == []


@pytest.mark.parametrize(
    ("error", "kind"),
    [
        pytest.param([], Gap, id="missing-on-the-error-page"),
        pytest.param(["max-age=5"], Gap, id="another-policy"),
        pytest.param([YEAR], Holds, id="holds"),
    ],
)
def test_uneven(error, kind):
    assert kinds(hsts.uneven, answer(HTTPS, YEAR), answer(f"{HTTPS}gone", *error, status=404)) == [kind]
    assert kinds(hsts.uneven, answer(HTTPS), answer(f"{HTTPS}gone", status=404)) == []
    assert judged(hsts.uneven, unseen(HTTPS)) == [Unknown(HOST, "not reached")]


@pytest.mark.parametrize(
    ("host", "policy", "expected"),
    [
        pytest.param(APEX, YEAR, [Gap], id="gap"),
        pytest.param(APEX, FULL, [Holds], id="holds"),
        pytest.param(HOST, YEAR, [], id="www-is-left-alone"),
        pytest.param(APEX, "max-age=0", [], id="switched-off-is-another-rule"),
    ],
)
def test_no_subdomains(host, policy, expected):
    assert kinds(hsts.no_subdomains, answer(f"https://{host}/", policy), names=[name(host)]) == expected


NAMES = [name(APEX), name(HOST)]
CROSSING = journey(f"http://{APEX}/", answer(f"https://{APEX}/", YEAR, status=301), answer(HTTPS, YEAR))
SKIPPING = journey(f"http://{APEX}/", answer(HTTPS, YEAR))


@pytest.mark.parametrize(
    ("ways", "expected"),
    [
        pytest.param([CROSSING], [Holds(APEX, "has a policy that visitors meet")], id="holds"),
        pytest.param([SKIPPING], [Gap(APEX, f"{HOST} has a policy, {APEX} has none", f"{STS} on https://{APEX} too")], id="only-www"),
        pytest.param(
            [SKIPPING, journey(answer(f"https://{APEX}/", YEAR))],
            [Gap(APEX, f"http://{APEX}/ never crosses https://{APEX}", f"http://{APEX} to https://{APEX} first")],
            id="never-crossed",
        ),
        pytest.param([journey(answer(HTTPS))], [], id="no-policy-at-all-is-absent"),
    ],
)  # fmt: skip
def test_apex_never_seen(ways, expected):
    assert outcomes(hsts.apex_never_seen, case(*ways, names=NAMES)) == expected


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


def test_preload_requirements_one_by_one():
    assert outcomes(hsts.preload_unready, ready()) == [Holds(APEX, "every requirement is met")]
    (gap,) = outcomes(hsts.preload_unready, ready("max-age=5; preload"))
    assert gap.seen == "preload, but not: max-age=31536000 or more; includeSubDomains"


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
    ("looked", "expected"),
    [
        pytest.param(below(leaf(OLD)), [Holds(APEX, "1 hosts below work")], id="holds"),
        pytest.param(below(EXPIRED), [Gap(APEX, f"includeSubDomains reaches {OLD} (warning: date)", "working https on every host below")], id="gap"),
        pytest.param(below(EXPIRED, YEAR), [], id="without-subdomains"),
        pytest.param(below(EXPIRED, YEAR, SUPPOSED), [Gap(APEX, f"includeSubDomains reaches {OLD} (warning: date)", "working https on every host below"), Holds(OLD, "no reviewed host below")], id="supposed"),
    ],
)  # fmt: skip
def test_would_lock_out(looked, expected):
    assert outcomes(hsts.would_lock_out, looked) == expected


def test_supposed_policy_takes_the_place_of_what_is_sent():
    assert kinds(hsts.absent, answer(HTTPS), wishes=SUPPOSED) == [Holds]
    assert kinds(hsts.short, answer(HTTPS, "max-age=1"), wishes=SUPPOSED) == [Holds]


@pytest.mark.parametrize(("values", "kind"), [([YEAR], Gap), ([], Holds)], ids=["gap", "holds"])
def test_on_address(values, kind):
    looked = [Name("192.0.2.7", True, (), ("192.0.2.7",))]
    assert kinds(hsts.on_address, answer("https://192.0.2.7/", *values), names=looked) == [kind]
    assert kinds(hsts.on_address, answer(HTTPS, *values)) == []


@pytest.mark.parametrize(
    ("left", "policy", "expected"),
    [
        pytest.param(60, YEAR, [Holds], id="holds"),
        pytest.param(8, YEAR, [Gap], id="expiring"),
        pytest.param(-4, YEAR, [Gap], id="expired"),
        pytest.param(8, None, [], id="no-policy"),
    ],
)
def test_hsts_locks_out(left, policy, expected):
    issued = leaf(HOST, left=left)
    found = case(
        journey(answer(HTTPS, *([policy] if policy else []))),
        endpoints=[endpoint(handshake(issued, intermediate()), address=ADDRESS)],
        certificates=stored(issued),
    )
    assert [type(outcome) for outcome in outcomes(date.hsts_locks_out, found)] == expected
    assert outcomes(date.hsts_locks_out, case(endpoints=[endpoint(REFUSED)])) == [
        Unknown(HOST, "the connection was refused")
    ]
