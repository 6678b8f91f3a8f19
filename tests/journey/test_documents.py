"""What the documents say is run: the Python example and every command of the schedules."""

import datetime
import re
import shlex
from pathlib import Path

import nbclient
import nbformat
import pytest

from pewter.cli import demo
from pewter.lab.marram import Stage, marram_ferries
from pewter.lab.world import World, WorldThread
from support.program import pewter

DOCUMENTS = Path(__file__).parents[2] / "docs"
MENDED, FAILING = 0, 1


def blocks(document: str, language: str) -> list[str]:
    text = (DOCUMENTS / document).read_text(encoding="utf-8")
    return re.findall(rf"^```{language}\n(.*?)^```", text, re.MULTILINE | re.DOTALL)


COMMANDS = [line for block in blocks("schedules.md", "sh") for line in block.splitlines()]


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """Of the demo as found, while it runs."""
    folder = tmp_path_factory.mktemp("documents")
    now = datetime.datetime.now(datetime.UTC)
    scenario = marram_ferries(Stage.AS_FOUND, now)
    with WorldThread(World(scenario)) as world:
        demo.write_site_file(folder, scenario, world, now)
        yield folder


def test_the_python_example(folder, monkeypatch, capsys):
    monkeypatch.chdir(folder)
    for example in blocks("python.md", "python"):
        exec(compile(example, "python.md", "exec"), {})
    said = capsys.readouterr().out.splitlines()
    assert re.match(r"<Review of www\.marram-ferries\.example, .* UTC: \d+ breaks, ", said[0])
    assert "breaks chain/incomplete freight.marram-ferries.example" in said
    assert any(line.startswith("opens by then: date/expired www.marram-ferries.example at ") for line in said)
    assert (folder / "page.html").read_bytes().startswith(b"<!doctype html>")


def test_the_python_examples_in_a_notebook(folder):
    """In a kernel, whose loop runs already."""
    cells = [
        each.replace("asyncio.run(pewter.look(settled))", "await pewter.look(settled)")
        for each in blocks("python.md", "python")
    ]
    cells += ["review", "pewter.plot(review, '.png')"]
    book = nbformat.v4.new_notebook(cells=[nbformat.v4.new_code_cell(each) for each in cells])
    done = nbclient.NotebookClient(
        book, timeout=180, kernel_name="python3", resources={"metadata": {"path": str(folder)}}
    ).execute()
    shown = [
        {kind for output in cell.outputs if output.output_type == "execute_result" for kind in output.data}
        for cell in done.cells
    ]
    assert shown[-3:] == [{"text/plain", "image/svg+xml"}, {"text/plain", "text/html"}, {"text/plain", "image/png"}]
    assert "breaks chain/incomplete freight.marram-ferries.example" in done.cells[0].outputs[0].text
    (report,) = done.cells[-2].outputs
    assert report.data["text/plain"].startswith("<Review of www.marram-ferries.example, ")
    assert report.data["text/html"].startswith('<iframe srcdoc="&lt;!doctype html&gt;')


def test_every_command_of_the_schedules(folder):
    statuses = {}
    for command in COMMANDS:
        program, *arguments = shlex.split(command.replace("2 hours", "20 seconds"))  # which one look outlasts
        assert program == "pewter"
        run = pewter(*arguments, folder=folder)
        statuses[command] = run.returncode
        assert "Traceback" not in run.stderr
        for written in re.findall(r"--write (\S+)", command):
            assert (folder / written).stat().st_size > 100, (command, run.stderr)
    quiet = {command for command, status in statuses.items() if status == MENDED}
    assert quiet == {command for command in COMMANDS if command.split()[1] in {"compare", "expiry"}}
    assert set(statuses.values()) == {MENDED, FAILING}
    text = (DOCUMENTS / "schedules.md").read_text(encoding="utf-8")
    named = set(re.findall(r"pewter (?:review|recheck|report|compare|expiry) [^`\n]*", text))
    known = [" ".join(shlex.split(command)) for command in COMMANDS]
    for each in named - set(COMMANDS) - {"pewter recheck review.json"}:
        # The same command with a path of its own.
        words = each.replace("/var/lib/node_exporter/", "").split()
        assert any(set(words) <= {*command.split(), "latest.json", "pewter.prom"} for command in known), each
