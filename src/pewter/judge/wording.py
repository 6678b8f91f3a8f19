"""The words of a rule, filled in for the place at hand."""

import re
import shlex

import msgspec

from pewter.places import PlaceKind, socket_text
from pewter.web.urls import in_url, read_url

from .mending import HasHosts
from .outcomes import Gap
from .rule import Rule

_OF_CHECKS = re.compile(r"\{(https?|url|host|server|connect)\}")


class Filled(msgspec.Struct, frozen=True):
    """What is said of one gap beside what was seen."""

    why: str
    mend: str
    check: str
    """How to see that it is mended."""


def words_for(case: HasHosts, rule: Rule[object], gap: Gap) -> Filled:
    """The rule's words for one gap."""
    words = rule.words
    host = gap.host or gap.where.host
    return Filled(
        why=_fill(words.why, case, host),
        mend=_fill(gap.mend or words.mend, case, host),
        check=_check(words.check, gap, host, _https_port(case, host)).replace("{below}", _below(case, host)),
    )


def _https_port(case: HasHosts, host: str) -> int:
    """At which its https answered."""
    return case.once(
        f"https port of {host}", lambda: next((read_url(h.url).port for h in case.hops_of(host) if h.is_https), 0)
    )


def _check(text: str, gap: Gap, host: str, https_port: int = 0) -> str:
    """``{https}`` and ``{http}`` are the URL at which the gap was seen, else the home page; quoted for a shell.

    ``{connect}`` is the address and port of the endpoint, else the host's.  A redirect can lead to a host whose name is
    a command to a shell.
    """
    where = gap.where
    seen_at = gap.check_url or where.seen_at
    port = where.port if where.kind is PlaceKind.ENDPOINT else https_port
    if seen_at.startswith("https:"):
        port = read_url(seen_at).port
    origin = in_url(host) if port in {0, 443} else f"{in_url(host)}:{port}"
    home = f"http://{in_url(host)}/"
    values = {
        "https": seen_at if seen_at.startswith("https:") else f"https://{origin}/",
        "http": seen_at if seen_at.startswith("http:") else home,
        "url": seen_at or home,
        "host": host,
        "server": where.name or where.address,
        "connect": socket_text(where.address or host, port or 443),
    }
    # All at once: what a URL holds is no placeholder.
    return _OF_CHECKS.sub(lambda match: shlex.quote(values[match[1]]), text)


def _below(case: HasHosts, host: str) -> str:
    """Options that name the hosts below, without which nothing of them is looked at."""
    names = [name for name in case.resolving_names if name.endswith(f".{host}")]
    return "".join(f" --also {shlex.quote(name)}" for name in names)


def _fill(text: str, case: HasHosts, host: str) -> str:
    """``{host}`` is the place, ``{landing}`` the host on which its visitors should land.

    Thousands of outcomes share one text.
    """
    return case.once(f"{host}: {text}", lambda: _filled(text, case, host))


def _filled(text: str, case: HasHosts, host: str) -> str:
    landing = case.expected_hosts(host)[0]
    canonical = read_url(case.canonical).host
    for placeholder, name in (("{host}", host), ("{landing}", landing), ("{canonical}", canonical)):
        text = text.replace(f"//{placeholder}", f"//{in_url(name)}").replace(placeholder, name)
    return text.strip()
