"""What is large, under a limit of memory; and the doors of a system that is not as usual."""

import json
from collections.abc import Callable, Iterator

from msgspec import structs

from attack.others_files import at, document
from attack.stage import SPOKEN, Attack, Stage, shows
from fuzz_files import small_review
from pewter.facts.case import Case
from pewter.judge.review import make_review, stores_of, write_review
from support.certificates import HOST, key, leaf

WRONG = (2,)
MIB = 1 << 20
REVIEWED = ["review", "127.0.0.1:1", "--timeout", "5", "-w", "review.json"]


def _entry(url: str, text: str) -> dict:
    content = {"mimeType": "text/html", "text": text}
    return {"request": {"url": url}, "response": {"status": 200, "headers": [], "content": content}}


def _har(stage: Stage, entries: Iterator[dict]) -> None:
    with (stage.folder / "x.har").open("w") as file:
        file.write('{"log": {"entries": [')
        for number, each in enumerate(entries):
            file.write("," * bool(number) + json.dumps(each))
        file.write("]}}")


HARS: dict[str, Callable[[], Iterator[dict]]] = {
    "one-page": lambda: iter([_entry("https://x.example/", "x" * (100 * MIB))]),
    "pages": lambda: (_entry(f"https://x.example/{n}", "<p>" + "<a href=/x>y</a>" * 4000) for n in range(2000)),
    "addresses": lambda: (_entry(f"https://x.example/{n}", "".join(f"<script src=http://a{n}.example/{'x' * 400}{m}></script>" for m in range(2000))) for n in range(60)),
    "answers": lambda: (_entry(f"https://{HOST}/{n}", f"<script src=http://a.example/{n}.js></script>") for n in range(6000)),
    "circle": lambda: ({"request": {"url": f"https://{HOST}/{n}"}, "response": {"status": 302, "headers": [{"name": "Location", "value": f"/{n + 1}"}]}} for n in range(5000)),
    "cookies": lambda: iter([{"request": {"url": f"https://{HOST}/"}, "response": {"status": 200, "headers": [{"name": "Set-Cookie", "value": f"a{n}=b"} for n in range(300_000)]}}]),
    "voice": lambda: iter([{"request": {"url": f"https://{HOST}/?{SPOKEN}=1"}, "response": {"status": 200, "headers": [{"name": "Server", "value": SPOKEN}, {"name": "Set-Cookie", "value": SPOKEN}]}}]),
}  # fmt: skip
LISTS: dict[str, Callable[[], str]] = {
    "line-of-50-mb": lambda: "x" * (50 * MIB) + "\n",
    "table-of-50-mb": lambda: "site,x\n" + '"' * (50 * MIB) + "\n",
    "names": lambda: ("x," * 2000 + "\n") * 5000,
    "line-ends": lambda: "\r" * (40 * MIB),
    "comments": lambda: "#\n" * (10 * MIB),
    "voice": lambda: SPOKEN,
    "65-mb": lambda: "a.example\n" * (7 * MIB),
}


def large_files() -> Iterator[Attack]:
    for title, entries in HARS.items():
        yield Attack(
            "memory", f"har-{title}",
            lambda stage, entries=entries: (_har(stage, entries()), [*REVIEWED, "--har", "x.har"])[1],
            statuses=(0, 1, 2, 3), seconds=30, prepared="limit",
        )  # fmt: skip
    for title, text in LISTS.items():
        yield Attack(
            "memory", f"list-{title}",
            lambda stage, text=text: ["survey", stage.file("list", text()), "--into", "s", "--brief", "--timeout", "2", "--workers", "1"],
            statuses=(0, 1, 2, 3), seconds=40, prepared="limit",
        )  # fmt: skip
    for title, options in {"text": [], "calendar": ["-w", "e.ics"], "table": ["-w", "e.csv"]}.items():
        yield Attack("memory", f"expiry-folder-{title}", lambda stage, options=options: ["expiry", _folder(stage), *options], seconds=60, prepared="limit")  # fmt: skip
    large = ["report --full", "report -w r.html", "report -w r.sarif", "report -w r.xml", "report -w r.txt", "judge", "compare", "expiry", "explain"]  # fmt: skip
    for title, most in {"gaps": 250, "ways": 2000}.items():
        for command in large:
            yield Attack("memory", f"review-of-{title}-{command.replace(' ', '')}", lambda stage, most=most, command=command, title=title: _on_large(stage, title, most, command), statuses=(0, 1, 2), seconds=45, prepared="limit")  # fmt: skip


def _folder(stage: Stage) -> str:
    """Eight hundred reviews of different sites."""
    made = document()
    (stage.folder / "d").mkdir()
    for number in range(800):
        (stage.folder / "d" / f"{number}.json").write_text(
            json.dumps(at(made, "evidence.plan.targets.0.host", f"n{number}.example"))
        )
    return "d"


def _on_large(stage: Stage, title: str, most: int, command: str) -> list[str]:
    name, *options = command.split()
    stage.file("r.json", write_review(_large(title, most)))
    files = {"compare": ["r.json", "r.json"], "explain": ["--from", "r.json"]}.get(name, ["r.json"])
    return [name, *files, *options]


def _large(title: str, most: int):
    """A site of many names, each with faults of its own; or one with many ways in."""
    review = small_review()
    evidence = review.evidence
    hosts = [f"n{number}.{HOST}" for number in range(most)] if title == "gaps" else [HOST] * most
    journeys = []
    for number, host in enumerate(hosts):
        path = "/" if title == "gaps" else f"/{number}"
        for journey in evidence.journeys:
            renamed = tuple(structs.replace(hop, url=hop.url.replace(HOST, host)[:-1] + path) for hop in journey.hops)
            journeys.append(structs.replace(journey, start=renamed[0].url, hops=renamed))
    names = tuple(structs.replace(evidence.names[0], name=host) for host in dict.fromkeys(hosts))
    endpoints = tuple(structs.replace(evidence.endpoints[0], name=host) for host in dict.fromkeys(hosts))
    plan = structs.replace(
        evidence.plan,
        targets=tuple(structs.replace(evidence.plan.targets[0], host=host) for host in dict.fromkeys(hosts)),
    )
    made = structs.replace(evidence, journeys=tuple(journeys), names=names, endpoints=endpoints, plan=plan)
    return make_review(Case(made, review.terms, review.judged.at, stores_of(review)))


def doors() -> Iterator[Attack]:
    """What is otherwise than usual on the machine."""
    yield Attack("door", "zone-identifier", lambda stage: ["review", "[fe80::1%" + "a" * 300 + "]"], statuses=(2, 3))
    yield Attack("door", "zone-identifier-voice", lambda stage: ["review", f"[fe80::1%{SPOKEN}]"], statuses=(2, 3))
    yield Attack("door", "zone-identifier-route", lambda stage: ["review", HOST, "--route", f"{HOST}=[fe80::1%{SPOKEN}]"], statuses=(2, 3))  # fmt: skip
    yield Attack("door", "zone-identifier-resolver", lambda stage: ["review", HOST, "--resolver", f"fe80::1%{SPOKEN}"], statuses=(2, 3))  # fmt: skip
    for columns in (1, 2, 3, 5, 8, 10, 11):
        for title, words in {"explain": ["explain", "chain/incomplete"], "rules": ["rules"], "report": ["report", "r.json", "--full"], "whole": ["explain", "--from", "r.json"], "help": ["review", "--help"]}.items():  # fmt: skip
            yield Attack("door", f"{title}-in-{columns}", lambda stage, words=words: (stage.file("r.json", json.dumps(document())), words)[1], statuses=(0, 1), prepared=f"columns:{columns}")  # fmt: skip
    for title, words in {"report": ["report", "r.json"], "review": ["review", HOST, "--route", f"{HOST}=127.0.0.1:1", "--timeout", "4"], "rules": ["rules"], "demo": ["demo", "--into", "d"], "init": ["init", "127.0.0.1:1"], "survey": ["survey", "list", "--into", "s"], "expiry": ["expiry", "."]}.items():  # fmt: skip
        yield Attack("door", f"folder-gone-{title}", lambda stage, words=words: words, statuses=(0, 1, 2, 3), prepared="shell-before:mkdir g; cd g; rmdir ../g;")  # fmt: skip
    for descriptors in (8, 10, 12, 14, 16, 20):
        yield Attack("door", f"{descriptors}-descriptors", lambda stage: [*stage.site(shows())], statuses=(0, 1, 2, 3), prepared=f"shell-before:ulimit -n {descriptors};")  # fmt: skip
        yield Attack("door", f"{descriptors}-descriptors-report", lambda stage: (stage.file("r.json", json.dumps(document())), ["report", "r.json"])[1], statuses=(0, 1, 2), prepared=f"shell-before:ulimit -n {descriptors};")  # fmt: skip
    for title, settings in {
        "c": "LC_ALL=C", "posix-ascii": "LC_ALL=POSIX PYTHONIOENCODING=ascii", "latin-1": "PYTHONIOENCODING=latin-1", "no-such": "LC_ALL=xx_YY.KOI8-R",
        "dumb": "TERM=dumb", "no-term": "TERM=", "term-voice": "TERM=../../etc/passwd", "no-home": "HOME=/nonexistent", "home-file": "HOME=/dev/null",
        "no-state": "XDG_STATE_HOME=/proc/1", "relative-state": "XDG_STATE_HOME=x", "tmp-gone": "TMPDIR=/nonexistent", "columns-word": "COLUMNS=many", "columns-minus": "COLUMNS=-5",
        "columns-huge": "COLUMNS=99999999", "lines-huge": "LINES=99999999", "no-tz": "TZ=:/etc/passwd", "optimized": "PYTHONOPTIMIZE=2", "warnings": "PYTHONWARNINGS=error",
    }.items():  # fmt: skip
        for name, words in {"report": ["report", "r.json", "--full"], "review": ["review", HOST, "--route", f"{HOST}=127.0.0.1:1", "--timeout", "4", "-w", "review.json"]}.items():  # fmt: skip
            yield Attack("door", f"{name}-with-{title}", lambda stage, words=words: (stage.file("r.json", json.dumps(document())), words)[1], statuses=(0, 1, 2, 3), prepared=f"shell-before:export {settings};")  # fmt: skip

    def linked(stage: Stage) -> list[str]:
        (stage.folder / "a.json").symlink_to("b.json")
        (stage.folder / "b.json").symlink_to("a.json")
        return ["review", HOST, "--route", f"{HOST}=127.0.0.1:1", "--timeout", "4", "--write", "a.json"]

    yield Attack("door", "links-in-a-circle", linked, statuses=WRONG)
    yield Attack(
        "door", "links-read-in-a-circle", lambda stage: (linked(stage), ["report", "a.json"])[1], statuses=WRONG
    )
    yield Attack("door", "links-of-a-survey", lambda stage: (linked(stage), ["survey", "a.json", "--into", "b.json"])[1], statuses=WRONG)  # fmt: skip
    yield Attack("door", "bundle-encrypted-no-input", lambda stage: ["bundle", stage.file("k.pem", _encrypted()), stage.file("c.pem", leaf().pem)], statuses=(0, 1, 2), prepared="shell:<&-")  # fmt: skip
    yield Attack("door", "bundle-encrypted-empty-input", lambda stage: ["bundle", stage.file("k.pem", _encrypted()), stage.file("c.pem", leaf().pem)], statuses=(0, 1, 2))  # fmt: skip


def _encrypted() -> bytes:
    from cryptography.hazmat.primitives import serialization as form

    return key("leaf").private_bytes(form.Encoding.PEM, form.PrivateFormat.PKCS8, form.BestAvailableEncryption(b"x"))


def limits() -> Iterator[Attack]:
    yield from large_files()
    yield from doors()
