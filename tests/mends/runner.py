"""Mends as printed, put in place on real servers: ``make mends``.

Each proof makes a fault on a real server, sees the gap, puts the printed lines where the text says, lets the server check
its own configuration, starts it with that, and looks again: the gap is closed, nothing new is open, and the printed check
tells before from after.  Writes ``src/pewter/mends/proofs.toml`` with ``--write``; exits with 1 where a proof fails.
"""

import argparse
import contextlib
import dataclasses
import datetime
import json
import os
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from msgspec import structs

from mends.application import HOST, LANDING
from mends.bases import BASES, FAULT, Base, bare, put
from mends.cases import ALL, CASES, Case
from mends.hostile import pieces_with
from pewter.expectations import Terms
from pewter.facts.case import Case as Judged
from pewter.fitting.fit import Put, fit, kinds_fitted
from pewter.judge.outcomes import Unknown
from pewter.judge.review import Review, make_review
from pewter.lab.authority import DAY, issue_ca, issue_server, make_key
from pewter.mends.composer import Piece
from pewter.mends.kinds import Kind, Manner, kind_file
from pewter.pki import Store
from pewter.plan.server_files import read_server_files
from support.certificates import parsed
from support.looks import take

HERE = Path(__file__).parent
HOSTILE = "hostile-names"
EXPRESS = HERE.parents[1] / "build" / "express"
SHOWN = (*ALL, Kind.DJANGO, Kind.EXPRESS)
VERSIONS = {
    Kind.NGINX: ("nginx", "-v"),
    Kind.APACHE: ("apache2", "-v"),
    Kind.HAPROXY: ("haproxy", "-v"),
    Kind.CADDY: ("caddy", "version"),
    Kind.LIGHTTPD: ("lighttpd", "-v"),
    Kind.DJANGO: ("/usr/bin/python3", "-m", "django", "--version"),
    Kind.EXPRESS: ("node", "-p", f"require('{EXPRESS}/node_modules/express/package.json').version"),
}


BY_HAND = {
    "Add the word http2": (r"(listen (?:\S*:)?443 ssl)(?! http2)", r"\1 http2"),
    "Add the word ssl": (r"(listen (?:\S*:)?443)\b(?! ssl)", r"\1 ssl"),
    "If its server_name is missing or _": (r"server_name _;", f"server_name {HOST};"),
}
"""What a reader does who is told so in words."""

TAKEN_OUT = {
    "every proxy_set_header for Host and X-Forwarded-Proto": r"proxy_set_header (?:Host|X-Forwarded-Proto) [^;]*;",
    "every RequestHeader line for X-Forwarded-Proto": r"(?m)^ *(?:RequestHeader \S+ X-Forwarded-Proto|ProxyPreserveHost) .*\n",
    "every http-request set-header X-Forwarded-Proto": r"(?m)^ *http-request set-header X-Forwarded-Proto.*\n",
    "every server_tokens line": r"server_tokens \w+;",
    "any proxy_cookie_flags line for": r"proxy_cookie_flags PHPSESSID [^;]*;",
    "every url.redirect line for http": r"(?m)^ *url\.redirect = .*%0.*\n",
    "every setenv line for Strict-Transport-Security": r"(?m)^ *setenv.set-response-header .*Strict-Transport-Security.*\n",
    "every header line for Strict-Transport-Security": (
        r'header Strict-Transport-Security "[^"]*"\n|header \{\s*Strict-Transport-Security[^\n]*\n\s*defer\s*\}'
    ),
}
"""What stands where a piece goes, and that it takes the place of."""

_ON_BIND = ("ciphers", "curves", "alpn", "ssl-min-ver", "ssl-max-ver", "verify", "ca-file")


def _adapted(block: str, lines: str) -> str:
    """As the remarks say: the path of the CA's challenge is kept, and the address of the block that is replaced."""
    challenge = re.search(r"location \S*acme-challenge/ \{[^}]*\}", block)
    if challenge is not None:
        lines = lines.replace("    location / {", f"    {challenge[0]}\n    location / {{", 1)
    aliases = re.findall(r"(?ms)^(?:Alias \S*acme-challenge/ .*?$|<Directory .*?</Directory>)", block)
    if aliases:
        lines = lines.replace("</VirtualHost>", "\n".join((*aliases, "</VirtualHost>")), 1)
    host = re.search(r"<VirtualHost ([^*>]+)>", block)
    if host is not None:
        lines = lines.replace("<VirtualHost *:80>", f"<VirtualHost {host[1]}>")
    listens = re.findall(r"listen (?:[\d.]+|\[[\da-f:]*[\da-f]\]):80;", block)
    if listens:
        lines = re.sub(r"listen 80;\n *listen \[::\]:80;", " ".join(listens), lines)
    return lines


def _key(line: str) -> str:
    """What a line sets: its directive, and its field where it has one."""
    words = line.strip().split()
    if not words or words[0] in {"server", "}", "{", "location", "if", "return", "set", "frontend", "bind", "mode"}:
        return ""
    if words[0] in {"add_header", "proxy_hide_header", "fastcgi_hide_header", "proxy_cookie_flags", "proxy_set_header"}:
        return " ".join(words[:2])
    if words[0] in {"Header", "RequestHeader"}:
        field = next((each for each in words[1:] if re.fullmatch(r"[A-Z][a-zA-Z-]+", each)), "")
        return f"{words[0]} {field}"
    if words[0] in {"http-after-response", "http-response"} and words[1] == "set-header":
        return " ".join(words[:3])
    return (
        words[0]
        if re.fullmatch(
            r"ssl_\w+|ssl\.\w.*|server[._]to?k?e?n?s?a?g?|SSL\w+|ServerT\w+|ServerS\w+|Protocols|ciphers|protocols|curves",
            words[0],
        )
        else ""
    )


def _without_like(text: str, piece) -> str:
    """Without lines that were put there before and set the same."""
    for word in _ON_BIND:
        if re.search(rf"(?:^| ){word} ", piece.lines) and "bind line" in piece.where:
            text = re.sub(rf"(?m)^( *bind :::443.*?) {word} \S+", r"\1", text)
    keys = {key for line in piece.lines.splitlines() if (key := _key(line))} - {"ServerName"}
    lines = text.split("\n")
    return "\n".join(line for line in lines if _key(line) not in keys or re.sub('"[^"]*"', "", line).count(";") > 1)


_OF_THE_MOMENT = frozenset(
    {"date", "content-length", "etag", "last-modified", "connection", "location", "server", "vary"}
)


def _told(value: str | None) -> str:
    """Of a cookie its attributes, and no value or moment."""
    return re.sub(r"\*+|expires=[^;]*", "", value or "")


_OF_AREA = {"cookie": "set-cookie", "hsts": "strict-transport-security"}


def changed(before: Review, after: Review, rule: str, lines: str) -> list[str]:
    """Fields of pages that are otherwise than before, though the mend names none of them."""
    named = f"{lines} {_OF_AREA.get(rule.partition('/')[0], '')}".lower()

    def answers(review: Review) -> dict[str, tuple[int, dict[str, str]]]:
        hops = [hop for journey in review.evidence.journeys for hop in journey.hops]
        fields = ({name.lower(): value for name, value in hop.fields} for hop in hops)
        return {hop.url: (hop.status, of) for hop, of in zip(hops, fields, strict=True)}

    was, now = answers(before), answers(after)
    return [
        f"{url} {name}: {value!r} is {now[url][1].get(name)!r}"
        for url, (status, fields) in was.items()
        if url in now and now[url][0] == status and not 300 <= status < 400
        for name, value in fields.items()
        if name not in _OF_THE_MOMENT and name not in named and _told(now[url][1].get(name)) != _told(value)
    ]


@dataclass
class Proof:
    """One case on one kind of server."""

    kind: Kind
    case: Case
    folder: Path
    by_diff: bool = False
    """The lines are fitted to the configuration, and applied by ``patch``."""

    def run(self) -> str:
        """What is to be said against it; empty where it is proven."""
        issued = self._issue()
        base = BASES[self.kind]
        text = self._configuration(base)
        with self._front(base) if base.is_application else self._application():
            with self._server(base, text):
                before = self._review(issued)
                entries = [each for each in before.results.gaps if each.rule == self.case.rule]
                if not entries:
                    return f"the fault does not show: {sorted({each.rule for each in before.results.gaps})}"
                entry = entries[0]
                told_before = self._checked(entry.check)
                still_before = [self._checked(each) for each in self.case.still]
            pieces = self._pieces(entries)
            if not pieces:
                return f"no lines: {entry.configurations}"
            if self.by_diff:
                text = self._patched(base, text, before, [(each, (entry.number,)) for each in pieces])
            else:
                for piece in pieces:
                    if self._fits(text, piece):
                        text = self._put(text, piece)
            with self._server(base, text):
                after = self._review(issued)
                told_after = self._checked(entry.check)
                still_after = [self._checked(each) for each in self.case.still]
        if still_before != still_after:
            return f"touched: {still_before} is {still_after}"
        left, opened = self._held_against(before, after)
        if left:
            return f"not closed: {left}"
        if otherwise := changed(before, after, self.case.rule, " ".join(piece.lines for piece in pieces)):
            return f"changed beside: {otherwise}"
        if opened:
            return f"opened: {opened}"
        if entry.check.startswith("pewter") or told_before != told_after:
            return ""
        return f"the check does not tell: {entry.check}: {told_before[:100]!r}"

    def _pieces(self, entries) -> list[Piece]:
        """What the rule's gaps have printed for this kind of server, the same lines once."""
        title = kind_file(self.kind).title
        printed = (each.pieces for entry in entries for each in entry.configurations if each.server == title)
        unique = {(piece.where, piece.lines): piece for pieces in printed for piece in pieces}
        return list(unique.values())

    def _held_against(self, before: Review, after: Review) -> tuple[list[str], list[str]]:
        def gaps(review: Review) -> dict[str, list[str]]:
            found: dict[str, list[str]] = {}
            for entry in review.results.gaps:
                here = [review.results.places[number] for number in entry.places]
                if any(place.host in {HOST, ""} for place in here):
                    found[entry.rule] = list(entry.seen)
            return found

        was, now = gaps(before), gaps(after)
        left = now.get(self.case.rule, [])
        unseen = {each.rule for each in before.results.outcomes if isinstance(each.outcome, Unknown)}
        return left, [f"{rule}: {now[rule]}" for rule in now if rule not in {*was, *unseen, *self.case.opens}]

    def _issue(self):
        now = datetime.datetime.now(datetime.UTC)
        root = issue_ca("Mend Root", None, now - 100 * DAY, now + 1000 * DAY)
        issuing = issue_ca("Mend Issuing", root, now - 100 * DAY, now + 900 * DAY)
        key = make_key("RSA 2048")
        for name, names in (("full", [HOST]), ("landing", [LANDING]), ("both", [HOST, LANDING])):
            issued = issue_server(names, issuing, now - 10 * DAY, now + 70 * DAY, key=key)
            whole = issued.pem + issuing.pem
            if self.kind is Kind.HAPROXY:
                whole += issued.key_pem
            (self.folder / f"{name}.pem").write_bytes(whole)
            if name == "full":
                (self.folder / "leaf.pem").write_bytes(
                    issued.pem + (issued.key_pem if self.kind is Kind.HAPROXY else b"")
                )
                (self.folder / "leaf.key").write_bytes(issued.key_pem)
        expired = issue_server([HOST], issuing, now - 90 * DAY, now - DAY, key=key)
        other = issue_server(["old.mend.example"], issuing, now - 10 * DAY, now + 70 * DAY, key=key)
        for name, each in (("expired.pem", expired), ("other.pem", other)):
            (self.folder / name).write_bytes(
                each.pem + issuing.pem + (each.key_pem if self.kind is Kind.HAPROXY else b"")
            )
        challenge = self.folder / "acme" / ".well-known" / "acme-challenge"
        challenge.mkdir(parents=True, exist_ok=True)
        (challenge / "tok").write_text("the CA's challenge\n", encoding="utf-8")
        (self.folder / "issuing.pem").write_bytes(issuing.pem)
        (self.folder / "root.pem").write_bytes(root.pem)
        return root

    def _configuration(self, base: Base) -> str:
        slots = {"general": "", "secure": "", "plain": base.plain, "other": base.other, **base.slots}
        slots |= base.several if self.case.several else {}
        slots |= self.case.faults.get(self.kind, {})
        chain = "both.pem" if self.case.several else self.case.chain
        values = {"folder": str(self.folder), "chain": chain, "host": HOST, "landing": LANDING}
        slots = {
            name: text.replace("{folder}", values["folder"]).replace("{chain}", values["chain"])
            for name, text in slots.items()
        }
        return base.text.format(**slots, **values)

    def _patched(self, base: Base, text: str, review: Review, pieces) -> str:
        """As a user does it: the diff is applied by patch; what is told by hand is done by hand."""
        file = self.folder / base.file
        file.write_text(bare(text), encoding="utf-8")
        kind, tree, _ = read_server_files([file], self.kind.value, print)
        hosts = tuple(dict.fromkeys(self._names()))
        rules = {entry.number: entry.rule for entry in review.results.gaps}
        puts = [
            Put(structs.replace(piece, hosts=piece.hosts or (HOST,)), gaps, rules[gaps[0]]) for piece, gaps in pieces
        ]
        fitted = fit(kind, tree, puts, hosts)
        assert not fitted.held, [(each.place, each.reason) for each in fitted.held]
        diff = fitted.diff
        if os.environ.get("SHOW"):
            print(text, diff, fitted.changes, sep="\n---\n", file=sys.stderr)
        done = subprocess.run(["patch", "-p1", "-d", str(self.folder)], input=diff, text=True, capture_output=True)
        assert done.returncode == 0 or not diff, done.stdout + done.stderr
        for piece, _ in pieces:
            by_diff = any(each in piece.lines for each in BY_HAND)
            if piece.manner is Manner.COMMAND or (piece.manner is Manner.WORDS and not by_diff):
                self._put(text, piece)
        return file.read_text(encoding="utf-8")

    def _names(self) -> list[str]:
        return [LANDING, HOST] if self.case.canonical else [HOST]

    @staticmethod
    def _fits(text: str, piece) -> bool:
        """Of two pieces for one place the one whose condition holds."""
        words = re.fullmatch(r"it has (no|an) (.+)", piece.only)
        return words is None or (words[2] in text) is (words[1] == "an")

    def _without(self, text: str, piece) -> str:
        """Without what stands in the block of the piece and that it takes the place of."""
        for words, pattern in TAKEN_OUT.items():
            if words in piece.where:
                begins = [match.start() for match in re.finditer(r"(?m)^(?:server|<VirtualHost|frontend|http) ?", text)]
                inner = next((text.find(mark) for mark in ("@@passing@@", "@@secure@@") if mark in text), -1)
                if inner < 0:
                    text = re.sub(pattern, "", text)
                    continue
                start = max((each for each in begins if each < inner), default=0) if "in http" not in piece.where else 0
                end = min((each for each in begins if each > inner), default=len(text))
                text = text[:start] + re.sub(pattern, "", text[start:end]) + text[end:]
        if ", in place of " in piece.where:
            text = FAULT.sub("", text)
            text = _without_like(text, piece)
        return text

    def _put(self, text: str, piece) -> str:
        text = self._without(text, piece)
        if piece.manner is Manner.COMMAND:
            if self.case.words == "renew":
                shutil.copy(self.folder / "full.pem", self.folder / self.case.chain)
            if piece.lines.startswith("openssl"):
                subprocess.run(piece.lines, shell=True, check=True, capture_output=True)
            return text
        if piece.manner is Manner.WORDS and (by_hand := next((each for each in BY_HAND if each in piece.lines), None)):
            return re.sub(*BY_HAND[by_hand], text)
        if piece.manner is Manner.WORDS:
            assert self.case.words == "add-intermediate", piece.lines
            file = self.folder / self.case.chain
            old = file.read_bytes()
            leaf, mark, key = old.partition(b"-----END CERTIFICATE-----\n")
            file.write_bytes(leaf + mark + (self.folder / "issuing.pem").read_bytes() + key)
            return text
        # The place that the printed words name.
        places = {
            words.replace("@port@", "443").partition("@host@")[0]: place
            for place, words in kind_file(self.kind).places.items()
        }
        place = places[max((words for words in places if words in piece.where), key=len)]
        has_of = "in place of" in piece.where and not piece.where.startswith("in place of")
        manner = "removes" if piece.manner is Manner.REMOVES else piece.manner.value
        other = {Kind.NGINX: "mend.example ", Kind.APACHE: "mend.example ", Kind.CADDY: "http://mend.example, "}
        kept = other.get(self.kind, "") if self.case.several else ""
        named = re.search(r"(?:server_name|ServerName|http://)\s*([a-z.]+)", piece.lines)
        own = named[1] if named is not None else ""
        lines = piece.lines
        bound = re.findall(r"listen ((?:\d[\d.]+|\[[\da-f:]*[\da-f][\da-f:]*\]):443) ssl", text)
        if piece.manner is Manner.NEW and "listen 443 ssl default_server" in lines and bound:
            # As the remark says: where the others name an address, so has this one.
            listens = "\n".join(f"listen {each} ssl default_server;" for each in bound)
            lines = re.sub(r" *listen 443 ssl default_server;\n *listen \[::\]:443 ssl default_server;", listens, lines)
        if piece.where.startswith("in place of ") and (
            block := re.search(rf"<<{place}\n.*?{place}>>", text, re.DOTALL)
        ):
            lines = _adapted(block[0], lines)
        return put(text, place, manner, lines, has_of=has_of, other_name=kept, own_name=own)

    @contextlib.contextmanager
    def _application(self) -> Iterator[None]:
        command = [sys.executable, str(HERE / "application.py"), self.case.behaviour]
        process = subprocess.Popen(
            command, env={**os.environ, "PYTHONPATH": str(HERE.parent)}, stderr=subprocess.DEVNULL
        )
        try:
            _wait_for(8000, process)
            yield
        finally:
            process.kill()
            process.wait()

    @contextlib.contextmanager
    def _front(self, base: Base) -> Iterator[None]:
        for name, text in base.files.items():
            (self.folder / name).write_text(text, encoding="utf-8")
        front = (HERE / "front.conf").read_text(encoding="utf-8").replace("{folder}", str(self.folder))
        (self.folder / "front.conf").write_text(front, encoding="utf-8")
        process = subprocess.Popen(["nginx", "-p", str(self.folder), "-c", str(self.folder / "front.conf")])
        try:
            _wait_for(443, process)
            yield
        finally:
            process.terminate()
            process.wait()

    @contextlib.contextmanager
    def _server(self, base: Base, text: str | None) -> Iterator[None]:
        """With a configuration; None for that which lies there."""
        self._tested(base, text)
        port = 8000 if base.is_application else 443
        with running(self._filled(base.command), self.folder, port):
            yield
        _wait_until_free((8000,) if base.is_application else (80, 443))

    def _filled(self, command: tuple[str, ...]) -> list[str]:
        return [part.replace("{folder}", str(self.folder)) for part in command]

    def _tested(self, base: Base, text: str | None) -> None:
        """The server's own test of a configuration."""
        if text is not None:
            (self.folder / base.file).write_text(bare(text), encoding="utf-8")
        checked = subprocess.run(self._filled(base.test), capture_output=True, text=True, timeout=60)
        if checked.returncode:
            raise AssertionError(f"its own test refuses it: {(checked.stdout + checked.stderr)[-500:]}")

    def read_hostile(self) -> list[str]:
        """What the server's own test says against lines with what hostile sites call themselves."""
        self._issue()
        base, against, cases = BASES[self.kind], [], {case.rule: case for case in CASES if self.kind in case.kinds}
        for rule, hostile, pieces in pieces_with(self.kind):
            text = dataclasses.replace(self, case=cases.get(rule, self.case))._configuration(base)
            try:
                for piece in pieces:
                    text = text if piece.manner in {Manner.COMMAND, Manner.WORDS} else self._put(text, piece)
                self._tested(base, text)
            except AssertionError as exc:
                against.append(f"{rule}: {hostile!r}: {exc}")
        return against

    def _review(self, root) -> Review:
        names = self._names()
        routes = [f"{name}:{port}=127.0.0.1:{port}" for name in names for port in (80, 443)]
        stores = (Store("Mend", (parsed(root),)),)
        protocol = self.case.rule.startswith(("protocol/", "chain/default", "reach/client"))
        evidence = take(
            *names, routes=routes, paths=self.case.paths, stores=stores, protocol=protocol, siblings=False, whole=60
        )
        canonical = f"https://{names[0]}" if self.case.declared else None
        terms = Terms(canonical=canonical, server=self.kind.value)
        return make_review(Judged(evidence, terms, evidence.begun, stores))

    def _checked(self, command: str) -> str:
        if command.startswith("pewter"):
            return ""
        trusted = str(self.folder / "root.pem")
        env = {**os.environ, "CURL_CA_BUNDLE": trusted, "SSL_CERT_FILE": trusted}
        ended = subprocess.run(command, shell=True, capture_output=True, text=True, timeout=30, env=env, check=False)
        return ended.stdout


@contextlib.contextmanager
def running(command: list[str], folder: Path, port: int) -> Iterator[None]:
    """A program that listens at a port of loopback."""
    with (folder / "log").open("ab") as log:
        process = subprocess.Popen(
            command,
            stdout=log,
            stderr=log,
            env={**os.environ, "HOME": str(folder), "NODE_PATH": str(EXPRESS / "node_modules")},
        )
    try:
        _wait_for(port, process)
        yield
    finally:
        process.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(5)
        if process.poll() is None:
            process.kill()
            process.wait()


def _wait_for(port: int, process: subprocess.Popen) -> None:
    for _ in range(200):
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        if process.poll() is not None:
            raise AssertionError("it ended at once")
        time.sleep(0.05)
    raise AssertionError(f"nothing listens on port {port}")


def _wait_until_free(ports: tuple[int, ...]) -> None:
    for port in ports:
        for _ in range(100):
            try:
                socket.create_connection(("127.0.0.1", port), 0.5).close()
            except OSError:
                break
            time.sleep(0.05)


def prove(kind: Kind, wanted: str, *, by_diff: bool) -> None:
    """All cases of one kind, in a network of its own; a line of JSON each."""
    for case in CASES:
        if kind not in case.kinds or wanted not in case.name:
            continue
        begun = time.monotonic()
        # A busy machine may be late once.
        complaint = _try(kind, case, by_diff=by_diff) and _try(kind, case, by_diff=by_diff)
        print(
            json.dumps([kind.value, case.rule, case.title, round(time.monotonic() - begun, 1), complaint]), flush=True
        )


def read_hostile(kind: Kind) -> None:
    """A line of JSON, as a proof's."""
    begun = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="mend-") as folder:
        Path(folder).chmod(0o755)
        against = Proof(kind, Case("", "hostile-names"), Path(folder)).read_hostile()
    print(json.dumps([kind.value, HOSTILE, "", round(time.monotonic() - begun, 1), "; ".join(against)]), flush=True)


def _try(kind: Kind, case: Case, *, by_diff: bool) -> str:
    folder = Path(tempfile.mkdtemp(prefix="mend-"))
    folder.chmod(0o755)
    try:
        return Proof(kind, case, folder, by_diff).run()
    except Exception as exc:
        log = folder / "log"
        return f"{type(exc).__name__}: {exc}; {log.read_text(errors='replace')[-300:] if log.exists() else ''}"
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("wanted", nargs="?", default="")
    parser.add_argument("--kind", default="")
    parser.add_argument("--inside", action="store_true")
    parser.add_argument("--diff", action="store_true", help="fitted to the configuration, and applied by patch")
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    if options.inside:
        prove(Kind(options.kind), options.wanted, by_diff=options.diff)
        if not options.diff and Kind(options.kind) in ALL and options.wanted in HOSTILE:
            read_hostile(Kind(options.kind))
        return 0
    kinds = [kind for kind in (kinds_fitted() if options.diff else SHOWN) if options.kind in kind.value]
    if Kind.EXPRESS in kinds:
        EXPRESS.mkdir(parents=True, exist_ok=True)
        shutil.copy(HERE / "express" / "package.json", EXPRESS)
        subprocess.run(["npm", "install", "--prefix", EXPRESS, "--no-package-lock", "--silent"], check=True)
    begun, results = time.monotonic(), []
    hosts = write_hosts()
    how = ("--diff",) if options.diff else ()
    running = [start(__file__, kind, options.wanted, hosts, *how) for kind in kinds]
    for process in running:
        for line in process.stdout:
            kind, rule, title, seconds, complaint = json.loads(line)
            results.append((kind, rule, complaint))
            print(
                f"{kind} {rule} {title}: {seconds} s" + (f"\n    NOT PROVEN: {complaint}" if complaint else ""),
                flush=True,
            )
        process.wait()
    failed = [each for each in results if each[2]]
    results = [each for each in results if each[1] != HOSTILE]
    pairs = {each[:2] for each in results}
    print(
        f"{len(results)} set-ups of {len(pairs)} pairs of rule and server, {len(failed)} not proven; {time.monotonic() - begun:.0f} s"
    )
    if options.write:
        _write(results)
    return 1 if failed or any(process.returncode for process in running) else 0


def write_hosts() -> Path:
    """The hosts file of each network."""
    hosts = Path(tempfile.mkdtemp()) / "hosts"
    hosts.write_text(f"127.0.0.1 localhost {HOST} {LANDING}\n::1 localhost {HOST} {LANDING}\n")
    return hosts


def start(script: str, kind: Kind, wanted: str, hosts: Path, *options: str) -> subprocess.Popen:
    """A runner's work on one kind of server, in a network of its own."""
    inner = f'ip link set lo up && mount --bind {hosts} /etc/hosts && mount -t tmpfs tmpfs /etc/apache2 && exec "$@"'
    command = [sys.executable, script, wanted, "--kind", kind.value, "--inside", *options]
    return subprocess.Popen(
        ["unshare", "-n", "-m", "sh", "-c", inner, "sh", *command], stdout=subprocess.PIPE, text=True
    )


def _write(results: list[tuple[str, str, str]]) -> None:
    lines = ["# Written by make mends: what was proven, and on what."]
    for kind, command in VERSIONS.items():
        said = subprocess.run(command, capture_output=True, text=True, check=False)
        number = re.search(r"\d+\.\d+[.\d]*", said.stdout + said.stderr)
        proven = sorted({rule for of, rule, complaint in results if of == kind.value and not complaint})
        counts = {
            rule: sum(1 for of, each, complaint in results if (of, each) == (kind.value, rule) and not complaint)
            for rule in proven
        }
        if proven and number:
            lines += [
                "",
                f"[{kind.value}]",
                f'version = "{kind_file(kind).title} {number[0]}"',
                f"[{kind.value}.set_ups]",
            ]
            lines += [f'"{rule}" = {count}' for rule, count in counts.items()]
    root = HERE.parents[1]
    (root / "src" / "pewter" / "mends" / "proofs.toml").write_text("\n".join(lines) + "\n", encoding="utf-8")
    shown = SHOWN
    titles = [kind_file(kind).title for kind in shown]
    table = ["# Mends that were proven", "", "Written by `make mends`: set-ups in which the printed lines closed the gap, with nothing new open, the server's own",
             "configuration test passed, and the printed check telling before from after. A dash: not tried here.", "",
             f"| rule | {' | '.join(titles)} |", "| --- " * (len(titles) + 1) + "|"]  # fmt: skip
    for rule in sorted({rule for _, rule, _ in results}):
        counts = [sum(1 for of, each, bad in results if (of, each) == (kind.value, rule) and not bad) for kind in shown]
        table.append(f"| {rule} | {' | '.join(str(count or '-') for count in counts)} |")
    (root / "docs" / "mends.md").write_text("\n".join(table) + "\n", encoding="utf-8")


if __name__ == "__main__":
    sys.exit(main())
