"""What is to be done about gaps: the lines for the servers at hand, in an order in which each is safe."""

import functools
import re
from collections.abc import Callable, Collection, Iterator, Sequence
from typing import Any, Protocol, TypeVar

import msgspec

from pewter.evidence import Hop
from pewter.levels import Level
from pewter.mends.composer import MAX_HOSTS, Piece, Situation, compose, kinds_with, repeats_policy
from pewter.mends.kinds import Kind, kind_file
from pewter.mends.recognition import by_application, by_debug_page, by_server_field
from pewter.places import PlaceKind
from pewter.web.cookies import Cookie, read_set_cookie
from pewter.web.hsts import read_sts
from pewter.web.urls import in_url, read_url

from .nature import MendedBy, Safety
from .outcomes import Gap
from .rule import Rule

_T = TypeVar("_T")

MAX_TITLES = 6

_COOKIE_NAME = re.compile(r"([^\s;=]{1,100})=")


class HasHosts(Protocol):
    """What is known of the hosts at which something is to be mended."""

    @property
    def canonical(self) -> str: ...

    @property
    def resolving_names(self) -> Collection[str]: ...

    @property
    def names_in_order(self) -> Sequence[str]: ...

    def expected_hosts(self, name: str) -> tuple[str, ...]: ...

    def hops_of(self, host: str) -> Sequence[Hop]: ...

    def server_given(self, host: str) -> str: ...

    def once(self, what: object, work_out: Callable[[], _T]) -> _T: ...


class Configuration(msgspec.Struct, frozen=True, omit_defaults=True):
    """Lines for one kind of server."""

    server: str
    hosts: tuple[str, ...]
    """Those of the entry that run it."""

    choice: str = ""
    """Where lines for another program stand beside these: whether one of the two is enough."""

    is_second: bool = False
    """Lines for another program come first, and are enough."""

    pieces: tuple[Piece, ...] = ()
    held_back: str = ""
    """Why there are none yet."""


def configurations(
    case: HasHosts,
    rule: Rule[Any],
    gaps: Sequence[Gap],
    waits: dict[str, str],
    cookie_gaps: Sequence[tuple[str, str, str]] = (),
    tried: frozenset[str] = frozenset(),
) -> tuple[Configuration, ...]:
    """The lines for one entry, for each kind of server that was recognised or given.

    ``waits``: hosts for which lines of this rule would not be safe yet, and why.  ``cookie_gaps``: host, cookie and
    rule of all gaps of cookies.  ``tried``: hosts whose policy is to be lengthened, by whatever gap its field is told.
    """
    by_kind: dict[Kind, dict[str, Situation]] = {}
    cookies: dict[str, dict[str, None]] = {}
    for gap in gaps:
        host = gap.host or gap.where.host
        if gap.where.kind is PlaceKind.COOKIE:
            cookies.setdefault(host, {})[gap.where.name] = None
        for kind in _kinds(case, rule, gap, host):
            situation = _situation(case, gap, host, kind, for_long=host in tried)
            known = by_kind.setdefault(kind, {})
            if host in known and known[host].is_secure is not situation.is_secure:
                situation = msgspec.structs.replace(situation, is_secure=None)  # both schemes are at fault
            known[host] = situation
    for situations in by_kind.values():
        for host, names in cookies.items():
            if host in situations:
                others = tuple((cookie, other) for there, cookie, other in cookie_gaps if there == host)
                situations[host] = msgspec.structs.replace(situations[host], cookies=tuple(names), cookie_gaps=others)
    found: list[Configuration] = []
    for kind, situations in by_kind.items():
        keep = [host for host in situations if repeats_policy(rule.name, kind) and _policies_differ(case, host)]
        found += _of_kind(rule.name, kind, situations, {**waits, **dict.fromkeys(keep, _POLICIES_DIFFER)})
    if rule.area == "protocol":
        found = [each if case.server_given(each.hosts[0]) else _where_tls_ends(each) for each in found]
    return _with_choice(rule, found)


def _where_tls_ends(found: Configuration) -> Configuration:
    """A proxy that ends TLS passes on the name of the program behind it, and mostly names itself nowhere."""
    if not found.pieces:
        return found
    words = "Where another program ends TLS, its lines instead (--server KIND)"
    return msgspec.structs.replace(found, choice=words)


def _with_choice(rule: Rule[Any], found: Sequence[Configuration]) -> tuple[Configuration, ...]:
    """Where lines for two programs are for one host: whether one of them is enough, and which; that one first."""
    lines = [each for each in found if each.pieces]
    if len(lines) != _PROGRAMS or not set(lines[0].hosts) & set(lines[1].hosts):
        return tuple(found)
    application, server = lines
    if rule.nature.mended_by is MendedBy.BOTH:
        words = {application: f"Both these lines and those for {server.server} are needed", server: ""}
        order = lines
    else:
        first, other = (server, application) if rule.nature.safety.comes_before_hsts else (application, server)
        words = {
            first: f"Either these lines or those for {other.server}, one of the two is enough; these first",
            other: f"Only in place of the lines for {first.server}",
        }
        order = [first, msgspec.structs.replace(other, is_second=True)]
        words[order[1]] = words[other]
    others = [each for each in found if not each.pieces]
    return (*(msgspec.structs.replace(each, choice=words[each]) for each in order), *others)


_PROGRAMS = 2

_POLICIES_DIFFER = (
    "no line for the whole host, since its pages send different policies; add upgrade-insecure-requests to each where "
    "it is made"
)


def _policies_differ(case: HasHosts, host: str) -> bool:
    """Whether pages of a host send different Content-Security-Policies: one line for all would take some away."""
    return len({hop.values("Content-Security-Policy") for hop in _pages_of(case, host)}) > 1


def _pages_of(case: HasHosts, host: str) -> list[Hop]:
    """Answers over https that show a page: no redirect, and no error page, whose policy is its own."""
    return [hop for hop in case.hops_of(host) if hop.is_https and 200 <= hop.status < 300]


def _of_kind(rule: str, kind: Kind, situations: dict[str, Situation], waits: dict[str, str]) -> Iterator[Configuration]:
    title = kind_file(kind).title
    free = tuple(host for host in situations if host not in waits)
    pieces = compose(rule, kind, [situations[host] for host in free])
    if pieces:
        of_all = tuple(msgspec.structs.replace(each, hosts=()) if each.hosts == free else each for each in pieces)
        yield Configuration(title, free, pieces=of_all)
    reasons: dict[str, list[str]] = {}
    for host, situation in situations.items():
        if host in waits and compose(rule, kind, [situation]):
            reasons.setdefault(waits[host], []).append(host)
    for reason, hosts in reasons.items():
        yield Configuration(title, tuple(hosts[:MAX_HOSTS]), held_back=reason)


@functools.lru_cache(maxsize=256)
def kinds_elsewhere(rule: str) -> tuple[str, ...]:
    """Titles of the kinds for which ``pewter explain`` has lines; of many the first ones."""
    titles = [kind_file(kind).title for kind in kinds_with(rule)]
    return tuple(titles if len(titles) <= MAX_TITLES else [*titles[: MAX_TITLES - 1], "more"])


# Which program


def _kinds(case: HasHosts, rule: Rule[Any], gap: Gap, host: str) -> tuple[Kind, ...]:
    """The program that decides, the reviewer's word first."""
    if gap.where.kind is PlaceKind.FILE or not host:
        return ()
    if given := case.server_given(host):
        return (Kind(given),)
    found = []
    if rule.nature.mended_by is not MendedBy.SERVER:
        of_host = case.once(f"application of {host}", lambda: application_of(case, host))
        found.append(by_debug_page(gap.seen) or of_host)
    is_plain = _is_plain(rule, gap)
    found.append(server_of(case, host, is_plain=is_plain)[0])
    return tuple(dict.fromkeys(kind for kind in found if kind is not None))


def _is_plain(rule: Rule[Any], gap: Gap) -> bool:
    """Whether it is who answers on port 80 that decides."""
    secure = _is_secure(gap)
    return not secure if secure is not None else rule.nature.safety.redirects


def _is_secure(gap: Gap) -> bool | None:
    url = gap.check_url or gap.where.seen_at
    return url.startswith("https:") if url.startswith(("http:", "https:")) else None


def server_of(case: HasHosts, host: str, *, is_plain: bool = False) -> tuple[Kind | None, tuple[int, ...]]:
    """What answers over http, or over https, for a host; and its version, where it says so."""
    return case.once(f"server of {host} {is_plain}", lambda: _server_of(case, host, is_plain=is_plain))


def _server_of(case: HasHosts, host: str, *, is_plain: bool) -> tuple[Kind | None, tuple[int, ...]]:
    of_scheme: dict[bool, list[str]] = {True: [], False: []}
    for hop in case.hops_of(host):
        of_scheme[not hop.is_https] += hop.values("Server")
    fields = (*of_scheme[is_plain], *of_scheme[not is_plain])
    if not fields and any(hop.values("Via") for hop in case.hops_of(host)):
        return Kind.EDGE, ()  # something that passes on and does not name itself
    return by_server_field(fields)


def application_of(case: HasHosts, host: str) -> Kind | None:
    hops = case.hops_of(host)
    cookies = [match[1] for hop in hops for value in hop.values("Set-Cookie") if (match := _COOKIE_NAME.match(value))]
    return by_application(cookies, (value for hop in hops for value in hop.values("X-Powered-By")))


# What was seen


def _situation(case: HasHosts, gap: Gap, host: str, kind: Kind, *, for_long: bool) -> Situation:
    """What was seen of the host, once for all of its gaps, and of this one."""
    known = case.once(f"situation of {host}", lambda: _of_host(case, host))
    is_secure = _is_secure(gap)
    is_plain = is_secure is False
    recognised, version = server_of(case, host, is_plain=is_plain)
    return msgspec.structs.replace(
        known,
        port=gap.where.port or known.port,
        is_secure=is_secure,
        for_long=for_long,
        is_own_circle=gap.cause == f"circle of {host}",
        is_plain_circle=gap.cause == f"plain circle of {host}",
        version=version if recognised is kind else (),
    )


def _of_host(case: HasHosts, host: str) -> Situation:
    expected = case.expected_hosts(host)
    landing = expected[0] if expected and expected[0] != host else ""
    secure = [hop for hop in case.hops_of(host) if hop.is_https]
    fields = next((values for hop in secure if (values := hop.values("Strict-Transport-Security"))), ())
    policy = read_sts(fields[0]) if fields else None
    return Situation(
        host=in_url(host),
        landing=in_url(landing) if landing else "",
        canonical=case.canonical,
        port=next((read_url(hop.url).port for hop in secure), 443),
        names=case.once("resolving names in URLs", lambda: tuple(map(in_url, case.resolving_names))),
        max_age=getattr(policy, "max_age", None),
        sts=fields[0].strip() if fields else "",
        policy=next(
            (", ".join(v) for hop in _pages_of(case, host) if (v := hop.values("Content-Security-Policy"))), ""
        ),
        cookie_flags=tuple(dict.fromkeys(_cookie_flags(secure))),
        names_powered_by=any(hop.values("X-Powered-By") for hop in secure),
    )


def _cookie_flags(hops: Sequence[Hop]) -> Iterator[tuple[str, str]]:
    for hop in hops:
        for value in hop.values("Set-Cookie"):
            cookie = read_set_cookie(value, read_url(hop.url), hop.at)
            if isinstance(cookie, Cookie):
                same_site = (cookie.same_site or "").lower()
                flags = {"secure": cookie.secure, "httponly": cookie.http_only}
                yield from ((cookie.name, flag) for flag, is_set in flags.items() if is_set)
                if same_site in {"lax", "strict", "none"}:
                    yield cookie.name, f"samesite={same_site}"


# In which order


def step_of(rule: Rule[Any], level: Level) -> int | None:
    """0 for https without a warning, 1 for redirects, 2 for HSTS; None for what waits for nothing, and nothing for it.

    In this order they are safe: nobody may be sent to https before it opens, nor held there before that.
    """
    match rule.nature.safety:
        case Safety.FREE:
            return None
        case Safety.SHUT:
            return 0
        case Safety.SHUT_WHERE_IT_BREAKS:
            return 0 if level is Level.BREAKS else None
        case safety:
            return 1 if safety.redirects else 2


def _above(host: str) -> Iterator[str]:
    """``x.example`` and ``example`` of ``a.x.example``."""
    labels = host.split(".")
    return (".".join(labels[position:]) for position in range(1, len(labels)))


_SHUT_IN = frozenset({Safety.CIRCLES, Safety.LEADS_BACK})
"""What leaves a visitor outside who may not go back to http."""


def waits_of(rule: Rule[Any], entries: Sequence[tuple[int, Rule[Any], Level, frozenset[str]]]) -> dict[str, str]:
    """Hosts for which lines of a rule have to wait, and for what: number, rule, level and hosts of each entry."""
    safety = rule.nature.safety
    step = step_of(rule, Level.NOTE)
    waits: dict[str, str] = {}
    for number, other, level, hosts in entries:
        earlier = step_of(other, level)
        if not step or earlier is None or earlier >= step or (earlier and not other.nature.safety.comes_before_hsts):
            continue
        for host in hosts:
            what = "opens only behind a warning, or not at all" if earlier == 0 else "is not where visitors are led yet"
            waits.setdefault(host, f"not yet: https://{in_url(host)} {what} (gap {number}); mend that first")
    if safety is Safety.HOLDS_BELOW:
        for number, other, level, hosts in entries:
            for host in hosts if step_of(other, level) == 0 or other.nature.safety in _SHUT_IN else ():
                is_shut = step_of(other, level) == 0
                what = "which opens only behind a warning, or not at all" if is_shut else "which leads back to http"
                words = f"not yet: includeSubDomains would reach {host}, {what}"
                for above in _above(host):
                    waits.setdefault(above, f"{words} (gap {number}); mend that first")
    if safety is Safety.LEADS:
        for number, other, _, hosts in entries:
            for host in hosts if other.nature.safety is Safety.LEADS_BACK else ():
                words = (
                    f"not yet: https://{in_url(host)} leads back to http (gap {number}), and this would make a circle"
                )
                waits.setdefault(host, f"{words}; mend that first")
    return waits
