"""The area cookie."""

import pytest

from pewter.judge.judging import judge
from pewter.judge.rules import cookie
from pewter.web.cookie_kinds import CookieKind, guess_kind
from support.cases import case, hop, journey, name, outcomes, table, unseen
from support.certificates import HOST

APEX, OLD = "marram-ferries.example", "old.marram-ferries.example"
HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
LOOKS = {"ordinary": "colour", "session": "sessionid", "csrf": "csrftoken"}
GOOD = "Path=/; Secure; HttpOnly; SameSite=Lax"


def sets(*fields, url=HTTPS, names=()):
    return case(journey(hop(url, 200, *(("Set-Cookie", field) for field in fields))), names=names)


def by_look(attributes):
    """A cookie of each look with these attributes and with good ones, and no cookie."""
    return {
        **{look: sets(f"{each}=*; {attributes}") for look, each in LOOKS.items()},
        **{f"{look}, good": sets(f"{each}=*; {GOOD}") for look, each in LOOKS.items()},
        "none": sets(),
    }


def wide(field, *others):
    return sets(field, names=[name(HOST), *map(name, others)])


CASES = {
    cookie.not_secure: {
        **by_look("HttpOnly; SameSite=Lax"),
        "attributes-quoted": sets("sessionid=****; Path=/; HttpOnly"),
        "over-http-is-another-rule": sets("a=*", url=HTTP),
    },
    cookie.not_http_only: by_look("Secure; SameSite=Lax"),
    cookie.same_site: by_look("Secure; HttpOnly"),
    cookie.none_not_secure: by_look("SameSite=None"),
    cookie.refused: {
        **by_look("Domain=other.example"),
        "long": sets("a=" + "*" * 4096),
        "control": sets("a=*\x01"),
        "empty": sets("="),
        "suffix": sets("a=*; Domain=example"),
        "tab": sets("a=*\t*"),
    },
    cookie.over_http: {"gap": sets("a=*", url=HTTP), "holds": sets("a=*")},
    cookie.prefix: {
        field: sets(field)
        for field in (
            "__Host-a=*; Secure; Path=/", "__Host-a=*; Secure", f"__Host-a=*; Secure; Path=/; Domain={APEX}",
            "__secure-a=*", "__Secure-*; Secure", "plain=*",
        )
    },
    cookie.wide_domain: {
        "gap": wide(f"sessionid=*; Domain={APEX}", OLD),
        "no-other-host": wide(f"sessionid=*; Domain={APEX}"),
        "host-only": wide("sessionid=*", OLD),
        "no-session": wide(f"colour=*; Domain={APEX}", OLD),
    },
    cookie.long_lived: {
        field: sets(field)
        for field in (
            "sessionid=*; Max-Age=2592000", "sessionid=*; Max-Age=2592001", "sessionid=*; Expires=Sat, 23 Jan 2027 12:00:00 GMT",
            "sessionid=*", "colour=*; Max-Age=99999999999",
        )
    },
    cookie.overwritten: {
        "gap": sets("a=*; Path=/", "a=*; Path=/shop"),
        "holds": sets("a=*; Path=/", "b=*; Path=/shop"),
    },
    cookie.RULES: {
        "deletions": sets("sessionid=; Max-Age=0", "old=; Expires=Thu, 01 Jan 1970 00:00:00 GMT"),
        "another-site": sets("sessionid=*", url="https://other.example/"),
        "unseen": case(unseen(HTTPS)),
    },
}  # fmt: skip


@table(CASES)
def test_rule(told, rule, looked):
    told(outcomes(rule, looked))


def test_same_cookie_on_many_answers_is_one_finding():
    ways = [journey(hop(f"{HTTPS}{n}", 200, ("Set-Cookie", "a=*; Path=/"))) for n in range(5)]
    gaps = [each for each in judge(case(*ways), cookie.RULES) if each.rule == "cookie/not-secure"]
    assert len(gaps) == 1


KINDS = {
    CookieKind.SESSION: "PHPSESSID __Host-session connect.sid wordpress_logged_in_abc auth_token remember_me",
    CookieKind.CSRF: "csrftoken XSRF-TOKEN session_csrf",
    CookieKind.LOAD_BALANCER: "AWSALBCORS BIGipServerpool",
    CookieKind.ANALYTICS: "_ga_4X",
    CookieKind.OTHER: "colour author",
}


@pytest.mark.parametrize("kind", KINDS)
def test_kinds_by_name(kind):
    assert {guess_kind(each).kind for each in KINDS[kind].split()} == {kind}
    assert guess_kind("").kind is CookieKind.OTHER
