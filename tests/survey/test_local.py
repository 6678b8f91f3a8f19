"""A survey on this machine: real worker processes, a crowd of the lab, and what may go wrong on the way."""

import asyncio
import datetime
import itertools
import os
import random
import resource
import signal
import sqlite3
import subprocess
import sys
import time
from collections import Counter

import dns.message
import dns.rcode
import dns.rdatatype
import dns.rrset
import msgspec
import pytest
from cryptography import x509

from pewter.errors import FileError, NotReviewedError
from pewter.evidence import Record, Reply
from pewter.judge.summary import row_of
from pewter.lab.authority import DAY, issue_server
from pewter.lab.crowd import Crowd, Kind, site_names
from pewter.lab.name_server import NameServer, zone_of_table
from pewter.lab.serving import listen, port_of
from pewter.lab.web_server import server_context
from pewter.lab.world import WorldThread
from pewter.plan.own_files import read_trust_file
from pewter.survey.local import LocalSurvey, within_files
from pewter.survey.looking import look_at_all
from pewter.survey.settings import Known, Order, Settings
from pewter.survey.sites import read_list
from pewter.survey.store import FILE, Ledger
from support.program import PROGRAM, environment, pewter

SITES = 40
WORSE = {
    Kind.GOOD: {"note"},
    Kind.SLOW: {"note"},
    Kind.NO_HSTS: {"weakens"},
    Kind.RENEWAL: {"weakens"},
    Kind.NO_REDIRECT: {"exposes"},
}


class Watcher:
    def __init__(self):
        self.rows, self.said, self.is_stopping = [], [], False

    def stored(self, row):
        self.rows.append(row)

    def waits_for(self, keys): ...

    def say(self, words):
        self.said.append(words)


@pytest.fixture(scope="module")
def crowd(tmp_path_factory):
    crowd = Crowd(SITES, datetime.datetime.now(datetime.UTC))
    folder = tmp_path_factory.mktemp("crowd")
    (folder / "root.pem").write_bytes(crowd.root.pem)
    (folder / "sites.txt").write_text("\n".join(crowd.kinds) + "\n")
    with WorldThread(crowd):
        crowd.folder = folder
        yield crowd


def settings(crowd, **more):
    trust = tuple(each.der for each in read_trust_file(crowd.folder / "root.pem"))
    return Settings(
        is_brief=True, resolvers=(crowd.resolver,), routes=crowd.routes, trust=trust, sites_under_way=20, **more
    )


def options(crowd, *more):
    routes = (part for route in crowd.routes for part in ("--route", route))
    return (
        "survey",
        crowd.folder / "sites.txt",
        "--into",
        "s",
        "--brief",
        "--resolver",
        crowd.resolver,
        "--trust",
        crowd.folder / "root.pem",
        *routes,
        *more,
    )


def surveyed(crowd, folder, names=None, command=None, **more):
    watcher = Watcher()
    with Ledger.open_to_write(folder) as ledger:
        ledger.take_list(read_list("\n".join(names or crowd.kinds).encode(), "list").sites)
        run = ledger.begin(Settings(), None, crowd.now)
        made = settings(crowd, **more)
        survey = LocalSurvey(ledger, run, made, watcher, **({"command": command} if command else {}))
        asyncio.run(survey.go())
        if survey.in_doubt and ledger.wait_again(run, survey.in_doubt):  # as the task does
            few = msgspec.structs.replace(made, sites_under_way=4)
            asyncio.run(LocalSurvey(ledger, run, few, watcher).go())
        return [row_of(values) for values in ledger.rows()], watcher, ledger.counts()


def rows_in(folder):
    with Ledger.open_to_read(folder) as ledger:
        return [row_of(values) for values in ledger.rows()]


def stored(folder):
    """How many sites, 0 while there is no whole database yet."""
    try:
        return len(rows_in(folder))
    except FileError:
        return 0


def test_every_site_comes_out_as_it_is(crowd, tmp_path):
    rows, _, counts = surveyed(crowd, tmp_path / "s", workers=2)
    assert counts == (SITES, SITES)
    assert [row["site"] for row in rows] == list(crowd.kinds)
    with Ledger.open_to_read(tmp_path / "s") as ledger:
        gaps = {(site, rule) for site, rule, *_ in ledger.gaps()}
    for row in rows:
        kind = crowd.kinds[row["site"]]
        if kind in {Kind.SILENT, Kind.DEAD, Kind.NO_NAME}:
            assert (row["reached"], row["worst"]) == (False, None), row
            assert row["error"].startswith(
                {
                    Kind.SILENT: "port 443: no whole answer within 2.5 s",
                    Kind.DEAD: "port 443: the connection was refused",
                    Kind.NO_NAME: "no such name (NXDOMAIN)",
                }[kind]
            )
        else:
            assert row["reached"], row
            assert row["worst"] in WORSE.get(kind, {"breaks"}), (kind, row, [g for g in gaps if g[0] == row["site"]])
    expired = {site for site, rule in gaps if rule == "date/expired"}
    assert expired == {name for name, kind in crowd.kinds.items() if kind is Kind.EXPIRED}


ENDS_ITS_WORKER = """
import os, sys
from pewter.survey import looking
whole = looking.Looker.look_at
async def look_at(self, order):
    if order.key == {bad!r}:
        os._exit(9)
    return await whole(self, order)
looking.Looker.look_at = look_at
import runpy
sys.argv = ["worker"]
runpy.run_module("pewter.survey.worker", run_name="__main__")
"""


def test_a_site_that_ends_its_worker_costs_no_other(crowd, tmp_path):
    bad = list(crowd.kinds)[3]
    command = (sys.executable, "-c", ENDS_ITS_WORKER.format(bad=bad))
    rows, watcher, _ = surveyed(crowd, tmp_path / "s", workers=1, command=command)
    why = "could not be reviewed: it ended the worker process"
    assert [row["error"] for row in rows if row["site"] == bad] == [why]
    assert len(rows) == SITES
    assert sum(1 for row in rows if row["error"] == why) == 1
    assert watcher.said[-1] == f"{bad} {why}"


NEVER_READY = "import sys; sys.exit(3)"
WRONG_VERSION = "import sys; sys.argv = ['worker']; import pewter.survey.no_such_module"
ENDS_AT_EVERY_SITE = """
import os, sys
from pewter.survey import looking
async def look_at(self, order):
    os._exit(9)
looking.Looker.look_at = look_at
import runpy
sys.argv = ["worker"]
runpy.run_module("pewter.survey.worker", run_name="__main__")
"""


@pytest.mark.parametrize(
    ("program", "workers", "words"),
    [
        pytest.param(NEVER_READY, 1, r"^3 worker processes in a row ended before they were ready", id="ends-at-once"),
        pytest.param(NEVER_READY, 3, r"^3 worker processes in a row ended before they were ready", id="of-several"),
        pytest.param(WRONG_VERSION, 2, r"^3 worker processes in a row ended before", id="cannot-be-imported"),
        pytest.param(
            ENDS_AT_EVERY_SITE, 2, r"^5 worker processes in a row ended at the first site", id="at-every-site"
        ),
    ],
)
def test_a_worker_that_does_not_work_is_no_fault_of_the_sites(crowd, tmp_path, program, workers, words):
    command = (sys.executable, "-c", program)
    with pytest.raises(NotReviewedError, match=words + r".*the same command goes on where it was"):
        surveyed(crowd, tmp_path / "s", workers=workers, command=command)
    assert rows_in(tmp_path / "s") == []
    rows, _, counts = surveyed(crowd, tmp_path / "s", list(crowd.kinds)[:2])
    assert (len(rows), counts) == (2, (2, 2))


def test_a_list_of_few_sites_that_end_their_worker_is_told_of_each(crowd, tmp_path):
    names = list(crowd.kinds)[:2]
    rows, _, counts = surveyed(crowd, tmp_path / "s", names, (sys.executable, "-c", ENDS_AT_EVERY_SITE), workers=1)
    assert [row["error"] for row in rows] == ["could not be reviewed: it ended the worker process"] * 2
    assert counts == (2, 2)


def limited(crowd, folder, what, most):
    """The built program, allowed so much of something."""
    return subprocess.run(
        [PROGRAM, *map(str, options(crowd))],
        cwd=folder,
        env=environment(),
        preexec_fn=lambda: resource.setrlimit(what, (most, most)),
        capture_output=True,
        encoding="utf-8",
        timeout=120,
    )


def test_a_disk_that_is_full_stops_it_and_costs_nothing_that_is_finished(crowd, tmp_path):
    run = limited(crowd, tmp_path, resource.RLIMIT_FSIZE, 300_000)
    assert run.returncode == 2, run.stderr
    assert "survey.sqlite cannot be used: " in run.stderr
    assert "Traceback" not in run.stderr
    kept = rows_in(tmp_path / "s")
    assert 0 < len(kept) < SITES
    more = pewter(*options(crowd), folder=tmp_path)
    assert more.returncode == 0, more.stderr
    assert f"going on: {len(kept)} of {SITES} sites" in more.stderr
    assert len(rows_in(tmp_path / "s")) == SITES


def test_killed_at_random_moments_it_loses_and_repeats_nothing(crowd, tmp_path):
    chance, seen, kills = random.Random(20261126), {}, 0
    for _ in range(6):
        process = subprocess.Popen(
            [PROGRAM, *map(str, options(crowd))],
            cwd=tmp_path,
            env=environment(),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        try:
            process.wait(1.0 + 2.5 * chance.random())
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
            kills += 1
        if (tmp_path / "s" / FILE).exists():
            found = {row["site"]: row["looked_at"] for row in rows_in(tmp_path / "s")}
            assert {site: at for site, at in found.items() if site in seen} == seen
            seen = found
        if process.returncode == 0:
            break
    assert kills >= 1
    if len(seen) < SITES:
        assert pewter(*options(crowd), folder=tmp_path).returncode == 0
    rows = rows_in(tmp_path / "s")
    assert Counter(row["site"] for row in rows) == Counter(list(crowd.kinds))
    with sqlite3.connect(tmp_path / "s" / FILE) as database:
        assert database.execute("select count(*), count(distinct site) from rows").fetchone() == (SITES, SITES)


def test_a_worker_that_cannot_be_started_is_said(crowd, tmp_path):
    with pytest.raises(NotReviewedError, match=r"^A worker process cannot be started: No such file or directory\.$"):
        surveyed(crowd, tmp_path / "s", command=("no-such-program",))


def begun(crowd, folder, *more):
    """The built program, just started."""
    return subprocess.Popen(
        [PROGRAM, *map(str, options(crowd, *more))],
        cwd=folder,
        env=environment(),
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        encoding="utf-8",
    )


def workers_of(process, count):
    """Their numbers, once so many are there."""
    command = ["ps", "-o", "pid=", "--ppid", str(process.pid)]
    for _ in range(400):
        time.sleep(0.05)
        children = subprocess.run(command, capture_output=True, encoding="utf-8").stdout.split()
        if len(children) == count:
            break
    return [int(each) for each in children]


def runs(number):
    """Whether a process is there and no zombie."""
    listed = subprocess.run(["ps", "-o", "state=", "-p", str(number)], capture_output=True, encoding="utf-8").stdout
    return listed.strip() not in {"", "Z"}


def test_a_worker_that_is_killed_gives_its_sites_back(crowd, tmp_path):
    process = begun(crowd, tmp_path, "--workers", "2")
    workers = workers_of(process, 2)
    time.sleep(1.0)
    os.kill(workers[0], signal.SIGKILL)
    _, errors = process.communicate(timeout=120)
    assert process.returncode == 0, errors
    assert len(rows_in(tmp_path / "s")) == SITES


def test_workers_do_not_outlive_a_survey_that_is_killed(crowd, tmp_path):
    process = begun(crowd, tmp_path, "--workers", "3")
    workers = workers_of(process, 3)
    time.sleep(0.5)
    process.kill()
    process.communicate(timeout=60)
    assert len(workers) == 3
    for _ in range(400):
        if not any(map(runs, workers)):
            break
        time.sleep(0.05)
    assert not any(map(runs, workers))


@pytest.mark.parametrize("signals", [(signal.SIGINT,), (signal.SIGINT,) * 2, (signal.SIGTERM,)])
def test_a_signal_stops_it_in_order(crowd, tmp_path, signals):
    process = begun(crowd, tmp_path)
    for _ in range(1200):
        time.sleep(0.05)
        if stored(tmp_path / "s"):
            break
    before = stored(tmp_path / "s")
    for each in signals:
        process.send_signal(each)
        time.sleep(0.05)
    _, errors = process.communicate(timeout=60)
    assert process.returncode == 130, errors
    assert "Traceback" not in errors
    assert "stopped; the same command goes on where it was" in errors or "interrupted" in errors
    # What was nearly done is stored, but where nobody wished to wait.
    assert before + (5 if len(signals) == 1 else 0) <= stored(tmp_path / "s") < SITES
    left = subprocess.run(["pgrep", "-f", str(crowd.folder)], capture_output=True).stdout
    assert left == b""


def test_few_files_may_be_open(crowd, tmp_path):
    run = limited(crowd, tmp_path, resource.RLIMIT_NOFILE, 256)
    assert run.returncode == 0, run.stderr
    rows = rows_in(tmp_path / "s")
    assert sum(row["reached"] for row in rows) == sum(
        kind not in {Kind.SILENT, Kind.DEAD, Kind.NO_NAME} for kind in crowd.kinds.values()
    )


@pytest.mark.parametrize(("wanted", "allowed"), [(60, 256), (60, 1024), (60, 8192), (4, 64)])
def test_sites_and_sockets_fit_into_the_files(wanted, allowed):
    sites, sockets = within_files(wanted, allowed)
    assert 2 <= sites <= wanted
    assert sites * 4 <= sockets
    assert sockets < allowed


def test_a_name_server_that_is_silent_is_told_of_each_site(crowd, tmp_path):
    quiet = settings(crowd)
    with Ledger.open_to_write(tmp_path / "s") as ledger:
        ledger.take_list(read_list("\n".join(list(crowd.kinds)[:5]).encode(), "list").sites)
        run = ledger.begin(Settings(), None, crowd.now)
        broken = msgspec.structs.replace(quiet, resolvers=("127.0.0.1:9",), routes=(), seconds=4.0)
        asyncio.run(LocalSurvey(ledger, run, broken, Watcher()).go())
        rows = [row_of(values) for values in ledger.rows()]
    assert {row["error"] for row in rows} == {"the name service could not be asked: it refuses questions"}


class Asked(asyncio.DatagramProtocol):
    """A resolver that answers each question as ``answer`` makes it of the question, after a delay."""

    def __init__(self, answer, delay):
        self._answer, self._delay = answer, delay

    def connection_made(self, transport):
        self._transport = transport

    def datagram_received(self, octets, sender):
        reply = self._answer(dns.message.from_wire(octets)).to_wire()
        asyncio.get_running_loop().call_later(self._delay, self._transport.sendto, reply, sender)


def answers(rcode="NOERROR", address=None):
    def answer(query):
        reply = dns.message.make_response(query, recursion_available=True)
        reply.set_rcode(dns.rcode.from_text(rcode))
        (question,) = query.question
        if address and question.rdtype == dns.rdatatype.A:
            reply.answer.append(dns.rrset.from_text(question.name, 60, "IN", "A", address))
        return reply

    return answer


@pytest.mark.parametrize(
    ("answer", "delay", "errors"),
    [
        pytest.param(answers("SERVFAIL"), 0, {"the name service failed: it answered SERVFAIL"}, id="failing"),
        pytest.param(answers("REFUSED"), 0, {"the name service failed: it answered REFUSED"}, id="refusing"),
        pytest.param(answers("NXDOMAIN"), 1.2, {"no such name (NXDOMAIN)"}, id="slow"),
        pytest.param(answers(address="198.18.0.1"), 0, {None}, id="one address for everything"),
    ],
)
def test_name_servers_of_every_kind(crowd, tmp_path, answer, delay, errors):
    async def go():
        transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
            lambda: Asked(answer, delay), local_addr=("127.0.0.1", 0)
        )
        asked = f"127.0.0.1:{transport.get_extra_info('sockname')[1]}"
        with Ledger.open_to_write(tmp_path / "s") as ledger:
            ledger.take_list(read_list("\n".join(crowd.kinds).encode(), "list").sites)
            run = ledger.begin(Settings(), None, crowd.now)
            of_it = msgspec.structs.replace(settings(crowd, workers=2), resolvers=(asked,))
            await LocalSurvey(ledger, run, of_it, Watcher()).go()
        transport.close()

    asyncio.run(go())
    rows = rows_in(tmp_path / "s")
    assert [row["site"] for row in rows] == list(crowd.kinds)
    assert {row["error"] for row in rows} == errors


async def endless_page(reader, writer):
    await reader.readuntil(b"\r\n\r\n")
    writer.write(b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n\r\n")
    await without_end(lambda: b"<p>x" * 4096)(reader, writer)


async def endless_head(reader, writer):
    await reader.readuntil(b"\r\n\r\n")
    writer.write(b"HTTP/1.1 200 OK\r\n")
    await without_end(lambda: b"X: " + b"y" * 4000 + b"\r\n")(reader, writer)


def without_end(make, pause=0.01):
    async def serve(reader, writer):
        while True:
            writer.write(make())
            await writer.drain()
            await asyncio.sleep(pause)

    return serve


HOSTILE = {
    "endless-page.example": endless_page,
    "endless-head.example": endless_head,
    "rubbish.example": without_end(lambda: random.randbytes(1 << 14)),
    "octet-by-octet.example": without_end(lambda: b"H", 0.5),
    "half-a-record.example": without_end(lambda: b"\x16\x03\x03\x40\x00", 60),
}


def test_hostile_sites_cost_no_other(crowd, tmp_path):
    """Also a certificate of 90 KB over TLS, before an endless page."""
    plain, behind = "large.example", itertools.count(1)

    async def serve():
        large = x509.UnrecognizedExtension(x509.ObjectIdentifier("1.3.6.1.4.1.99999.3"), b"x" * 90_000)
        leaf = issue_server([plain], crowd.root, crowd.now - DAY, crowd.now + 60 * DAY, extra=[(large, False)])
        routes, table = [], dict(crowd.table)
        for name, each in (*HOSTILE.items(), (plain, endless_page)):
            context = server_context((leaf,)) if name == plain else None
            port = port_of(await listen(each, 0, context))
            address = f"198.19.0.{next(behind)}"
            routes += [f"{address}:{at}=127.0.0.1:{port}" for at in (80, 443)]
            table[name] = (address,)
        return tuple(routes), zone_of_table(table)

    async def go():
        routes, zone = await serve()
        name_server = await NameServer((zone,)).start()
        with Ledger.open_to_write(tmp_path / "s") as ledger:
            names = [*HOSTILE, plain, *crowd.kinds]
            ledger.take_list(read_list("\n".join(names).encode(), "list").sites)
            run = ledger.begin(Settings(), None, crowd.now)
            of_it = msgspec.structs.replace(
                settings(crowd, workers=1),
                resolvers=(f"127.0.0.1:{name_server.port}",),
                routes=(*crowd.routes, *routes),
            )
            await LocalSurvey(ledger, run, of_it, Watcher()).go()
        await name_server.stop()

    asyncio.run(go())
    rows = {row["site"]: row for row in rows_in(tmp_path / "s")}
    assert list(rows) == [*HOSTILE, plain, *crowd.kinds]
    assert {name for name in crowd.kinds if rows[name]["reached"]} == {
        name for name, kind in crowd.kinds.items() if kind not in {Kind.SILENT, Kind.DEAD, Kind.NO_NAME}
    }
    assert rows[plain]["reached"]
    assert not any("could not be reviewed" in (row["error"] or "") for row in rows.values())


@pytest.mark.parametrize(
    ("resolver", "error"),
    [
        ("", "not contacted: 127.0.0.9 is a loopback address, and names of a list are contacted at public addresses"),
        ("10.0.0.53:53", "port 443: the connection was refused"),
    ],
)
def test_a_list_does_not_lead_into_the_own_network(resolver, error):
    """Unless a resolver within it was given: then names may be there."""
    of_list = Settings(is_brief=True, resolvers=(resolver or "9.9.9.9:53",), skip=("dns",))
    reply = Reply("NOERROR", "ra", (Record("a.example", "A", 60, "127.0.0.9"),))
    nothing = Reply("NOERROR", "ra")
    names = ("a.example", "www.a.example")
    known = tuple(
        Known(name, kind, reply if (name, kind) == ("a.example", "A") else nothing)
        for name in names
        for kind in ("A", "AAAA")
    )
    (done,) = asyncio.run(look_at_all(of_list, [Order("a.example", "a.example", (), known)]))
    assert (done.summary.row.error, bool(done.summary.row.connections)) == (error, bool(resolver))


def test_names_are_never_given_twice():
    names = site_names()
    assert len({next(names) for _ in range(2000)}) == 2000


def test_a_failure_of_the_ledger_ends_it(crowd, tmp_path):
    class Broken(Ledger):
        def keep(self, run, summary, packed):
            raise FileError("the disk is full.")

    with Ledger.open_to_write(tmp_path / "s") as ledger:
        ledger.take_list(read_list("\n".join(crowd.kinds).encode(), "list").sites)
        ledger.__class__ = Broken
        with pytest.raises(FileError, match=r"the disk is full\."):
            asyncio.run(LocalSurvey(ledger, ledger.begin(Settings(), None, crowd.now), settings(crowd), Watcher()).go())
