"""A survey on a cluster: a real Dask scheduler and its workers, as processes of their own."""

import asyncio
import contextlib
import datetime
import os
import signal
import socket
import subprocess
import sys
import sysconfig
import threading
import time
from pathlib import Path

import msgspec
import pytest

from pewter.errors import FileError, NotReviewedError, UsageError
from pewter.judge.summary import row_of
from pewter.lab.authority import DAY, issue_ca, issue_server
from pewter.lab.crowd import Crowd
from pewter.lab.world import WorldThread
from pewter.survey import cluster
from pewter.survey.cluster import ClusterSurvey
from pewter.survey.local import LocalSurvey
from pewter.survey.sites import read_list
from pewter.survey.store import Ledger
from support.generated_chains import CLIENT, SERVER
from survey.test_local import Watcher, settings

pytest.importorskip("distributed")
DASK = Path(sysconfig.get_path("scripts")) / "dask"
SITES = 300
OF_A_MOMENT = {"seconds", "looked_at", "connections"}


@pytest.fixture(scope="module")
def crowd(tmp_path_factory):
    crowd = Crowd(SITES, datetime.datetime.now(datetime.UTC))
    crowd.folder = tmp_path_factory.mktemp("crowd")
    (crowd.folder / "root.pem").write_bytes(crowd.root.pem)
    with WorldThread(crowd):
        yield crowd


def free_port():
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return found.getsockname()[1]


@contextlib.contextmanager
def running(*arguments, **environment):
    process = subprocess.Popen(
        [DASK, *map(str, arguments)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={**os.environ, **environment},
        start_new_session=True,
    )
    try:
        yield process
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait(20)


@contextlib.contextmanager
def scheduler(workers=2, **environment):
    """Its address, and its workers' processes once all are known to it."""
    import distributed

    port = free_port()
    address = f"tcp://127.0.0.1:{port}"
    with contextlib.ExitStack() as stack:
        stack.enter_context(
            running("scheduler", "--host", "127.0.0.1", "--port", port, "--no-dashboard", **environment)
        )
        started = [
            stack.enter_context(
                running(
                    "worker", address, "--nworkers", 1, "--nthreads", 1, "--no-dashboard", "--no-nanny", **environment
                )
            )
            for _ in range(workers)
        ]
        with distributed.Client(address, timeout=60) as client:
            client.wait_for_workers(workers, timeout=60)
        yield address, started


def surveyed(survey, crowd, folder, **more):
    with Ledger.open_to_write(folder) as ledger:
        ledger.take_list(read_list("\n".join(crowd.kinds).encode(), "list").sites)
        run = ledger.begin("{}", None, crowd.now)
        # Few at a time: the lab serves them all from this one process, and slow sites must not seem silent.
        gently = msgspec.structs.replace(settings(crowd), sites_under_way=6)
        work = survey(ledger, run, gently, Watcher(), **more)
        asyncio.run(work.go())
        return [row_of(values) for values in ledger.rows()]


def outcome(row):
    return {name: value for name, value in row.items() if name not in OF_A_MOMENT}


def test_the_same_results_as_on_one_machine_while_a_worker_is_killed(crowd, tmp_path):
    here = surveyed(LocalSurvey, crowd, tmp_path / "here")
    with scheduler() as (address, workers):
        killing = threading.Timer(2.0, lambda: os.killpg(workers[0].pid, signal.SIGKILL))
        killing.start()
        there = surveyed(ClusterSurvey, crowd, tmp_path / "there", address=address)
        killing.join()
    assert [row["site"] for row in there] == list(crowd.kinds)
    assert list(map(outcome, there)) == list(map(outcome, here))


ENDS_ITS_WORKER = """
import os
from pewter.survey import looking
whole = looking.Looker.look_at
async def look_at(self, order):
    if order.key == os.environ["ENDS_ITS_WORKER"]:
        os._exit(9)
    return await whole(self, order)
if whole.__module__ == "pewter.survey.looking":  # a preload may be run twice
    looking.Looker.look_at = look_at
"""


def test_a_batch_that_ends_its_workers_is_split_down_to_the_site(crowd, tmp_path, monkeypatch):
    """Workers under a nanny come back; the scheduler gives a batch up after it has cost two."""
    (tmp_path / "preload.py").write_text(ENDS_ITS_WORKER)
    names = list(crowd.kinds)[:6]
    bad = names[2]
    monkeypatch.setattr(cluster, "SITES_OF_A_BATCH", 6)
    port = free_port()
    address = f"tcp://127.0.0.1:{port}"
    environment = {"ENDS_ITS_WORKER": bad, "DASK_DISTRIBUTED__SCHEDULER__ALLOWED_FAILURES": "0"}
    watcher = Watcher()
    with contextlib.ExitStack() as stack:
        stack.enter_context(
            running("scheduler", "--host", "127.0.0.1", "--port", port, "--no-dashboard", **environment)
        )
        stack.enter_context(
            running(
                "worker",
                address,
                "--nworkers",
                1,
                "--nthreads",
                1,
                "--no-dashboard",
                "--preload",
                tmp_path / "preload.py",
                **environment,
            )
        )
        with Ledger.open_to_write(tmp_path / "s") as ledger:
            ledger.take_list(read_list("\n".join(names).encode(), "list").sites)
            run = ledger.begin("{}", None, crowd.now)
            wait_for(port)
            asyncio.run(ClusterSurvey(ledger, run, settings(crowd), watcher, address).go())
            rows = {row["site"]: row["error"] for row in map(row_of, ledger.rows())}
    assert list(rows) == names
    assert {site for site, error in rows.items() if error == "could not be reviewed: it ended the worker process"} == {
        bad
    }
    assert "a batch of 6 sites ended its workers; it is split" in watcher.said


def wait_for(port):
    for _ in range(300):
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.1)


@pytest.mark.parametrize(
    ("address", "tls", "error", "words"),
    [
        ("tcp://127.0.0.1:9", (), NotReviewedError, "The scheduler at tcp://127.0.0.1:9 cannot be reached"),
        ("nonsense://x", (), NotReviewedError, "The scheduler at nonsense://x cannot be reached"),
        ("tls://127.0.0.1:9", (Path("one.pem"),), UsageError, "--cluster-tls is given three times"),
        (
            "tls://127.0.0.1:9",
            (Path("a"), Path("b"), Path("c")),
            FileError,
            "a cannot be read: --cluster-tls names PEM files",
        ),
    ],
)
def test_a_scheduler_that_cannot_be_had(crowd, tmp_path, monkeypatch, address, tls, error, words):
    monkeypatch.setattr(cluster, "CONNECT_SECONDS", 2)
    with pytest.raises(error, match=words.replace(".", r"\.")):
        surveyed(ClusterSurvey, crowd, tmp_path / "s", address=address, tls=tls)


def test_without_the_extra_it_says_so(crowd, tmp_path, monkeypatch):
    monkeypatch.setitem(sys.modules, "distributed", None)
    with pytest.raises(UsageError, match=r"pip install 'pewter\[cluster\]'"):
        surveyed(ClusterSurvey, crowd, tmp_path / "s", address="tcp://127.0.0.1:9")


def test_over_tls_with_certificates_of_its_own(crowd, tmp_path):
    """As docs/cluster.md has it: nobody without a certificate of the CA gets in."""
    now = datetime.datetime.now(datetime.UTC)
    ca = issue_ca("Cluster CA", None, now - DAY, now + 30 * DAY)
    node = issue_server(["node.example"], ca, now - DAY, now + 30 * DAY, purposes=(SERVER, CLIENT))
    for name, octets in (("ca.pem", ca.pem), ("node.pem", node.pem), ("node.key", node.key_pem)):
        (tmp_path / name).write_bytes(octets)
    files = (tmp_path / "ca.pem", tmp_path / "node.pem", tmp_path / "node.key")
    options = ("--no-dashboard", "--tls-ca-file", files[0], "--tls-cert", files[1], "--tls-key", files[2])
    port = free_port()
    address = f"tls://127.0.0.1:{port}"
    names = list(crowd.kinds)[:6]
    with contextlib.ExitStack() as stack:
        stack.enter_context(running("scheduler", "--host", "127.0.0.1", "--port", port, "--protocol", "tls", *options))
        stack.enter_context(running("worker", address, "--nworkers", 1, "--nthreads", 1, *options))
        wait_for(port)
        with Ledger.open_to_write(tmp_path / "s") as ledger:
            ledger.take_list(read_list("\n".join(names).encode(), "list").sites)
            run = ledger.begin("{}", None, crowd.now)
            with pytest.raises(UsageError, match="A scheduler at tls:// asks for certificates"):
                asyncio.run(ClusterSurvey(ledger, run, settings(crowd), Watcher(), address).go())
            with pytest.raises(NotReviewedError, match="cannot be reached"):
                plain = address.replace("tls", "tcp")
                asyncio.run(ClusterSurvey(ledger, run, settings(crowd), Watcher(), plain).go())
            asyncio.run(ClusterSurvey(ledger, run, settings(crowd), Watcher(), address, files).go())
            assert [row["site"] for row in map(row_of, ledger.rows())] == names
