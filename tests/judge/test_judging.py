"""The catalogue, what a visitor meets, grouping and the saved review."""

import datetime
import gc
import json
import os
import re
import tracemalloc
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.errors import FileError
from pewter.evidence import FetchedIssuer, HowFailed, NoConnection, StopCause, Stopped
from pewter.expectations import SOURCES, AcceptedGap, Expectations, Terms, read_duration, write_duration
from pewter.facts.browsers import Prediction
from pewter.facts.case import Case
from pewter.facts.visits import predict_visits
from pewter.judge.counts import area_counts, reaches, unknown_entries, worst_level
from pewter.judge.entries import count_by_level, gap_entries
from pewter.judge.judging import INTERRUPTED, LATE, judge
from pewter.judge.mending import server_of
from pewter.judge.nature import OF_PLACES, Nature
from pewter.judge.outcomes import Accepted, Gap, Holds, Judged, Unknown
from pewter.judge.review import FORMAT, case_of, make_review, read_review, write_review
from pewter.judge.rule import Words
from pewter.judge.rule import rule as make_rule
from pewter.judge.rules import AREAS, RULE_OF, RULES, SITE_RULES
from pewter.judge.rules.bundle import FOR_FILES
from pewter.judge.saved_outcomes import places_of
from pewter.judge.wording import words_for
from pewter.lab.authority import DAY, issue_server
from pewter.levels import Level
from pewter.mends.kinds import Kind
from pewter.pictures.certificates import LinkState, served_certificates
from pewter.places import PlaceKind, of_cookie, of_endpoint, of_file, of_name
from pewter.report.schema import build_schemas
from pewter.report.terminal import render_terminal
from pewter.web.urls import place_of
from support.cases import ADDRESS, case, endpoint, fingerprint, handshake, hop, journey, name, stopped, stored, unseen
from support.certificates import HOST, NOW, intermediate, key, leaf

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
CATALOGUE = Path(__file__).parents[2] / "src" / "pewter" / "judge" / "rules"
TESTS = "".join(
    path.read_text(encoding="utf-8")
    for kind in ("test_*.py", "told/*.txt")
    for path in Path(__file__).parent.glob(kind)
)


# The catalogue


@pytest.mark.parametrize("rule", RULES, ids=lambda rule: rule.name)
def test_every_rule_is_described_and_tested(rule):
    assert [each.name for each in RULES].count(rule.name) == 1
    assert rule.area in AREAS
    assert rule.sources and all(rule.sources)
    words = rule.words
    assert all(getattr(words, field) for field in Words.__struct_fields__ if field != "follows")
    areas = {f"{area}/" for area in AREAS}
    assert all(each in RULE_OF or each in areas for each in words.follows) and rule.name not in words.follows
    slug = rule.name.partition("/")[2]
    assert f".{slug.replace('-', '_')}" in TESTS or f"[{slug}: " in TESTS, f"no test names {rule.name}"


def test_what_every_rule_says_of_itself():
    """One line a rule: what waits for it, who mends it, what it speaks of, of what it is judged, and from what it follows."""
    lines = []
    for rule in (*RULES, *FOR_FILES.values()):
        nature, words = rule.nature, rule.words
        answers = (nature.safety, nature.mended_by, nature.matter, nature.judges)
        more = sorted(each.value for each in nature.goes_by)
        answered = ", ".join((rule.level.value, words.does.value, *(each.value for each in answers)))
        by = f" [goes by {' + '.join(more)}]" if more else ""
        lines.append(
            f"{rule.name}: {answered}{by}"
            + (f" [follows {' + '.join(words.follows)}]" if words.follows else "")
            + f" [{'; '.join(rule.sources)}]"
        )
    file = Path(__file__).parent / "told" / "rules.txt"
    if os.environ.get("PEWTER_TOLD") == "write":
        file.write_text("\n".join(lines) + "\n", encoding="utf-8")
    assert lines == file.read_text(encoding="utf-8").splitlines()


def test_a_rule_without_an_answer_is_none():
    with pytest.raises(TypeError, match="nature"):
        make_rule("hsts/new", level=Level.NOTE, sources=("RFC 6797",))
    for answer in Nature.__struct_fields__:
        others = {name: getattr(OF_PLACES, name) for name in Nature.__struct_fields__ if name != answer}
        with pytest.raises(TypeError, match=answer):
            Nature(**others)


@pytest.mark.parametrize("area", AREAS)
def test_catalogue_describes_no_rule_that_is_not_there(area):
    import tomllib

    described = tomllib.loads((CATALOGUE / f"{area}.toml").read_text(encoding="utf-8"))
    assert {f"{area}/{slug}" for slug in described} == {rule.name for rule in RULES if rule.area == area}


def test_every_expectation_has_a_meaning_and_a_source():
    assert set(SOURCES) == set(Expectations.__struct_fields__)


@pytest.mark.parametrize(("text", "seconds"), [("365 days", 365 * 86400), ("1 minute", 60), ("5 weeks", None), ("-1 days", None), ("", None)])  # fmt: skip
def test_durations(text, seconds):
    duration = read_duration(text)
    assert (duration.total_seconds() if duration is not None else None) == seconds
    if duration is not None:
        assert write_duration(duration) == text


# What a visitor meets


EXPIRED = leaf(HOST, left=-4)
WRONG = leaf("mail.marram-ferries.example")
SELF_SIGNED = issue_server([HOST], None, NOW - DAY, NOW + DAY, key=key("leaf"))
FUTURE = leaf(HOST, left=100)
WRONG_AND_SELF_SIGNED = issue_server(["x.example"], None, NOW - 9 * DAY, NOW - DAY, key=key("leaf"))
WRONG_AND_EXPIRED = leaf("x.example", left=-4)
AIA = (FetchedIssuer("http://a.example/i", "x", (fingerprint(intermediate()),)),)


def met(issued=None, *sent, way=None, version=0x0304, **evidence):
    chain = sent or ((issued, intermediate()) if issued else (leaf(), intermediate()))
    way = way or journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS, issued=chain[0]))
    looked = case(
        way, endpoints=[endpoint(handshake(*chain, version=version))], certificates=stored(*chain), **evidence
    )
    (visit,) = predict_visits(looked)
    return visit


@pytest.mark.parametrize(
    ("visit", "meets", "statuses"),
    [
        pytest.param(met(), Prediction.OPENS, (301, 200), id="opens"),
        pytest.param(met(EXPIRED), Prediction.OUT_OF_DATE, (301,), id="expired"),
        pytest.param(met(FUTURE), Prediction.OUT_OF_DATE, (301,), id="not-yet-valid"),
        pytest.param(met(WRONG), Prediction.WRONG_NAME, (301,), id="wrong-name"),
        pytest.param(met(None, SELF_SIGNED), Prediction.NOT_TRUSTED, (301,), id="self-signed"),
        pytest.param(met(None, WRONG_AND_SELF_SIGNED), Prediction.NOT_TRUSTED, (301,), id="trust-hides-name-and-date"),
        pytest.param(met(WRONG_AND_EXPIRED), Prediction.WRONG_NAME, (301,), id="name-hides-date"),
        pytest.param(met(None, leaf()), Prediction.NOT_TRUSTED, (301,), id="incomplete-and-not-fetched"),
        pytest.param(met(None, leaf(), fetched_issuers=AIA), Prediction.IN_SOME, (301, 200), id="incomplete-but-fetched"),
        pytest.param(met(version=0x0301), Prediction.OLD_PROTOCOL, (301,), id="old-protocol"),
        pytest.param(met(way=journey(HTTP)), Prediction.UNENCRYPTED, (200,), id="unencrypted"),
        pytest.param(met(way=stopped(HTTPS, StopCause.NO_CONNECTION)), Prediction.CANNOT_CONNECT, (), id="cannot-connect"),
        pytest.param(met(way=stopped(HTTPS, StopCause.NO_TLS), version=0x0301), Prediction.OLD_PROTOCOL, (), id="no-tls-but-old"),
        pytest.param(met(way=journey(hop(HTTP, 302), hop(HTTPS, 302), end=Stopped(HTTP, StopCause.LOOP, ""))), Prediction.CIRCLES, (302, 302), id="circles"),
        pytest.param(met(way=unseen(HTTPS)), Prediction.UNKNOWN, (), id="unknown"),
    ],
)  # fmt: skip
def test_what_a_visitor_meets(visit, meets, statuses):
    assert (visit.meets, visit.statuses) == (meets, statuses)


# Judging and grouping


def bare(*ways, **options):
    return judge(case(*ways, **options), SITE_RULES)


def test_an_entry_carries_why_mend_and_the_lines_for_its_server():
    results = make_review(case(journey(hop(HTTP, 200, ("Server", "nginx/1.22.1"))))).results
    (entry,) = (each for each in results.gaps if each.rule == "redirect/missing")
    (lines,) = entry.configurations
    assert (entry.level, lines.server, lines.hosts) == (Level.EXPOSES, "nginx", (HOST,))
    assert f"server_name {HOST};" in lines.pieces[0].lines
    assert entry.check == f"curl -s -o /dev/null -D - http://{HOST}/ | head -1"
    assert "{" not in entry.why + entry.mend + entry.check


def test_lines_wait_until_they_are_safe():
    """Nobody is sent to https before it opens, nor held there before visitors are led to it."""
    server = ("Server", "nginx")
    expired = leaf(left=-1)
    bad = endpoint(handshake(expired, intermediate()))
    ways = (journey(hop(HTTP, 200, server)), journey(hop(HTTPS, 200, server)))
    found = make_review(case(*ways, endpoints=[bad], certificates=stored(expired, intermediate()))).results
    lines = {entry.rule: entry.configurations for entry in found.gaps}
    number = next(entry.number for entry in found.gaps if entry.rule == "date/expired")
    reason = f"not yet: https://{HOST} opens only behind a warning, or not at all (gap {number}); mend that first"
    assert [(each.pieces, each.held_back) for each in lines["redirect/missing"]] == [((), reason)]
    assert lines["hsts/absent"][0].held_back == reason
    assert lines["date/expired"][0].pieces
    assert [step.what for step in found.first] == [
        "Renew the certificate and reload the server",
        "Redirect http to https",
    ]
    assert (found.first[0].by, found.after_first) == (None, ())
    good = make_review(case(journey(hop(HTTP, 200, server)), journey(hop(HTTPS, 200, server)))).results
    lines = {entry.rule: entry.configurations for entry in good.gaps}
    assert lines["redirect/missing"][0].pieces
    assert "is not where visitors are led yet" in lines["hsts/absent"][0].held_back


def test_the_reviewers_word_on_the_server_comes_first():
    ways = journey(hop(HTTP, 200, ("Server", "nginx")))
    for terms, title in (({"server": "haproxy"}, "HAProxy"), ({"servers": {HOST: "caddy"}}, "Caddy"), ({}, "nginx")):
        results = make_review(Case(case(ways).evidence, Terms(**terms), NOW, ())).results
        (entry,) = (each for each in results.gaps if each.rule == "redirect/missing")
        assert [each.server for each in entry.configurations] == [title]
    unknown = make_review(case(journey(hop(HTTP, 200)))).results
    (entry,) = (each for each in unknown.gaps if each.rule == "redirect/missing")
    assert (entry.configurations, entry.lines_for[:3]) == ((), ("nginx", "Apache httpd", "HAProxy"))


def test_what_a_host_calls_itself_is_no_command_to_a_shell():
    evil = "$(reboot).example"
    places = (of_name(evil), of_endpoint(evil, "192.0.2.7", 443, is_alone=True), place_of(f"https://{evil}/?{{host}}"))
    for rule in RULES:
        for where in places:
            check = words_for(case(), rule, Gap(where, "x", "y", host=evil)).check
            assert "$(" not in re.sub(r"'[^']*'", "", check), check


def test_an_interruption_leaves_what_was_not_judged_unknown(monkeypatch):
    """Ctrl-C while it is judged: the review is there, and says so."""
    at = len(SITE_RULES) // 2
    rules = (*SITE_RULES[:at], pressing_ctrl_c(SITE_RULES[at]), *SITE_RULES[at + 1 :])
    monkeypatch.setattr("pewter.judge.review.chosen_rules", lambda only, skip: rules)
    review = make_review(case(journey(HTTP)))
    assert review.evidence.interrupted
    unknown = {rule for each in review.results.unknowns if each.reason == INTERRUPTED for rule in each.rules}
    assert unknown == {rule.name for rule in SITE_RULES[at:]}
    assert any(each.rule == "redirect/missing" for each in review.results.outcomes)


def pressing_ctrl_c(rule):
    def pressed(case):
        raise KeyboardInterrupt
        yield

    return msgspec.structs.replace(rule, check=pressed)


@pytest.mark.parametrize(
    ("field", "server"),
    [
        ("Apache/2.4.62 (Debian)", (Kind.APACHE, (2, 4, 62))),
        ("nginx/1.22.1", (Kind.NGINX, (1, 22, 1))),
        ("Microsoft-IIS/10.0", (Kind.IIS, (10, 0))),
        ("Caddy", (Kind.CADDY, ())),
        ("Apache-Coyote/1.1", (None, ())),
        ("Apache Tomcat/9", (None, ())),
        ("ApacheTrafficServer/9.1", (None, ())),
        ("nginxy", (None, ())),
        ("n" * 10_000, (None, ())),
        ("", (None, ())),
    ],
)
def test_server_software(field, server):
    assert server_of(case(journey(hop(HTTP, 200, ("Server", field)))), HOST) == server


@pytest.mark.parametrize(
    ("where", "until", "expected"),
    [
        pytest.param(HOST, NOW.date(), Accepted, id="by-host-on-the-last-day"),
        pytest.param(HTTP, NOW.date(), Accepted, id="by-place"),
        pytest.param("other.example", NOW.date(), Gap, id="elsewhere"),
        pytest.param(HOST, NOW.date() - datetime.timedelta(days=1), Gap, id="past-its-day"),
    ],
)
def test_accepted_gaps(where, until, expected):
    terms = Terms(accept=(AcceptedGap("redirect/missing", where, "nobody uses it", until),))
    (judged,) = (each for each in bare(journey(HTTP), terms=terms) if each.rule == "redirect/missing")
    assert type(judged.outcome) is expected
    assert reaches((judged,), Level.NOTE) is (expected is Gap)


def test_levels_can_be_wished():
    judged = bare(journey(HTTP), terms=Terms(levels={"redirect/missing": "note"}))
    assert [each.level for each in judged if each.rule == "redirect/missing"] == [Level.NOTE]


@pytest.mark.parametrize(
    ("place", "text", "host", "key"),
    [
        (of_name("x.example"), "x.example", "x.example", "name x.example"),
        (of_endpoint("x.example", "192.0.2.7", 443, is_alone=True), "x.example", "x.example", "endpoint x.example:443"),
        (of_endpoint("x.example", "192.0.2.7", 443, is_alone=False), "x.example at 192.0.2.7", "x.example", "endpoint x.example:443"),
        (of_endpoint("x.example", "::1", 8443, is_alone=False), "x.example:8443 at ::1", "x.example", "endpoint x.example:8443"),
        (of_endpoint("2001:db8::1", "2001:db8::1", 8443, is_alone=True), "[2001:db8::1]:8443", "2001:db8::1", "endpoint [2001:db8::1]:8443"),
        (place_of("https://[2001:db8::1]:8443/a"), "https://[2001:db8::1]:8443/a", "2001:db8::1", "url https://[2001:db8::1]:8443/a"),
        (place_of("http://x.example/a", "192.0.2.7"), "http://x.example/a at 192.0.2.7", "x.example", "url http://x.example/a"),
        (place_of("https://"), "https://", "", "url https://"),
        (of_cookie("https://x.example/", "x.example", "sid"), "https://x.example/", "x.example", "cookie sid at https://x.example/"),
        (of_file("chain.pem"), "chain.pem", "", "file chain.pem"),
    ],
)  # fmt: skip
def test_places(place, text, host, key):
    """A second address changes what a reader is told, and never the key."""
    assert (str(place), place.host, place.key) == (text, host, key)
    assert PlaceKind(place.key.partition(" ")[0]) is place.kind


def made(rule, outcome, level=Level.WEAKENS):
    return Judged(rule, level, outcome)


def test_gaps_of_one_cause_are_one_entry_worst_first():
    outcomes = (
        made("hsts/absent", Gap(of_name("a.example"), "none", "x")),
        made("hsts/absent", Gap(of_name("b.example"), "none", "x")),
        made("hsts/short", Gap(of_name("c.example"), "1", "x", cause="c1")),
        made("date/expired", Gap(of_name("d.example"), "ended", "x"), Level.BREAKS),
        made("date/expired", Unknown(of_name("e.example"), "late"), Level.BREAKS),
        made("date/expiring", Unknown(of_name("e.example"), "late"), Level.EXPOSES),
        made("hsts/absent", Holds(of_name("f.example"), "y")),
        made("hsts/absent", Accepted(Gap(of_name("g.example"), "none", "x"), "because", NOW.date())),
    )
    entries = gap_entries(case(), outcomes)
    places = list(places_of(outcomes))
    assert [(e.number, e.rule, tuple(str(places[number]) for number in e.places)) for e in entries] == [
        (1, "date/expired", ("d.example",)),
        (2, "hsts/absent", ("a.example", "b.example")),
        (3, "hsts/short", ("c.example",)),
    ]
    assert count_by_level(entries) == {"breaks": 1, "weakens": 2}
    assert worst_level(outcomes) is Level.BREAKS
    assert (reaches(outcomes, Level.BREAKS), reaches(outcomes[:3], Level.EXPOSES)) == (True, False)
    date_count, hsts_count = area_counts(outcomes)
    assert (date_count.holds, date_count.made, date_count.unknown) == (0, 1, 2)
    assert (hsts_count.holds, hsts_count.made, hsts_count.accepted) == (1, 5, 1)
    assert [(str(e.where), e.rules) for e in unknown_entries(outcomes)] == [
        ("e.example", ("date/expired", "date/expiring"))
    ]


# Drawn certificates


@pytest.mark.parametrize(
    ("sent", "links"),
    [
        pytest.param((leaf(), intermediate()), [LinkState.SENT, LinkState.SENT, LinkState.ANCHOR], id="good"),
        pytest.param((leaf(),), [LinkState.SENT, LinkState.NOT_SENT, LinkState.ANCHOR], id="incomplete"),
        pytest.param((SELF_SIGNED,), [LinkState.UNTRUSTED], id="self-signed"),
    ],
)
def test_links_of_a_drawn_path(sent, links):
    looked = case(endpoints=[endpoint(handshake(*sent))], certificates=stored(*sent))
    (drawn,) = served_certificates(looked)
    assert [link.state for link in drawn.links] == links


def test_missing_issuer_is_drawn_as_a_broken_link():
    foreign = issue_server([HOST], issue_foreign(), NOW - DAY, NOW + DAY, key=key("leaf"))
    (drawn,) = served_certificates(case(endpoints=[endpoint(handshake(foreign))], certificates=stored(foreign)))
    assert [(link.title, link.state) for link in drawn.links] == [
        (HOST, LinkState.SENT),
        ("Foreign", LinkState.MISSING),
    ]


def issue_foreign():
    from pewter.lab.authority import issue_ca

    return issue_ca("Foreign", None, NOW - DAY, NOW + DAY, key=key("foreign"))


def test_places_of_a_certificate_are_folded():
    looked = case(
        names=[name(HOST, ADDRESS, "192.0.2.11")],
        endpoints=[endpoint(handshake()), endpoint(handshake(), address="192.0.2.11")],
    )
    assert [drawn.places for drawn in served_certificates(looked)] == [(HOST,)]


# The saved review


def review_of(*ways, **options):
    return make_review(case(*ways, **options))


def test_review_goes_to_json_and_back_without_loss():
    review = review_of(
        journey(HTTP), unseen(HTTPS), endpoints=[endpoint(handshake(), NoConnection(HowFailed.REFUSED, "r"))]
    )
    octets = write_review(review)
    assert read_review(octets, "x") == review
    assert json.loads(octets)["format"] == FORMAT
    assert make_review(case_of(review)).results == review.results


def test_a_review_stands_alone():
    """Judged and shown again where none of its stores is: the same, to the octet."""
    review = review_of(journey(HTTP), journey(HTTPS), endpoints=[endpoint(handshake(leaf()))])
    assert review.results.certificates[0].stores == (("test store", True),)
    read = read_review(write_review(review), "x")
    again = make_review(case_of(read))
    assert write_review(again) == write_review(review)
    assert render_terminal(read, 100) == render_terminal(review, 100)


def test_another_day_judges_dates_anew_and_keeps_what_the_look_found():
    review = review_of(journey(HTTPS), endpoints=[endpoint(handshake())])
    later = make_review(case_of(review, at=NOW + 400 * DAY))
    assert "date/expired" in {each.rule for each in later.results.gaps}
    assert "date/expired" not in {each.rule for each in review.results.gaps}
    assert later.evidence == review.evidence


WRITES_ONE = "'pewter review --write FILE.json' writes one."


@pytest.mark.parametrize(
    ("octets", "message"),
    [
        (b"", f"x.json is no saved review: Input data was truncated. {WRITES_ONE}"),
        (b"[]", f"x.json is no saved review: Expected `object`, got `array`. {WRITES_ONE}"),
        (b'{"format": "pewter-review/9"}', "x.json has the format 'pewter-review/9'; this Pewter reads 'pewter-review/2'."),
        (b'{"format": "pewter-review/1"}', "x.json has the format 'pewter-review/1'; this Pewter reads 'pewter-review/2'."),
        (b'{"format": "pewter-review/2"}', "x.json is a damaged review: Object missing required field `terms`."),
    ],
)  # fmt: skip
def test_what_is_no_review(octets, message):
    with pytest.raises(FileError) as caught:
        read_review(octets, "x.json")
    assert str(caught.value) == message


@given(
    st.recursive(
        st.none() | st.text() | st.integers(), lambda c: st.lists(c) | st.dictionaries(st.text(), c), max_leaves=5
    )
)
def test_hostile_review_files_are_refused(content):
    with pytest.raises(FileError):
        read_review(msgspec.json.encode({"format": FORMAT, "evidence": content}), "x.json")


@pytest.mark.parametrize("numbers", [[1], [-1], ["0"], [True], None, 0])
def test_a_journey_that_names_no_hop_of_the_review(numbers):
    saved = msgspec.json.decode(write_review(review_of(journey(HTTPS))))
    saved["evidence"]["journeys"][0]["hops"] = numbers
    with pytest.raises(FileError, match=r"x\.json is a damaged review"):
        read_review(msgspec.json.encode(saved), "x.json")


def test_a_hop_of_many_journeys_is_written_once():
    first, last = hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS, 200)
    review = review_of(journey(first, last), journey(last))
    written = write_review(review)
    assert [each["hops"] for each in msgspec.json.decode(written)["evidence"]["journeys"]] == [[0, 1], [1]]
    assert read_review(written, "x.json") == review


def test_published_schemas_are_those_of_the_types():
    folder = Path(__file__).parents[2] / "docs"
    published = {file.name: file.read_text(encoding="utf-8") for file in folder.glob("*.schema.json")}
    assert published == build_schemas(), "run 'make schema'"


def test_what_counts_as_reviewed():
    refused = NoConnection(HowFailed.REFUSED, "r")
    assert not review_of(stopped(HTTP, StopCause.NO_CONNECTION), endpoints=[endpoint(refused)]).results.was_reviewed
    assert review_of(journey(HTTP), endpoints=[endpoint(refused)]).results.was_reviewed
    assert review_of(endpoints=[endpoint(handshake())]).results.was_reviewed


def test_reviews_leave_nothing_behind():
    """No cache of the process keeps a case or a review: two hundred cost no more memory than one."""

    def look_at(number: int) -> None:
        host = f"n{number}.marram-ferries.example"
        url = f"https://{host}/"
        make_review(case(journey(hop(url)), names=[name(host)], endpoints=[endpoint(handshake(), host=host)]))

    for number in range(20):
        look_at(number)
    tracemalloc.start()
    look_at(20)
    gc.collect()
    before, _ = tracemalloc.get_traced_memory()
    for number in range(21, 221):
        look_at(number)
    gc.collect()
    after, _ = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert after - before < 1 << 20


def test_rules_that_there_is_no_time_for_are_unknown(monkeypatch):
    made = case(journey(hop(f"http://{HOST}/", 200)))
    judged = judge(made, SITE_RULES[:5])
    monkeypatch.setattr("pewter.judge.judging.MAX_SECONDS", -1.0)
    late = judge(made, SITE_RULES[:5])
    assert [(each.rule, each.outcome.reason) for each in late] == [(rule.name, LATE) for rule in SITE_RULES[:5]]
    assert {each.rule for each in judged} <= {each.rule for each in late}
