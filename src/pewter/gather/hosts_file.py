"""This machine's own hosts file: where a browser here goes without asking any name service."""

from collections.abc import Iterable
from pathlib import Path

from pewter.evidence import Plan, is_ip_address, is_this_machine

from .routes import Route

HOSTS_FILE = Path("/etc/hosts")
MAX_HOSTS_FILE = 1 << 20


def in_hosts_file(names: Iterable[str]) -> tuple[tuple[str, str], ...]:
    """Which of the names this machine's own hosts file leads somewhere: a browser here goes there."""
    try:
        with HOSTS_FILE.open("rb") as file:
            lines = file.read(MAX_HOSTS_FILE).decode("utf-8", "replace").splitlines()
    except OSError:
        return ()
    wanted, found = frozenset(names), list[tuple[str, str]]()
    for line in lines:
        address, *entries = line.partition("#")[0].split() or [""]
        found += ((entry.lower(), address) for entry in entries if entry.lower() in wanted)
    return tuple(dict.fromkeys(found))


def routes_by_hosts_file(plan: Plan) -> tuple[Route, ...]:
    """For typed names that it names: a browser here goes there, and so does a look that asks this machine's resolver.

    None where a resolver or a route was given, or where the names come from a list that others may have written.
    """
    if plan.resolvers or plan.names_are_listed:
        return ()
    typed = [each.host for each in plan.targets if not is_ip_address(each.host) and not is_this_machine(each.host)]
    return tuple(
        Route(name, None, address, None)
        for name, address in in_hosts_file(typed)
        if is_ip_address(address) and "%" not in address  # one with a zone is of one link
    )
