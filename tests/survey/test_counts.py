"""What a database counts is what is counted row by row."""

import sys
from pathlib import Path

import pytest

from pewter.errors import FileError
from pewter.report.many import Tally
from pewter.survey.store import Ledger
from pewter.tasks.surveying import StoredRows, show_survey

sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks"))

from many_sites import fill


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("many") / "s"
    fill(folder, 700)
    return folder


def counted(tally):
    lives = {issuer: (round(seconds), count) for issuer, (seconds, count) in tally.lives.items()}
    kept = {name: value for name, value in vars(tally).items() if name not in {"lives", "_soonest", "_count"}}
    return kept, lives, tally.soonest


def test_both_ways_come_to_the_same(folder):
    found = show_survey(folder).found
    by_row = Tally()
    for row in found.rows:
        by_row.add(row)
    assert counted(found.tally) == counted(by_row)
    assert (by_row.reached + by_row.not_reached, len(found.rows)) == (700, 700)
    assert len(found.worst_rows) == 700 and found.worst_rows[0]["site"] == "site-0000000.example"


@pytest.mark.parametrize(
    "change",
    [
        "days_left = 'soon'",
        "error = x'00', reached = 0",
        "issuer = 5",
        "looked_at = 'never'",
        "seconds = 'long'",
        "hsts_age = 1.5",
    ],
)
def test_values_that_nobody_wrote_are_one_sentence(folder, tmp_path, change):
    (tmp_path / "s").mkdir()
    with Ledger.open_to_read(folder) as ledger:
        ledger._db.execute("vacuum into ?", (str(tmp_path / "s" / "survey.sqlite"),))
    with Ledger.open_to_write(tmp_path / "s") as ledger, ledger._db:
        ledger._db.execute(f"update rows set {change} where site = 'site-0000007.example'")
        ledger._db.execute("pragma user_version = 1")
    with pytest.raises(FileError, match="is damaged"):
        StoredRows(tmp_path / "s", 700).count_into(Tally())
