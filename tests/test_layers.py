"""The parts of CONTRIBUTING.md keep to their layers: every arrow runs down, imports within functions counted."""

import ast
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "pewter"

ALLOWED = {
    "errors": set(),
    "escape": set(),
    "octets": set(),
    "kept": set(),
    "phrases": set(),
    "places": set(),
    "crypto": set(),
    "version": set(),
    "data": set(),
    "evidence": {"kept"},
    "tls": {"data", "evidence", "octets", "crypto"},
    "pki": {"evidence", "octets", "crypto", "kept"},
    "web": {"evidence", "octets", "places", "kept"},
    "names": {"data", "evidence", "kept", "octets"},
    "mends": {"data", "phrases"},
    "fitting": {"mends", "phrases"},
    "levels": set(),
    "expectations": {"errors", "evidence", "phrases"},
    "facts": {"crypto", "octets", "evidence", "expectations", "names", "phrases", "pki", "places", "tls", "web"},
    "pictures": {"evidence", "facts", "levels", "names", "phrases", "pki", "places", "tls", "web"},
    "judge": {
        "data",
        "facts",
        "pictures",
        "expectations",
        "levels",
        "evidence",
        "tls",
        "pki",
        "web",
        "names",
        "mends",
        "crypto",
        "errors",
        "escape",
        "octets",
        "phrases",
        "places",
        "version",
    },
    "gather": {"version", "evidence", "tls", "pki", "web", "names", "errors", "octets", "places", "kept"},
    "report": {
        "data",
        "fitting",
        "levels",
        "pki",
        "version",
        "evidence",
        "web",
        "judge",
        "errors",
        "escape",
        "phrases",
    },
    "plan": {
        "levels",
        "expectations",
        "facts",
        "evidence",
        "fitting",
        "tls",
        "pki",
        "web",
        "names",
        "mends",
        "judge",
        "gather",
        "errors",
        "escape",
        "phrases",
        "places",
    },
    "survey": {
        "phrases",
        "facts",
        "expectations",
        "levels",
        "version",
        "evidence",
        "names",
        "tls",
        "web",
        "judge",
        "gather",
        "plan",
        "pki",
        "errors",
        "escape",
    },
    "tasks": {
        "facts",
        "expectations",
        "levels",
        "errors",
        "escape",
        "evidence",
        "fitting",
        "gather",
        "judge",
        "mends",
        "names",
        "phrases",
        "pki",
        "places",
        "plan",
        "report",
        "survey",
        "web",
    },
    "api": {
        "facts",
        "expectations",
        "levels",
        "tasks",
        "evidence",
        "judge",
        "gather",
        "plan",
        "report",
        "survey",
        "errors",
    },
    "lab": {"data", "evidence", "tls", "octets", "errors"},
    "cli": {
        "facts",
        "expectations",
        "levels",
        "tasks",
        "version",
        "evidence",
        "tls",
        "pki",
        "names",
        "web",
        "mends",
        "judge",
        "gather",
        "plan",
        "report",
        "survey",
        "lab",
        "errors",
        "escape",
        "places",
        "phrases",
    },
}
CORE = ("evidence", "tls", "pki", "names", "web", "facts", "pictures", "judge")
NOT_IN_THE_CORE = {"asyncio", "socket", "ssl", "httpx", "httpcore", "typer", "rich", "dns", "requests", "selectors"}


def modules(part: str) -> list[Path]:
    folder = SOURCE / part
    return sorted(folder.rglob("*.py")) if folder.is_dir() else [folder.with_suffix(".py")]


def imports(path: Path) -> set[str]:
    """Absolute names of all that a module imports, wherever the import stands."""
    package = ("pewter", *path.relative_to(SOURCE).parts[:-1])
    found = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            base = list(package[: len(package) - node.level + 1]) if node.level else []
            module = ".".join([*base, *([node.module] if node.module else [])])
            found |= {f"{module}.{alias.name}" for alias in node.names} if module == "pewter" else {module}
    return found


@pytest.mark.parametrize("part", sorted(ALLOWED))
def test_part_imports_only_what_lies_below_it(part):
    for path in modules(part):
        parts = {name.split(".")[1] for name in imports(path) if name.startswith("pewter.")}
        assert parts - {part} <= ALLOWED[part], path


@pytest.mark.parametrize("part", CORE)
def test_core_has_no_interface_sockets_or_event_loop(part):
    for path in modules(part):
        tops = {name.split(".")[0] for name in imports(path)}
        assert not tops & NOT_IN_THE_CORE, path


@pytest.mark.parametrize(
    ("importing", "left_alone"),
    [
        pytest.param("judge/rules", "pewter.judge.results", id="rules-import-no-results"),
        pytest.param("report", "pewter.facts", id="renderers-import-no-fact"),
        pytest.param("report", "pewter.judge.rule", id="renderers-import-no-rule"),
    ],
)
def test_layers_of_the_judge(importing, left_alone):
    for path in modules(importing):
        assert not [name for name in imports(path) if f"{name}.".startswith((f"{left_alone}.", f"{left_alone}s."))], (
            path
        )


def test_the_lab_is_imported_by_the_demo_alone():
    """What stands in for servers is no part of a review."""
    users = {
        path.name
        for part in set(ALLOWED) - {"lab"}
        for path in modules(part)
        if any(name.startswith("pewter.lab") for name in imports(path))
    }
    assert users == {"demo.py"}
    loaded = subprocess.run([sys.executable, "-c", "import sys, pewter.cli.main, pewter.cli.review, pewter.cli.bundle, pewter.tasks.reviewing; print(*sys.modules)"], capture_output=True, text=True, check=True).stdout  # fmt: skip
    assert "pewter.lab" not in loaded


def test_every_part_is_known():
    parts = {path.stem for path in SOURCE.iterdir() if path.suffix == ".py" or (path / "__init__.py").exists()}
    assert parts - {"__init__", "__main__"} == set(ALLOWED)


def test_every_data_file_goes_into_the_package():
    """An installed Pewter has the words, lines and tables that a checkout has."""
    globs = tomllib.loads((SOURCE.parents[1] / "pyproject.toml").read_text())["tool"]["setuptools"]["package-data"][
        "pewter"
    ]
    packed = {file for glob in globs for file in SOURCE.glob(glob)}
    data = {file for file in SOURCE.rglob("*") if file.is_file() and file.suffix not in {".py", ".pyc"}}
    assert data - packed == set()
