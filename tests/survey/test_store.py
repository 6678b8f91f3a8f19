"""The ledger: what waits, what is kept, what another process may do meanwhile."""

import datetime
import sqlite3
import subprocess
import sys

import msgspec
import pytest

from pewter.errors import FileError
from pewter.judge.review import make_review, write_review
from pewter.judge.summary import COLUMNS, row_of, summary_of, summary_of_failure
from pewter.survey.settings import Settings
from pewter.survey.sites import read_list
from pewter.survey.store import FILE, Again, Ledger, pack
from support.cases import case, endpoint, handshake, hop, journey
from support.certificates import HOST, NOW

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"


def reviewed(*ways):
    made = case(
        *(ways or (journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS)),)), endpoints=[endpoint(handshake())]
    )
    return made, make_review(made)


def summary(key=HOST, *ways):
    made, review = reviewed(*ways)
    return summary_of(key, review, made), pack(write_review(review))


def sites(*names):
    return read_list("\n".join(names).encode(), "list").sites


@pytest.fixture
def ledger(tmp_path):
    with Ledger.open_to_write(tmp_path / "s") as ledger:
        yield ledger


def waiting(ledger):
    return [key for key, _ in ledger.waiting()]


def test_what_is_kept_waits_no_more_and_is_kept_once(ledger):
    ledger.take_list(sites("b.example", HOST, "c.example shop.c.example:8443"))
    run = ledger.begin(Settings(), None, NOW)
    assert list(ledger.waiting()) == [
        ("b.example", "b.example"),
        (HOST, HOST),
        ("c.example", "c.example shop.c.example:8443"),
    ]
    found, packed = summary()
    assert ledger.keep(run, found, packed)
    assert not ledger.keep(run, found, packed)
    assert (waiting(ledger), ledger.counts()) == (["b.example", "c.example"], (1, 3))
    (row,) = map(row_of, ledger.rows())
    assert list(row) == list(COLUMNS)
    assert (
        row["site"],
        row["reached"],
        row["versions"],
        row["key"],
        row["days_left"],
        row["hsts_age"],
        row["run"],
    ) == (HOST, True, "TLS 1.3", "EC P-256", 60, 0, 1)
    assert row["looked_at"] == NOW
    assert (HOST, "hsts/absent", "weakens", f"name {HOST}", 0) in list(ledger.gaps())
    assert ("hsts/absent", "weakens", 1) in ledger.rules()
    assert {each.kind for _, each, _ in ledger.ends()} >= {"certificate", "renewal due"}
    assert ledger.review(HOST) == reviewed()[1]
    with pytest.raises(FileError, match=r"holds no review of b\.example"):
        ledger.review("b.example")


def test_lists_that_change(ledger):
    ledger.take_list(sites("a.example", HOST))
    ledger.keep(ledger.begin(Settings(), None, NOW), *summary())
    listed = ledger.take_list(sites(HOST, "new.example"))
    ledger.begin(Settings(), None, NOW)
    assert (listed.new, listed.gone) == (1, 1)
    assert (waiting(ledger), ledger.counts()) == (["new.example"], (1, 2))
    back = ledger.take_list(sites("a.example", HOST, "new.example"))
    ledger.begin(Settings(), None, NOW)
    assert (back.new, waiting(ledger)) == (0, ["a.example", "new.example"])


def test_the_same_list_in_another_order_is_the_same_work(ledger):
    ledger.take_list(sites("a.example", HOST, "b.example"))
    run = ledger.begin(Settings(), None, NOW)
    ledger.keep(run, *summary())
    listed = ledger.take_list(sites("b.example", HOST, "a.example"))
    # The clock was set back meanwhile.
    assert ledger.begin(Settings(), None, NOW - datetime.timedelta(days=400)) == run
    assert (listed.new, listed.gone, waiting(ledger), ledger.counts()) == (0, 0, ["b.example", "a.example"], (1, 3))


@pytest.mark.parametrize(
    ("again", "looked_at_anew"),
    [
        (Again("all"), [HOST, "dead.example"]),
        (Again("unreachable"), ["dead.example"]),
        (Again("older-than", datetime.timedelta(days=7)), [HOST, "dead.example"]),
        (Again("older-than", datetime.timedelta(days=30)), []),
        (None, []),
    ],
)
def test_again(ledger, again, looked_at_anew):
    """A run of its own; broken off and begun once more it goes on."""
    ledger.take_list(sites(HOST, "dead.example"))
    run = ledger.begin(Settings(), None, NOW)
    found, packed = summary()
    ledger.keep(run, found, packed)
    ledger.keep(run, summary_of_failure("dead.example", "port 443: refused", NOW, 1.0), None)
    ledger.end(run, NOW)
    later = NOW + datetime.timedelta(days=10)
    run = ledger.begin(Settings(), again, later)
    assert (run, waiting(ledger)) == (1 if again is None else 2, looked_at_anew)
    for key in looked_at_anew[:1]:
        ledger.keep(run, summary_of_failure(key, "refused", later, 1.0), None)
    ledger.take_list(sites(HOST, "dead.example"))
    assert ledger.begin(Settings(), again, later) == run
    assert waiting(ledger) == looked_at_anew[1:]
    assert ledger.sites_with_two_runs() == len(looked_at_anew[:1])


def test_two_reviews_of_a_site_are_kept(ledger):
    ledger.take_list(sites(HOST))
    for number in range(1, 5):
        run = ledger.begin(Settings(), Again("all"), NOW)
        assert run == number
        ledger.keep(run, *summary())
        ledger.end(run, NOW)
    assert [ledger.has_review(HOST, run) for run in range(1, 5)] == [False, False, True, True]


def test_readers_read_while_it_is_written(ledger, tmp_path):
    ledger.take_list(sites(HOST))
    ledger.keep(ledger.begin(Settings(), None, NOW), *summary())
    with Ledger.open_to_read(tmp_path / "s") as reader:
        assert len(list(reader.rows())) == 1
    with pytest.raises(FileError, match="is being surveyed by another process"):
        Ledger.open_to_write(tmp_path / "s")


def test_a_lock_ends_with_its_process(tmp_path):
    code = "import os, sys; from pathlib import Path; from pewter.survey.store import Ledger; Ledger.open_to_write(Path(sys.argv[1])); os.kill(os.getpid(), 9)"
    assert subprocess.run([sys.executable, "-c", code, tmp_path / "s"], check=False).returncode == -9
    Ledger.open_to_write(tmp_path / "s").close()


def test_what_is_no_survey_is_left_as_it_is(tmp_path):
    (tmp_path / "photos").mkdir()
    (tmp_path / "photos" / "x.jpg").write_bytes(b"x")
    with pytest.raises(FileError, match="holds other files and no survey"):
        Ledger.open_to_write(tmp_path / "photos")
    assert [each.name for each in (tmp_path / "photos").iterdir()] == ["x.jpg"]
    other = tmp_path / "other"
    other.mkdir()
    with sqlite3.connect(other / FILE) as database:
        database.execute("create table mine (x)")
    before = (other / FILE).read_bytes()
    for opens in (Ledger.open_to_write, Ledger.open_to_read):
        with pytest.raises(FileError, match="is a database of another program; it is left as it is"):
            opens(other)
    with pytest.raises(FileError, match=r"holds no survey\. 'pewter survey LIST --into"):
        Ledger.open_to_read(tmp_path / "none")
    assert sqlite3.connect(other / FILE).execute("select count(*) from mine").fetchone() == (0,)
    assert before[:16] == (other / FILE).read_bytes()[:16]
    (tmp_path / "garbage").mkdir()
    (tmp_path / "garbage" / FILE).write_bytes(b"no database" * 1000)
    with pytest.raises(FileError, match=r"cannot be used: file is not a database"):
        Ledger.open_to_read(tmp_path / "garbage")


def test_a_newer_format_is_refused(tmp_path):
    Ledger.open_to_write(tmp_path / "s").close()
    with sqlite3.connect(tmp_path / "s" / FILE) as database:
        database.execute("pragma user_version = 9")
    for opens in (Ledger.open_to_write, Ledger.open_to_read):
        with pytest.raises(FileError, match="has the format 9; this Pewter reads format 1"):
            opens(tmp_path / "s")


def test_what_ends_is_told_by_the_last_run_that_saw_it(ledger):
    """However many runs a site has been down since."""
    ledger.take_list(sites(HOST))
    found, packed = summary()
    ledger.keep(ledger.begin(Settings(), None, NOW), found, packed)
    whole = [each for _, each, seen in ledger.ends() if not seen]
    ledger.end(1, NOW)
    for run in range(2, 6):
        ledger.keep(ledger.begin(Settings(), Again("all"), NOW), summary_of_failure(HOST, "down", NOW, 1.0), None)
        assert [(each, seen) for _, each, seen in ledger.ends()] == [
            (each, f"{NOW:%Y-%m-%dT%H:%M:%SZ}") for each in whole
        ]
        ledger.end(run, NOW)
    ledger.keep(ledger.begin(Settings(), Again("all"), NOW), found, packed)
    assert [(each, seen) for _, each, seen in ledger.ends()] == [(each, "") for each in whole]
    ledger.end(6, NOW)
    ledger.keep(ledger.begin(Settings(), Again("all"), NOW), found, packed)
    kept = {
        table: ledger._db.execute(f"select distinct run from {table} order by run").fetchall()
        for table in ("ends", "gaps")
    }
    assert kept == {"ends": [(6,), (7,)], "gaps": [(6,), (7,)]}
    assert [(each.run, each.not_reached, each.levels) for each in ledger.run_counts()] == [
        (1, 0, {"weakens": 1}), *((run, 1, {}) for run in range(2, 6)), (6, 0, {"weakens": 1}), (7, 0, {"weakens": 1}),
    ]  # fmt: skip


OTHER = {
    "brief": (Settings(), Settings(is_brief=True), "--brief"),
    "no longer brief": (Settings(is_brief=True), Settings(), "no --brief"),
    "areas": (Settings(only=("date",)), Settings(only=("hsts", "date")), "--only hsts --only date"),
    "a route more": (Settings(), Settings(routes=("x.example=192.0.2.7",)), "--route x.example=192.0.2.7"),
    "roots": (Settings(), Settings(trust=(b"x",), trusts_given_only=True), "other certificates for --trust, --trust-only"),
    "time, and gentle no longer": (Settings(gentle=True, seconds=5.0), Settings(seconds=7.5), "no --gentle, --timeout 7.5"),
    "no time any more": (Settings(seconds=5.0), Settings(), "no --timeout"),
}  # fmt: skip


@pytest.mark.parametrize("title", OTHER)
def test_one_run_has_one_set_of_options(ledger, title):
    first, other, words = OTHER[title]
    ledger.take_list(sites("a.example", "b.example"))
    ledger.begin(first, None, NOW)
    ledger.keep(1, summary_of_failure("a.example", "down", NOW, 1.0), None)
    with pytest.raises(FileError, match=f"these have {words}. Type the same ones to go on, or --again to begin"):
        ledger.begin(other, None, NOW)
    assert ledger.begin(msgspec.structs.replace(first, workers=9, sockets=7), None, NOW) == 1
    assert waiting(ledger) == ["b.example"]
    assert ledger.begin(other, Again("all"), NOW) == 2
    assert waiting(ledger) == ["a.example", "b.example"]
    ledger.end(2, NOW)
    with pytest.raises(FileError, match="was begun with other options"):
        ledger.begin(first, None, NOW)


def test_a_list_that_was_taken_is_not_read_again(ledger):
    assert not ledger.has_list("d" * 64)
    ledger.take_list(sites("a.example"), "d" * 64)
    assert ledger.has_list("d" * 64) and not ledger.has_list("e" * 64)
    ledger.take_list(sites("b.example"))
    assert not ledger.has_list("d" * 64)
    (ledger.path.parent / "survey.list").write_bytes(b"\xff" * 200)
    assert not ledger.has_list("d" * 64)
