import pytest

from pewter.judge import cookie
from pewter.judge.judging import judge
from pewter.judge.outcomes import Gap, Holds, Level
from pewter.web.cookie_kinds import CookieKind, guess_kind
from support.cases import case, hop, journey, name, outcomes, unseen
from support.certificates import HOST

APEX = "marram-ferries.example"
HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"


def judged(rule, *fields, url=HTTPS, names=()):
    answer = hop(url, 200, *(("Set-Cookie", field) for field in fields))
    return outcomes(rule, case(journey(answer), names=names))


def found(rule, *fields, **options):
    return [(type(each), each.level if isinstance(each, Gap) else None) for each in judged(rule, *fields, **options)]


GOOD = "{name}=*; Path=/; Secure; HttpOnly; SameSite=Lax"
EXPOSES, WEAKENS, NOTE, BREAKS = Level.EXPOSES, Level.WEAKENS, Level.NOTE, Level.BREAKS


@pytest.mark.parametrize(
    ("rule", "field", "ordinary", "session", "csrf"),
    [
        pytest.param(cookie.not_secure, "{name}=*; HttpOnly; SameSite=Lax", EXPOSES, EXPOSES, EXPOSES, id="not_secure"),
        pytest.param(
            cookie.not_http_only, "{name}=*; Secure; SameSite=Lax", WEAKENS, EXPOSES, NOTE, id="not_http_only"
        ),
        pytest.param(cookie.same_site, "{name}=*; Secure; HttpOnly", WEAKENS, EXPOSES, WEAKENS, id="same_site"),
        pytest.param(cookie.none_not_secure, "{name}=*; SameSite=None", BREAKS, BREAKS, BREAKS, id="none_not_secure"),
        pytest.param(cookie.refused, "{name}=*; Domain=other.example", BREAKS, BREAKS, BREAKS, id="refused"),
    ],
)
def test_levels_by_what_a_cookie_looks_like(rule, field, ordinary, session, csrf):
    for cookie_name, level in (("colour", ordinary), ("sessionid", session), ("csrftoken", csrf)):
        assert found(rule, field.format(name=cookie_name)) == [(Gap, level)]
        assert found(rule, GOOD.format(name=cookie_name)) == [(Holds, None)]
    assert found(rule) == []


def test_gap_quotes_the_attributes_and_says_why_it_looks_so(told):
    told(judged(cookie.not_secure, "sessionid=****; Path=/; HttpOnly"))


def test_over_http():
    assert found(cookie.over_http, "a=*", url=HTTP) == [(Gap, EXPOSES)]
    assert found(cookie.over_http, "a=*") == [(Holds, None)]
    assert found(cookie.not_secure, "a=*", url=HTTP) == []


@pytest.mark.parametrize(
    "field",
    [
        "__Host-a=*; Secure; Path=/",
        "__Host-a=*; Secure",
        "__Host-a=*; Secure; Path=/; Domain=marram-ferries.example",
        "__secure-a=*",
        "__Secure-*; Secure",
        "plain=*",
    ],
)
def test_prefix(told, field):
    told(judged(cookie.prefix, field))


@pytest.mark.parametrize(
    "field",
    ["a=" + "*" * 4096, "a=*\x01", "=", "a=*; Domain=example", "a=*\t*"],
    ids=["long", "control", "empty", "suffix", "tab"],
)
def test_refused_for_every_reason(field):
    assert found(cookie.refused, field) == [(Gap, BREAKS)]


def test_deletions_are_no_findings():
    for rule in cookie.RULES:
        assert judged(rule, "sessionid=; Max-Age=0", "old=; Expires=Thu, 01 Jan 1970 00:00:00 GMT") == []


@pytest.mark.parametrize(
    ("field", "others", "expected"),
    [
        pytest.param(
            "sessionid=*; Domain=marram-ferries.example", ("old.marram-ferries.example",), [(Gap, EXPOSES)], id="gap"
        ),
        pytest.param("sessionid=*; Domain=marram-ferries.example", (), [(Holds, None)], id="no-other-host"),
        pytest.param("sessionid=*", ("old.marram-ferries.example",), [(Holds, None)], id="host-only"),
        pytest.param("colour=*; Domain=marram-ferries.example", ("old.marram-ferries.example",), [], id="no-session"),
    ],
)
def test_wide_domain(field, others, expected):
    assert found(cookie.wide_domain, field, names=[name(HOST), *map(name, others)]) == expected


@pytest.mark.parametrize(
    "field",
    [
        "sessionid=*; Max-Age=2592000",
        "sessionid=*; Max-Age=2592001",
        "sessionid=*; Expires=Sat, 23 Jan 2027 12:00:00 GMT",
        "sessionid=*",
        "colour=*; Max-Age=99999999999",
    ],
)
def test_long_lived(told, field):
    told(judged(cookie.long_lived, field))


def test_overwritten(told):
    told(judged(cookie.overwritten, "a=*; Path=/", "a=*; Path=/shop"))
    told(judged(cookie.overwritten, "a=*; Path=/", "b=*; Path=/shop"))


def test_cookies_of_other_sites_and_unseen_answers_are_left_alone():
    other = journey(hop("https://other.example/", 200, ("Set-Cookie", "sessionid=*")))
    for rule in cookie.RULES:
        assert outcomes(rule, case(other, unseen(HTTPS))) == []


def test_same_cookie_on_many_answers_is_one_finding():
    ways = [journey(hop(f"{HTTPS}{n}", 200, ("Set-Cookie", "a=*; Path=/"))) for n in range(5)]
    gaps = [each for each in judge(case(*ways)) if each.rule == "cookie/not-secure"]
    assert len(gaps) == 1


@pytest.mark.parametrize(
    ("cookie_name", "kind"),
    [
        ("PHPSESSID", CookieKind.SESSION), ("__Host-session", CookieKind.SESSION), ("connect.sid", CookieKind.SESSION),
        ("wordpress_logged_in_abc", CookieKind.SESSION), ("auth_token", CookieKind.SESSION), ("remember_me", CookieKind.SESSION),
        ("csrftoken", CookieKind.CSRF), ("XSRF-TOKEN", CookieKind.CSRF), ("session_csrf", CookieKind.CSRF),
        ("AWSALBCORS", CookieKind.LOAD_BALANCER), ("BIGipServerpool", CookieKind.LOAD_BALANCER), ("_ga_4X", CookieKind.ANALYTICS),
        ("colour", CookieKind.OTHER), ("author", CookieKind.OTHER), ("", CookieKind.OTHER),
    ],
)  # fmt: skip
def test_kinds_by_name(cookie_name, kind):
    assert guess_kind(cookie_name).kind is kind
