"""The reviewer's files: read within a bound, written whole or not at all."""

import os
import signal
import stat

import pytest

from pewter.cli.ending import write_files
from pewter.errors import FileError
from pewter.judge.review import make_review, read_review
from pewter.plan.files import check_writable, read_bounded, write_whole
from support.cases import case, journey


def fifo(folder):
    os.mkfifo(folder / "x")


def link_to_a_device(folder):
    (folder / "x").symlink_to("/dev/zero")


@pytest.mark.parametrize(
    ("made", "words"),
    [
        (lambda folder: None, "cannot be read: No such file or directory"), (fifo, "is no ordinary file"), (link_to_a_device, "is no ordinary file"),
        (lambda folder: (folder / "x").mkdir(), "is a folder"), (lambda folder: (folder / "x").write_bytes(bytes(3 << 20)), "is longer than 2 MiB, which is no file of certificates or keys"),
    ],
    ids=["nowhere", "fifo", "device", "folder", "long"],
)  # fmt: skip
def test_what_is_not_read(tmp_path, made, words):
    made(tmp_path)
    with pytest.raises(FileError, match=words):
        read_bounded(tmp_path / "x", 2 << 20)


@pytest.mark.parametrize("name", ["a" * 300, "a\0b", "\udce9\0"])
def test_names_that_no_file_can_have(tmp_path, name):
    for work in (lambda path: read_bounded(path, 1), check_writable, lambda path: write_whole(path, b"x")):
        with pytest.raises(FileError, match="cannot be"):
            work(tmp_path / name)


def test_a_file_is_replaced_whole_and_keeps_its_mode(tmp_path):
    (tmp_path / "x").write_bytes(b"old")
    (tmp_path / "x").chmod(0o640)
    (tmp_path / "link").symlink_to("x")
    check_writable(tmp_path / "link")
    write_whole(tmp_path / "link", b"new")
    assert ((tmp_path / "x").read_bytes(), (tmp_path / "x").stat().st_mode & 0o777) == (b"new", 0o640)
    assert sorted(each.name for each in tmp_path.iterdir()) == ["link", "x"]


def test_a_file_that_cannot_be_written_stays_as_it_was(tmp_path):
    """The limit on a file's size stands for a full disk."""
    (tmp_path / "x").write_bytes(b"old")
    pid = os.fork()
    if pid == 0:
        import resource

        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (1000, 1000))
        try:
            write_whole(tmp_path / "x", bytes(100_000))
        except FileError as exc:
            os._exit(0 if "cannot be written: File too large" in str(exc) else 2)
        os._exit(1)
    assert os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == 0
    assert [(each.name, each.read_bytes()) for each in tmp_path.iterdir()] == [("x", b"old")]


def test_after_a_power_cut_the_new_file_is_there(tmp_path, monkeypatch):
    """The file's octets and then its folder, which holds its name, are on the disk."""
    synced, sync = [], os.fsync

    def noted(descriptor):
        synced.append("folder" if stat.S_ISDIR(os.fstat(descriptor).st_mode) else "file")
        sync(descriptor)

    monkeypatch.setattr(os, "fsync", noted)
    write_whole(tmp_path / "x", b"new")
    assert (synced, (tmp_path / "x").read_bytes()) == (["file", "folder"], b"new")


def test_one_file_that_fails_costs_no_other(tmp_path, capsys):
    review = make_review(case(journey("http://www.marram-ferries.example/")))
    assert write_files([tmp_path / "no" / "x.json", tmp_path / "y.json"], review)
    assert read_review((tmp_path / "y.json").read_bytes(), "y") == review
    assert capsys.readouterr().err.splitlines() == [
        f"pewter: {tmp_path}/no/x.json cannot be written: No such file or directory.", f"pewter: wrote {tmp_path}/y.json",
    ]  # fmt: skip
