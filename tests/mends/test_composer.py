"""Lines for every rule, kind of server and host: whole, and harmless whatever a site calls itself."""

import re

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.judge.nature import Safety
from pewter.judge.rules import RULE_OF, RULES
from pewter.mends.composer import Situation, compose
from pewter.mends.kinds import Kind, Manner, kind_file
from pewter.mends.recognition import by_application

ON_EVERY_SERVER = (Kind.NGINX, Kind.APACHE, Kind.HAPROXY, Kind.CADDY, Kind.LIGHTTPD)
HERE = Situation(
    host="x.example",
    landing="www.x.example",
    canonical="https://www.x.example",
    names=("www.x.example",),
    cookies=("sid",),
    max_age=31536000,
    sts="max-age=31536000",
    names_powered_by=True,
    is_own_circle=True,
)
SITUATIONS = {
    "http": msgspec.structs.replace(HERE, is_secure=False),
    "https": msgspec.structs.replace(HERE, is_secure=True, version=(1, 22, 1)),
    "newer": msgspec.structs.replace(HERE, is_secure=True, version=(1, 27)),
    "ipv6": msgspec.structs.replace(HERE, host="[2001:db8::7]", landing=""),
    "port": msgspec.structs.replace(HERE, port=8443, policy="frame-ancestors 'self'"),
}


@pytest.mark.parametrize("kind", Kind)
def test_a_kind_names_places_and_rules_that_there_are(kind):
    file, names = kind_file(kind), {rule.name for rule in RULES}
    assert {*file.rules, *file.same, *file.not_here} <= names
    assert set(file.same.values()) <= set(file.rules)
    assert not set(file.same) & set(file.rules)
    assert all(not each.place or each.place in file.places for of in file.rules.values() for each in of)


def test_each_server_that_can_be_tried_has_lines_or_says_why_not():
    files = [kind_file(kind) for kind in ON_EVERY_SERVER]
    for rule in {rule for file in files for rule in (*file.rules, *file.same)}:
        lacking = [file.title for file in files if not file.templates(rule) and rule not in file.not_here]
        assert not lacking, (rule, lacking)


@pytest.mark.parametrize("situation", SITUATIONS)
@pytest.mark.parametrize("kind", Kind)
def test_nothing_is_left_unfilled(kind, situation):
    here = SITUATIONS[situation]
    for rule in RULES:
        for piece in compose(rule.name, kind, [here]):
            text = f"{piece.where}\n{piece.lines}\n{piece.note}"
            assert not re.search(r"@[a-z_]+@", text), text
            assert piece.lines or piece.manner is Manner.REMOVES
            assert "https:///" not in text


@given(st.text(min_size=1).filter(lambda text: not re.fullmatch(r"[\w.-]+", text, re.ASCII)), st.sampled_from(Kind))
def test_a_name_that_is_none_never_stands_in_a_line(hostile, kind):
    for rule in (
        "redirect/host-before-https",
        "hsts/short",
        "cookie/not-secure",
        "page/blocked-content",
        "reach/unknown-host",
    ):
        for name in ("host", "landing"):
            assert compose(rule, kind, [msgspec.structs.replace(HERE, **{name: hostile})]) == ()
        assert compose(rule, kind, [msgspec.structs.replace(HERE, names=(hostile,))]) == ()
    assert compose("cookie/not-secure", Kind.NGINX, [msgspec.structs.replace(HERE, cookies=(hostile,))]) == ()


@given(st.text(alphabet='"\\\n\r${}`%#<>a', min_size=1))
def test_a_policy_never_ends_a_string_or_a_line(hostile):
    here = msgspec.structs.replace(HERE, policy=hostile, sts=hostile)
    for kind in ON_EVERY_SERVER:
        found = [*compose("page/blocked-content", kind, [here]), *compose("redirect/wrong-place", kind, [here])]
        plain = [
            *compose("page/blocked-content", kind, [msgspec.structs.replace(HERE, policy="a", sts="a")]),
            *compose("redirect/wrong-place", kind, [msgspec.structs.replace(HERE, policy="a", sts="a")]),
        ]
        assert hostile.strip("a") == "" or len(found) < len(plain)


def test_one_block_for_each_name_and_remarks_once():
    second = msgspec.structs.replace(HERE, host="shop.x.example", landing="")
    pieces = compose("redirect/missing", Kind.NGINX, [HERE, second])
    assert [re.findall(r"server_name (\S+);", piece.lines) for piece in pieces] == [["x.example"], ["shop.x.example"]]
    shared = compose("hsts/absent", Kind.NGINX, [HERE, second])
    assert [piece.where for piece in shared] == [
        "in the server block for port 443 of x.example and shop.x.example (once, where they share it), beside what is there"
    ]
    many = compose("cookie/not-secure", Kind.NGINX, [msgspec.structs.replace(HERE, cookies=("a", "b"))])
    assert [bool(piece.note) for piece in many] == [True, False]


@pytest.mark.parametrize(
    ("now", "rule", "age"),
    [(None, "hsts/absent", 86400), (60, "hsts/short", 31536000), (60, "hsts/no-subdomains", 86400),
     (31536000, "hsts/no-subdomains", 31536000), (10**12, "hsts/no-subdomains", 86400)],
)  # fmt: skip
def test_a_policy_begins_with_a_day_and_is_never_shortened(now, rule, age):
    (piece,) = compose(
        rule,
        Kind.NGINX,
        [msgspec.structs.replace(HERE, max_age=now, for_long=RULE_OF[rule].nature.safety is Safety.HOLDS_FOR_LONG)],
    )
    assert f"max-age={age}" in piece.lines
    assert ("It begins with a day" in piece.note) == (age == 86400)


@pytest.mark.parametrize(
    ("cookies", "powered_by", "kind"),
    [(["csrftoken"], [], Kind.DJANGO), (["connect.sid"], [], Kind.EXPRESS), (["_shop_session"], [], Kind.RAILS),
     (["laravel_session"], [], Kind.LARAVEL), (["JSESSIONID"], [], Kind.SPRING), (["sid"], ["PHP/8.1"], Kind.PHP),
     (["sid"], ["Express"], Kind.EXPRESS), (["a" * 10_000], ["x"], None)],
)  # fmt: skip
def test_applications_are_known_by_what_they_set(cookies, powered_by, kind):
    assert by_application(cookies, powered_by) is kind
