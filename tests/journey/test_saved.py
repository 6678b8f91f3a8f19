"""``report``, ``judge`` and ``compare``: the built program on saved reviews, offline."""

import json

import msgspec
import pytest

from pewter.judge.review import case_of, make_review, read_review, write_review
from support.program import pewter


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("saved")
    for stage in ("as-found", "mended"):
        assert pewter("demo", "--stage", stage, "--into", ".", folder=folder).returncode == 0
    return folder


FOUND, MENDED = "review-as-found.json", "review-mended.json"


def test_report_shows_and_writes_what_was_judged(folder):
    shown = pewter("report", FOUND, folder=folder)
    assert shown.returncode == 1
    assert shown.stdout.startswith(
        "■ www.marram-ferries.example: Visitors of 6 of 10 names are stopped or warned: no address"
    )
    files = [f"r{suffix}" for suffix in (".txt", ".html", ".md", ".csv", ".sarif", ".xml", ".om", ".prom", ".json")]
    written = pewter("report", FOUND, *(part for file in files for part in ("-w", file)), folder=folder)
    assert (written.returncode, written.stdout) == (1, "")
    assert (folder / "r.json").read_bytes() == (folder / FOUND).read_bytes()
    assert (folder / "r.txt").read_text().splitlines()[0] == shown.stdout.splitlines()[0]
    assert (folder / "r.html").stat().st_size < 300_000
    assert len({(folder / file).read_bytes() for file in files}) == len(files)
    assert pewter("report", MENDED, "--fail-on", "note", folder=folder).returncode == 0


def test_judge_goes_by_another_day_and_by_other_terms(folder):
    assert pewter("judge", MENDED, folder=folder).returncode == 0
    later = pewter("judge", MENDED, "--as-of", "2199-01-01", folder=folder)
    assert (later.returncode, "date/expired" in later.stdout) == (1, True)
    (folder / "other.toml").write_text('[expect]\nhsts_minimum_age = "999 days"\n', encoding="utf-8")
    stricter = pewter("judge", MENDED, "--site", "other.toml", "--fail-on", "weakens", "--json", folder=folder)
    assert stricter.returncode == 1
    rules = {gap["rule"] for gap in json.loads(stricter.stdout)["results"]["gaps"]}
    assert "hsts/short" in rules
    supposed = pewter("judge", FOUND, "--suppose", "hsts", folder=folder)
    assert "hsts/would-lock-out" in supposed.stdout


def test_compare_says_what_closed_and_what_changed(folder):
    run = pewter("compare", FOUND, MENDED, folder=folder)
    assert run.returncode == 0
    first = run.stdout.splitlines()[0]
    assert first.startswith("✓ www.marram-ferries.example: ")
    assert first.endswith(" closed")
    assert len(run.stdout.splitlines()) <= 60
    assert "certificate of marram-ferries.example, www: " in run.stdout
    assert "name servers of marram-ferries.example: " in run.stdout
    assert "  before 20" in run.stdout
    assert "; Pewter " in run.stdout
    back = pewter("compare", MENDED, FOUND, folder=folder)
    assert (back.returncode, " opened" in back.stdout.splitlines()[0]) == (1, True)
    same = pewter("compare", MENDED, MENDED, folder=folder)
    assert same.returncode == 0
    assert same.stdout.startswith("✓ www.marram-ferries.example: no gap before and none now\n")


def test_what_a_partial_look_leaves_out_is_not_closed(folder):
    """A look at one area against the whole one: nothing is green, the exit status neither, in no format."""
    whole = read_review((folder / FOUND).read_bytes(), FOUND)
    plan = msgspec.structs.replace(whole.evidence.plan, only=("hsts",))
    part = make_review(
        case_of(msgspec.structs.replace(whole, evidence=msgspec.structs.replace(whole.evidence, plan=plan)))
    )
    (folder / "part.json").write_bytes(write_review(part))
    run = pewter("compare", FOUND, "part.json", "-w", "part.sarif", "-w", "c.json", "-w", "c.md", folder=folder)
    assert run.returncode == 1
    assert "Closed" not in run.stdout
    assert "Could not be seen this time" in run.stdout
    assert "--only hsts" in run.stdout
    changes = json.loads((folder / "c.json").read_bytes())["gaps"]
    assert {each["change"] for each in changes} == {"not seen this time", "stayed"}
    (sarif,) = json.loads((folder / "part.sarif").read_bytes())["runs"]
    assert "absent" not in {each["baselineState"] for each in sarif["results"]}
    assert "## Closed" not in (folder / "c.md").read_text(encoding="utf-8")


def test_results_that_were_edited_by_hand_are_judged_again(folder):
    """Their gaps are taken out by hand, the evidence is as it was."""
    edited = json.loads((folder / FOUND).read_bytes())
    for result in edited["results"]["rules"]:
        result["gaps"] = []
    edited["results"]["gaps"] = []
    (folder / "edited.json").write_text(json.dumps(edited), encoding="utf-8")
    run = pewter("compare", FOUND, "edited.json", folder=folder)
    assert run.returncode == 0
    assert "closed" not in run.stdout.splitlines()[0]
    assert "edited.json: its results are not what its evidence comes to" in run.stderr
    assert "edited by hand? Judged again" in " ".join(run.stdout.split())


def test_a_review_of_before_there_was_a_verdict_is_read(folder):
    """The form is promised to be read: what results lacked then is made anew."""
    older = json.loads((folder / FOUND).read_bytes())
    for name in ("verdict", "after_first", "hints"):
        older["results"].pop(name)
    for entry in older["results"]["gaps"]:
        entry.pop("hosts", None)
    for result in older["results"]["rules"]:
        result.pop("short", None)
    (folder / "older.json").write_text(json.dumps(older), encoding="utf-8")
    shown = [pewter("report", name, folder=folder).stdout for name in (FOUND, "older.json")]
    assert shown[0] == shown[1]


def test_judge_that_writes_says_its_verdict(folder):
    run = pewter("judge", MENDED, "-w", "judged.json", folder=folder)
    assert (run.returncode, run.stdout) == (0, "")
    assert "www.marram-ferries.example: No gap found: visitors arrive safely." in run.stderr


def test_expiry_lists_what_ends_soonest_first(folder):
    run = pewter("expiry", ".", "-w", "ends.ics", "-w", "ends.csv", folder=folder)
    assert run.returncode == 0, run.stderr
    head, *lines = run.stdout.splitlines()
    lines, sources = lines[: lines.index("")], lines[lines.index("") + 1 :]
    assert head.startswith("What ends when  on 20")
    assert lines == sorted(lines, key=lambda line: line[2:18])
    assert "review-as-found.json" not in run.stdout  # the mended one is newer
    assert [line[:3] for line in sources] == [f"[{number}]" for number in range(1, len(sources) + 1)]
    assert all(run.stdout.count(line.partition(" ")[2]) == 1 for line in sources)
    assert all(len(line) <= 100 and line[0] in "■▲·✓" for line in lines)
    kinds = ("certificate ", "renewal due ", "intermediate ", "zone signatures ")
    assert all(any(f"  {kind}" in line for line in lines) for kind in kinds)
    assert (folder / "ends.csv").read_bytes().startswith(b"ends_at,kind,where,words,source\r\n")
    found = pewter("expiry", FOUND, "skerry-trust-root.pem", "--as-of", "2199-01-01", folder=folder)
    assert " days ago" in found.stdout.splitlines()[1]
    assert "Skerry Trust Root R1" in found.stdout


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("report", "none.json"), "none.json cannot be read: No such file or directory."),
        (("report", "half.json"), "half.json is no saved review"),
        (("report", "newer.json"), "newer.json has the format 'pewter-review/9'; this Pewter reads 'pewter-review/2'."),
        (("judge", "level.json"), "level.json is a damaged review"),
        (("judge", MENDED, "--as-of", "soon"), "--as-of 'soon' is no date"),
        (("judge", MENDED, "--site", "none.toml"), "none.toml cannot be read"),
        (("judge", MENDED, "--suppose", "tls"), "--suppose 'tls': what can be supposed is hsts."),
        (("report", MENDED, "-w", "r.pdf"), "--write r.pdf: the suffix says the format"),
        (("report", MENDED, "-w", "none/r.md"), "none/r.md cannot be written"),
        (("report", MENDED, "--fail-on", "awful"), "--fail-on 'awful' is no level"),
        (("compare", MENDED, "other.json"), "two sites cannot be compared"),
        (("expiry", "none.json"), "none.json cannot be read"),
        (("expiry", "half.json"), "half.json is no saved review"),
        (("expiry", "files/none"), "files/none cannot be read"),
        (("expiry", MENDED, "-w", "e.pdf"), "it can be .ics, .csv, .om, .prom, .png, .svg."),
        (("compare", FOUND, MENDED, "-w", "c.pdf"), "it can be .html, .md, .json, .sarif."),
        (("expiry", MENDED, "--as-of", "2199-01-01", "-w", "e.ics"), "there is nothing to write into a calendar"),
        (("report", "."), ". is a folder: --site NAME says whose review of its survey"),
    ],
)
def test_bad_input(folder, arguments, words):
    octets = (folder / MENDED).read_bytes()
    (folder / "half.json").write_bytes(octets[: len(octets) // 2])
    (folder / "newer.json").write_bytes(octets.replace(b"pewter-review/2", b"pewter-review/9", 1))
    (folder / "level.json").write_bytes(octets.replace(b'"level":"', b'"level":"x', 1))
    (folder / "other.json").write_bytes(octets.replace(b"marram-ferries", b"skerry-ferries"))
    before = {file.name for file in folder.iterdir()}
    run = pewter(*arguments, folder=folder)
    assert run.returncode == 2
    assert words in run.stderr
    assert "Traceback" not in run.stderr
    assert {file.name for file in folder.iterdir()} == before
