"""Names that belong together: apex and www."""

from collections.abc import Callable, Iterable, Sequence

from .urls import https_origin


def sibling_of(name: str, is_apex: Callable[[str], bool]) -> str | None:
    """The other half of an apex-and-www pair; None for a name that has none.

    ``www.x.example`` has ``x.example``; a registrable domain has its ``www``.  ``is_apex`` tells
    whether a name is a registrable domain.
    """
    if name.startswith("www."):
        return name.removeprefix("www.")
    return f"www.{name}" if is_apex(name) else None


def are_siblings(name: str, other: str) -> bool:
    """Whether one is the other with ``www.`` before it."""
    return name == f"www.{other}" or other == f"www.{name}"


def work_out_canonical(landings: Iterable[str], first_name: str) -> str:
    """The canonical origin, from the https origins at which the first name's home page ways in land.

    The most frequent wins, the first of equals; with none, ``https://`` and the first name.
    """
    counts: dict[str, int] = {}
    for origin in landings:
        counts[origin] = counts.get(origin, 0) + 1
    return max(counts, key=lambda origin: counts[origin]) if counts else https_origin(first_name)


def paths_for(name: str, paths: Sequence[str]) -> tuple[str, ...]:
    """The paths that are ways in to ``name``: ``/x`` goes for every name, ``tickets.x.example/y`` for one."""
    found = []
    for path in paths:
        owner, slash, rest = path.partition("/")
        if not owner or owner.lower() == name:
            found.append(slash + rest)
    return tuple(dict.fromkeys(found))


def common_domain(names: Sequence[str]) -> str:
    """The one of the names under which all others are; empty where there is none, or but one name."""
    shortest = min(names, key=len, default="")
    is_common = len(names) > 1 and all(name == shortest or name.endswith(f".{shortest}") for name in names)
    return shortest if is_common else ""


def short_name(name: str, domain: str) -> str:
    """A name without the domain that it is of; the domain itself as ``(apex)``."""
    if not domain:
        return name
    return "(apex)" if name == domain else name.removesuffix(f".{domain}")
