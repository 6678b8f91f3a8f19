"""What a reader takes away: the verdict in one sentence, and what to do first."""

import datetime
import importlib
import pkgutil

import pytest

import judge as tests_of_the_judge
from pewter.evidence import StopCause
from pewter.expectations import Terms
from pewter.judge.order import FirstStep, Told, Worded, first_steps, step_words, verdict
from pewter.judge.review import make_review
from pewter.judge.rule import Does
from pewter.judge.rules import RULES
from pewter.levels import Level
from support.cases import ALL_CASES, case, endpoint, handshake, hop, journey, name, page, stopped, stored
from support.certificates import HOST, NOW, intermediate, leaf

BREAKS, EXPOSES, WEAKENS, NOTE = Level
BY_NAME = {rule.name: rule for rule in RULES}
A, B, C = "a.x.example", "b.x.example", "c.x.example"
TOLD = Told((A, B, C), "x.example", A, frozenset(), NOW)
SOON = NOW + datetime.timedelta(hours=20)
HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"


def entries(*found):
    """Rule, level, hosts, and from when on it stops visitors; numbered as given."""
    return [
        Worded(number, BY_NAME[rule], level, hosts if isinstance(hosts, tuple) else (hosts,), *by)
        for number, (rule, level, hosts, *by) in enumerate(found, start=1)
    ]


def words(*found, told=TOLD):
    steps, rest = first_steps(entries(*found), told)
    return [step_words(step, NOW) for step in steps], rest


@pytest.mark.parametrize(
    ("found", "steps", "rest"),
    [
        pytest.param(
            [("date/expired", BREAKS, A), ("redirect/through-bad-certificate", BREAKS, A)],
            ["Renew the certificate and reload the server at a (gaps 1 and 2)"],
            (),
            id="a-cause-with-what-follows-from-it",
        ),
        pytest.param(
            [("redirect/missing", EXPOSES, A), ("date/expiring", EXPOSES, B, SOON), ("reach/closed", BREAKS, C)],
            [
                "Open port 443 at c (gap 3)",
                "Renew the certificate at b before 2026-11-24 08:00 UTC, in 20 hours (gap 2)",
                "Redirect http to https at a (gap 1)",
            ],
            (),
            id="now-then-at-a-known-hour-then-the-rest",
        ),
        pytest.param(
            [("date/not-loaded", EXPOSES, A, SOON), ("date/expiring", EXPOSES, A, SOON)],
            ["Reload the server for the newer certificate file at a before 2026-11-24 08:00 UTC, in 20 hours (gaps 1 and 2)"],
            (),
            id="a-renewed-file-that-is-not-loaded",
        ),
        pytest.param(
            [
                ("hsts/would-lock-out", EXPOSES, A), ("redirect/missing", EXPOSES, A), ("redirect/downgrade", EXPOSES, A),
                ("cookie/not-secure", EXPOSES, A), ("page/debug-output", EXPOSES, B), ("protocol/obsolete", EXPOSES, B),
                ("hsts/absent", WEAKENS, A),
            ],
            [
                "Take out what leads from https back to http at a (gap 3)",
                "Redirect http to https at a (gap 2)",
                "Give the hosts below https at a (gap 1)",
                "Accept TLS 1.2 and 1.3 only at b (gap 6)",
                "Turn debugging off at b (gap 5)",
            ],
            (4,),
            id="the-way-back-before-the-way-there-and-five-at-most",
        ),
        pytest.param(
            [("page/blocked-content", BREAKS, A), ("redirect/loop", BREAKS, B), ("reach/closed", BREAKS, C)],
            ["Open port 443 at c (gap 3)", "End the circle of redirects at b (gap 2)",
             "Write https:// for the parts that are blocked at a (gap 1)"],
            (),
            id="what-stops-before-what-spoils",
        ),
        pytest.param(
            [("reach/origin", EXPOSES, A), ("redirect/loop", BREAKS, A)],
            ["Protect the leg from the edge to the origin at a (gaps 1 and 2)"],
            (),
            id="the-cause-of-a-circle-behind-an-edge",
        ),
        pytest.param(
            [("date/expired", BREAKS, A), ("redirect/through-bad-certificate", BREAKS, (A, B))],
            ["Renew the certificate and reload the server at a (gap 1)",
             "Give the redirecting host a valid certificate at a and b (gap 2)"],
            (),
            id="no-cause-where-it-does-not-reach-every-host",
        ),
        pytest.param([("hsts/absent", WEAKENS, A), ("dns/caa-absent", NOTE, A)], [], (), id="nothing-that-can-wait"),
    ],
)  # fmt: skip
def test_what_to_do_first(found, steps, rest):
    assert words(*found) == (steps, rest)


def test_nothing_follows_from_itself():
    """Rules that name each other as causes end in one of them."""
    found = [(rule, BREAKS, A, SOON) for rule in BY_NAME if not rule.startswith("bundle/")]
    steps, rest = first_steps(entries(*found), TOLD)
    assert sorted((*rest, *(number for step in steps for number in step.gaps))) == list(range(1, len(found) + 1))


@pytest.mark.parametrize(
    ("found", "said"),
    [
        (
            [("date/expired", BREAKS, B), ("redirect/loop", BREAKS, C)],
            "Visitors of 2 of 3 names are stopped or warned: certificate expired at b; circle at c.",
        ),
        ([("date/expiring", EXPOSES, B, SOON)], "Visitors of b will be stopped in 20 hours: certificate about to expire."),
        ([("page/blocked-content", BREAKS, A)], "Visitors of a find parts that do not work: parts blocked."),
        (
            [("redirect/missing", EXPOSES, (A, B, C))],
            "What visitors of all 3 names send and get can be read or changed on the way: no redirect to https at 3 hosts.",
        ),
        ([("cookie/not-secure", EXPOSES, A)], "Cookies of a can be read or used by others: cookie without Secure."),
        ([("page/debug-output", EXPOSES, A)], "Inner workings of a are shown to anybody: inner workings shown."),
        ([("dns/dangling-alias", EXPOSES, A)], "Others can stand in for the site: alias leads nowhere at a."),
        (
            [("chain/stores-disagree", WEAKENS, A), ("hsts/absent", WEAKENS, A)],
            "Visitors of a are let in without a warning by some programs only: trusted by some programs only.",
        ),
        ([("hsts/absent", WEAKENS, A)], "Visitors arrive safely; missing or weak: no HSTS at a."),
        ([("dns/caa-absent", NOTE, A)], "Visitors arrive safely; there are notes."),
        ([], "No gap found: visitors arrive safely."),
        (
            [("reach/closed", BREAKS, A), ("date/expired", BREAKS, B), ("redirect/loop", BREAKS, C), ("chain/revoked", BREAKS, C)],
            "Visitors of all 3 names are stopped or warned: https closed at a; certificate revoked at c; certificate "
            "expired at b; and 1 more.",
        ),
    ],
)  # fmt: skip
def test_the_verdict_says_what_is_wrong_and_for_whom(found, said):
    assert verdict(entries(*found), TOLD, arrive=True, has_unknown=False, is_partial=False) == said


@pytest.mark.parametrize(
    ("found", "options", "said"),
    [
        ([], {"has_unknown": True}, "No gap found in what could be seen."),
        ([], {"arrive": False}, "No gap found in what could be seen."),
        ([], {"is_partial": True}, "No gap found in what was asked."),
        ([("dns/caa-absent", NOTE, A)], {"arrive": False}, "Nothing but notes in what was seen."),
        ([("hsts/absent", WEAKENS, A)], {"arrive": False}, "Nothing that breaks or exposes was seen; missing or weak: no HSTS at a."),
    ],
)  # fmt: skip
def test_nobody_is_said_to_arrive_who_was_not_seen_to(found, options, said):
    given = {"arrive": True, "has_unknown": False, "is_partial": False, **options}
    assert verdict(entries(*found), TOLD, **given) == said


def test_one_name_is_not_named_again():
    results = make_review(
        case(
            journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS)),
            journey(hop(HTTPS)),
            endpoints=[endpoint(handshake(leaf(left=-4), intermediate()))],
            certificates=stored(leaf(left=-4)),
        )
    ).results
    assert results.verdict == "Visitors are stopped or warned: certificate expired."
    assert results.first == (FirstStep("Renew the certificate and reload the server", (1,)),)


def test_a_page_with_parts_that_are_blocked_does_not_stop_visitors():
    shown = page(HTTPS)
    ways = journey(hop(HTTPS, page=shown.sha256))
    results = make_review(case(ways, pages=(shown,), terms=Terms(levels={"hsts/absent": "exposes"}))).results
    assert results.verdict == "To be mended first: no HSTS."


def test_a_host_that_is_closed_comes_before_one_that_is_open_in_part():
    other = f"shop.{HOST}"
    ways = (
        journey(hop(HTTPS)), journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS)),
        stopped(f"https://{other}/", StopCause.NO_CONNECTION),
    )  # fmt: skip
    expired = endpoint(handshake(leaf(left=-4), intermediate()))
    results = make_review(
        case(*ways, names=[name(HOST), name(other)], endpoints=[expired], certificates=stored(leaf(left=-4)))
    ).results
    assert [step.what for step in results.first][:1] == ["Renew the certificate and reload the server at (apex)"]


# Over every case that any test of a rule has


def _every_case():
    for module in pkgutil.iter_modules(tests_of_the_judge.__path__):
        if module.name.startswith("test_") and module.name != "test_order":
            importlib.import_module(f"judge.{module.name}")
    return list({id(each): each for each in ALL_CASES}.values())


def test_every_gap_that_breaks_or_exposes_stands_in_what_to_do_first():
    """In the order of a person's need: what stops visitors now, what will at a known hour, then the rest."""
    cases = [each for each in _every_case() if hasattr(each, "evidence")]
    with_steps = 0
    for looked in cases:
        results = make_review(looked).results
        serious = [entry for entry in results.gaps if entry.level in {BREAKS, EXPOSES}]
        named = [number for step in results.first for number in step.gaps]
        assert sorted((*named, *results.after_first)) == [entry.number for entry in serious]
        assert len(results.first) <= 5
        with_steps += bool(serious)
        level = {entry.number: entry.level for entry in serious}
        now = [any(level[number] is BREAKS for number in step.gaps) for step in results.first]
        assert now == sorted(now, reverse=True)
        soon = [step.by for step, is_now in zip(results.first, now, strict=True) if not is_now]
        known = [by for by in soon if by is not None]
        assert soon[: len(known)] == sorted(known)
        if serious:
            assert "arrive safely" not in results.verdict
    assert len(cases) > 700
    assert with_steps > 200


def test_every_rule_has_words_that_fit_where_they_stand():
    for rule in RULES:
        said = rule.words
        assert len(said.short) <= 36, rule.name
        assert not said.short.endswith("."), rule.name
        assert said.do[0].isupper() and not said.do.endswith("."), rule.name
        assert "," not in said.do or rule.name.startswith("bundle/"), rule.name
        if rule.level is BREAKS:
            assert said.does in {Does.STOPS, Does.SPOILS}, rule.name
        if rule.level is EXPOSES:
            assert said.does not in {Does.WEAKER, Does.NOTE}, rule.name
