"""``survey`` and the commands on its folder: the built program on the lab's crowd."""

import csv
import json
import sqlite3
import subprocess

import duckdb
import pandas
import pyarrow.parquet
import pytest

from pewter.judge.summary import COLUMNS
from support.program import PROGRAM, environment, pewter

SITES = 20


@pytest.fixture(scope="module")
def demo(tmp_path_factory):
    """The folder of a demo's crowd, surveyed twice, and what the last time said."""
    folder = tmp_path_factory.mktemp("crowd")
    for _ in range(2):
        run = pewter("demo", "--crowd", SITES, "--into", ".", folder=folder)
        assert run.returncode == 0, run.stderr
    return folder, run


@pytest.fixture
def folder(demo):
    return demo[0]


@pytest.fixture
def told(demo):
    return demo[1]


def test_the_crowd_is_surveyed_and_told(folder, told):
    lines = told.stdout.splitlines()
    assert lines[0] == "20 of 20 sites: 17 reached, 3 not"
    for words in (
        "Worst level  of 17 sites that were reached",
        "  ■ breaks         3   17.6 %",
        "Gaps  worst level first, sites with each",
        "Ends within 30 days  2 certificates",
        "Not reached  3 sites",
        "  ?       1  port 443: no whole answer within 2.5 s",
        "  ?       1  port 443: the connection was refused",
        "  ?       1  no such name (NXDOMAIN)",
    ):
        assert words in lines, words
    assert "date/expired" in told.stdout
    assert "pewter: wrote survey.html" in told.stderr
    assert {each.name for each in folder.iterdir()} >= {"sites.txt", "skerry-trust-root.pem", "survey", "survey.html"}


def test_it_is_shown_later_and_written_in_every_format(folder):
    files = ("s.csv", "s.parquet", "s.json", "s.om", "s.html")
    run = pewter("survey", "--show", "survey", *(part for file in files for part in ("-w", file)), folder=folder)
    assert run.returncode == 0, run.stderr
    assert run.stdout.startswith("20 of 20 sites: 17 reached, 3 not\n")
    rows = list(csv.DictReader((folder / "s.csv").open(encoding="utf-8", newline="")))
    assert (list(rows[0]), len(rows)) == (list(COLUMNS), SITES)
    frame = pandas.read_parquet(folder / "s.parquet")
    assert list(frame.columns) == list(COLUMNS)
    assert {name: str(frame[name].dtype) for name in ("days_left", "reached", "not_after", "worst", "seconds", "site")} == {
        "days_left": "Int64", "reached": "bool", "not_after": "datetime64[us, UTC]", "worst": "category", "seconds": "float64", "site": "string",
    }  # fmt: skip
    assert list(frame["worst"].cat.categories) == ["note", "weakens", "exposes", "breaks"]
    assert pyarrow.parquet.read_table(folder / "s.parquet").num_rows == SITES
    (counted,) = duckdb.sql(f"select count(*), sum(breaks) from '{folder / 's.parquet'}' where reached").fetchall()
    assert counted[0] == 17
    content = json.loads((folder / "s.json").read_bytes())
    assert (content["format"], content["sites"], len(content["rows"])) == ("pewter-survey/1", SITES, SITES)
    again = pewter("survey", "--show", "survey", "-w", "again.html", "-w", "again.parquet", folder=folder)
    assert again.returncode == 0
    assert (folder / "again.html").read_bytes() == (folder / "s.html").read_bytes()
    failing = pewter("survey", "--show", "survey", "--fail-on", "breaks", folder=folder)
    assert failing.returncode == 1


def test_one_site_out_of_it(folder):
    run = pewter("report", "survey", "--site", "harbour-bakery.example", folder=folder)
    assert run.returncode == 0, run.stderr
    assert run.stdout.startswith("· harbour-bakery.example: Visitors arrive safely")
    written = pewter("report", "survey", "--site", "harbour-bakery.example", "-w", "one.json", folder=folder)
    assert written.returncode == 0
    assert pewter("report", "one.json", folder=folder).stdout == run.stdout


def test_runs_are_compared_and_ends_are_listed(folder):
    run = pewter("compare", "survey", "-w", "changes.json", folder=folder)
    assert (run.returncode, run.stdout.splitlines()[0]) == (0, "20 sites with two runs: 20 the same, 0 changed")
    assert json.loads((folder / "changes.json").read_bytes())["compared"] == SITES
    ends = pewter("expiry", "survey", "-w", "ends.ics", "-w", "ends.png", folder=folder)
    assert ends.returncode == 0, ends.stderr
    _, *lines = ends.stdout.splitlines()
    assert lines == sorted(lines, key=lambda line: line[2:18])
    assert (folder / "ends.png").read_bytes().startswith(b"\x89PNG")


def test_the_frames(folder):
    import pewter as program

    frame = program.survey_frame(folder / "survey")
    assert (len(frame), int(frame["reached"].sum())) == (SITES, 17)


def test_what_changed_is_told_by_rule_and_site(folder, tmp_path):
    """As if the last run had found what the one before did not."""
    copy = tmp_path / "survey"
    copy.mkdir()
    with sqlite3.connect(folder / "survey" / "survey.sqlite") as old, sqlite3.connect(copy / "survey.sqlite") as new:
        old.backup(new)
    expired, good = (row["site"] for row in (_first(folder, "breaks"), _first(folder, "note")))
    with sqlite3.connect(copy / "survey.sqlite") as database:
        (packed,) = database.execute("select review from reviews where site = ? and run = 2", (expired,)).fetchone()
        database.execute("update reviews set review = ? where site = ? and run = 2", (packed, good))
        database.execute("delete from gaps where site = ? and run = 2", (good,))
    run = pewter("compare", "survey", folder=tmp_path)
    assert run.stdout.splitlines()[0] == "20 sites with two runs: 19 the same, 1 changed"
    assert "Opened" in run.stdout
    assert good in run.stdout
    assert run.returncode == 1


def _first(folder, worst):
    content = json.loads(pewter_json(folder))
    return next(row for row in content["rows"] if row["worst"] == worst)


def pewter_json(folder):
    pewter("survey", "--show", "survey", "-w", "rows.json", folder=folder)
    return (folder / "rows.json").read_bytes()


def test_the_same_command_goes_on_and_again_looks_anew(folder, tmp_path):
    (tmp_path / "list.txt").write_text("one.example\ntwo.example\nno such name!\n")
    # A resolver that refuses: nothing is reached, quickly.
    options = ("survey", "list.txt", "--into", "s", "--brief", "--resolver", "127.0.0.1:9", "--timeout", "3")
    first = pewter(*options, folder=tmp_path)
    assert first.returncode == 3, first.stderr
    assert first.stderr.startswith("pewter: line 3 is no site: ")
    assert first.stderr.endswith("pewter: no site was reached: of none of them is anything known\n")
    assert "2 of 2 sites: 0 reached, 2 not" in first.stdout
    same = pewter(*options, folder=tmp_path)
    assert "all 2 sites are looked at; --again looks anew" in same.stderr
    (tmp_path / "list.txt").write_text("two.example\nthree.example\n")
    changed = pewter(*options, "--again", "unreachable", folder=tmp_path)
    assert "1 sites of the folder are not in the list any more; what was found of them is kept" in changed.stderr
    assert "2 of 2 sites" in changed.stdout
    older = pewter(*options, "--again", "older-than", "7d", folder=tmp_path)
    assert older.returncode == 3, older.stderr
    brief = pewter(*(each for each in options if each != "--brief"), folder=tmp_path)
    assert (brief.returncode, brief.stderr.partition("; these")[2]) == (
        2, " have no --brief. Type the same ones to go on, or --again to begin a new run.\n",
    )  # fmt: skip
    from_input = subprocess.run(
        [PROGRAM, "survey", "-", "--into", "t", *options[4:]],
        cwd=tmp_path,
        env=environment(),
        input=b"\xef\xbb\xbfFOUR.example.\r\n",
        capture_output=True,
        timeout=60,
    )
    assert b"1 of 1 sites" in from_input.stdout
    head = subprocess.run(
        f"{PROGRAM} survey --show t | head -1",
        shell=True,
        cwd=tmp_path,
        env=environment(),
        capture_output=True,
        timeout=60,
    )
    nothing = b"pewter: no site was reached: of none of them is anything known\n"
    assert (head.stdout, head.stderr) == (b"1 of 1 sites: 0 reached, 1 not\n", nothing)


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("survey",), "Give a list and a folder for what is found"),
        (("survey", "list.txt"), "Give a list and a folder"),
        (("survey", "none.txt", "--into", "x"), "none.txt cannot be read: No such file or directory."),
        (("survey", "wrong.txt", "--into", "x"), "wrong.txt names no site: every line of it is wrong."),
        (("survey", "empty.txt", "--into", "x"), "empty.txt names no site: write one host name a line."),
        (("survey", "list.txt", "--into", "other"), "other holds other files and no survey"),
        (("survey", "list.txt", "--into", "list.txt"), "cannot be used: "),
        (("survey", "--show", "none"), "none holds no survey."),
        (("survey", "--show", "other", "--into", "x"), "--show tells of a folder by itself"),
        (("survey", "list.txt", "--into", "x", "-w", "x.pdf"), "it can be .csv, .json, .om, .parquet, .html"),
        (
            ("survey", "list.txt", "--into", "x", "--again", "older-than", "soon"),
            "--again 'older-than soon': it can be all",
        ),
        (("survey", "list.txt", "--into", "x", "--workers", "0"), "--workers is 0; allowed are 1 to 64."),
        (("survey", "list.txt", "--into", "x", "--timeout", "0"), "--timeout is 0"),
        (
            ("survey", "list.txt", "--into", "x", "--only", "hst"),
            "--only 'hst' is no area and no rule. Did you mean hsts?",
        ),
        (("survey", "list.txt", "--into", "x", "--only", "hsts", "--skip", "hsts"), "leave no rule to judge by."),
        (("survey", "list.txt", "--into", "x", "--only", "dns", "--brief"), "--brief asks nothing of name servers"),
        (("survey", "list.txt", "--into", "x", "--resolver", "dns"), "--resolver 'dns' is no ADDRESS[:PORT]"),
        (("report", "other", "--site", "a.example"), "other holds no survey."),
        (("report", "other"), "--site NAME says whose review of its survey"),
        (("report", "x.json", "--site", "a.example"), "--site is of a survey's folder"),
        (("compare", "x.json"), "Two saved reviews are compared, or more of one site"),
        (("demo", "--crowd", "0"), "--crowd is 0; allowed are 1 to 2000 sites."),
    ],
)
def test_bad_input(tmp_path, arguments, words):
    (tmp_path / "list.txt").write_text("a.example\n")
    (tmp_path / "wrong.txt").write_text("no such!\n-\n")
    (tmp_path / "empty.txt").write_text("# nothing\n")
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "notes.txt").write_text("mine")
    run = pewter(*arguments, folder=tmp_path)
    assert run.returncode == 2, (run.stdout, run.stderr)
    assert words in run.stderr
    assert "Traceback" not in run.stderr
    assert [each.name for each in (tmp_path / "other").iterdir()] == ["notes.txt"]


def test_a_name_that_is_in_no_survey(folder):
    run = pewter("report", "survey", "--site", "nobody.example", folder=folder)
    assert (run.returncode, "survey holds no review of nobody.example." in run.stderr) == (2, True)
