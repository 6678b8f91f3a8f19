"""Real name servers in a namespace of their own: a root, a suffix, and the servers of the zone under proof."""

import contextlib
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT, SUFFIX, RESOLVER, OTHER_RESOLVER = "10.53.0.1", "10.53.0.10", "10.53.0.2", "10.53.0.3"
SERVERS = {"a": "10.53.0.21", "b": "10.53.0.22", "c": "10.53.0.23"}
BEHIND = {"a": "10.53.1.21", "b": "10.53.1.22", "c": "10.53.1.23", "suffix": "10.53.1.10"}
"""Where a server is when something stands before it."""

ADDRESSES = (ROOT, SUFFIX, RESOLVER, OTHER_RESOLVER, *SERVERS.values(), *BEHIND.values(), "10.53.2.1", "10.53.2.2")
HERE = Path(__file__).parent
HEAD = "$TTL {ttl}\n@ SOA {mname} hostmaster.{zone}. {serial} 7200 900 1209600 300\n"


@dataclass(frozen=True)
class Served:
    """One zone at one server."""

    zone: str
    text: str


def zone_file(zone: str, text: str, serial: int = 7, ttl: int = 300, mname: str = "ns1") -> str:
    return HEAD.format(zone=zone or "example", serial=serial, ttl=ttl, mname=mname) + text + "\n"


@contextlib.contextmanager
def running(kind: str, address: str, zones: list[Served], folder: Path) -> Iterator[None]:
    """A server of a kind: ``bind``, ``nsd``, ``knot`` or ``pdns``."""
    folder.mkdir(parents=True, exist_ok=True)
    for number, served in enumerate(zones):
        (folder / f"{number}.zone").write_text(served.text)
    command = {"bind": _bind, "nsd": _nsd, "knot": _knot, "pdns": _pdns}[kind](address, zones, folder)
    with process(command, folder) as started:
        wait_for_answer(address, zones[0].zone or ".", started)
        yield


@contextlib.contextmanager
def process(command: list[str], folder: Path) -> Iterator[subprocess.Popen]:
    with (folder / "log").open("ab") as log:
        started = subprocess.Popen(command, stdout=log, stderr=log, cwd=folder)
    try:
        yield started
    finally:
        started.terminate()
        try:
            started.wait(3)
        except subprocess.TimeoutExpired:
            started.kill()
            started.wait()


def wait_for_answer(address: str, zone: str, started: subprocess.Popen, *, recurse: bool = False) -> None:
    """Until a server answers for a zone at all."""
    for _ in range(100):
        how = "+recurse" if recurse else "+norecurse"
        command = ["dig", f"@{address}", zone, "SOA", how, "+time=1", "+tries=1", "+noedns"]
        said = subprocess.run(command, capture_output=True, text=True, check=False).stdout
        if "status: NOERROR" in said or "status: SERVFAIL" in said or "status: REFUSED" in said:
            return
        if started.poll() is not None:
            raise AssertionError(f"the server at {address} ended")
        time.sleep(0.05)
    raise AssertionError(f"the server at {address} does not answer for {zone}")


def _bind(address: str, zones: list[Served], folder: Path) -> list[str]:
    entries = "".join(
        f'zone "{each.zone or "."}" {{ type primary; file "{number}.zone"; check-names ignore; check-integrity no; }};\n'
        for number, each in enumerate(zones)
    )
    (folder / "named.conf").write_text(
        f'options {{ directory "{folder}"; pid-file "{folder}/pid"; session-keyfile "{folder}/session.key";\n'
        f"listen-on {{ {address}; }}; listen-on-v6 {{ none; }}; recursion no; allow-query {{ any; }};\n"
        f"dnssec-validation no; minimal-responses no; }};\ncontrols {{ }};\n{entries}"
    )
    return ["named", "-f", "-c", str(folder / "named.conf"), "-n", "1"]


def _nsd(address: str, zones: list[Served], folder: Path) -> list[str]:
    entries = "".join(f"zone:\n  name: {each.zone or '.'}\n  zonefile: {n}.zone\n" for n, each in enumerate(zones))
    (folder / "nsd.conf").write_text(
        f'server:\n  ip-address: {address}\n  zonesdir: "{folder}"\n  database: ""\n  username: ""\n'
        f'  pidfile: "{folder}/pid"\n  xfrdfile: ""\n  zonelistfile: "{folder}/list"\n  server-count: 1\n'
        f'  xfrdir: "{folder}"\n  cookie-secret-file: "{folder}/none"\nremote-control:\n  control-enable: no\n{entries}'
    )
    return ["nsd", "-d", "-c", str(folder / "nsd.conf")]


def _knot(address: str, zones: list[Served], folder: Path) -> list[str]:
    entries = "".join(f'  - domain: "{each.zone or "."}"\n    file: "{n}.zone"\n' for n, each in enumerate(zones))
    (folder / "knot.conf").write_text(
        f'server:\n  rundir: "{folder}"\n  listen: {address}@53\n  udp-workers: 1\n  tcp-workers: 1\n  background-workers: 1\n'
        f'database:\n  storage: "{folder}"\ntemplate:\n  - id: default\n    storage: "{folder}"\n'
        f"    semantic-checks: off\n    journal-content: none\n    zonefile-sync: -1\nzone:\n{entries}"
    )
    return ["knotd", "-c", str(folder / "knot.conf")]


def _pdns(address: str, zones: list[Served], folder: Path) -> list[str]:
    entries = "".join(
        f'zone "{each.zone or "."}" {{ type master; file "{folder}/{n}.zone"; }};\n' for n, each in enumerate(zones)
    )
    (folder / "named.conf").write_text(entries)
    (folder / "pdns.conf").write_text(
        f"launch=bind\nbind-config={folder}/named.conf\nlocal-address={address}\nsocket-dir={folder}\n"
        "receiver-threads=1\ndistributor-threads=1\nguardian=no\ndaemon=no\nsecurity-poll-suffix=\ncache-ttl=0\n"
        "query-cache-ttl=0\nzone-cache-refresh-interval=0\n"
    )
    return ["pdns_server", f"--config-dir={folder}"]


@contextlib.contextmanager
def unbound(address: str, folder: Path, anchor: str = "") -> Iterator[None]:
    """A resolver with our root; it validates where an anchor is given."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "hints").write_text(f". 3600 NS root.\nroot. 3600 A {ROOT}\n")
    if anchor:
        (folder / "anchor").write_text(anchor)
    modules = "validator iterator" if anchor else "iterator"
    trust = f'  trust-anchor-file: "{folder}/anchor"\n' if anchor else ""
    (folder / "unbound.conf").write_text(
        f'server:\n  interface: {address}\n  access-control: 10.0.0.0/8 allow\n  username: ""\n  chroot: ""\n'
        f'  directory: "{folder}"\n  pidfile: ""\n  use-syslog: no\n  module-config: "{modules}"\n{trust}'
        f"  outgoing-interface: {address}\n"
        f'  root-hints: "{folder}/hints"\n  do-ip6: no\n  do-not-query-localhost: no\n  num-threads: 1\n'
        "  outgoing-range: 64\n  local-zone: 10.in-addr.arpa. nodefault\n  val-log-level: 1\n"
        "remote-control:\n  control-enable: no\n"
    )
    with process(["unbound", "-d", "-c", str(folder / "unbound.conf")], folder) as started:
        wait_for_answer(address, ".", started)
        yield


@contextlib.contextmanager
def knot_resolver(address: str, folder: Path, anchor: str = "") -> Iterator[None]:
    """The same with Knot Resolver."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "anchor").write_text(anchor)
    trust = f'trust_anchors.add_file("{folder}/anchor", true)' if anchor else ""
    (folder / "kresd.conf").write_text(
        f"net.listen('{address}', 53, {{ kind = 'dns' }})\nnet.outgoing_v4('{address}')\nnet.ipv6 = false\n"
        f"trust_anchors.remove('.')\n{trust}\nmodules.unload('priming')\nmodules.unload('ta_update')\n"
        f"modules.unload('ta_signal_query')\nmodules.load('hints')\nhints.root({{ ['root.'] = {{ '{ROOT}' }} }})\n"
        "cache.size = 10 * MB\npolicy.add(policy.all(policy.FLAGS({ 'NO_CACHE' })))\n"
    )
    with process(["kresd", "-n", "-c", str(folder / "kresd.conf"), str(folder)], folder) as started:
        wait_for_answer(address, "example", started, recurse=True)
        yield


@contextlib.contextmanager
def bind_resolver(address: str, folder: Path, anchor: str = "") -> Iterator[None]:
    """The same with BIND."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "hints").write_text(f". 3600 NS root.\nroot. 3600 A {ROOT}\n")
    keys = ""
    if anchor:
        _, _, _, *ds = anchor.split()
        keys = f'trust-anchors {{ . static-ds {ds[0]} {ds[1]} {ds[2]} "{"".join(ds[3:])}"; }};\n'
    (folder / "named.conf").write_text(
        f'options {{ directory "{folder}"; pid-file "{folder}/pid"; session-keyfile "{folder}/session.key";\n'
        f"listen-on {{ {address}; }}; listen-on-v6 {{ none; }}; recursion yes; allow-query {{ any; }}; query-source address {address};\n"
        f"allow-recursion {{ any; }}; dnssec-validation {'yes' if anchor else 'no'}; empty-zones-enable no; }};\n{keys}controls {{ }};\n"
        f'zone "." {{ type hint; file "hints"; }};\n'
    )
    with process(["named", "-f", "-4", "-c", str(folder / "named.conf"), "-n", "1"], folder) as started:
        wait_for_answer(address, "example", started, recurse=True)
        yield


@contextlib.contextmanager
def middle(manner: str, before: str, behind: str, folder: Path) -> Iterator[None]:
    """Something between: it drops, delays or changes what passes (tests/names/middle.py)."""
    folder.mkdir(parents=True, exist_ok=True)
    command = [sys.executable, str(HERE / "middle.py"), manner, before, behind]
    with process(command, folder):
        time.sleep(0.3)
        yield


def sign(zone: str, text: str, folder: Path, *, expired: bool = False, ends: str = "") -> tuple[str, str]:
    """The zone's text, signed, and its DS record's data."""
    folder.mkdir(parents=True, exist_ok=True)
    name = zone or "."
    key = subprocess.run(
        ["dnssec-keygen", "-q", "-a", "ECDSAP256SHA256", "-f", "KSK", name],
        cwd=folder, capture_output=True, text=True, check=True,
    ).stdout.strip()  # fmt: skip
    (folder / "zone").write_text(text + (folder / f"{key}.key").read_text())
    times = ["-s", "20200101000000", "-e", "20200201000000"] if expired else ["-e", ends] if ends else []
    command = ["dnssec-signzone", "-q", "-z", "-P", "-O", "full", "-o", name, *times, "-f", "signed", "zone", key]
    subprocess.run(command, cwd=folder, capture_output=True, check=True)
    ds = subprocess.run(
        ["dnssec-dsfromkey", "-2", f"{key}.key"], cwd=folder, capture_output=True, text=True, check=True
    )
    return (folder / "signed").read_text(), ds.stdout.strip()


def clear(folder: Path) -> None:
    shutil.rmtree(folder, ignore_errors=True)


ENVIRONMENT = {**os.environ, "LC_ALL": "C.UTF-8"}
