"""Pewter against a real Chromium: ``make browser-agreement``.

Runs in a network namespace that has loopback alone, since a browser sends look-ups of its own.  The
lab's servers stand behind Chromium's host resolver rules, the lab's root in a certificate store of its
own.  Writes docs/browser-agreement.md; exits with 1 where a disagreement is not explained.
"""

import datetime
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import asyncio

from selenium import webdriver
from selenium.common.exceptions import WebDriverException

from browser.cases import CA_HOST, COOKIES, PAGE, PARTS, PARTS_OF_PAGES, STS, ZONE, make_authority, page, visit_hosts
from pewter.judge.case import Case
from pewter.judge.expectations import Wishes
from pewter.judge.visits import Meeting, predict_visits
from pewter.lab.web_server import Response, VirtualHost, WebServer
from pewter.pki import read_certificate
from pewter.pki.stores import Store
from pewter.web.cookies import Cookie, read_set_cookie
from pewter.web.hsts import StrictTransportSecurity, read_sts
from pewter.web.mixed_content import Treatment, treatment_of
from pewter.web.pages import read_page
from pewter.web.suffixes import is_public_suffix
from pewter.web.urls import read_url
from support.looks import take

DOCUMENT = Path(__file__).parents[2] / "docs" / "browser-agreement.md"

EXPLAINED: dict[tuple[str, str], str] = {
    ("HSTS", "max-age=1000; preload; preload"): (
        "RFC 6797 section 6.1 forbids any directive twice; Chromium looks only at those it knows. The stricter reading stays, since other programs drop the field"
    ),
}
"""Disagreements by area and case, each with its reason."""

ERRORS = {
    "ERR_CERT_AUTHORITY_INVALID": Meeting.NOT_TRUSTED,
    "ERR_CERT_INVALID": Meeting.NOT_TRUSTED,
    "ERR_CERT_NAME_CONSTRAINT_VIOLATION": Meeting.NOT_TRUSTED,
    "ERR_CERT_COMMON_NAME_INVALID": Meeting.WRONG_NAME,
    "ERR_CERT_DATE_INVALID": Meeting.OUT_OF_DATE,
    "ERR_TOO_MANY_REDIRECTS": Meeting.CIRCLES,
    "ERR_SSL_VERSION_OR_CIPHER_MISMATCH": Meeting.OLD_PROTOCOL,
    "ERR_INVALID_REDIRECT": Meeting.CANNOT_CONNECT,
    "ERR_UNSAFE_REDIRECT": Meeting.CANNOT_CONNECT,
    "ERR_NAME_NOT_RESOLVED": Meeting.CANNOT_CONNECT,
    "ERR_UNKNOWN_URL_SCHEME": Meeting.CANNOT_CONNECT,
    "ERR_INVALID_RESPONSE": Meeting.CANNOT_CONNECT,
    "ERR_CONNECTION_REFUSED": Meeting.CANNOT_CONNECT,
    "ERR_ABORTED": Meeting.CANNOT_CONNECT,
    "ERR_ADDRESS_UNREACHABLE": Meeting.CANNOT_CONNECT,
    "ERR_INTERNET_DISCONNECTED": Meeting.CANNOT_CONNECT,  # in a network of loopback alone: the name leads nowhere
}


class World:
    """All hosts of all cases at one address, and the requests that came."""

    def __init__(self) -> None:
        self.ca = make_authority(datetime.datetime.now(datetime.UTC))
        self.seen: list[tuple[str, str, str]] = []
        hosts = dict(visit_hosts(self.ca))
        self.visits = tuple(hosts)
        wildcard = (
            self.ca.server(*(f"*.{kind}.{ZONE}" for kind in ("cookie", "sts", "mixed")), PARTS),
            self.ca.issuing,
        )
        self.cookies = {f"c{n}.cookie.{ZONE}": field for n, field in enumerate(COOKIES)}
        self.sts = {f"s{n}.sts.{ZONE}": values for n, values in enumerate(STS)}
        self.mixed = {f"m{n}.mixed.{ZONE}": part for n, part in enumerate(PARTS_OF_PAGES)}
        for host, field in self.cookies.items():
            hosts[host] = VirtualHost(self._answers(page("x", ("Set-Cookie", self.cookie(host, field)))), wildcard)
        for host, values in self.sts.items():
            fields = tuple(("Strict-Transport-Security", value) for value in values)
            hosts[host] = VirtualHost(self._answers(page("x", *fields)), wildcard)
        for number, (host, part) in enumerate(self.mixed.items()):
            hosts[host] = VirtualHost(self._answers(page(self.part(number, part))), wildcard)
        hosts[PARTS] = VirtualHost(self._answers(Response(200, (), b"x")), wildcard)
        hosts[CA_HOST] = VirtualHost(lambda request: Response(200, (), self.ca.issuing.der))
        self.server = WebServer(hosts)
        self._loop = asyncio.new_event_loop()
        threading.Thread(target=self._loop.run_forever, daemon=True).start()
        asyncio.run_coroutine_threadsafe(self.server.start(), self._loop).result(60)

    def _answers(self, response: Response):
        def handle(request):
            self.seen.append((request.scheme, request.host, request.target))
            return response if request.target != "/favicon.ico" else Response(404, PAGE)

        return handle

    @staticmethod
    def cookie(host: str, field: str) -> str:
        return field.format(host=host, long="v" * 4096, fits="v" * 4095, attribute="p" * 1024)

    @staticmethod
    def part(number: int, part: str) -> str:
        return part.format(p=f"http://{PARTS}/{number}", s=f"https://{PARTS}/{number}", n=number)

    def routes(self, hosts) -> tuple[str, ...]:
        ports = ((80, self.server.http_port), (443, self.server.https_port))
        return tuple(f"{host}:{port}=127.0.0.1:{there}" for host in hosts for port, there in ports)


def start_browser(world: World, home: Path) -> webdriver.Chrome:
    store = home / ".pki" / "nssdb"
    store.mkdir(parents=True)
    (home / "root.pem").write_bytes(world.ca.root.pem)
    for arguments in (["-N", "--empty-password"], ["-A", "-t", "C,,", "-n", "lab root", "-i", str(home / "root.pem")]):
        subprocess.run(["certutil", "-d", f"sql:{store}", *arguments], check=True)
    os.environ["HOME"] = str(home)
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    rules = (
        f"MAP *:80 127.0.0.1:{world.server.http_port}, MAP *:443 127.0.0.1:{world.server.https_port}, EXCLUDE *.invalid"
    )
    for argument in (
        "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
        "--disable-component-update", "--disable-sync", f"--user-data-dir={home}/profile", f"--host-resolver-rules={rules}",
        "--disable-features=HttpsUpgrades,HttpsFirstBalancedModeAutoEnable,HttpsFirstBalancedMode,LocalNetworkAccessChecks",
        "--autoplay-policy=no-user-gesture-required",
    ):  # fmt: skip
        options.add_argument(argument)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService("/usr/bin/chromedriver"))
    driver.set_page_load_timeout(15)
    return driver


def browse(driver: webdriver.Chrome, url: str) -> Meeting | str:
    """What the browser makes of a typed URL; the error's name where it is none that we know."""
    try:
        error = driver.execute_cdp_cmd("Page.navigate", {"url": url}).get("errorText", "")
    except WebDriverException as exc:
        error = str(exc.msg).partition("net::")[2].split("\n")[0] or str(exc.msg)[:80]
    if error:
        name = error.removeprefix("net::")
        return ERRORS.get(name, name)
    for _ in range(100):
        time.sleep(0.05)
        if driver.execute_script("return document.readyState") == "complete":
            break
    there = driver.execute_script("return location.href")
    if there.startswith("chrome-error:"):
        return "an error page"
    return Meeting.OPENS if there.startswith("https:") else Meeting.UNENCRYPTED


Row = tuple[str, str, str, str]
"""Area, case, what Pewter says, what Chromium does."""


def visit_rows(world: World, driver: webdriver.Chrome) -> list[Row]:
    root = read_certificate(world.ca.root.der)
    store = (Store("lab root", (root,)),)
    routes = world.routes((*world.visits, CA_HOST))
    predicted: dict[str, Meeting] = {}
    for host in world.visits:  # one look each: no host's certificates may help another's
        evidence = take(host, routes=routes, stores=store, step=3, whole=8)
        visits = predict_visits(Case(evidence, Wishes(), evidence.begun, store))
        predicted |= {visit.start: visit.meets for visit in visits if visit.start.endswith(f"{host}/")}
    rows = []
    for start, meets in sorted(predicted.items()):
        met = browse(driver, start)
        rows.append(
            ("what a visitor meets", start.replace(f".visit.{ZONE}", ""), meets.value, getattr(met, "value", met))
        )
    return rows


def cookie_rows(world: World, driver: webdriver.Chrome) -> list[Row]:
    rows = []
    for host, field in world.cookies.items():
        sent = world.cookie(host, field)
        url = read_url(f"https://{host}/shop/cart")
        read = read_set_cookie(sent, url, is_public_suffix, datetime.datetime.now(datetime.UTC))
        ours = "dropped"
        if isinstance(read, Cookie):
            domain = read.domain if read.host_only else f".{read.domain}"
            ours = (
                f"kept: {read.name}={len(read.value)} octets {domain} {read.path[:20]} {read.secure} {read.http_only}"
            )
        driver.execute_cdp_cmd("Network.clearBrowserCookies", {})
        browse(driver, str(url))
        kept = driver.execute_cdp_cmd(
            "Network.getCookies", {"urls": [str(url), f"https://{host}/", f"https://{host}/other"]}
        )["cookies"]
        theirs = "dropped"
        if kept:
            one = kept[0]
            theirs = f"kept: {one['name']}={len(one['value'])} octets {one['domain']} {one['path'][:20]} {one['secure']} {one['httpOnly']}"
        rows.append(("cookies", field, ours, theirs))
    return rows


def sts_rows(world: World, driver: webdriver.Chrome) -> list[Row]:
    rows = []
    for host, values in world.sts.items():
        read = read_sts(values[0]) if values else None
        ours = "noted" if isinstance(read, StrictTransportSecurity) and read.max_age > 0 else "not noted"
        browse(driver, f"https://{host}/")
        before = len(world.seen)
        browse(driver, f"http://{host}/again")
        schemes = {scheme for scheme, at, target in world.seen[before:] if (at, target) == (host, "/again")}
        rows.append(
            ("HSTS", " and ".join(values)[:60] or "(none)", ours, "noted" if schemes == {"https"} else "not noted")
        )
    return rows


def mixed_rows(world: World, driver: webdriver.Chrome) -> list[Row]:
    rows = []
    for number, (host, part) in enumerate(world.mixed.items()):
        url = read_url(f"https://{host}/")
        shown = read_page(world.part(number, part).encode(), url)
        treatments = {treatment_of(each, upgrades_requests=shown.upgrades_requests) for each in shown.references}
        ours = "not asked for"
        if Treatment.UPGRADED in treatments or (shown.upgrades_requests and treatments):
            ours = "asked for over https"
        elif Treatment.BLOCKED in treatments:
            ours = "blocked"
        before = len(world.seen)
        driver.get_log("browser")
        browse(driver, str(url))
        time.sleep(0.3)
        asked = {scheme for scheme, at, target in world.seen[before:] if (at, target) == (PARTS, f"/{number}")}
        console = " ".join(entry["message"] for entry in driver.get_log("browser"))
        theirs = "blocked" if "has been blocked" in console and not asked else "not asked for"
        if asked:
            theirs = f"asked for over {' and '.join(sorted(asked))}"
        rows.append(("mixed content", part, ours, theirs))
    return rows


def document(rows: list[Row], version: str) -> str:
    lines = [
        "# Agreement with a real browser",
        "",
        f"Measured by `make browser-agreement` against {version}, headless, with a private root in its own store.",
        "",
        "| area | cases | agree | disagree, explained | disagree, not explained |",
        "| --- | --- | --- | --- | --- |",
    ]
    count = Counter((area, verdict(area, case, ours, theirs)) for area, case, ours, theirs in rows)
    for area in dict.fromkeys(row[0] for row in rows):
        agree, explained, open_ = (count[area, kind] for kind in ("agree", "explained", "open"))
        lines.append(f"| {area} | {agree + explained + open_} | {agree} | {explained} | {open_} |")
    lines += ["", "## Every case", "", "| area | case | Pewter | Chromium | |", "| --- | --- | --- | --- | --- |"]
    for area, case, ours, theirs in rows:
        remark = "" if ours == theirs else EXPLAINED.get((area, case), "**not explained**")
        cells = (f"`{case.replace('|', '/')}`", ours, theirs, remark)
        lines.append("| " + " | ".join((area, *cells)) + " |")
    return "\n".join(lines) + "\n"


def verdict(area: str, case: str, ours: str, theirs: str) -> str:
    if ours == theirs:
        return "agree"
    return "explained" if (area, case) in EXPLAINED else "open"


def main() -> int:
    world = World()
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as home:
        driver = start_browser(world, Path(home))
        try:
            version = f"Chromium {driver.capabilities['browserVersion'].split('.')[0]}"
            rows = [row for part in (visit_rows, cookie_rows, sts_rows, mixed_rows) for row in part(world, driver)]
        finally:
            driver.quit()
    DOCUMENT.write_text(document(rows, version), encoding="utf-8")
    open_ = [row for row in rows if verdict(*row) == "open"]
    for row in open_:
        print("disagree:", " | ".join(row))
    print(
        f"{len(rows)} cases, {sum(1 for row in rows if verdict(*row) == 'agree')} agree, {len(open_)} disagree unexplained"
    )
    return 1 if open_ else 0


if __name__ == "__main__":
    sys.exit(main())
