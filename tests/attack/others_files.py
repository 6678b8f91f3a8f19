"""Files that somebody else wrote: reviews, surveys, lists, configurations.  They decide nothing, hang nothing and speak for nobody."""

import copy
import json
import os
import sqlite3
from collections.abc import Callable, Iterator

from attack.stage import SPOKEN, Attack, Stage
from fuzz_files import small_review
from pewter.judge.review import write_review
from pewter.survey.store import FILE, Ledger
from support.certificates import HOST

WRONG = (2,)
COMMANDS = {
    "report": ("report", "r.json", "--full"),
    "judge": ("judge", "r.json"),
    "html": ("report", "r.json", "-w", "r.html"),
    "sarif": ("report", "r.json", "-w", "r.sarif"),
    "compare": ("compare", "r.json", "r.json"),
    "explain": ("explain", "--from", "r.json"),
    "expiry": ("expiry", "r.json", "-w", "e.ics"),
    "recheck": ("recheck", "r.json"),
}


def document() -> dict:
    return json.loads(write_review(small_review()))


def at(made: dict, path: str, value: object) -> dict:
    """With another value at ``evidence.plan.routes``."""
    made = copy.deepcopy(made)
    *above, last = [int(each) if each.isdigit() else each for each in path.split(".")]
    parent = made
    for key in above:
        parent = parent[key]
    parent[last] = value
    return made


def reviews() -> Iterator[tuple[str, str | dict]]:
    """What stands in them, by what is wrong with it."""
    made = document()
    many = [{**made["evidence"]["names"][0], "name": f"n{number}.{HOST}"} for number in range(30_000)]
    yield "many-names", at(made, "evidence.names", many)
    yield "many-journeys", at(made, "evidence.journeys", made["evidence"]["journeys"] * 20_000)
    yield "late", at(made, "evidence.begun", "9999-12-31T23:59:59Z")
    yield "no-zone", at(made, "evidence.begun", "2026-01-01T00:00:00")
    yield "endless", at(made, "evidence.elapsed_seconds", 1e308)
    yield "url", at(made, "evidence.hops.0.url", "http://[")
    yield "host", at(made, "evidence.plan.targets.0.host", SPOKEN)
    yield "place", at(made, "results.gaps.0.places", [99_999])
    yield "rule", at(made, "results.gaps.0.rule", "no/rule")
    yield "hop", at(made, "evidence.journeys.0.hops", [2**63])
    yield "huge-number", at(made, "evidence.connections", 2**63)
    yield "voice", at(made, "results.verdict", SPOKEN)
    yield "field", at(made, "evidence.hops.0.fields", [["Server", SPOKEN]])
    yield "site-file", at(made, "evidence.plan.site_file", "javascript:alert(1)")
    yield "brackets", '{"format": "pewter-review/2", "evidence": ' + "[" * 2_000_000
    yield "brackets-beside", '{"format": "pewter-review/2", "x": [' + "[]," * 3_000_000 + "[]]}"
    yield "long-field", at(made, "evidence.hops.0.fields", [["Server", "a" * 8_000_000]])


def led_by_files() -> Iterator[Attack]:
    """Whom a review or a list would have contacted."""
    changes: dict[str, tuple[str, Callable[[int], object]]] = {
        "route": ("evidence.plan.routes", lambda port: [f"{HOST}:{each}=127.0.0.1:{port}" for each in (80, 443)]),
        "resolver": ("evidence.plan.resolvers", lambda port: [f"127.0.0.1:{port}"]),
        "origin": ("evidence.plan.origins", lambda port: [f"{HOST}=127.0.0.1:{port}"]),
        "loopback": ("evidence.plan.targets", lambda port: [{"host": "127.0.0.1", "port": port}]),
        "localhost": ("evidence.plan.targets", lambda port: [{"host": "localhost", "port": port}]),
        "mapped": ("evidence.plan.targets", lambda port: [{"host": "::ffff:127.0.0.1", "port": port}]),
        "zone": ("evidence.plan.targets", lambda port: [{"host": "fe80::1%lo", "port": port}]),
    }
    for title, (path, value) in changes.items():

        def arguments(stage: Stage, path: str = path, value: Callable[[int], object] = value) -> list[str]:
            # Without trust of its own: it is the rest that would lead somewhere.
            made = at(at(document(), "evidence.given_trust", []), path, value(stage.trap()))
            return ["recheck", stage.file("r.json", json.dumps(made))]

        yield Attack("file", f"recheck-{title}", arguments, statuses=WRONG, seconds=15)
    lines = {
        "loopback": "127.0.0.1:%d",
        "mapped": "[::ffff:127.0.0.1]:%d",
        "localhost": "localhost:%d",
        "octal": "0177.0.0.1:%d",
    }
    for title, line in lines.items():

        def listed(stage: Stage, line: str = line) -> list[str]:
            name = stage.file("list", line % stage.trap())
            return ["survey", name, "--into", "s", "--brief", "--timeout", "8", "--workers", "1"]

        yield Attack("file", f"list-{title}", listed, statuses=(0, 1, 2, 3), seconds=40)


def read_by_commands() -> Iterator[Attack]:
    """Damaged and foreign reviews, by every command that reads one."""
    for title, content in reviews():
        text = content if isinstance(content, str) else json.dumps(content)
        for command, words in COMMANDS.items():
            if command in {"html", "sarif", "judge"} and title.startswith(("many", "brackets", "long")):
                continue  # the same door, and the same text again
            yield Attack(
                "file", f"{command}-{title}",
                lambda stage, text=text, words=words: (stage.file("r.json", text), list(words))[1],
                statuses=(0, 1, 2), seconds=25,
            )  # fmt: skip


def _ledger(stage: Stage, *statements: str) -> None:
    with Ledger.open_to_write(stage.folder / "s"):
        pass
    connection = sqlite3.connect(stage.folder / "s" / FILE)
    for statement in statements:
        connection.execute(statement)
    connection.commit()
    connection.close()


def databases() -> Iterator[Attack]:
    endless = "with recursive g(n) as (select 1 union all select n + 1 from g)"
    broken = {
        "view": ("drop table rows", f"create view rows as {endless} select n as site, n as run from g"),
        "trigger": ("create trigger t after insert on sites begin delete from runs; end",),
        "types": (
            "insert into runs values (1, x'00', 5, 'never')",
            "insert into sites values ('x', x'ff', 'a', 1, 1, 1)",
        ),
    }
    for title, statements in broken.items():
        for command in (["survey", "--show", "s"], ["survey", "--show", "s", "-w", "t.csv"], ["compare", "s"], ["report", "s", "--site", "x"], ["expiry", "s"]):  # fmt: skip
            yield Attack(
                "file", f"ledger-{title}-{command[0]}-{len(command)}",
                lambda stage, statements=statements, command=command: (_ledger(stage, *statements), command)[1],
                statuses=(0, 1, 2, 3), seconds=15,
            )  # fmt: skip

    def foreign(stage: Stage) -> list[str]:
        (stage.folder / "s").mkdir()
        connection = sqlite3.connect(stage.folder / "s" / FILE)
        connection.execute("create table mine (a)")
        connection.commit()
        connection.close()
        stage.file("was", (stage.folder / "s" / FILE).read_bytes())
        return ["survey", stage.file("list", HOST), "--into", "s", "--brief"]

    def is_as_it_was(ended) -> bool:
        return (ended.stage.folder / "s" / FILE).read_bytes() == (ended.stage.folder / "was").read_bytes()

    yield Attack("file", "database-of-another", foreign, statuses=WRONG, holds=is_as_it_was, seconds=15)


def site_files() -> Iterator[Attack]:
    names = "".join(f'"n{number}.x.example", ' for number in range(30_000))
    paths = "".join(f'"/{number}", ' for number in range(20_000))
    for title, text in {
        "names": f"[site]\nnames = [{names}]\n",
        "paths": f'[site]\nnames = ["x.example"]\npaths = [{paths}]\n',
    }.items():
        yield Attack(
            "file",
            f"site-file-many-{title}",
            lambda stage, text=text: (stage.file("pewter.toml", text), ["review", "--timeout", "8"])[1],
            statuses=WRONG,
            seconds=15,
        )
    yield Attack(
        "file",
        "demo-over-a-site-file",
        lambda stage: (stage.file("pewter.toml", "[site]\n"), ["demo", "--into", "."])[1],
        statuses=WRONG,
        holds=lambda ended: (ended.stage.folder / "pewter.toml").read_text() == "[site]\n",
    )
    yield Attack(
        "file",
        "init-through-a-link",
        lambda stage: ((stage.folder / "pewter.toml").symlink_to("elsewhere"), ["init", HOST, "--timeout", "8"])[1][:2],
        statuses=WRONG,
        holds=lambda ended: not (ended.stage.folder / "elsewhere").exists(),
    )


CONFIGURATIONS = {
    "deep": "http {" + "a {" * 200_000,
    "open-quote": "http { a '" + "b" * 1_000_000,
    "blanks": "http {" + " " * 1_000_000 + "}",
    "comments": "http { }\n" + "#\n" * 400_000,
    "many": "http {" + "a b;" * 200_000 + "}",
    "names": "http { server { listen 443 ssl; server_name " + "*.a " * 200_000 + "; } }",
    "expressions": "http { server { listen 443 ssl; server_name ~^(a+)+$; } }",
    "voice": f"http {{ server {{ listen 443 ssl; server_name {HOST}; add_header Strict-Transport-Security '{SPOKEN}'; }} }}",
    "itself": "http { include nginx.conf; }",
    "device": "http { include /dev/zero; include ../../../../dev/zero; }",
    "bombs": "http {" + "include b;" * 300 + "}",
    "null": "http { a \0; }",
}


def server_configurations() -> Iterator[Attack]:
    def arguments(stage: Stage, text: str) -> list[str]:
        stage.file("r.json", json.dumps(document()))
        stage.file("b", "include c;" * 300)
        stage.file("c", "x y;")
        os.mkfifo(stage.folder / "pipe")
        return ["explain", "--from", "r.json", "--server-config", stage.file("nginx.conf", text), "-w", "mend.diff"]

    for title, text in CONFIGURATIONS.items():
        yield Attack(
            "file",
            f"configuration-{title}",
            lambda stage, text=text: arguments(stage, text),
            statuses=(0, 2),
            seconds=25,
        )
    for name in ("/dev/zero", "pipe", ".", "nowhere", "a" * 300):
        yield Attack(
            "file",
            f"configuration-at-{name[:9].strip('/')}",
            lambda stage, name=name: [*arguments(stage, "http { }")[:4], name],
            statuses=WRONG,
            seconds=10,
        )


def others_files() -> Iterator[Attack]:
    yield from led_by_files()
    yield from read_by_commands()
    yield from databases()
    yield from site_files()
    yield from server_configurations()
