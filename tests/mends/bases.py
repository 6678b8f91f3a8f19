"""The configurations of ``bases.toml``, and how printed lines are put into them.

``<<place place>>`` holds a block that a mend may replace, ``<<fault fault>>`` lines of a fault, and ``@@place@@`` is where lines
are added.  Everything is passed to the application on port 8000, so that most faults are the application's own.
"""

import re
import tomllib
from pathlib import Path

import msgspec

from pewter.mends.kinds import Kind

FAULT = re.compile(r"<<fault\n(.*?)fault>>\n?|<<fault ([^\n]*?) fault>>", re.DOTALL)


class Base(msgspec.Struct, frozen=True):
    """One kind's configuration."""

    command: tuple[str, ...]
    test: tuple[str, ...]
    """Checks the configuration."""

    text: str
    plain: str = ""
    """Port 80, passed to the application."""

    other: str = ""
    """Another name on the same server."""

    file: str = "server.conf"
    files: dict[str, str] = {}
    """What an application needs beside its settings."""

    slots: dict[str, str] = {}
    """What stands in the places that a fault may take."""

    several: dict[str, str] = {}
    """The same, where one block answers for several names."""

    is_application: bool = False
    """It is itself under proof, behind the nginx of ``front.conf``; else the server is, before an application of ours."""


BASES = msgspec.convert(
    tomllib.loads((Path(__file__).parent / "bases.toml").read_text(encoding="utf-8")), dict[Kind, Base]
)


def put(
    text: str, place: str, manner: str, lines: str, *, has_of: bool, other_name: str = "", own_name: str = ""
) -> str:
    """The configuration with lines put where a mend says.

    A block that answers for another name too is kept, and the name is taken out of it.
    """
    if manner == "replaces" and not has_of:
        own = place + re.sub(r"[^a-z]", "", own_name)
        if f"<<{own}\n" in text:  # put there before
            return re.sub(
                rf"<<{own}\n.*?{own}>>", lambda match: f"<<{own}\n{lines}\n{own}>>", text, count=1, flags=re.DOTALL
            )
        lines = f"@@{place}@@\n<<{own}\n{lines}\n{own}>>"
        block = re.compile(rf"<<{place}\n.*?{place}>>", re.DOTALL)
        found = block.search(text)
        if found is None:
            assert f"@@{place}@@" in text, f"no block {place}"
            return text.replace(f"@@{place}@@", lines, 1)
        if own_name and own_name not in re.findall(r"[a-z.]+", found[0]):  # it is the block of another name
            return text.replace(found[0], f"{found[0]}\n{lines}", 1)
        if other_name:
            return block.sub(lambda match: f"{match[0].replace(other_name, '', 1)}\n{lines}\n", text, count=1)
        return block.sub(lambda match: f"{lines}\n", text, count=1)
    if manner in {"replaces", "removes"}:
        text = FAULT.sub("", text)
    if manner == "removes":
        return text
    mark = "@@last@@" if manner == "last" else f"@@{place}@@"
    assert mark in text, f"no place {place}"
    if manner == "first":
        return text.replace(mark, f"{mark}\n{lines}", 1)
    # What was put there before stays: later lines come behind it.
    return text.replace(mark, f"{lines} {mark}" if place == "bind" else f"{lines}\n{mark}", 1)


def bare(text: str) -> str:
    """Without any mark."""
    text = FAULT.sub(lambda match: match[1] or match[2] or "", text)
    return re.sub(r"<<[a-z]+\n|[a-z]+>>|@@[a-z]+@@", "", text)
