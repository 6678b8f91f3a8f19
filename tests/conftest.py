"""What tests share that pytest has to know of."""

import datetime
import enum
import os
import re
import signal
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec
import pytest
from hypothesis import HealthCheck, settings

from pewter.judge.outcomes import Gap, Holds, RuleOutcome

# How fast a busy machine makes inputs says nothing of what is tested.
settings.register_profile("busy", suppress_health_check=[HealthCheck.too_slow], deadline=None)
settings.load_profile("busy")

WRITE = os.environ.get("PEWTER_TOLD") == "write"
"""Write down anew what rules tell; the difference is then read like any other change."""

_FINGERPRINT = re.compile(r"[0-9a-f]{30,64}|(?<=SHA-256 )[0-9a-f]{8}")
_MOMENT = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}(?: [0-9]{2}:[0-9]{2})?(?: UTC)?")
_RECORDS: dict[Path, dict[str, list[str]]] = {}
_CHANGED: set[Path] = set()


def in_words(outcome: RuleOutcome) -> str:
    """An outcome whole, on one line: every field of it, those of a gap by their names."""
    if isinstance(outcome, Gap):
        fields = {name: _field(value) for name, value in msgspec.structs.asdict(outcome).items()}
        words = f"gap at {fields.pop('where')}: {fields.pop('seen')} => {fields.pop('expected')}"
        words += "".join(f" [{name}: {value}]" for name, value in fields.items() if value)
    elif isinstance(outcome, Holds):
        words = f"holds at {outcome.where}: {outcome.seen}"
    else:
        words = f"unknown at {outcome.where}: {outcome.reason}"
    # Keys are made anew for each run, and with them every fingerprint.
    return _FINGERPRINT.sub("#", words)


def _field(value: object) -> str:
    match value:
        case None:
            return ""
        case enum.Enum():
            return str(value.value)
        case tuple():
            return " + ".join(map(str, value))
    return f"{value:%Y-%m-%d %H:%M} UTC" if isinstance(value, datetime.datetime) else str(value)


@pytest.fixture
def told(request: pytest.FixtureRequest) -> Callable[..., None]:
    """Holds the outcomes of a rule, words included, against those written down beside the test in ``told/``.

    Each call within a test is a paragraph of its own.  ``PEWTER_TOLD=write pytest`` writes them anew.
    """
    file = request.path.parent / "told" / f"{request.path.stem}.txt"
    records = _RECORDS.setdefault(file, _read(file))
    expected = records.get(request.node.name, [])
    found: list[str] = []

    def hold(outcomes: Sequence[RuleOutcome] | str, *, dated: bool = True) -> None:
        """Outcomes, or lines of text.  Not ``dated``: the test goes by the real clock, so that days differ from run to run."""
        position = len(found)
        words = outcomes if isinstance(outcomes, str) else "\n".join(map(in_words, outcomes)) or "nothing"
        found.append(words if dated else _MOMENT.sub("DAY", words))
        if not WRITE:
            wanted = expected[position] if position < len(expected) else "not written down"
            assert found[-1].splitlines() == wanted.splitlines()

    def finish() -> None:
        if WRITE:
            records[request.node.name] = found
            _CHANGED.add(file)
        else:
            assert len(found) == len(expected), "more is written down than the test told"

    request.addfinalizer(finish)
    return hold


def _read(file: Path) -> dict[str, list[str]]:
    if not file.exists():
        return {}
    sections = file.read_text(encoding="utf-8").split("\n\n# ")
    found = {}
    for section in sections:
        title, _, body = section.removeprefix("# ").partition("\n")
        found[title] = body.strip("\n").split("\n--\n")
    return found


LONGEST_FIRST = ("survey/test_cluster", "survey/test_local", "journey/", "gather/")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes longest begins first, so that processes side by side end together."""

    def turn(item: pytest.Item) -> int:
        return next((n for n, each in enumerate(LONGEST_FIRST) if f"tests/{each}" in item.nodeid), len(LONGEST_FIRST))

    items.sort(key=turn)


def pytest_sessionstart() -> None:
    """Whoever runs the tests in the background of a shell has Ctrl-C ignored, and so would every program that they start.

    What is printed is laid out as for no terminal, whatever terminal the tests run in.
    """
    os.environ["COLUMNS"] = "100"
    # The key with which reviews are marked as this user's.
    os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp(prefix="pewter-state-")
    # Some environments forbid byte code: hundreds of programs that tests start would each be compiled anew.
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
        signal.signal(signal.SIGINT, signal.default_int_handler)


def pytest_sessionfinish() -> None:
    for file in _CHANGED:
        file.parent.mkdir(exist_ok=True)
        sections = (f"# {title}\n" + "\n--\n".join(told) for title, told in sorted(_RECORDS[file].items()))
        file.write_text("\n\n".join(sections) + "\n", encoding="utf-8")
