"""Configurations as people have them, mended by the diff that is fitted to them: ``make mends``.

Each round the site is looked at, all lines of the report are fitted to its configuration, ``patch`` applies the diff, and the
server checks and reads it.  In the end nothing is left at ``weakens`` or above for which the report has lines, no field
that no line named has changed, and what the site's other names answer is as before.
"""

import argparse
import contextlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import msgspec

from mends.bases import BASES, Base, bare
from mends.cases import Case
from mends.runner import Proof, changed, running, start, write_hosts
from pewter.fitting.fit import kinds_fitted
from pewter.judge.review import Review
from pewter.mends.kinds import Kind, Manner, kind_file
from pewter.tasks.fitting import fit_review


class Site(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One configuration, and the application behind it."""

    kind: Kind
    title: str
    names: tuple[str, ...]
    files: dict[str, str]
    behaviour: str = ""
    still: tuple[str, ...] = ()
    """Commands that have to say the same before and after."""

    behind: Kind | None = None
    """What answers behind the server: PHP by FastCGI, Django or Express on port 8000; else the application of these proofs."""

    settings: str = ""
    """Of that: lines of its php.ini or settings."""

    held: tuple[str, ...] = ()
    """Reasons for which a piece may be left."""

    rounds: int = 3
    """That it may take."""


SITES = msgspec.convert(
    tomllib.loads((Path(__file__).parent / "real.toml").read_text(encoding="utf-8"))["site"], tuple[Site, ...]
)


PHP_POOL = """
[global]
daemonize = no
error_log = {folder}/fpm.log
[www]
user = root
group = root
listen = 127.0.0.1:9000
pm = static
pm.max_children = 2
"""
PORT_OF_PHP = 9000


@dataclass
class Real(Proof):
    """One site."""

    site: Site = field(default=SITES[0])

    def _names(self) -> list[str]:
        return list(self.site.names)

    def rounds(self) -> tuple[int, list[str]]:
        """Rounds that were needed, and what is to be said against it."""
        issued, base = self._issue(), BASES[self.kind]
        for name, text in self.site.files.items():
            file = self.folder / name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text.lstrip("\n").replace("{folder}", str(self.folder)), encoding="utf-8")
        first: Review | None = None
        was: list[str] = []
        said: list[str] = []
        for number in range(self.site.rounds + 1):
            with self._application(), self._running(base):
                review = self._review(issued)
                now = [self._checked(each) for each in self.site.still]
            first, was = first or review, was or now
            left = [
                f"{entry.rule}: {'; '.join(entry.seen)[:150]}{f' ({lines.held_back})' if lines.held_back else ''}"
                for entry in review.results.gaps
                if entry.level.value != "note"
                for lines in entry.configurations
                if lines.server == kind_file(self.kind).title
                and any(p.manner is not Manner.COMMAND for p in lines.pieces)
            ]
            said = [*said, *left]
            if not left or number == self.site.rounds:
                return number, [*self._against(left), *(f"{a!r} is {b!r}" for a, b in zip(was, now, strict=True) if a != b), *changed(first, review, "", self._named())]  # fmt: skip
            self._apply(review)
        raise AssertionError

    named = ""
    """All lines that were put, for the fields that may change."""

    def _named(self) -> str:
        return self.named.replace("cookie", "set-cookie") + self.settings.lower().replace("cookie", "set-cookie")

    told: tuple[str, ...] = ()

    def _against(self, left: list[str]) -> list[str]:
        return [] if left and self.told and all(any(w in each for w in self.site.held) for each in self.told) and self.site.held else left  # fmt: skip

    def _apply(self, review: Review) -> None:
        fitted = fit_review(review, [self.folder / "server.conf"], lambda words: None).fitted
        self.told = tuple(each.reason for each in fitted.held)
        unexpected = [each for each in self.told if not any(words in each for words in self.site.held)]
        assert not unexpected, unexpected
        self.named += fitted.diff.lower()
        if os.environ.get("SHOW"):
            print(fitted.diff, file=sys.stderr)
        done = subprocess.run(
            ["patch", "-p1", "-d", str(self.folder)], input=fitted.diff, text=True, capture_output=True
        )
        assert done.returncode == 0 or not fitted.diff, done.stdout + done.stderr
        for command in fitted.commands:
            if command.startswith("openssl"):
                subprocess.run(command, shell=True, check=True, capture_output=True)

        if self.site.behind is not None:
            title = kind_file(self.site.behind).title
            printed = (
                each.pieces for entry in review.results.gaps for each in entry.configurations if each.server == title
            )
            # The last line for a setting is the one that counts.
            self.settings += "".join(f"{piece.lines}\n" for pieces in printed for piece in pieces)

    settings = ""
    """What was printed for the application."""

    @contextlib.contextmanager
    def _application(self) -> Iterator[None]:
        if self.site.behind is None:
            with super()._application():
                yield
            return
        settings = self.site.settings + self.settings
        if self.site.behind is Kind.PHP:
            (self.folder / "php.ini").write_text(settings, encoding="utf-8")
            (self.folder / "fpm.conf").write_text(PHP_POOL.replace("{folder}", str(self.folder)), encoding="utf-8")
            names = (f"/usr/sbin/php-fpm8.{minor}" for minor in range(9, 0, -1))
            program = next(name for name in names if Path(name).exists())
            command = [program, "-R", "-c", f"{self.folder}/php.ini", "-y", f"{self.folder}/fpm.conf"]
        else:
            base = BASES[self.site.behind]
            for name, text in base.files.items():
                (self.folder / name).write_text(text, encoding="utf-8")
            of_app = [line for line in settings.splitlines() if line.startswith("app.")]
            slots = {"general": "", "secure": "\n".join(of_app), **base.slots}
            lines = [line for line in settings.splitlines() if line not in of_app]
            slots |= (
                {"general": settings}
                if self.site.behind is Kind.DJANGO
                else {"session": "".join(f"{line},\n" for line in lines)}
            )
            (self.folder / base.file).write_text(bare(base.text.format(**slots)), encoding="utf-8")
            command = self._filled(base.command)
        with running(command, self.folder, PORT_OF_PHP if self.site.behind is Kind.PHP else 8000):
            yield

    @contextlib.contextmanager
    def _running(self, base: Base) -> Iterator[None]:
        with self._server(base, None):
            yield


def prove(kind: Kind, wanted: str) -> None:
    """A line of JSON for each site."""
    for site in SITES:
        if site.kind is not kind or wanted not in site.title:
            continue
        begun = time.monotonic()
        rounds, left = _try(kind, site)
        if left:  # a busy machine may be late once
            rounds, left = _try(kind, site)
        print(json.dumps([kind.value, site.title, round(time.monotonic() - begun, 1), rounds, left]), flush=True)


def _try(kind: Kind, site: Site) -> tuple[int, list[str]]:
    folder = Path(tempfile.mkdtemp(prefix="mend-"))
    folder.chmod(0o755)
    case = Case("protocol/all", site.title, site.behaviour, canonical=len(site.names) > 1, paths=("/", "/login"))
    try:
        return Real(kind, case, folder, site=site).rounds()
    except Exception as exc:
        return 0, [f"{type(exc).__name__}: {exc}"]
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("wanted", nargs="?", default="")
    parser.add_argument("--kind", default="")
    parser.add_argument("--inside", action="store_true")
    options = parser.parse_args()
    if options.inside:
        prove(Kind(options.kind), options.wanted)
        return 0
    begun, total, clean = time.monotonic(), 0, 0
    hosts = write_hosts()
    for process in [
        start(__file__, kind, options.wanted, hosts) for kind in kinds_fitted() if options.kind in kind.value
    ]:
        for line in process.stdout:
            kind, title, seconds, needed, left = json.loads(line)
            total, clean = total + 1, clean + (not left)
            print(f"{kind} {title}: {needed} rounds, {seconds} s" + "".join(f"\n    AGAINST: {each}" for each in left), flush=True)  # fmt: skip
        process.wait()
    print(f"{clean} of {total} real configurations end clean by their diff; {time.monotonic() - begun:.0f} s")
    return 0 if clean == total and total else 1


if __name__ == "__main__":
    sys.exit(main())
