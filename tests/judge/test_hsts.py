"""The area HSTS, and what it means for the end of a certificate."""

import datetime

from pewter.evidence import HowFailed, Name, NoConnection, StopCause
from pewter.expectations import Expectations, Terms
from pewter.judge.rules import date, hsts
from support.cases import (
    ADDRESS,
    case,
    endpoint,
    handshake,
    hop,
    journey,
    name,
    outcomes,
    stopped,
    stored,
    table,
    unseen,
)
from support.certificates import HOST, intermediate, leaf

APEX = "marram-ferries.example"
OLD = f"old.{APEX}"
HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
HTTP_APEX, HTTPS_APEX = f"http://{APEX}/", f"https://{APEX}/"
STS = "Strict-Transport-Security"
YEAR, FULL = "max-age=31536000", "max-age=31536000; includeSubDomains"
SUPPOSED = Terms(suppose=("hsts",))
A_DAY = Terms(Expectations(hsts_minimum_age=datetime.timedelta(days=1)))
NAMES = [name(APEX), name(HOST)]
ABSENT_APEX = [name(HOST), Name(APEX, False)]
ADDRESS_AS_NAME = [Name("192.0.2.7", True, (), ("192.0.2.7",))]
REFUSED = NoConnection(HowFailed.REFUSED, "the connection was refused")
EXPIRED = leaf(OLD, left=-4)


def answer(url, *values, status=200, **options):
    return hop(url, status, *((STS, value) for value in values), **options)


def at(*hops_or_journeys, **options):
    ways = [each if not hasattr(each, "status") else journey(each) for each in hops_or_journeys]
    return case(*ways, **options)


def sent(*values, **options):
    return at(answer(HTTPS, *values), **options)


def at_apex(policy, host=APEX):
    return at(answer(f"https://{host}/", policy), names=[name(host)])


def ready(policy=f"{FULL}; preload", first=HTTPS_APEX):
    issued = leaf(APEX, HOST)
    served = [endpoint(handshake(issued, intermediate()), host=APEX)]
    way = journey(hop(HTTP_APEX, 301, ("Location", first)), answer(HTTPS_APEX, policy, issued=issued))
    ways = (way, answer(HTTPS_APEX, policy, issued=issued))
    return at(*ways, names=[name(APEX)], endpoints=served, certificates=stored(issued))


def below(issued, policy=FULL, terms=Terms()):  # noqa: B008
    good = leaf(APEX)
    ways = (answer(HTTPS_APEX, policy, issued=good), answer(f"https://{OLD}/", issued=issued))
    served = [endpoint(handshake(each, intermediate()), host=at) for each, at in ((good, APEX), (issued, OLD))]
    names = [name(APEX), name(OLD)]
    return at(*ways, names=names, endpoints=served, certificates=stored(good, issued), terms=terms)


def ending(left, *policy):
    issued = leaf(HOST, left=left)
    served = [endpoint(handshake(issued, intermediate()), address=ADDRESS)]
    return at(answer(HTTPS, *policy), endpoints=served, certificates=stored(issued))


CROSSING = journey(HTTP_APEX, answer(HTTPS_APEX, YEAR, status=301), answer(HTTPS, YEAR))
SKIPPING = journey(HTTP_APEX, answer(HTTPS, YEAR))
LATER = at(journey(answer(HTTPS, status=302), answer(f"{HTTPS}en/", YEAR)))
WWW = at(journey(answer(HTTPS_APEX, status=301), answer(HTTPS, YEAR)), names=NAMES)
GONE = f"{HTTPS}gone"

CASES = {
    hsts.invalid: {
        "gap": sent("max-age"),
        "holds": sent(YEAR),
        "absent": sent(),
        "doubled": sent("max-age=1; max-age=2"),
        "unknown": at(unseen(HTTPS)),
    },
    hsts.twice: {"gap": sent(YEAR, YEAR), "holds": sent(YEAR), "absent": sent(), "unknown": at(unseen(HTTPS))},
    hsts.zero: {"gap": sent("max-age=0"), "holds": sent("max-age=1"), "absent": sent(), "unknown": at(unseen(HTTPS))},
    hsts.preload_unready: {
        "gap": sent(f"{YEAR}; preload"),
        "absent": sent(),
        "every-requirement-met": ready(),
        "short": ready("max-age=5; preload"),
    },
    hsts.over_http: {
        "gap": at(answer(HTTP, YEAR, status=301)),
        "holds": at(answer(HTTP, status=301)),
        "https-is-left-alone": sent(YEAR),
    },
    hsts.uneven: {
        "missing-on-the-error-page": at(answer(HTTPS, YEAR), answer(GONE, status=404)),
        "another-policy": at(answer(HTTPS, YEAR), answer(GONE, "max-age=5", status=404)),
        "holds": at(answer(HTTPS, YEAR), answer(GONE, YEAR, status=404)),
        "on-none-is-absent": at(answer(HTTPS), answer(GONE, status=404)),
        "unknown": at(unseen(HTTPS)),
    },
    hsts.no_subdomains: {
        "gap": at_apex(YEAR),
        "holds": at_apex(FULL),
        "www-is-left-alone": at_apex(YEAR, HOST),
        "switched-off-is-another-rule": at_apex("max-age=0"),
    },
    hsts.apex_never_seen: {
        "holds": at(CROSSING, names=NAMES),
        "only-www": at(SKIPPING, names=NAMES),
        "never-crossed": at(SKIPPING, answer(HTTPS_APEX, YEAR), names=NAMES),
        "no-policy-at-all-is-absent": at(answer(HTTPS), names=NAMES),
    },
    hsts.would_lock_out: {
        "holds": below(leaf(OLD)),
        "gap": below(EXPIRED),
        "without-subdomains": below(EXPIRED, YEAR),
        "supposed": below(EXPIRED, YEAR, SUPPOSED),
    },
    hsts.on_address: {
        "gap": at(answer("https://192.0.2.7/", YEAR), names=ADDRESS_AS_NAME),
        "holds": at(answer("https://192.0.2.7/"), names=ADDRESS_AS_NAME),
        "a-name-is-left-alone": sent(YEAR),
    },
    date.hsts_locks_out: {
        "holds": ending(60, YEAR),
        "expiring": ending(8, YEAR),
        "expired": ending(-4, YEAR),
        "no-policy": ending(8),
        "unknown": at(endpoints=[endpoint(REFUSED)]),
    },
    (hsts.absent, hsts.short): {
        "short": sent("max-age=86400"),
        "holds-at-the-limit": sent("max-age=15552000"),
        "first-field-decides": sent("max-age=1", "max-age=15552000"),
        "zero": sent("max-age=0"),
        "forty-digits": sent("max-age=" + "9" * 40),
        "absent": sent(),
        "ignored-is-another-rule": sent("max-age=1; max-age=2"),
        "unknown": at(unseen(HTTPS)),
        "no-connection": at(stopped(HTTPS, StopCause.NO_CONNECTION)),
        "over-http-counts-not": at(journey(hop(HTTP, 301, (STS, "max-age=99999999")), hop(HTTPS))),
        "an-address-has-no-policy": sent(names=ADDRESS_AS_NAME),
        "a-name-without-address": sent(names=[Name(HOST)]),
        "minimum-age-is-an-expectation": sent("max-age=86400", terms=A_DAY),
        "supposed-policy-for-none": sent(terms=SUPPOSED),
        "supposed-policy-for-a-short-one": sent("max-age=1", terms=SUPPOSED),
    },
    (hsts.absent, hsts.uneven): {"policy-on-a-later-answer-of-the-host": LATER},
    (hsts.absent, hsts.apex_never_seen): {
        "policy-at-www-alone": WWW,
        "bare-name-does-not-exist": sent(YEAR, names=ABSENT_APEX),
    },
}


@table(CASES)
def test_rule(told, rule, looked):
    told(outcomes(rule, looked))
