import datetime
import re
from pathlib import Path

import pytest

from pewter.errors import FileError, UsageError
from pewter.evidence import Plan, Step, Target
from pewter.expectations import Terms
from pewter.levels import Level
from pewter.plan.request import LookRequest
from pewter.plan.settle import settle
from pewter.plan.site_file import SiteFile, read_site_file
from pewter.plan.texts import read_as_of, read_target

EXAMPLE = """
[site]
canonical = "https://www.marram-ferries.example"
names = ["marram-ferries.example", "tickets.marram-ferries.example"]
paths = ["/", "/timetable?day=sat", "tickets.marram-ferries.example/account/login"]

[look]
resolver = ["127.0.0.1:5353", "192.0.2.53"]
timeout = 30

[expect]
minimum_protocol = "TLS 1.2"
hsts_minimum_age = "365 days"
longest_ttl = "2 days"
addresses = { "www.marram-ferries.example" = ["192.0.2.10"] }

[origins]
"tickets.marram-ferries.example" = "198.51.100.7:8443"
"staff.marram-ferries.example" = "198.51.100.8"

[levels]
"hsts/absent" = "note"

[routes]
"www.marram-ferries.example:443" = "127.0.0.1:18443"
"tickets.marram-ferries.example" = ["192.0.2.20", "192.0.2.21"]

[[accept]]
gap = "name/not-covered"
where = "old-webmail.marram-ferries.example"
because = "unused since the mail moved; removed with the next zone change"
until = 2027-01-31
"""


def read(tmp_path: Path, text: str) -> SiteFile:
    path = tmp_path / "pewter.toml"
    path.write_text(text, encoding="utf-8")
    return read_site_file(path)


def settled(tmp_path: Path, typed: LookRequest, text: str = EXAMPLE) -> tuple[Plan, Terms]:
    (tmp_path / "pewter.toml").write_text(text, encoding="utf-8")
    found = settle(typed, tmp_path, lambda words: None)
    return found.plan, found.terms


def test_every_section_is_read(tmp_path):
    plan, terms = settled(tmp_path, LookRequest())
    assert plan == Plan(
        targets=(
            Target("www.marram-ferries.example"), Target("marram-ferries.example"), Target("tickets.marram-ferries.example"),
        ),
        paths=("/", "/timetable?day=sat", "tickets.marram-ferries.example/account/login"),
        routes=(
            "www.marram-ferries.example:443=127.0.0.1:18443",
            "tickets.marram-ferries.example=192.0.2.20",
            "tickets.marram-ferries.example=192.0.2.21",
        ),
        origins=("tickets.marram-ferries.example=198.51.100.7:8443",),
        resolvers=("127.0.0.1:5353", "192.0.2.53:53"),
        whole_seconds=30,
        site_file="pewter.toml",
        site_lines={"www.marram-ferries.example": 3, "marram-ferries.example": 4, "tickets.marram-ferries.example": 4},
    )  # fmt: skip
    assert terms.canonical == "https://www.marram-ferries.example"
    assert terms.expect.longest_ttl == datetime.timedelta(days=2)
    assert terms.expect.addresses == {"www.marram-ferries.example": ("192.0.2.10",)}
    assert terms.expect.hsts_minimum_age == datetime.timedelta(days=365)
    assert Level(terms.levels["hsts/absent"]) is Level.NOTE
    assert terms.accept[0].until == datetime.date(2027, 1, 31)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("[sight]\n", "unknown key sight; allowed here: site, look, expect, levels, routes, origins, accept."),
        ("[site]\nname = 1\n", "unknown key site.name; allowed here: canonical, names, paths, server."),
        ("[site]\nnames = 'x'\n", "site.names: Expected `array`, got `str`."),
        ("[expect]\nhsts_age = 1\n", "unknown key expect.hsts_age; allowed here: minimum_protocol"),
        ("[expect]\nhsts_minimum_age = '5 weeks'\n", "expect.hsts_minimum_age is '5 weeks'; write it as \"365 days\"."),
        ("[expect]\nexpiring_days = 'x'\n", "expect.expiring_days: Expected `int`, got `str`."),
        ("[expect]\nminimum_protocol = 'TLS 9'\n", "expect.minimum_protocol is 'TLS 9'; allowed: SSL 2.0, SSL 3.0"),
        ("[levels]\n'hsts/absent' = 'awful'\n", "allowed: breaks, exposes, weakens, note."),
        ("[levels]\n'hsts/absurd' = 'note'\n", "is no rule"),
        ("[[accept]]\ngap = 'x/y'\nwhere = 'a'\nbecause = 'b'\nuntil = 2027-01-01\n", "accept.gap 'x/y' is no rule"),
        ("[[accept]]\ngap = 'hsts/absent'\nwhere = 'a'\nbecause = ' '\nuntil = 2027-01-01\n", "accept.because is empty"),
        ("[[accept]]\ngap = 'hsts/absent'\n", "accept[...]: Object missing required field `where`."),
        ("[[accept]]\ngap = 'hsts/absent'\nwho = 1\n", "unknown key accept.who; allowed here: gap, where, because, until."),
        ("[site]\nserver = 'abacus'\n", "site.server is 'abacus'; allowed: nginx, apache, haproxy, caddy, lighttpd, "),
        ("[site.server]\n'x.example' = 'abacus'\n", "site.server is 'abacus'; allowed: nginx, apache, "),
        ("[site\n", "is no TOML"),
        ('[expect]\naddresses = { "x" = ["y"] }', "expect.addresses of x has 'y', which is no IP address."),
        ('[expect]\nlongest_ttl = 5', 'expect.longest_ttl is 5; write it as "365 days".'),
        ('[expect]\nname_servers = "x"', "expect.name_servers: Expected `array`, got `str`."),
    ],
)  # fmt: skip
def test_mistakes_name_the_file_the_key_and_what_is_allowed(tmp_path, text, message):
    with pytest.raises(FileError) as caught:
        read(tmp_path, text)
    assert str(tmp_path / "pewter.toml") in str(caught.value)
    assert message in str(caught.value).replace("accept[0]", "accept[...]")


def test_file_that_is_no_text(tmp_path):
    (tmp_path / "pewter.toml").write_bytes(b"\xff\xfe")
    with pytest.raises(FileError, match="cannot be read"):
        read_site_file(tmp_path / "pewter.toml")


@pytest.mark.parametrize(
    ("text", "host", "port", "path"),
    [
        ("www.x.example", "www.x.example", 443, None),
        ("WWW.X.example.", "www.x.example", 443, None),
        ("b\u00fccher.example", "xn--bcher-kva.example", 443, None),
        ("x.example:8443", "x.example", 8443, None),
        ("https://x.example/login?a=b", "x.example", 443, "x.example/login?a=b"),
        ("http://x.example/", "x.example", 443, None),
        ("https://x.example:8443/", "x.example", 8443, None),
        ("192.0.2.7", "192.0.2.7", 443, None),
        ("2001:db8::7", "2001:db8::7", 443, None),
        ("[2001:db8::7]:444", "2001:db8::7", 444, None),
    ],
)
def test_targets(text, host, port, path):
    target = read_target(text)
    assert (target.host, target.port, target.path) == (host, port, path)


@pytest.mark.parametrize("text", ["", "a..b", "http://", "ftp://x.example", "x example", "x.example:99999", "-"])
def test_what_is_no_target(text):
    with pytest.raises(UsageError, match="is no target"):
        read_target(text)


def test_dates_to_judge_for():
    assert read_as_of("2027-03-01") == datetime.datetime(2027, 3, 1, tzinfo=datetime.UTC)
    assert read_as_of("2027-03-01T12:00+02:00").utcoffset() == datetime.timedelta(hours=2)
    with pytest.raises(UsageError, match="--as-of"):
        read_as_of("soon")


def test_command_line_comes_before_the_site_file(tmp_path):
    typed = LookRequest(
        canonical="tickets.marram-ferries.example",
        also=("new.example:444",),
        paths=("/x",),
        timeout=5,
        resolvers=("192.0.2.53",),
    )
    plan, terms = settled(tmp_path, typed)
    assert plan.targets[-1] == Target("new.example", 444)
    assert plan.paths[-1] == "/x"
    assert (plan.whole_seconds, plan.step_seconds, plan.resolvers) == (5, 5, ("192.0.2.53:53",))
    assert terms.canonical == "https://tickets.marram-ferries.example"


@pytest.mark.parametrize(
    ("target", "is_used"),
    [
        ("www.marram-ferries.example", True),
        ("https://www.tickets.marram-ferries.example/x", True),
        ("www.other.example", False),
        ("freight.marram-ferries.example", False),
    ],
)
def test_twins_of_its_names_are_of_the_site(tmp_path, target, is_used):
    plan, _ = settled(tmp_path, LookRequest(targets=(target,)))
    assert bool(plan.resolvers) is is_used


@pytest.mark.parametrize(
    ("typed", "steps"),
    [
        pytest.param(
            LookRequest(only=("cookie",)), {Step.SIBLINGS, Step.WAYS_IN, Step.ABSENT, Step.FOUND}, id="one-area"
        ),
        pytest.param(
            LookRequest(only=("protocol/no-tls13",)),
            {Step.SIBLINGS, Step.CERTIFICATES, Step.VERSIONS, Step.PROTOCOLS},
            id="one-rule",
        ),
        pytest.param(
            LookRequest(skip=("page", "protocol")), set(Step) - {Step.STYLE_SHEETS, Step.PROTOCOLS}, id="but-two-areas"
        ),
        pytest.param(LookRequest(), set(Step), id="all"),
    ],
)
def test_what_no_rule_needs_is_not_asked(tmp_path, typed, steps):
    assert set(settled(tmp_path, typed)[0].steps) == steps


@pytest.mark.parametrize(
    ("typed", "words"),
    [
        (LookRequest(only=("cookies",)), "--only 'cookies' is no area and no rule. Did you mean cookie?"),
        (LookRequest(skip=("zzz",)), "--skip 'zzz' is no area and no rule. 'pewter rules' lists them."),
        (LookRequest(only=("hsts",), skip=("hsts",)), "--only and --skip leave no rule to judge by."),
    ],
)
def test_areas_that_are_none(tmp_path, typed, words):
    with pytest.raises(UsageError, match=re.escape(words)):
        settled(tmp_path, typed)
