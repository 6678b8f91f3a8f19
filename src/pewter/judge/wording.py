"""The words of a rule, filled in for the place at hand."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol, TypeVar

from pewter.evidence import Hop
from pewter.web.urls import in_url, read_url

from .outcomes import Gap
from .rule import Rule

_T = TypeVar("_T")

_SERVERS = {
    "nginx": "nginx",
    "openresty": "nginx",
    "apache": "Apache",
    "microsoft-iis": "IIS",
    "haproxy": "HAProxy",
    "caddy": "Caddy",
    "cloudflare": "CDN",
    "cloudfront": "CDN",
    "akamaighost": "CDN",
}
"""Begin of a Server field value in lower case, and the name under which the catalogue has its lines."""


class HasHosts(Protocol):
    """What is known of the hosts at which something is to be mended."""

    @property
    def canonical(self) -> str: ...

    def expected_hosts(self, name: str) -> tuple[str, ...]: ...

    def hops_of(self, host: str) -> Sequence[Hop]: ...

    def once(self, what: str, work_out: Callable[[], _T]) -> _T: ...


@dataclass(frozen=True, slots=True)
class Filled:
    """What is said of one gap beside what was seen."""

    why: str
    mend: str
    check: str
    """How to see that it is mended."""

    server: str
    """The software for which ``configuration`` is: ``nginx``; empty where it is not known."""

    configuration: str


def words_for(case: HasHosts, rule: Rule[object], gap: Gap) -> Filled:
    """The rule's words for one gap."""
    words = rule.words
    host = gap.host or gap.where.host
    server = server_of(case, host)
    configuration = words.configurations.get(server, "")
    return Filled(
        why=_fill(words.why, case, host),
        mend=_fill(gap.mend or words.mend, case, host),
        check=_fill(words.check, case, host),
        server=server if configuration else "",
        configuration=_fill(configuration, case, host),
    )


def _fill(text: str, case: HasHosts, host: str) -> str:
    """``{host}`` is the place, ``{landing}`` the host on which its visitors should land.

    A line that would send a host to itself, and the remark above it, are left out: pasted, it would be a loop.
    Thousands of outcomes share one text.
    """
    return case.once(f"{host}: {text}", lambda: _filled(text, case, host))


def _filled(text: str, case: HasHosts, host: str) -> str:
    landing = case.expected_hosts(host)[0]
    if landing == host:
        text = _without_lines(text, "https://{landing}")
    canonical = read_url(case.canonical).host
    for placeholder, name in (("{host}", host), ("{landing}", landing), ("{canonical}", canonical)):
        text = text.replace(f"//{placeholder}", f"//{in_url(name)}").replace(placeholder, name)
    return text.strip()


def _without_lines(text: str, mark: str) -> str:
    kept: list[str] = []
    for line in text.split("\n"):
        if mark not in line:
            kept.append(line)
        elif kept and kept[-1].lstrip().startswith("#"):
            kept.pop()
    return "\n".join(kept)


def server_of(case: HasHosts, host: str) -> str:
    """The server software that answers for ``host``, under the name that the catalogue uses; empty if unknown."""
    return case.once(f"server of {host}", lambda: _server_of(case, host))


def _server_of(case: HasHosts, host: str) -> str:
    said = next((values[0].lower() for hop in case.hops_of(host) if (values := hop.values("Server"))), "")
    return next((title for start, title in _SERVERS.items() if said.startswith(start)), "")
