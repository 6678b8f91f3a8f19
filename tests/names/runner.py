"""Findings of the dns area against real name servers: ``make names``.

Each set-up of ``setups.toml`` starts servers, a resolver and the built program in a namespace with loopback alone; the rules
that find a gap have to be exactly those that it names, and dig has to say the same.
"""

import argparse
import contextlib
import json
import os
import re
import subprocess
import sys
import tempfile
import time
import tomllib
from pathlib import Path

import msgspec

sys.path.insert(0, str(Path(__file__).parents[1]))

from names.servers import (
    ADDRESSES,
    BEHIND,
    RESOLVER,
    ROOT,
    SERVERS,
    SUFFIX,
    Served,
    bind_resolver,
    clear,
    knot_resolver,
    middle,
    running,
    sign,
    unbound,
    zone_file,
)

HERE = Path(__file__).parent
PROGRAM = Path(sys.executable).parent / "pewter"
KINDS = ("bind", "nsd", "knot", "pdns")
ALWAYS = {"dns/dnssec-absent", "dns/caa-absent"}
"""Notes that every plain zone gets, and that no set-up has to name."""

RECORDS = """
@ NS ns1
@ NS ns2
ns1 A 10.53.0.21
ns2 A 10.53.0.22
@ A 10.53.2.1
www A 10.53.2.1
"""
DELEGATION = """
x NS ns1.x
x NS ns2.x
ns1.x A 10.53.0.21
ns2.x A 10.53.0.22
"""


RESOLVERS = {"unbound": unbound, "kresd": knot_resolver, "bind": bind_resolver}


class Setup(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One."""

    title: str
    gaps: tuple[str, ...] = ()
    """Rules that find a gap, beside :data:`ALWAYS`; ``!`` before one of these: it finds none."""

    may: frozenset[str] = frozenset()
    """Rules that find one or not, as the resolver's own bounds have it."""

    confirm: dict[str, str] = {}
    """Questions for dig, and what has to stand in its answer."""

    records: str = RECORDS
    more: str = ""
    """Added to the records."""

    records_b: str = ""
    """Of the second server, where it has others."""

    serial_b: int = 7
    delegation: str = DELEGATION
    elsewhere: str = ""
    """The records of other.example, a zone of somebody else."""

    kinds: tuple[str, ...] = KINDS
    """Of the first server; the second is of the next kind."""

    servers: str = "ab"
    """Those that run."""

    before: dict[str, str] = {}
    """What stands before a server, and what it does."""

    signed: str = ""
    """``good``, ``expired``, ``soon``, ``old-ds``, ``unsigned-child``, ``opaque``,
    ``opaque-digest``."""

    ttl: int = 300
    options: tuple[str, ...] = ()
    names: tuple[str, ...] = ("www.x.example",)
    unknown: str = ""
    """A reason that has to stand among what is unknown."""

    site: str = ""
    """The rest of a pewter.toml."""

    serves_both: bool = False
    """The servers of the suffix serve the zone too."""

    addresses: int = 0
    """Of www, so many."""

    aliases: int = 0
    """That lead on to one another, from shop."""

    resolver: str = "unbound"
    seconds: float = 15.0
    """For the whole review."""


SETUPS = msgspec.convert(tomllib.loads((HERE / "setups.toml").read_text(encoding="utf-8"))["setup"], tuple[Setup, ...])


def run(setup: Setup, kind: str, folder: Path) -> str:
    """What is to be said against one set-up; empty where all is as it should be."""
    other = KINDS[(KINDS.index(kind) + 1) % len(KINDS)]
    more = setup.more + "".join(f"\nwww A 10.54.{n // 250}.{n % 250 + 1}" for n in range(setup.addresses))
    chain = [*(f"c{n}" for n in range(setup.aliases)), "www"] if setup.aliases else []
    more += "".join(f"\n{one} CNAME {other}" for one, other in zip(["shop", *chain], chain, strict=False)) + "\n"
    zone = zone_file("x.example", setup.records + more, ttl=setup.ttl)
    zone_b = zone_file("x.example", (setup.records_b or setup.records) + more, setup.serial_b, setup.ttl)
    suffix = zone_file(
        "example", f"@ NS ns\nns A {SUFFIX}\nother NS ns.other\nns.other A {SUFFIX}\n{setup.delegation}", mname="ns"
    )
    root = zone_file(
        "", f"@ NS root.\nroot. A {ROOT}\nexample. NS ns.example.\nns.example. A {SUFFIX}\n", mname="root."
    ).replace("hostmaster..", "hostmaster.")
    anchor = ""
    if setup.signed:
        ends = time.strftime("%Y%m%d%H%M%S", time.gmtime(time.time() + 3600)) if setup.signed == "soon" else ""
        signed, ds = sign("x.example", zone, folder / "keys", expired=setup.signed == "expired", ends=ends)
        if setup.signed == "old-ds":
            _, ds = sign("x.example", zone, folder / "old-keys")
        if setup.signed.startswith("opaque"):
            algorithm, digest = ("13", "77") if setup.signed == "opaque-digest" else ("99", "2")
            ds = f"x.example. 300 IN DS 12345 {algorithm} {digest} {'ab' * 32}"
        if setup.signed != "unsigned-child":
            zone = zone_b = signed
        suffix, suffix_ds = sign("example", f"{suffix}{ds}\n", folder / "suffix-keys")
        root, anchor = sign("", f"{root}{suffix_ds}\n", folder / "root-keys")
    elsewhere = zone_file("other.example", f"@ NS ns\nns A {SUFFIX}\n{setup.elsewhere}")
    with contextlib.ExitStack() as stack:
        stack.enter_context(running("nsd", ROOT, [Served("", root)], folder / "root"))
        zones = [Served("example", suffix), Served("other.example", elsewhere)]
        zones += [Served("x.example", zone)] if setup.serves_both else []
        address = BEHIND["suffix"] if "suffix" in setup.before else SUFFIX
        stack.enter_context(running("bind", address, zones, folder / "suffix"))
        if "suffix" in setup.before:
            stack.enter_context(middle(setup.before["suffix"], SUFFIX, address, folder / "middle-suffix"))
        for name in setup.servers:
            address = SERVERS[name]
            if name in setup.before:
                stack.enter_context(middle(setup.before[name], address, BEHIND[name], folder / f"middle-{name}"))
                address = BEHIND[name]
            served = Served("x.example", zone if name == "a" else zone_b)
            stack.enter_context(running(kind if name == "a" else other, address, [served], folder / name))
        stack.enter_context(RESOLVERS[setup.resolver](RESOLVER, folder / "resolver", anchor))
        return _held_against(setup, folder)


def _held_against(setup: Setup, folder: Path) -> str:
    review = folder / "review.json"
    command = [
        str(PROGRAM), "review", *setup.names, "--resolver", RESOLVER, "--only", "dns", "--timeout", str(setup.seconds),
        "--write", str(review), *setup.options,
    ]  # fmt: skip
    if setup.site:
        (folder / "pewter.toml").write_text(f"[site]\nnames = {json.dumps(setup.names)}\n{setup.site}")
    begun = time.monotonic()
    ended = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False, cwd=folder)
    took = time.monotonic() - begun
    if not review.exists() or "Traceback" in ended.stderr or ended.returncode == 4:
        return f"no review: {ended.stderr[-800:]}"
    if "\x1b" in ended.stdout:
        return "an escape reached the terminal"
    results = json.loads(review.read_text())["results"]
    found = {each["rule"]: each for each in results["gaps"]}
    wanted = {each for each in setup.gaps if not each.startswith("!")} | (ALWAYS - {each[1:] for each in setup.gaps})
    complaints = []
    if set(found) - setup.may != wanted - setup.may:
        more = {rule: found[rule]["seen"] for rule in set(found) - wanted}
        complaints.append(f"too many: {more}; missing: {sorted(wanted - set(found))}")
    if setup.unknown and not any(setup.unknown in each["reason"] for each in results["unknowns"]):
        complaints.append(f"not unknown: {setup.unknown!r}: {[each['reason'] for each in results['unknowns']]}")
    if took > setup.seconds + 6:
        complaints.append(f"it took {took:.0f} s")
    for question, expected in setup.confirm.items():
        said = subprocess.run(
            ["dig", *question.split()], capture_output=True, text=True, check=False, timeout=30
        ).stdout
        if not re.search(expected, said):
            complaints.append(f"dig {question} does not say {expected!r}: {said[-400:]}")
    return "; ".join(complaints)


def inside(wanted: str, part: int, of: int) -> None:
    for address in ADDRESSES:
        subprocess.run(["ip", "address", "add", f"{address}/32", "dev", "lo"], check=True)
    cases = [(setup, kind) for setup in SETUPS for kind in setup.kinds if wanted in f"{setup.title} {kind}"]
    for setup, kind in cases[part::of]:
        begun, folder = time.monotonic(), Path(tempfile.mkdtemp(prefix="names-"))
        folder.chmod(0o777)
        try:
            complaint = run(setup, kind, folder)
        except Exception as exc:
            complaint = f"{type(exc).__name__}: {exc}"
        finally:
            if not os.environ.get("KEEP"):
                clear(folder)
        print(json.dumps([setup.title, kind, round(time.monotonic() - begun, 1), complaint]), flush=True)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("wanted", nargs="?", default="")
    parser.add_argument("--part", type=int)
    options = parser.parse_args()
    of = 2
    if options.part is not None:
        inside(options.wanted, options.part, of)
        return 0
    begun, results = time.monotonic(), []
    inner = 'ip link set lo up && exec "$@"'
    started = [
        subprocess.Popen(
            ["unshare", "-n", "-m", "sh", "-c", inner, "sh", sys.executable, __file__, options.wanted, "--part", str(part)],
            stdout=subprocess.PIPE, text=True,
        )
        for part in range(of)
    ]  # fmt: skip
    for process in started:
        for line in process.stdout:
            title, kind, seconds, complaint = json.loads(line)
            results.append(complaint)
            print(f"{title} ({kind}): {seconds} s" + (f"\n    WRONG: {complaint}" if complaint else ""), flush=True)
        process.wait()
    wrong = sum(map(bool, results))
    print(f"{len(results)} set-ups, {wrong} disagree; {time.monotonic() - begun:.0f} s")
    return 1 if wrong or not results or any(process.returncode for process in started) else 0


if __name__ == "__main__":
    sys.exit(main())
