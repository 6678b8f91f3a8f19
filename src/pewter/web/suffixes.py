"""Public suffixes and registrable domains, by the list that browsers use."""

import functools
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from pewter.evidence import is_ip_address


@functools.cache
def _list(*, only_icann: bool = False) -> Any:
    from publicsuffixlist import PSLFILE, PublicSuffixList  # noqa: PLC0415  slow to load, and not always needed

    with Path(PSLFILE).open("rb") as file:
        return PublicSuffixList(_with_encoded(file), accept_encoded_idn=False, only_icann=only_icann)


def _with_encoded(lines: Iterable[bytes]) -> Iterator[bytes]:
    """Names beyond ASCII in both forms: the package encodes each of ten thousand, which takes most of its time."""
    for line in lines:
        yield line
        if not line.isascii() and not line.startswith(b"//"):
            name = line.decode("utf-8").split(" ")[0].strip().lower()
            yield ("!" * name.startswith("!")).encode() + name.lstrip("!").encode("idna") + b"\n"


def is_public_suffix(name: str) -> bool:
    """Whether anyone may register a name right below this one: ``co.uk``, ``example``."""
    return bool(_list().is_public(name))


def is_registry_suffix(name: str) -> bool:
    """Whether a name is a suffix of a registry's own (``co.uk``, an unknown ``test``), not of a hosting service."""
    return bool(_list(only_icann=True).is_public(name))


def registrable_domain(name: str) -> str | None:
    """One label below the public suffix; None for a suffix itself and for an IP address."""
    if is_ip_address(name):
        return None
    found = _list().privatesuffix(name)
    return str(found) if found else None


def suffixes_are_read() -> bool:
    """Whether the list is at hand: reading it takes a while, once a process."""
    return bool(_list.cache_info().currsize)


def is_apex(name: str) -> bool:
    """Whether a name is a registrable domain."""
    return registrable_domain(name) == name


@functools.cache
def list_version() -> str:
    """Whose list it is and how old, as ``publicsuffixlist 1.0.2.20260101``."""
    import importlib.metadata  # noqa: PLC0415  slow to load, and needed once at the end

    return f"publicsuffixlist {importlib.metadata.version('publicsuffixlist')}"
