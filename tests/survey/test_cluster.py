"""A survey on a cluster: a real Dask scheduler and its workers, as processes of their own."""

import asyncio
import contextlib
import datetime
import os
import re
import signal
import socket
import subprocess
import sys
import sysconfig
import time
from pathlib import Path

import msgspec
import pytest

from pewter import __version__
from pewter.errors import FileError, NotReviewedError, UsageError
from pewter.judge.summary import row_of
from pewter.lab import crowd as lab_crowd
from pewter.lab.authority import DAY, issue_ca, issue_server
from pewter.lab.crowd import Crowd
from pewter.lab.world import WorldThread
from pewter.survey import cluster
from pewter.survey.cluster import ClusterSurvey
from pewter.survey.local import LocalSurvey
from pewter.survey.settings import Settings
from pewter.survey.sites import read_list
from pewter.survey.store import Ledger
from support.generated_chains import CLIENT, SERVER
from survey.test_local import Watcher, rows_in, settings

pytest.importorskip("distributed")
DASK = Path(sysconfig.get_path("scripts")) / "dask"
SITES = 150
OF_A_MOMENT = {"seconds", "looked_at", "connections"}


@pytest.fixture(scope="module")
def crowd(tmp_path_factory):
    crowd = Crowd(SITES, datetime.datetime.now(datetime.UTC))
    crowd.folder = tmp_path_factory.mktemp("crowd")
    (crowd.folder / "root.pem").write_bytes(crowd.root.pem)
    # Slow sites are less slow here: on a busy machine they would come near to the limits of a brief look.
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(lab_crowd, "SLOW_SECONDS", 0.15)
        with WorldThread(crowd):
            yield crowd


def free_port():
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return found.getsockname()[1]


class Dask:
    """A scheduler at a port of its own and workers of one thread, which are started and killed as a test wants it."""

    def __init__(self, stack):
        self.port = free_port()
        self.address = f"tcp://127.0.0.1:{self.port}"
        self.workers = []
        self._stack = stack

    def run(self, *arguments, **environment):
        process = subprocess.Popen(
            [DASK, *map(str, arguments)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env={**os.environ, **environment},
            start_new_session=True,
        )
        self._stack.callback(self.kill, process)
        return process

    @staticmethod
    def kill(*processes):
        for process in processes:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
        for process in processes:
            process.wait(20)

    def schedule(self, *options, **environment):
        where = ("--host", "127.0.0.1", "--port", self.port)
        self.scheduler = self.run("scheduler", *where, "--no-dashboard", *options, **environment)
        for _ in range(600):
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 1):
                return
            time.sleep(0.1)
        raise AssertionError("the scheduler does not listen")

    def work(self, *options, count=1, **environment):
        of_one = ("--nworkers", 1, "--nthreads", 1, "--no-dashboard")
        self.workers += [self.run("worker", self.address, *of_one, *options, **environment) for _ in range(count)]

    def wait(self):
        """Until all workers are known to the scheduler."""
        import distributed

        with distributed.Client(self.address, timeout=60) as client:
            client.wait_for_workers(len(self.workers), timeout=60)


@pytest.fixture
def dask():
    with contextlib.ExitStack() as stack:
        yield Dask(stack)


@pytest.fixture
def two_workers(dask):
    dask.schedule()
    dask.work("--no-nanny", count=2)
    dask.wait()
    return dask


def surveyed(survey, crowd, folder, *, most=SITES, watcher=None, **more):
    with Ledger.open_to_write(folder) as ledger:
        ledger.take_list(read_list("\n".join(list(crowd.kinds)[:most]).encode(), "list").sites)
        run = ledger.begin(Settings(), None, crowd.now)
        # Few at a time: the lab serves them all from this one process, and slow sites must not seem silent.
        gently = msgspec.structs.replace(settings(crowd), sites_under_way=6, first_seconds=10.0, seconds=60.0)
        work = survey(ledger, run, gently, watcher or Watcher(), **more)
        asyncio.run(work.go())
        return [row_of(values) for values in ledger.rows()]


def outcome(row):
    return {name: value for name, value in row.items() if name not in OF_A_MOMENT}


class Upset(Watcher):
    """Something happens when the first site has come back."""

    def __init__(self, happens):
        super().__init__()
        self._happens = happens

    def stored(self, row):
        super().stored(row)
        if len(self.rows) == 1:
            self._happens()


def test_the_same_results_as_on_one_machine_while_a_worker_is_killed(crowd, tmp_path, two_workers):
    here = surveyed(LocalSurvey, crowd, tmp_path / "here")
    watcher = Upset(lambda: two_workers.kill(two_workers.workers[0]))
    there = surveyed(ClusterSurvey, crowd, tmp_path / "there", watcher=watcher, address=two_workers.address)
    assert [row["site"] for row in there] == list(crowd.kinds)
    # Beside other work a name service may be late for a site, in one of the two: that is told, and is no finding.
    late = [
        number
        for number, rows in enumerate(zip(there, here, strict=True))
        if any((row["error"] or "").startswith("the name service ") for row in rows)
    ]
    assert len(late) <= len(there) // 10
    for number, (one, other) in enumerate(zip(there, here, strict=True)):
        assert number in late or outcome(one) == outcome(other)


def others_come(dask):
    """The scheduler and the workers are killed, and others take their place."""
    dask.kill(dask.scheduler, *dask.workers)
    dask.schedule()
    dask.work("--no-nanny")


def another_worker_comes(dask):
    dask.kill(*dask.workers)
    dask.work("--no-nanny")


@pytest.mark.parametrize("happens", [others_come, another_worker_comes])
def test_what_dies_is_waited_for(crowd, tmp_path, two_workers, happens):
    watcher = Upset(lambda: happens(two_workers))
    rows = surveyed(ClusterSurvey, crowd, tmp_path / "s", most=70, watcher=watcher, address=two_workers.address)
    assert [row["site"] for row in rows] == list(crowd.kinds)[:70]
    assert not any("could not be reviewed" in (row["error"] or "") for row in rows)
    assert len(watcher.rows) == 70
    assert set(watcher.said) <= {
        f"the scheduler at {two_workers.address} was lost; it is tried for 60 s",
        f"the scheduler at {two_workers.address} has no worker; waiting for one",
    }


@pytest.mark.parametrize(
    ("what", "words"),
    [
        ("scheduler", "was lost, and did not come back within 2 s."),
        ("workers", "has had no worker for 2 s."),
    ],
)
def test_what_stays_away_ends_it_and_costs_nothing_that_is_finished(
    crowd, tmp_path, two_workers, monkeypatch, what, words
):
    for name in ("BACK_SECONDS", "WORKERLESS_SECONDS"):
        monkeypatch.setattr(cluster, name, 2)
    dying = two_workers.workers if what == "workers" else [two_workers.scheduler]
    watcher = Upset(lambda: two_workers.kill(*dying))
    with pytest.raises(NotReviewedError) as error:
        surveyed(ClusterSurvey, crowd, tmp_path / "s", watcher=watcher, address=two_workers.address)
    assert str(error.value) == f"The scheduler at {two_workers.address} {words} {cluster.GOES_ON}"
    assert [row["site"] for row in rows_in(tmp_path / "s")] == sorted(
        (row.site for row in watcher.rows), key=list(crowd.kinds).index
    )


def test_a_result_that_went_with_its_worker_holds_up_nothing(crowd, tmp_path, two_workers, monkeypatch):
    async def never(self, *_):
        two_workers.kill(*two_workers.workers)
        await asyncio.Event().wait()

    monkeypatch.setattr(ClusterSurvey, "_done", never)
    monkeypatch.setattr(cluster, "WORKERLESS_SECONDS", 2)
    with pytest.raises(NotReviewedError, match="has had no worker for 2 s"):
        surveyed(ClusterSurvey, crowd, tmp_path / "s", address=two_workers.address)


def test_a_scheduler_that_is_lost_again_and_again_ends_it(crowd, tmp_path, two_workers, monkeypatch):
    async def lost(self, *_):
        raise ConnectionResetError("reset by peer")

    monkeypatch.setattr(ClusterSurvey, "_done", lost)
    watcher = Watcher()
    with pytest.raises(NotReviewedError) as error:
        surveyed(ClusterSurvey, crowd, tmp_path / "s", watcher=watcher, address=two_workers.address)
    where = f"The scheduler at {two_workers.address}"
    assert str(error.value) == f"{where} is lost again and again (reset by peer). {cluster.GOES_ON}"
    assert watcher.said == [f"{where.lower()} was lost; it is tried for 60 s"] * cluster.MOST_LOSSES


def test_a_worker_of_another_version_ends_it(crowd, tmp_path, dask):
    """Before anything is stored as a failure of the sites."""
    (tmp_path / "preload.py").write_text("from pewter.survey import cluster\ncluster.__version__ = '0.0.1'\n")
    dask.schedule()
    dask.work("--preload", tmp_path / "preload.py")
    dask.wait()
    with pytest.raises(NotReviewedError) as error:
        surveyed(ClusterSurvey, crowd, tmp_path / "s", address=dask.address)
    assert str(error.value) == (
        f"A worker of {dask.address} has Pewter 0.0.1, and this is {__version__}: install the same everywhere. "
        "What is finished is kept, and the same command goes on."
    )
    assert rows_in(tmp_path / "s") == []


ENDS_ITS_WORKER = """
import os
from pewter.survey.looking import Looker
async def look_at(self, order):
    if order.key == os.environ["ENDS_ITS_WORKER"]:
        os._exit(9)
    return await self.whole(order)
if not hasattr(Looker, "whole"):  # a preload may be run twice
    Looker.whole, Looker.look_at = Looker.look_at, look_at
"""


def test_a_batch_that_ends_its_workers_is_split_down_to_the_site(crowd, tmp_path, monkeypatch, dask):
    """Workers under a nanny come back; the scheduler gives a batch up after it has cost two."""
    (tmp_path / "preload.py").write_text(ENDS_ITS_WORKER)
    names = list(crowd.kinds)[:6]
    bad = names[2]
    monkeypatch.setattr(cluster, "SITES_OF_A_BATCH", 6)
    environment = {"ENDS_ITS_WORKER": bad, "DASK_DISTRIBUTED__SCHEDULER__ALLOWED_FAILURES": "0"}
    dask.schedule(**environment)
    dask.work("--preload", tmp_path / "preload.py", **environment)
    watcher = Watcher()
    rows = surveyed(ClusterSurvey, crowd, tmp_path / "s", most=6, watcher=watcher, address=dask.address)
    assert [row["site"] for row in rows] == names
    why = "could not be reviewed: it ended the worker process"
    failed = {row["site"]: row["error"] for row in rows if "could not be reviewed" in (row["error"] or "")}
    assert failed == {bad: why}
    assert any(re.fullmatch("a batch of [2-6] sites ended its workers; it is split", words) for words in watcher.said)


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


def test_over_tls_with_certificates_of_its_own(crowd, tmp_path, dask):
    """As docs/cluster.md has it: nobody without a certificate of the CA gets in."""
    now = datetime.datetime.now(datetime.UTC)
    ca = issue_ca("Cluster CA", None, now - DAY, now + 30 * DAY)
    node = issue_server(["node.example"], ca, now - DAY, now + 30 * DAY, purposes=(SERVER, CLIENT))
    for name, octets in (("ca.pem", ca.pem), ("node.pem", node.pem), ("node.key", node.key_pem)):
        (tmp_path / name).write_bytes(octets)
    files = (tmp_path / "ca.pem", tmp_path / "node.pem", tmp_path / "node.key")
    options = ("--tls-ca-file", files[0], "--tls-cert", files[1], "--tls-key", files[2])
    plain, dask.address = dask.address, f"tls://127.0.0.1:{dask.port}"
    dask.schedule("--protocol", "tls", *options)
    dask.work(*options)

    def over(address, *tls):
        return surveyed(ClusterSurvey, crowd, tmp_path / "s", most=6, address=address, tls=tls)

    with pytest.raises(UsageError, match="A scheduler at tls:// asks for certificates"):
        over(dask.address)
    with pytest.raises(NotReviewedError, match="cannot be reached"):
        over(plain)
    assert [row["site"] for row in over(dask.address, *files)] == list(crowd.kinds)[:6]
