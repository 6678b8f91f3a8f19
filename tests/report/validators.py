"""Every written format held against independent readers and validators: ``make formats``.

What is written of the demo, of hostile reviews and of what changed between two goes to each reader of its format.
Needs Chromium, a Java runtime, npm, promtool (package prometheus) and cmark-gfm.
"""

import csv
import datetime
import functools
import io
import json
import re
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import duckdb
import icalendar
import jsonschema
import junitparser
import pandas
import vobject
from prometheus_client.openmetrics.parser import text_string_to_metric_families as read_openmetrics
from selenium import webdriver

sys.path.insert(0, str(Path(__file__).parents[1]))

from pewter.api import render
from pewter.judge.summary import COLUMNS
from pewter.report.formats import OF_COMPARISONS, OF_REVIEWS
from pewter.report.many import Found
from pewter.report.survey_page import render_survey_page
from report.test_formats import HOSTILE, review
from support.certificates import NOW
from support.program import pewter

PACKAGES = {"axe-core": "4.14.1", "vnu-jar": "26.9.27", "@microsoft/sarif-multitool-linux": "5.7.0"}
"""From npm's registry: accessibility rules, the HTML checker, and the SARIF validator with the official schema."""

HERE = Path(__file__).parents[2]
NOT_ASKED_FOR = {"SARIF2005"}
"""Recommendations that do not fit: an address of the tool's own page, which there is not yet."""

Check = Callable[[Path], list[str]]


def main() -> int:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        modules = _install(folder)
        files = [file for file in _written(folder / "files") if file.suffix != ".txt"]
        failed = 0
        with _browser() as driver:
            for suffix, title, check in _checks(modules, driver):
                of_format = [file for file in files if file.suffix == suffix]
                found = [f"{file.name}: {words}" for file in of_format for words in check(file)]
                print(f"{suffix:<7} {title:<34} {len(of_format):>3} files  {len(found)} findings", flush=True)
                for words in found[:12]:
                    print(f"        {words}", flush=True)
                failed += len(found)
        page = folder / "files" / "found.html"
        print(f"HTML page of the demo: {page.stat().st_size / 1024:.0f} KiB")
    print("all formats are read by all readers" if not failed else f"{failed} findings")
    return 1 if failed else 0


def _install(folder: Path) -> Path:
    wanted = [f"{package}@{version}" for package, version in PACKAGES.items()]
    subprocess.run(["npm", "install", "--prefix", folder, "--no-package-lock", "--silent", *wanted], check=True)
    return folder / "node_modules"


def _written(folder: Path) -> Iterator[Path]:
    """The demo's two reviews, what changed, what ends, and a review for each hostile text."""
    folder.mkdir()
    for stage in ("as-found", "mended"):
        assert pewter("demo", "--stage", stage, "--into", ".", folder=folder).returncode == 0
    suffixes = [each.suffix for each in OF_REVIEWS.rows]
    for saved, title in (("review-as-found.json", "found"), ("review-mended.json", "mended")):
        pewter("report", saved, *_writes(title, suffixes), folder=folder)
    old, new = "review-as-found.json", "review-mended.json"
    pewter("compare", old, new, *_writes("closed", OF_COMPARISONS.suffixes), folder=folder)
    pewter("compare", new, old, *_writes("opened", OF_COMPARISONS.suffixes), folder=folder)
    pewter(
        "expiry",
        old,
        "skerry-trust-root.pem",
        *_writes("ends", (".ics", ".csv", ".om", ".prom", ".svg")),
        folder=folder,
    )
    (folder / "chart.html").write_text(
        "<!doctype html><html lang=en><head><title>x</title><style>svg{max-width:100%;height:auto}</style></head><body><main><h1>x</h1>"
        + (folder / "ends.svg").read_text(encoding="utf-8") + "</main></body></html>", encoding="utf-8",
    )  # fmt: skip
    (folder / "survey.html").write_bytes(render_survey_page(crowd_of(1000)))
    calm = review()
    for title, text in HOSTILE.items():
        hostile = review(text)
        for suffix in suffixes:
            (folder / f"hostile-{title}{suffix}").write_bytes(render(hostile, suffix))
        for suffix in OF_COMPARISONS.suffixes:
            octets = OF_COMPARISONS.render(suffix, calm, hostile)
            (folder / f"hostile-{title}-changes{suffix}").write_bytes(octets)
    yield from sorted(each for each in folder.iterdir() if each.is_file())


def _writes(title: str, suffixes) -> list[str]:
    return [part for suffix in suffixes for part in ("-w", f"{title}{suffix}")]


def _browser() -> webdriver.Chrome:
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for argument in (
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--no-first-run",
        "--disable-background-networking",
    ):
        options.add_argument(argument)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService("/usr/bin/chromedriver"))
    driver.set_script_timeout(300)  # a large page on a busy machine
    return driver


def _checks(modules: Path, driver: webdriver.Chrome) -> Iterator[tuple[str, str, Check]]:
    axe = (modules / "axe-core" / "axe.min.js").read_text(encoding="utf-8")
    schema = json.loads((HERE / "docs" / "pewter-review.schema.json").read_text(encoding="utf-8"))
    sarif = modules / "@microsoft" / "sarif-multitool-linux"
    official = json.loads((sarif / "sarif-2.1.0.json").read_text(encoding="utf-8-sig"))
    yield ".html", "HTML checker", lambda file: _html_checker(modules, file)
    for width in (1280, 320):
        for scheme in ("light", "dark"):
            title = f"Chromium and axe, {width} px, {scheme}"
            yield ".html", title, lambda file, width=width, scheme=scheme: _in_browser(driver, axe, file, width, scheme)
    yield ".html", "sorted and filtered, and without script", lambda file: _survey_page(driver, file)
    yield ".sarif", "official schema", lambda file: _by_schema(official, file)
    yield ".sarif", "SARIF validator", lambda file: _sarif_validator(sarif, file)
    yield ".json", "own schema (2020-12)", lambda file: _by_schema(schema, file)
    yield ".xml", "junitparser", _junit
    yield ".ics", "icalendar", _icalendar
    yield ".ics", "vobject", _vobject
    yield ".om", "OpenMetrics parser", _openmetrics
    yield ".prom", "promtool", _promtool
    yield ".csv", "csv", _csv
    yield ".csv", "pandas", _pandas
    yield ".csv", "DuckDB", _duckdb
    yield ".md", "cmark-gfm", _cmark


@functools.cache
def _checked(jar: Path, folder: Path) -> list[dict[str, str]]:
    """The messages of all pages of a folder: a Java runtime starts once for them."""
    pages = sorted(folder.glob("*.html"))
    run = subprocess.run(
        ["java", "-jar", jar, "--format", "json", *pages], capture_output=True, encoding="utf-8", check=False
    )
    return json.loads(run.stderr)["messages"]


def _html_checker(modules: Path, file: Path) -> list[str]:
    found = _checked(modules / "vnu-jar" / "build" / "dist" / "vnu.jar", file.parent)
    return [each["message"] for each in found if each["url"].endswith(f"/{file.name}") and each["type"] == "error"]


def _in_browser(driver: webdriver.Chrome, axe: str, file: Path, width: int, scheme: str) -> list[str]:
    """No request, no error of a script or a policy, no sideways scrolling, nothing that axe objects to."""
    metrics = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)
    media = {"features": [{"name": "prefers-color-scheme", "value": scheme}]}
    driver.execute_cdp_cmd("Emulation.setEmulatedMedia", media)
    for kind in ("browser", "performance"):
        driver.get_log(kind)
    driver.get(file.as_uri())
    found = [each["message"] for each in driver.get_log("browser")]
    events = (json.loads(each["message"])["message"] for each in driver.get_log("performance"))
    requests = [each["params"]["request"]["url"] for each in events if each["method"] == "Network.requestWillBeSent"]
    found += [f"asked for {url}" for url in requests if url != file.as_uri()]
    sideways = driver.execute_script(
        "return document.documentElement.scrollWidth - document.documentElement.clientWidth"
    )
    if sideways > 0:
        found.append(f"scrolls sideways by {sideways} px")
    # Run by the debugger: the page's own policy allows no script.
    driver.execute_script(axe)
    violations = driver.execute_async_script(
        "const done = arguments[arguments.length - 1];"
        "axe.run(document, {resultTypes: ['violations']}).then(r => done(r.violations), e => done([{id: String(e), nodes: []}]))"
    )
    found += [f"{each['id']} ({len(each['nodes'])}): {str(each['nodes'][:1])[:200]}" for each in violations]
    return found


def crowd_of(count: int) -> Found:
    """A survey of so many sites, hostile text in what servers named."""
    texts = list(HOSTILE.values())
    levels = ("breaks", "exposes", "weakens", "note", None)
    rows = []
    for number in range(count):
        ends = NOW + datetime.timedelta(days=number % 120 - 10)
        values = dict.fromkeys(COLUMNS)
        reached = number % 10 != 9
        values |= {
            "site": f"site{number:04}.example", "names": 1, "reached": reached, "worst": levels[number % 5] if reached else None, "breaks": int(number % 5 == 0),
            "exposes": 0, "weakens": 0, "notes": 0, "unknown": 0, "lands_on": f"https://site{number:04}.example", "opens": "opens", "versions": "TLS 1.3, TLS 1.2",
            "issuer": texts[number % len(texts)], "key": "EC P-256", "not_before": NOW, "not_after": ends, "renewal": ends, "days_left": number % 120 - 10,
            "hsts_age": 31536000, "seconds": 0.5, "connections": 5, "looked_at": NOW, "run": 1, "error": None if reached else f"refused {texts[number % len(texts)]}",
        }  # fmt: skip
        rows.append(values)
    return Found(rows, [("date/expired", "breaks", 100)], count, 1, NOW, True)


def _survey_page(driver: webdriver.Chrome, file: Path) -> list[str]:
    """The table of a survey's page: whole without script; with it sorted and filtered by hand."""
    if file.name != "survey.html":
        return []
    found = []
    driver.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": True})
    driver.get(file.as_uri())
    driver.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": False})
    rows = len(driver.find_elements("css selector", "#sites tbody tr"))
    if rows != 1000 or driver.find_element("id", "tools").is_displayed():
        found.append(f"without script there are {rows} rows, or tools that do nothing")
    driver.get(file.as_uri())
    shown = "return [...document.querySelectorAll('#sites tbody tr')].filter(r => !r.hidden).map(r => r.cells[{}].textContent)"
    buttons = driver.find_elements("css selector", "#sites th button")
    buttons[7].click()
    days = [int(each) for each in driver.execute_script(shown.format(7))]
    if days != sorted(days):
        found.append("not sorted by days")
    buttons[7].click()
    days = [int(each) for each in driver.execute_script(shown.format(7))]
    if days != sorted(days, reverse=True):
        found.append("not sorted the other way")
    driver.find_element("id", "filter").send_keys("site01 breaks")
    names = driver.execute_script(shown.format(0))
    if not names or not all(name.startswith("site01") for name in names) or len(names) != 20:
        found.append(f"the filter shows {len(names)} sites")
    driver.find_element("css selector", "#level option:nth-child(3)").click()
    if driver.find_element("id", "shown").text != "0 of 1000 sites":
        found.append("the level does not filter")
    return found


def _by_schema(schema: object, file: Path) -> list[str]:
    if file.suffix == ".json" and b'"format":"pewter-review/' not in file.read_bytes()[:200]:
        return []
    validator = jsonschema.validators.validator_for(schema)(schema)
    return [error.message[:200] for error in validator.iter_errors(json.loads(file.read_bytes()))]


def _sarif_validator(folder: Path, file: Path) -> list[str]:
    out = file.with_suffix(".checked")
    program = folder / "Sarif.Multitool"
    program.chmod(0o755)
    command = [
        program,
        "validate",
        file,
        "--output",
        out,
        "--kind",
        "Fail",
        "--level",
        "Error;Warning",
        "--log",
        "ForceOverwrite",
    ]
    run = subprocess.run(
        command,
        capture_output=True,
        encoding="utf-8",
        check=False,
        env={"DOTNET_SYSTEM_GLOBALIZATION_INVARIANT": "1", "HOME": str(file.parent)},
    )
    if not out.exists():
        return [f"it did not run: {(run.stdout + run.stderr)[-300:]}"]
    (log,) = json.loads(out.read_text(encoding="utf-8-sig"))["runs"]
    return [
        f"{each['ruleId']}: {each['message'].get('text') or each['message'].get('arguments')}"
        for each in log.get("results", ())
        if each["ruleId"] not in NOT_ASKED_FOR
    ]


def _junit(file: Path) -> list[str]:
    suites = junitparser.JUnitXml.fromfile(str(file))
    cases = [case for suite in suites for case in suite]
    identities = [(case.classname, case.name) for case in cases]
    return [] if cases and len(set(identities)) == len(identities) else ["no cases, or one twice"]


def _icalendar(file: Path) -> list[str]:
    octets = file.read_bytes()
    calendar = icalendar.Calendar.from_ical(octets)
    identities = [str(each["UID"]) for each in calendar.walk("VEVENT")]
    long = [line for line in octets.split(b"\r\n") if len(line) > 75]
    return (
        []
        if identities and len(set(identities)) == len(identities) and not long
        else ["no entry, one twice, or a long line"]
    )


def _vobject(file: Path) -> list[str]:
    (calendar,) = vobject.readComponents(file.read_bytes().decode("utf-8"))
    try:
        calendar.validate(raiseException=True)
    except vobject.base.ValidateError as exc:
        return [str(exc)]
    return []


def _openmetrics(file: Path) -> list[str]:
    series = [
        (sample.name, tuple(sorted(sample.labels.items())))
        for family in read_openmetrics(file.read_text("utf-8"))
        for sample in family.samples
    ]
    return [] if len(set(series)) == len(series) > 0 else ["a series twice"]


def _promtool(file: Path) -> list[str]:
    run = subprocess.run(
        ["promtool", "check", "metrics"], stdin=file.open("rb"), capture_output=True, encoding="utf-8", check=False
    )
    return [run.stderr.strip()] if run.returncode else []


def _csv(file: Path) -> list[str]:
    text = file.read_bytes().decode("utf-8")
    rows = list(csv.reader(io.StringIO(text, newline="")))
    return [] if len({len(row) for row in rows}) == 1 and text.endswith("\r\n") else ["rows of different lengths"]


def _pandas(file: Path) -> list[str]:
    rows = len(list(csv.reader(io.StringIO(file.read_bytes().decode("utf-8"), newline="")))) - 1
    return [] if len(pandas.read_csv(file, keep_default_na=False)) == rows else ["rows were lost"]


def _duckdb(file: Path) -> list[str]:
    rows = len(pandas.read_csv(file, keep_default_na=False))
    ((found,),) = duckdb.sql(f"select count(*) from read_csv('{file}', header=true, all_varchar=true)").fetchall()
    return [] if found == rows else [f"{found} rows of {rows}"]


def _cmark(file: Path) -> list[str]:
    command = [
        "cmark-gfm",
        "--unsafe",
        *(part for name in ("table", "autolink", "strikethrough", "tagfilter") for part in ("-e", name)),
        file,
    ]
    run = subprocess.run(command, capture_output=True, encoding="utf-8", check=False)
    acts = re.findall(r"<(a|img|script|del|em|strong|iframe)\b[^>]*>", run.stdout)
    return (
        [f"comes alive: {', '.join(sorted(set(acts)))}"]
        if [each for each in acts if each != "strong"] or run.returncode
        else []
    )


if __name__ == "__main__":
    sys.exit(main())
