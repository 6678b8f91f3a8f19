"""Pewter against two real browsers, Chromium and Firefox: ``make browser-agreement``.

Runs in a network namespace that has loopback alone, since browsers send look-ups of their own; the lab's servers
have ports 80 and 443 there, and the lab's roots stand in certificate stores of the browsers' own.  Writes
docs/browser-agreement.md; exits with 1 where a disagreement is not explained.
"""

import asyncio
import contextlib
import dataclasses
import datetime
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import msgspec

from browser.cases import CA_HOST, COOKIES, PAGE, PARTS, PARTS_OF_PAGES, STS, ZONE, make_authority, page, visit_hosts
from browser.certificate_cases import RESPONDER, Stapled, certificate_hosts, roots, staples
from browser.drivers import Chromium, Firefox, both
from pewter.evidence import WayIn
from pewter.expectations import Terms
from pewter.facts.browsers import Browser, Prediction
from pewter.facts.case import Case
from pewter.facts.visits import predict_for
from pewter.lab.name_server import NameServer, zone_of_table
from pewter.lab.web_server import Response, VirtualHost, WebServer
from pewter.pki import Store, read_certificate
from pewter.web.cookies import Cookie, read_set_cookie
from pewter.web.hsts import StrictTransportSecurity, read_sts
from pewter.web.mixed_content import Treatment, treatment_of
from pewter.web.pages import read_page
from pewter.web.urls import read_url
from support.looks import take
from support.servers import openssl_server

DOCUMENT = Path(__file__).parents[2] / "docs" / "browser-agreement.md"
ONLY = os.environ.get("PEWTER_AGREEMENT_ONLY", "")
"""A part of the names of the cases to run, while working on them; nothing is written then."""

TRIES = 5
"""A look-up or an answer that was late is no disagreement: one that comes back every time is."""

DRIVER = "the driver"
"""In place of a browser: nothing came of asking one."""

EXPLAINED: dict[tuple[str, str, str], str] = {
    ("HSTS", "max-age=1000; preload; preload", "both"): (
        "RFC 6797 section 6.1 forbids any directive twice; browsers look only at those they know. The stricter reading stays, since other programs drop the field"
    )
}
"""Disagreements by area, case and browser, each with its reason."""

for _scheme in ("http", "https"):
    EXPLAINED |= {
        (
            "what a visitor meets",
            f"{_scheme}://gzip-broken/",
            "Chromium",
        ): "It shows a blank page: nothing of the body can be read, so that the site's page is not opened",
        (
            "what a visitor meets",
            f"{_scheme}://tab-location/",
            "Firefox",
        ): "It keeps the tab in the path, which is no part of a URL (WHATWG URL), and asks for it again and again",
        (
            "what a visitor meets",
            f"{_scheme}://head-no-status/",
            "Firefox",
        ): "It goes on waiting for a status: too rare a head to tell browsers apart by",
        (
            "what a visitor meets",
            f"{_scheme}://body-short/",
            "Firefox",
        ): "It shows what came and keeps on loading: its driver waits for the end",
        (
            "what a visitor meets",
            f"{_scheme}://body-chunks-broken/",
            "Firefox",
        ): "It shows what came and keeps on loading: its driver waits for the end",
    }
EXPLAINED |= {
    (
        "what a visitor meets",
        "https://head-cut/",
        "Firefox",
    ): "Over TLS Chromium refuses fields that are cut off, and Firefox shows what came: the stricter of the two is predicted for both",
    (
        "cookies",
        "nameless",
        "Firefox",
    ): "It keeps a word without = as a name without value, others as a value without name: nothing that is judged depends on it",
    (
        "HSTS",
        "max-age=" + "9" * 40,
        "Firefox",
    ): "It notes no policy whose age does not fit its numbers; by RFC 6797 the field conforms",
    (
        "mixed content",
        "<picture><img src={p}></picture>",
        "Firefox",
    ): "It takes any image within picture for one of a set",
    (
        "mixed content",
        "<template><img src={p}></template>",
        "Firefox",
    ): "It loads ahead what it sees in a template, which is never shown",
}
for _case in ("staple-expired-dead-responder", "staple-foreign-dead-responder"):
    EXPLAINED["what a visitor meets", f"https://{_case}/", "Firefox"] = (
        "It asks the CA's responder for a better answer, and stops since that is dead here: whether a CA answers is asked with --revocation only"
    )
EXPLAINED[
    "mixed content",
    "<p>x</p><meta http-equiv=Content-Security-Policy content=upgrade-insecure-requests><script src={p}></script>",
    "Firefox",
] = "It takes a policy in the body as well: Pewter goes by the stricter of the two"
for _scheme in ("http", "https"):
    for _case in ("body-short", "body-chunks-broken"):
        EXPLAINED["what a visitor meets", f"{_scheme}://{_case}/", "Chromium"] = (
            "It shows what came of a page that is cut short, and of so few octets at times nothing"
        )
for _case in ("br-good", "br-plain", "br-and-rubbish", "br-gzip", "zstd-good", "zstd-plain", "zstd-and-rubbish"):
    EXPLAINED["what a visitor meets", f"http://coding-{_case}/", "Firefox"] = (
        "It shows the octets as they came, which is the page by chance alone"
    )
EXPLAINED_BEFORE: dict[tuple[str, str, str], tuple[int, str]] = {
    ("what a visitor meets", "https://suite-cbc-ec-128/", "Firefox"): (
        153,
        "It still offers CBC beside a key on a curve",
    ),
    ("what a visitor meets", "https://closes-on-size/", "Firefox"): (
        153,
        "It gets in with a hello that the server takes",
    ),
    ("cookies", "=value", "Firefox"): (153, "It still keeps a cookie without a name"),
}
"""The same of browsers before a version: what is predicted is what current ones do."""

VERSIONS: dict[str, int] = {}
"""Of the browsers that are asked; filled in at the start."""


class World:
    """All hosts of all cases at one address, and the requests that came."""

    def __init__(self, stack: contextlib.ExitStack) -> None:
        now = datetime.datetime.now(datetime.UTC)
        self.ca = make_authority(now)
        self.given = roots(now)
        self.seen: list[tuple[str, str, str]] = []
        hosts = dict(visit_hosts(self.ca))
        hosts |= certificate_hosts(self.ca, self.given)
        hosts |= {name: _stapling(stapled, stack) for name, stapled in staples(self.ca)}
        hosts = {name: host for name, host in hosts.items() if ONLY in name}
        self.visits = tuple(hosts)
        wildcard = (
            self.ca.server(*(f"*.{kind}.{ZONE}" for kind in ("cookie", "sts", "mixed")), PARTS),
            self.ca.issuing,
        )
        self.cookies = {f"c{n}.cookie.{ZONE}": field for n, field in enumerate(COOKIES)}
        self.sts = {f"s{n}.sts.{ZONE}": values for n, values in enumerate(STS)}
        self.mixed = {f"m{n}.mixed.{ZONE}": part for n, part in enumerate(PARTS_OF_PAGES)}
        for host, field in self.cookies.items():
            fields = tuple(("Set-Cookie", each) for each in self.cookie(host, field).split("\n"))
            hosts[host] = VirtualHost(self._answers(page("x", *fields)), wildcard)
        for host, values in self.sts.items():
            fields = tuple(("Strict-Transport-Security", value) for value in values)
            hosts[host] = VirtualHost(self._answers(page("x", *fields)), wildcard)
        for number, (host, part) in enumerate(self.mixed.items()):
            hosts[host] = VirtualHost(self._answers(page(self.part(number, part))), wildcard)
        hosts[PARTS] = VirtualHost(self._part, wildcard)
        hosts[CA_HOST] = VirtualHost(self._of_the_ca)
        self.hosts = hosts
        self.server = WebServer(hosts)
        self._loop = asyncio.new_event_loop()
        threading.Thread(target=self._loop.run_forever, daemon=True).start()
        # A name server that knows these names and denies all others at once: browsers look up more than is typed.
        names = NameServer([zone_of_table(dict.fromkeys(hosts, ("127.0.0.1",)))])
        for start in (names.start(53), self.server.start(80, 443)):
            asyncio.run_coroutine_threadsafe(start, self._loop).result(60)
        resolver = Path(stack.enter_context(tempfile.TemporaryDirectory())) / "resolv.conf"
        resolver.write_text("nameserver 127.0.0.1\noptions timeout:1 attempts:1\n")
        subprocess.run(["mount", "--bind", str(resolver), "/etc/resolv.conf"], check=True)

    def _of_the_ca(self, request) -> Response:
        if request.target in RESPONDER:
            return Response(200, (("Content-Type", "application/ocsp-response"),), RESPONDER[request.target])
        return Response(200, (), self.ca.issuing.der) if request.target == "/issuing.crt" else Response(404)

    def _part(self, request) -> Response:
        """A part of a page; below ``/r`` a redirect to the plain one."""
        self.seen.append((request.scheme, request.host, request.target))
        if request.target.startswith("/r"):
            return Response(302, (("Location", f"http://{PARTS}/{request.target[2:]}"),))
        return Response(200, (), b"x")

    def _answers(self, response: Response):
        def handle(request):
            self.seen.append((request.scheme, request.host, request.target))
            return response if request.target != "/favicon.ico" else Response(404, PAGE)

        return handle

    @property
    def roots(self) -> list[bytes]:
        return [self.ca.root.pem, *(each.pem for each in self.given.values())]

    @property
    def store(self) -> Store:
        anchors = [self.ca.root, *self.given.values()]
        return Store("lab roots", tuple(read_certificate(each.der) for each in anchors), is_examined=True)

    @staticmethod
    def cookie(host: str, field: str) -> str:
        return field.format(host=host, long="v" * 4096, fits="v" * 4095, attribute="p" * 1024)

    @staticmethod
    def part(number: int, part: str) -> str:
        return part.format(
            p=f"http://{PARTS}/{number}", s=f"https://{PARTS}/{number}", r=f"https://{PARTS}/r{number}", n=number
        )

    def asked(self, since: int, host: str, target: str) -> set[str]:
        return {scheme for scheme, at, there in self.seen[since:] if (at, there) == (host, target)}


def _stapling(stapled: Stapled, stack: contextlib.ExitStack) -> VirtualHost:
    folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
    (folder / "leaf.pem").write_bytes(stapled.chain[0].pem)
    (folder / "leaf.key").write_bytes(stapled.chain[0].key_pem)
    (folder / "chain.pem").write_bytes(b"".join(each.pem for each in stapled.chain[1:]))
    options = []
    if stapled.response is not None:
        (folder / "staple.der").write_bytes(stapled.response)
        options = ["-status_file", "staple.der"]
    port = stack.enter_context(openssl_server(folder, *options))
    return VirtualHost(lambda request: page(), stapled.chain, is_modern=False, tls_port=port)


@dataclass(frozen=True)
class Row:
    """One case in one browser."""

    area: str
    case: str
    browser: str
    ours: str
    theirs: str
    remark: str = ""

    @property
    def verdict(self) -> str:
        return "agree" if self.ours == self.theirs else "explained" if self.explanation else "open"

    @property
    def explanation(self) -> str:
        keys = ((self.area, self.case, self.browser), (self.area, self.case, "both"))
        before, reason = EXPLAINED_BEFORE.get(keys[0], (0, ""))
        if VERSIONS.get(self.browser, before) < before:
            return f"Before version {before}: {reason[0].lower()}{reason[1:]}"
        return next((EXPLAINED[key] for key in keys if key in EXPLAINED), "")


Browsers = tuple[Chromium, Firefox]
Part = Callable[[World, Browsers, str], Iterator[Row]]

SAME_TO_A_VISITOR = {Prediction.OLD_PROTOCOL: Prediction.CANNOT_CONNECT, Prediction.PARTS_BLOCKED: Prediction.OPENS}
"""What a browser's error does not tell apart."""


def visit_rows(world: World, browsers: Browsers, host: str) -> Iterator[Row]:
    """One look, for this host alone: no host's certificates may help another's."""
    routes = tuple(
        f"{each}:{port}=127.0.0.1:{port}"
        for each in (*world.visits, CA_HOST, f"good.visit.{ZONE}")
        for port in (80, 443)
    )
    protocol = not host.endswith(f"visit.{ZONE}")
    evidence = take(host, routes=routes, stores=(world.store,), step=3, whole=20, protocol=protocol)
    case = Case(evidence, Terms(), evidence.begun, (world.store,))
    for journey in case.evidence.journeys:
        if journey.reason is not WayIn.TYPED or read_url(journey.start).host != host:
            continue
        name = journey.start.replace(f".visit.{ZONE}", "").replace(f".certificate.{ZONE}", "")
        for browser in browsers:
            visit = predict_for(case, journey, Browser(browser.title))
            ours = SAME_TO_A_VISITOR.get(visit.meets, visit.meets)
            if "too many redirects" in visit.detail or "gives up at" in visit.detail:
                ours = Prediction.CIRCLES
            met = browser.browse(journey.start)
            theirs = SAME_TO_A_VISITOR.get(met.prediction, met.prediction)
            remark = f"{visit.detail} | {met.error}"
            yield Row("what a visitor meets", name, browser.title, ours.value, theirs.value, remark)


def cookie_rows(world: World, browsers: Browsers, host: str) -> Iterator[Row]:
    field = world.cookies[host]
    url = read_url(f"https://{host}/shop/cart")
    now = datetime.datetime.now(datetime.UTC)
    for browser in browsers:
        kept: dict[tuple, str] = {}
        for value in world.cookie(host, field).split("\n"):
            read = read_set_cookie(value, url, now)
            if not isinstance(read, Cookie) and read.kept_by == browser.title:
                kept[value,] = "kept"
            if isinstance(read, Cookie) and read.dropped_by != browser.title:
                domain = read.domain if read.host_only else f".{read.domain}"
                words = f"{read.name}={len(read.value)} octets {domain} {read.path[:20]} {read.secure} {read.http_only}"
                kept[read.key] = words if not read.deletes else ""
        ours = sorted(filter(None, kept.values()))
        theirs = browser.cookies(str(url))
        if ours == ["kept"] and theirs:
            ours = theirs
        yield Row(
            "cookies",
            field.replace("\n", " then "),
            browser.title,
            "; ".join(ours) or "dropped",
            "; ".join(theirs) or "dropped",
        )


def sts_rows(world: World, browsers: Browsers, host: str) -> Iterator[Row]:
    values = world.sts[host]
    read = read_sts(values[0]) if values else None
    ours = "noted" if isinstance(read, StrictTransportSecurity) and read.max_age > 0 else "not noted"
    for browser in browsers:
        browser.browse(f"https://{host}/")
        before = len(world.seen)
        browser.browse(f"http://{host}/again")
        theirs = "noted" if world.asked(before, host, "/again") == {"https"} else "not noted"
        yield Row("HSTS", " and ".join(values)[:60] or "(none)", browser.title, ours, theirs)


def mixed_rows(world: World, browsers: Browsers, host: str) -> Iterator[Row]:
    part = world.mixed[host]
    number = list(world.mixed).index(host)
    url = read_url(f"https://{host}/")
    shown = read_page(world.part(number, part).encode(), url)
    redirected = (
        msgspec.structs.replace(each, url=f"http://{PARTS}/{number}") for each in shown.parts if "/r" in each.url
    )
    references = (*shown.references, *redirected)
    treatments = {treatment_of(each, upgrades_requests=shown.upgrades_requests) for each in references}
    for browser in browsers:
        ours = "not asked for"
        if Treatment.UPGRADED in treatments or (shown.upgrades_requests and Treatment.FINE in treatments):
            ours = "asked for over https"
        elif Treatment.BLOCKED in treatments and isinstance(browser, Chromium):
            ours = "blocked"
        before = len(world.seen)
        blocked = browser.was_blocked(str(url))
        asked = world.asked(before, PARTS, f"/{number}")
        theirs = "blocked" if blocked and not asked else "not asked for"
        if asked:
            theirs = f"asked for over {' and '.join(sorted(asked))}"
        yield Row("mixed content", part, browser.title, ours, theirs)


def rows_of(world: World, browsers: Browsers, part: Part, host: str) -> Iterator[Row]:
    """What a part's host gives; what disagrees, or fails in the driver, is asked again."""
    rows: dict[tuple[str, str], Row] = {}
    for attempt in range(1, TRIES + 1):
        for row in _tried(world, browsers, part, host):
            known = rows.get((row.case, row.browser))
            if known is None or known.verdict == "open":
                remark = f"{row.remark} (try {attempt})" if attempt > 1 else row.remark
                rows[row.case, row.browser] = dataclasses.replace(row, remark=remark)
        rows = {key: row for key, row in rows.items() if row.browser != DRIVER or len(rows) == 1}
        late = [row for row in rows.values() if row.verdict == "open"]
        if rows and not late:
            break
        print(
            f"{host}: tried again, since {', '.join(f'{row.browser}: {row.theirs} ({row.remark})' for row in late)}",
            flush=True,
        )
        time.sleep(attempt)
        for browser in browsers:
            with contextlib.suppress(Exception):
                browser.forget()
    yield from rows.values()


def _tried(world: World, browsers: Browsers, part: Part, host: str) -> list[Row]:
    try:
        return list(part(world, browsers, host))
    except Exception as exc:
        return [Row("what a visitor meets", host, DRIVER, "an answer", f"{type(exc).__name__}: {exc}"[:200])]


def document(rows: list[Row], versions: str) -> str:
    lines = [
        "# Agreement with real browsers",
        "",
        f"Measured by `make browser-agreement` against {versions}, headless, with private roots in their own stores.",
        "A case is one URL, field or page; each is tried in both browsers.",
        "",
        "| area | cases | agree in both | disagree, explained | disagree, not explained |",
        "| --- | --- | --- | --- | --- |",
    ]
    cases: dict[tuple[str, str], list[Row]] = {}
    for row in rows:
        cases.setdefault((row.area, row.case), []).append(row)
    worst = {
        key: max((row.verdict for row in of), key=("agree", "explained", "open").index) for key, of in cases.items()
    }
    count = Counter((area, verdict) for (area, _), verdict in worst.items())
    for area in dict.fromkeys(area for area, _ in cases):
        numbers = [count[area, kind] for kind in ("agree", "explained", "open")]
        lines.append(f"| {area} | {sum(numbers)} | " + " | ".join(map(str, numbers)) + " |")
    lines += ["", "## Every case", "", "| area | case | Chromium | Firefox | |", "| --- | --- | --- | --- | --- |"]
    for (area, case), of in cases.items():
        cells = [row.theirs if row.verdict == "agree" else f"{row.theirs} (Pewter: {row.ours})" for row in of]
        remark = next((row.explanation or "**not explained**" for row in of if row.verdict != "agree"), "")
        shown = case.replace("|", "/").replace("\t", "\\t").replace("\r", "\\r")
        lines.append(f"| {area} | `{shown}` | " + " | ".join((*cells, remark)) + " |")
    return "\n".join(lines) + "\n"


def main() -> int:
    began = time.monotonic()
    with contextlib.ExitStack() as stack:
        world = World(stack)
        home = Path(stack.enter_context(tempfile.TemporaryDirectory(ignore_cleanup_errors=True)))
        browsers = stack.enter_context(both(home, world.roots))
        for browser in browsers:
            name, number = browser.version.split(" ")
            VERSIONS[name] = int(number)
        parts = [(visit_rows, world.visits)]
        if not ONLY:
            parts += [(cookie_rows, world.cookies), (sts_rows, world.sts), (mixed_rows, world.mixed)]
        rows = []
        for part, hosts in parts:
            for host in hosts:
                started = time.monotonic()
                rows.extend(rows_of(world, browsers, part, host))
                print(f"{host}: {time.monotonic() - started:.1f} s", flush=True)
        versions = " and ".join(browser.version for browser in browsers)
    open_ = [row for row in rows if row.verdict == "open"]
    if not ONLY:
        DOCUMENT.write_text(document(rows, versions), encoding="utf-8")
    for row in open_:
        print("disagree:", " | ".join((row.area, row.case, row.browser, row.ours, row.theirs, row.remark)))
    cases = {(row.area, row.case) for row in rows}
    agreeing = sum(1 for row in rows if row.verdict == "agree")
    print(
        f"{len(cases)} cases in {versions}: {agreeing} of {len(rows)} agree, {len(open_)} disagree unexplained; "
        f"{time.monotonic() - began:.0f} s"
    )
    return 1 if open_ else 0


if __name__ == "__main__":
    sys.exit(main())
