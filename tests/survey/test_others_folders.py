"""Folders and databases that somebody else made: nothing of them is changed, and nothing in them is believed unread."""

import datetime
import sqlite3

import pytest

from pewter.cli.demo import write_site_file
from pewter.errors import FileError, UsageError
from pewter.evidence import Target
from pewter.survey.sites import Site
from pewter.survey.store import FILE, Ledger
from pewter.tasks.starting import InitRequest, init
from pewter.tasks.surveying import show_survey


@pytest.fixture
def folder(tmp_path):
    with Ledger.open_to_write(tmp_path / "s") as ledger:
        ledger.take_list([Site((Target("x.example"),), 1)])
    return tmp_path / "s"


def in_it(folder, *statements):
    connection = sqlite3.connect(folder / FILE)
    for statement in statements:
        connection.execute(statement)
    connection.commit()
    connection.close()


def test_another_program_s_database_stays_to_the_octet(tmp_path):
    connection = sqlite3.connect(tmp_path / FILE)
    connection.execute("create table a (b)")
    connection.commit()
    connection.close()
    before = (tmp_path / FILE).read_bytes()
    for opened in (Ledger.open_to_write, Ledger.open_to_read):
        with pytest.raises(FileError, match="is a database of another program; it is left as it is"):
            opened(tmp_path)
    assert (tmp_path / FILE).read_bytes() == before
    assert [each.name for each in tmp_path.iterdir()] == [FILE]


@pytest.mark.parametrize(
    "statements",
    [
        ("drop table gaps", "create view gaps as with recursive g(n) as (select 1 union all select n + 1 from g) select n from g"),
        ("create trigger t after update on sites begin delete from sites; end",),
        ("alter table ends add column more text",),
        ("drop table reviews",),
    ],
    ids=["view", "trigger", "column", "table"],
)  # fmt: skip
def test_other_tables_are_refused(folder, statements):
    in_it(folder, *statements)
    for opened in (Ledger.open_to_write, Ledger.open_to_read):
        with pytest.raises(FileError, match="is damaged: it has other tables than a survey of this format"):
            opened(folder)


ROW = "insert into rows (site, run, names, reached, breaks, exposes, weakens, notes, unknown, seconds, connections, looked_at) values ('x.example', 1, %s)"


@pytest.mark.parametrize(
    "statements",
    [
        ("update sites set targets = x'ff'",),
        ("update sites set position = 'a'",),
        ("insert into runs values (1, 'yesterday', '', null)",),
        (ROW % "'many', 1, 0, 0, 0, 0, 0, 1.0, 1, '2026-12-01T00:00:00Z'",),
        (ROW % "1, 1, 0, 0, 0, 0, 0, 1.0, 1, 'never'",),
        (ROW % "1, 1, 0, 0, 0, 0, 0, 1.0, 1, '2026-12-01T00:00:00'",),
        ("insert into ends values ('x.example', 1, 'soon', 'a', 'b', 'c')",),
        ("insert into gaps values ('x.example', 1, x'00', 'breaks', 'b', 0)",),
        ("insert into gaps values ('x.example', 1, cast(x'ff' as text), 'breaks', 'b', 0)",),
        ("insert into reviews values ('x.example', 1, 'text')",),
        ("insert into reviews values ('x.example', 1, x'28b52ffd')",),
    ],
)
def test_values_that_nobody_wrote_are_one_sentence(folder, statements):
    in_it(folder, "update sites set run = 1", *statements)

    def read_all():
        with Ledger.open_to_read(folder) as ledger:
            list(ledger.waiting()), list(ledger.rows()), list(ledger.gaps()), list(ledger.ends())
            assert ledger.last_run
            ledger.review("x.example")

    with pytest.raises(FileError) as raised:
        read_all()
    assert "\n" not in str(raised.value)
    assert "holds no review of" not in str(raised.value)


def test_what_is_shown_of_it_is_too(folder):
    in_it(folder, "update sites set run = 1", ROW % "1, 1, 0, 0, 0, 0, 0, 1.0, 1, 'never'")
    with pytest.raises(FileError, match="is damaged"):
        list(show_survey(folder).found.rows)


def test_the_demo_writes_over_no_site_file_of_another(tmp_path):
    (tmp_path / "pewter.toml").write_text("[site]\n")
    with pytest.raises(FileError, match="is not the demo's, and is left as it is"):
        write_site_file(tmp_path, None, None, datetime.datetime.now(datetime.UTC))
    assert [each.name for each in tmp_path.iterdir()] == ["pewter.toml"]


def test_init_writes_through_no_link_to_nowhere(tmp_path):
    (tmp_path / "pewter.toml").symlink_to(tmp_path / "elsewhere")
    with pytest.raises(UsageError, match="is a link to what is not there"):
        init(InitRequest(folder=tmp_path, force=True))
    assert not (tmp_path / "elsewhere").exists()
