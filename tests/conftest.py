"""What tests share that pytest has to know of."""

import os
import re
import signal
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest

from pewter.judge.outcomes import Gap, Holds, RuleOutcome

WRITE = os.environ.get("PEWTER_TOLD") == "write"
"""Write down anew what rules tell; the difference is then read like any other change."""

_FINGERPRINT = re.compile(r"[0-9a-f]{30,64}|(?<=SHA-256 )[0-9a-f]{8}")
_MOMENT = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}(?: [0-9]{2}:[0-9]{2})?(?: UTC)?")
_RECORDS: dict[Path, dict[str, list[str]]] = {}
_CHANGED: set[Path] = set()


def in_words(outcome: RuleOutcome) -> str:
    """An outcome whole, on one line."""
    match outcome:
        case Gap():
            words = f"gap at {outcome.where}: {outcome.seen} => {outcome.expected}"
            more = {"level": outcome.level.value if outcome.level else "", "cause": outcome.cause}
            more |= {"detail": outcome.detail, "mend": outcome.mend, "host": outcome.host}
            words += "".join(f" [{name}: {value}]" for name, value in more.items() if value)
        case Holds():
            words = f"holds at {outcome.where}: {outcome.seen}"
        case _:
            words = f"unknown at {outcome.where}: {outcome.reason}"
    # Keys are made anew for each run, and with them every fingerprint.
    return _FINGERPRINT.sub("#", words)


@pytest.fixture
def told(request: pytest.FixtureRequest) -> Callable[..., None]:
    """Holds the outcomes of a rule, words included, against those written down beside the test in ``told/``.

    Each call within a test is a paragraph of its own.  ``PEWTER_TOLD=write pytest`` writes them anew.
    """
    file = request.path.parent / "told" / f"{request.path.stem}.txt"
    records = _RECORDS.setdefault(file, _read(file))
    expected = records.get(request.node.name, [])
    found: list[str] = []

    def hold(outcomes: Sequence[RuleOutcome], *, dated: bool = True) -> None:
        """Not ``dated``: the test goes by the real clock, so that days differ from run to run."""
        position = len(found)
        words = "\n".join(map(in_words, outcomes)) or "nothing"
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


def pytest_sessionstart() -> None:
    """Whoever runs the tests in the background of a shell has Ctrl-C ignored, and so would every program that they start.

    What is printed is laid out as for no terminal, whatever terminal the tests run in.
    """
    os.environ["COLUMNS"] = "100"
    if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
        signal.signal(signal.SIGINT, signal.default_int_handler)


def pytest_sessionfinish() -> None:
    for file in _CHANGED:
        file.parent.mkdir(exist_ok=True)
        sections = (f"# {title}\n" + "\n--\n".join(told) for title, told in sorted(_RECORDS[file].items()))
        file.write_text("\n\n".join(sections) + "\n", encoding="utf-8")
