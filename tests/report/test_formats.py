"""Every format, read by independent readers; hostile text comes out visible and inert."""

import csv
import datetime
import html.parser
import io
import json
import re
import sys
from pathlib import Path
from xml.etree import ElementTree

import icalendar
import junitparser
import markdown_it
import msgspec
import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families as read_openmetrics
from prometheus_client.parser import text_string_to_metric_families as read_textfile
from rich.text import Text

from pewter.api import render
from pewter.cli.output import print_text
from pewter.errors import UsageError
from pewter.escape import escaped
from pewter.evidence import Fault
from pewter.expectations import AcceptedGap, Terms
from pewter.judge.endings import Ending, EndingKind
from pewter.judge.review import make_review
from pewter.report import charts, formats
from pewter.report.formats import OF_COMPARISONS, OF_REVIEWS
from pewter.report.rows import COLUMNS
from support.cases import case, endpoint, handshake, hop, journey, stored, unseen
from support.certificates import HOST, NOW, intermediate, leaf

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
HOSTILE = {
    "escape": "\x1b[2J\x1b]0;x\x07",
    "markup": "<script>alert(1)</script>&amp;",
    "formula": "=cmd|'/c calc'!A1",
    "pipes-and-backticks": "a | b ``` c `",
    "bidirectional": "\u202egpj.exe\u2066",
    "placeholders": "{0} [x](javascript:alert(1))",
    "line-ends": "a\r\nb\x85c\u2028d",
    "no-xml": "\x00\ufffe\x0b",
    "quotes": "say \"x\" \\ 'y'",
}


TAGS = frozenset(
    [
        "html",
        "head",
        "meta",
        "title",
        "style",
        "body",
        "main",
        "h1",
        "h2",
        "h3",
        "p",
        "span",
        "strong",
        "a",
        "div",
        "table",
        "caption",
        "thead",
        "tbody",
        "tr",
        "th",
        "td",
        "article",
        "dl",
        "dt",
        "dd",
        "ol",
        "footer",
        "ul",
        "li",
        "code",
        "pre",
    ]
)


class Page(html.parser.HTMLParser):
    """Tags, links and text of a page."""

    def __init__(self, text):
        super().__init__()
        self.tags, self.links, self.text, self.ids = set(), set(), [], []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.add(tag)
        given = dict(attrs)
        self.links |= {given[name] for name in ("src", "href", "srcset", "action", "data", "poster") if name in given}
        self.ids += [given["id"]] if "id" in given else []
        assert not [name for name in given if name.startswith("on")]

    def handle_data(self, data):
        self.text.append(data)


def review(field="max-age: 60", accept=(), more=(), **terms):
    ways = (
        *more,
        journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS, 200, ("Strict-Transport-Security", field))),
        journey(hop(f"http://{HOST}/plain")),
        unseen(f"https://{HOST}/late"),
    )
    looked = case(*ways, endpoints=[endpoint(handshake())], terms=Terms(accept=accept, **terms))
    return make_review(looked)


@pytest.mark.parametrize("suffix", [each.suffix for each in OF_REVIEWS.rows])
@pytest.mark.parametrize("title", HOSTILE)
def test_hostile_text_is_visible_and_inert(suffix, title):
    # In a value and in a name: a cookie's name is part of the place of a gap.
    cookie = journey(hop(HTTPS, 200, ("Set-Cookie", f"{HOSTILE[title]}=1; Path=/")))
    octets = render(review(HOSTILE[title], more=(cookie,)), suffix)
    text = octets.decode("utf-8")
    allowed = {"\n", "\r"} if suffix in {".csv", ".ics"} else {"\n"}
    for character in set(text) - allowed:
        assert character.isprintable(), (suffix, hex(ord(character)))
    assert not re.search("[\u202a-\u202e\u2066-\u2069]", text)
    if suffix == ".xml":
        ElementTree.fromstring(octets)
        assert "<script>" not in text
    if suffix == ".md":
        shown = markdown_it.MarkdownIt("gfm-like", {"linkify": False, "html": True}).render(text)
        assert "<script>" not in shown
        assert "<a " not in shown
        assert "<img" not in shown
    if suffix == ".html":
        page = Page(text)
        assert page.tags <= TAGS
        assert page.links <= {""} | {f"#gap-{number}" for number in range(1, 99)}
        assert escaped(HOSTILE[title]).split("\n")[0] in "".join(page.text)
    if suffix == ".csv":
        cells = [cell for row in csv.reader(io.StringIO(text, newline="")) for cell in row]
        assert not [cell for cell in cells if cell.startswith(("=", "+", "-", "@", "\t", "\r"))]


@pytest.mark.parametrize("suffix", [each.suffix for each in OF_REVIEWS.rows])
def test_the_same_review_gives_the_same_octets(suffix):
    one = review()
    assert render(one, suffix) == render(msgspec.json.decode(msgspec.json.encode(one), type=type(one)), suffix)


@pytest.mark.parametrize("suffix", OF_COMPARISONS.suffixes)
@pytest.mark.parametrize("title", HOSTILE)
def test_hostile_text_in_what_changed_is_visible_and_inert(suffix, title):
    calm, hostile = review(), review(HOSTILE[title])
    octets = OF_COMPARISONS.render(suffix, calm, hostile)
    assert octets == OF_COMPARISONS.render(suffix, calm, review(HOSTILE[title]))
    text = octets.decode("utf-8")
    assert all(character.isprintable() or character == "\n" for character in text)
    assert not re.search("[\u202a-\u202e\u2066-\u2069]", text)
    if suffix == ".html":
        page = Page(text)
        assert page.tags <= TAGS | {"br"}
        assert escaped(HOSTILE[title]).split("\n")[0] in "".join(page.text)
    if suffix == ".md":
        shown = markdown_it.MarkdownIt("gfm-like", {"linkify": False, "html": True}).render(text)
        assert not re.search("<(script|a|img) ?", shown)


def test_sarif_of_what_changed_has_baseline_states():
    old, new = review("max-age=1", accept=(AcceptedGap("redirect/partial", HOST, "known", NOW.date()),)), review()
    (run,) = json.loads(OF_COMPARISONS.render(".sarif", old, new))["runs"]
    (before,) = json.loads(render(old, ".sarif"))["runs"]
    assert run["baselineGuid"] == before["automationDetails"]["guid"] != ""
    states = {each["ruleId"]: each["baselineState"] for each in run["results"]}
    assert states == {"redirect/partial": "updated", "hsts/invalid": "new", "hsts/short": "unchanged"}
    again = json.loads(OF_COMPARISONS.render(".sarif", new, new))["runs"][0]["results"]
    assert {each["baselineState"] for each in again} == {"unchanged"}
    rules = [each["id"] for each in run["tool"]["driver"]["rules"]]
    assert all(rules[each["ruleIndex"]] == each["ruleId"] for each in run["results"])


def test_sarif_points_to_the_line_of_the_site_file():
    one = review()
    plan = msgspec.structs.replace(one.evidence.plan, site_file="pewter.toml", site_lines={HOST: 7})
    one = msgspec.structs.replace(one, evidence=msgspec.structs.replace(one.evidence, plan=plan))
    (run,) = json.loads(render(one, ".sarif"))["runs"]
    place = run["results"][0]["locations"][0]["physicalLocation"]
    assert place == {"artifactLocation": {"uri": "pewter.toml", "uriBaseId": "%SRCROOT%"}, "region": {"startLine": 7}}


ENDS = [
    Ending(NOW + datetime.timedelta(days=30 * n - 20), kind, text, "by X")
    for n, (kind, text) in enumerate(zip(list(EndingKind) * 2, [*HOSTILE.values(), "$x^2$"], strict=False))
]


@pytest.mark.parametrize("suffix", charts.SUFFIXES)
def test_a_chart_is_the_same_each_time_and_holds_hostile_text(suffix):
    octets = charts.timeline(ENDS, NOW, suffix)
    assert octets == charts.timeline(ENDS, NOW, suffix)
    if suffix == ".png":
        assert octets.startswith(b"\x89PNG")
        return
    tree = ElementTree.fromstring(octets)
    assert {each.tag.rpartition("}")[2] for each in tree.iter()} <= {
        "svg",
        "title",
        "defs",
        "style",
        "g",
        "path",
        "use",
        "text",
        "clipPath",
        "rect",
    }
    shown = "".join(tree.itertext())
    assert "<script>alert(1)</script>" in shown
    assert "\\x1b[2J" in shown


def test_without_matplotlib_it_says_what_to_install(monkeypatch):
    monkeypatch.setitem(sys.modules, "matplotlib", None)
    with pytest.raises(
        UsageError, match=r"Charts need Matplotlib, which is not installed here: pip install 'pewter\[charts\]'"
    ):
        charts.timeline(ENDS, NOW, ".svg")


def identities(one):
    """What others store: by format."""
    (run,) = json.loads(render(one, ".sarif"))["runs"]
    cases = [case for suite in junitparser.JUnitXml.fromstring(render(one, ".xml")) for case in suite]
    families = read_openmetrics(render(one, ".om").decode())
    return {
        "sarif": {each["partialFingerprints"]["ruleAndPlace/v1"] for each in run["results"]},
        "junit": {(each.classname, each.name) for each in cases},
        "metrics": {(each.name, *sorted(each.labels.items())) for family in families for each in family.samples},
        "calendar": {str(each["UID"]) for each in icalendar.Calendar.from_ical(render(one, ".ics")).walk("VEVENT")},
    }


def test_after_a_renewal_no_identity_has_moved():
    """Another certificate and another day."""
    old = make_review(case(journey(hop(HTTPS)), journey(hop(HTTP)), endpoints=[endpoint(handshake())]))
    renewed = leaf(HOST, left=89)
    new = make_review(
        case(
            journey(hop(HTTPS)),
            journey(hop(HTTP)),
            endpoints=[endpoint(handshake(renewed, intermediate()))],
            certificates=stored(renewed),
            at=NOW + datetime.timedelta(days=1),
        )
    )
    assert old.results.certificates[0].sha256 != new.results.certificates[0].sha256
    assert identities(old) == identities(new)


def test_csv_has_a_row_for_each_outcome():
    one = review(accept=(AcceptedGap("hsts/invalid", HOST, "known", NOW.date()),))
    rows = list(csv.DictReader(io.StringIO(render(one, ".csv").decode(), newline="")))
    assert list(rows[0]) == list(COLUMNS)
    assert len(rows) == len(one.results.outcomes)
    assert {row["outcome"] for row in rows} == {"gap", "holds", "unknown", "accepted"}
    (accepted,) = (row for row in rows if row["outcome"] == "accepted")
    assert (accepted["rule"], accepted["because"], accepted["until"]) == (
        "hsts/invalid",
        "known",
        NOW.date().isoformat(),
    )


def test_junit_is_read_with_true_counts():
    octets = render(review(), ".xml")
    read = junitparser.JUnitXml.fromstring(octets)
    for suite in read:
        cases = list(suite)
        kinds = [type(each.result[0]).__name__ if each.result else "" for each in cases]
        assert (suite.tests, suite.failures, suite.skipped) == (
            len(cases),
            kinds.count("Failure"),
            kinds.count("Skipped"),
        )
        assert len({(each.classname, each.name) for each in cases}) == len(cases)
        assert all(re.fullmatch(r"\d+(\.\d{1,3})?", str(each.time).removesuffix(".0")) for each in cases)
    assert read.failures == sum(suite.failures for suite in read)


@pytest.mark.parametrize(("fail_on", "fails"), [("note", True), ("weakens", True), ("exposes", False)])
def test_what_fails_a_build_is_the_level_of_the_terms(fail_on, fails):
    read = junitparser.JUnitXml.fromstring(render(review(fail_on=fail_on), ".xml"))
    (one,) = [each for suite in read for each in suite if each.name.startswith("hsts/invalid")]
    assert isinstance(one.result[0], junitparser.Failure if fails else junitparser.Skipped)


def test_a_fault_of_ours_is_an_error():
    one = review()
    faulty = msgspec.structs.replace(one, evidence=msgspec.structs.replace(one.evidence, faults=(Fault("x", "y"),)))
    read = junitparser.JUnitXml.fromstring(render(faulty, ".xml"))
    assert read.errors == 1
    (run,) = json.loads(render(faulty, ".sarif"))["runs"]
    assert run["invocations"][0]["executionSuccessful"] is False


def test_sarif():
    one = review("{0} [x](y) \\", accept=(AcceptedGap("redirect/missing", HOST, "known", NOW.date()),))
    log = json.loads(render(one, ".sarif"))
    (run,) = log["runs"]
    rules = [each["id"] for each in run["tool"]["driver"]["rules"]]
    assert log["version"] == "2.1.0"
    for result in run["results"]:
        assert rules[result["ruleIndex"]] == result["ruleId"]
        assert result["level"] in {"error", "warning", "note"}
        assert result["locations"][0]["physicalLocation"]["artifactLocation"]["uri"] == HTTPS
        assert "suppressions" in result
    identities = [each["partialFingerprints"]["ruleAndPlace/v1"] for each in run["results"]]
    assert len(set(identities)) == len(identities)
    (invalid,) = (each for each in run["results"] if each["ruleId"] == "hsts/invalid")
    assert r"{{0}} \[x\](y) \\" in invalid["message"]["text"]
    notes = run["invocations"][0]["toolExecutionNotifications"]
    assert all(rules[each["associatedRule"]["index"]] == each["associatedRule"]["id"] for each in notes)
    assert run["invocations"][0]["startTimeUtc"].endswith("Z")


def test_metrics():
    one = review()
    families = {each.name: each for each in read_openmetrics(render(one, ".om").decode())}
    gaps = {sample.labels["level"]: sample.value for sample in families["pewter_gaps"].samples}
    assert gaps == {
        level: float(one.results.counts.get(level, 0)) for level in ("breaks", "exposes", "weakens", "note")
    }
    (ends,) = families["pewter_certificate_not_after_timestamp_seconds"].samples
    assert (ends.labels["name"], ends.value) == (HOST, int(one.results.certificates[0].life.not_after.timestamp()))
    older = {each.name: each.type for each in read_textfile(render(one, ".prom").decode())}
    assert set(older.values()) == {"gauge"}
    assert set(older) == set(families)
    assert b"# EOF" not in render(one, ".prom")


def test_the_calendar_is_read_with_an_entry_for_each_end():
    one = review(accept=(AcceptedGap("hsts/invalid", HOST, "a, b; c", NOW.date()),))
    octets = render(one, ".ics")
    assert all(len(line) <= 75 for line in octets.split(b"\r\n"))
    assert octets.endswith(b"END:VCALENDAR\r\n")
    read = icalendar.Calendar.from_ical(octets)
    entries = {str(each["SUMMARY"]): each for each in read.walk("VEVENT")}
    life = one.results.certificates[0].life
    assert entries[f"The certificate ends: {HOST}"].decoded("DTSTART") == life.not_after
    assert entries[f"Renewal of the certificate is due: {HOST}"].decoded("DTSTART") == life.renewal.replace(
        microsecond=0
    )
    (accepted,) = (each for title, each in entries.items() if title.startswith("An accepted gap"))
    assert "a, b; c" in str(accepted["DESCRIPTION"])
    renewed = msgspec.structs.replace(
        one, evidence=msgspec.structs.replace(one.evidence, begun=NOW + datetime.timedelta(days=1))
    )
    after = {
        str(each["SUMMARY"]): each for each in icalendar.Calendar.from_ical(render(renewed, ".ics")).walk("VEVENT")
    }
    ends = f"The certificate ends: {HOST}"
    assert after[ends]["UID"] == entries[ends]["UID"]
    assert after[ends]["SEQUENCE"] > entries[ends]["SEQUENCE"]


def test_markdown_has_one_head_line_and_no_level_left_out():
    tokens = markdown_it.MarkdownIt("gfm-like", {"linkify": False}).parse(render(review(), ".md").decode())
    levels = [int(each.tag[1]) for each in tokens if each.type == "heading_open"]
    assert levels.count(1) == 1
    assert set(levels) <= {1, 2}
    rows = [each for each in tokens if each.type == "tr_open"]
    cells = [each for each in tokens if each.type in {"th_open", "td_open"}]
    assert len(cells) == 5 * len(rows)


def test_the_document_names_every_format_column_and_metric():
    text = (Path(__file__).parents[2] / "docs" / "formats.md").read_text(encoding="utf-8")
    assert all(f"| `{each.suffix}` |" in text for each in OF_REVIEWS.rows)
    assert all(f"| `{name}` | {meaning} |" in text for name, meaning in COLUMNS.items())
    families = [each.name for each in read_textfile(render(review(), ".prom").decode())]
    assert all(f"| `{name}` |" in text for name in families)


def test_the_page_is_one_file_in_order():
    octets = render(review(), ".html")
    page = Page(octets.decode())
    assert len(set(page.ids)) == len(page.ids)
    assert len(octets) < 60_000
    text = octets.decode()
    assert text.count("<h1>") == 1
    assert text.index("Content-Security-Policy") < text.index("<style>")
    assert [
        text.index(f">{title}</h2>")
        for title in ("Do first", "Gaps", "Ways in", "Certificates", "Areas", "Not checked")
    ] == sorted(
        text.index(f">{title}</h2>")
        for title in ("Do first", "Gaps", "Ways in", "Certificates", "Areas", "Not checked")
    )


@pytest.mark.parametrize("kind", ["OF_REVIEWS", "OF_COMPARISONS", "OF_ENDINGS", "OF_SURVEYS", "OF_RUNS"])
def test_every_format_has_its_function(kind):
    table = getattr(formats, kind)
    assert len(set(table.suffixes)) == len(table.rows)
    assert all(callable(each.load()) and each.title for each in table.rows)
    with pytest.raises(UsageError, match="is no format; there are "):
        table.render(".zip")


@pytest.mark.parametrize("suffix", [".txt", ".md", ".csv", ".ics", ".om", ".prom", ".html", ".xml", ".sarif"])
def test_no_writer_can_forget_to_escape(suffix, monkeypatch):
    """Whatever a renderer lets through is written out at the end."""
    (made,) = (each.function for each in OF_REVIEWS.rows if each.suffix == suffix)
    monkeypatch.setattr(f"pewter.report.{made}", lambda review: "fine\r\na\x1b[2J\u202e\x85\u200b\rb\n".encode())
    assert OF_REVIEWS.render(suffix, None) == b"fine\r\na\\x1b[2J\\u202e\\x85\\u200b\\x0db\n"


def test_nothing_that_a_terminal_obeys_is_printed(capsys):
    print_text(Text.assemble(("a\x1b[2J", "bold"), "\nb\u202e\n"))
    assert capsys.readouterr().out == "a\\x1b[2J\nb\\u202e\n"
    print_text(Text.assemble(("fine", "bold"), "\n"))
    assert capsys.readouterr().out == "fine\n"
