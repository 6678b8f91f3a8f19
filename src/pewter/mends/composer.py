"""Puts lines together: a kind's templates, filled in for what was seen.

What a site says of itself (names of hosts and cookies, policies) goes into the configuration of a running server: only
what is harmless in every one of their languages is ever filled in.  Where something else came, there are no lines.
"""

import functools
import re
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from ..phrases import all_of
from .kinds import Kind, KindFile, Manner, Template, kind_file

MAX_HOSTS = 12
"""Of one entry, for which lines are written out."""

DAY, YEAR = 86_400, 31_536_000
_LATER = f"It begins with a day; once nothing breaks, lengthen it in steps to a year ({YEAR})."

_HOST = re.compile(r"\[[0-9a-f:.]{2,45}\]|[a-z0-9_](?:[a-z0-9_.-]{0,252}[a-z0-9_])?", re.IGNORECASE)
_COOKIE = re.compile(r"[A-Za-z0-9_.-]{1,100}")
_POLICY = re.compile(r"[A-Za-z0-9 ;:/.*'=_,-]{0,2000}")
_PLACEHOLDER = re.compile(r"@([a-z_]+)@")


class Situation(msgspec.Struct, frozen=True):
    """What was seen at one host."""

    host: str
    """As it stands in a URL: an IPv6 address in brackets."""

    landing: str = ""
    """The host on which its visitors should land; empty where that is this one."""

    canonical: str = ""
    """The canonical origin."""

    port: int = 443
    names: tuple[str, ...] = ()
    """Of the site."""

    cookies: tuple[str, ...] = ()
    cookie_gaps: tuple[tuple[str, str], ...] = ()
    """Name and rule of every gap of a cookie of this host."""

    cookie_flags: tuple[tuple[str, str], ...] = ()
    """Name and flag of every cookie that has one: ``secure``, ``httponly``, ``samesite=lax``."""

    is_secure: bool | None = None
    """The hop at fault came over https; None where the gap is of no hop."""

    max_age: int | None = None
    """Of the HSTS policy that is in force."""

    for_long: bool = False
    """A policy that was tried is to last."""

    sts: str = ""
    """Its field; empty where none is in force."""

    policy: str = ""
    """The Content-Security-Policy that is sent already."""

    names_powered_by: bool = False
    is_own_circle: bool = False
    """The redirects go round between the http and the https of one host, or within the latter."""

    is_plain_circle: bool = False
    """They go round within its http."""

    version: tuple[int, ...] = ()
    """Of the server, where it said it."""

    @property
    def is_harmless(self) -> bool:
        """Whether every name in it can stand in a configuration."""
        return _are_hosts((self.host, self.landing or self.host)) and _are_hosts(self.names) and 0 < self.port < 1 << 16


@functools.lru_cache(maxsize=256)
def _are_hosts(names: tuple[str, ...]) -> bool:
    return all(_HOST.fullmatch(each) and ".." not in each for each in names)


_HOW = (", in place of ", ", take out ", ", beside what is there", ", before what is there", ", behind what is there")
_TAKES = frozenset({Manner.REPLACES, Manner.REMOVES})


class Piece(msgspec.Struct, frozen=True, omit_defaults=True):
    """Lines and where they go."""

    manner: Manner
    where: str
    """``in the server block for port 443 of www.x.example, beside what is there``."""

    lines: str
    note: str = ""
    place: str = ""
    """The name of the place in the kind's file."""

    hosts: tuple[str, ...] = ()
    """Of which it is, where these are not all that the lines beside it are for."""

    port: int = 0
    """Where it is not 443."""

    only: str = ""
    """Of two pieces for one place the one that fits: ``it has no add_header``; it stands in ``where`` too."""

    @property
    def how(self) -> str:
        """``in place of every ssl_ciphers line``, ``beside what is there``; empty where the place says all."""
        where = self.where.removesuffix(f"; if {self.only}") if self.only else self.where
        place = next((each for each in _HOW if each in where), None)
        return where[where.index(place) + 2 :] if place is not None else ""

    @property
    def of(self) -> str:
        """What its lines take the place of, or what is taken out."""
        return self.how.removeprefix("in place of ").removeprefix("take out ") if self.manner in _TAKES else ""

    @property
    def block(self) -> str:
        """Where it goes: ``in the server block for port 443 of www.x.example``."""
        where = self.where.removesuffix(f"; if {self.only}") if self.only else self.where
        return where.removesuffix(f", {self.how}") if self.how else where


def compose(rule: str, kind: Kind, situations: Sequence[Situation]) -> tuple[Piece, ...]:
    """The pieces of all hosts of one entry, each once; none where the kind has none, or a name is not harmless."""
    file = kind_file(kind)
    found: dict[Piece, list[str]] = {}
    for situation in situations[:MAX_HOSTS]:
        if situation.is_harmless:
            for template in file.templates(rule):
                for piece in _pieces(file, template, situation, rule, situations):
                    # The same lines for several hosts are told once, with the places of all: they may be one block.
                    hosts = found.setdefault(piece, [])
                    if situation.host not in hosts:
                        hosts.append(situation.host)
    said: set[str] = set()
    return tuple(_said_once(_at(piece, hosts), said) for piece, hosts in found.items())


def _at(piece: Piece, hosts: Sequence[str]) -> Piece:
    """With the hosts in the words for the place."""
    all_of_them = hosts[0] if len(hosts) == 1 else f"{all_of(hosts)} (once, where they share it)"
    return msgspec.structs.replace(piece, where=piece.where.replace("@host@", all_of_them), hosts=tuple(hosts))


def _said_once(piece: Piece, said: set[str]) -> Piece:
    """Without a remark that an earlier piece has."""
    if piece.note in said:
        return msgspec.structs.replace(piece, note="")
    said.add(piece.note)
    return piece


def _pieces(
    file: KindFile, template: Template, situation: Situation, rule: str, situations: Sequence[Situation]
) -> Iterator[Piece]:
    if not all(_holds(condition, situation) for condition in template.when):
        return
    values = _values(situation)
    if "@names" in f"{template.lines}{template.per_host}{template.note}":
        names = tuple(dict.fromkeys((situation.host, *situation.names)))
        values |= {"names": " ".join(names), "names_pattern": "|".join(map(re.escape, names))}
    if template.per_host:
        hosts = (_values(each) for each in situations[:MAX_HOSTS] if each.is_harmless)
        values["per_host"] = "\n".join(_fill(template.per_host.strip("\n"), each) for each in hosts)
    if template.per_name:
        each_of = ({**values, "host": name} for name in dict.fromkeys((*situation.names, situation.host)))
        values["per_name"] = "\n".join(_fill(template.per_name.strip("\n"), each) for each in each_of)
    if template.each == "cookie":
        for cookie in filter(_COOKIE.fullmatch, situation.cookies):
            rules = (rule, *(other for name, other in situation.cookie_gaps if name == cookie))
            has = [flag for name, flag in situation.cookie_flags if name == cookie]
            lacks = [flag for flag in map(file.flags.get, rules) if flag]
            # What is missing decides over what is there: a second SameSite would be refused.
            flags = {flag.partition("=")[0]: flag for flag in (*has, *lacks)}
            shown = " ".join(flags[each] for each in sorted(flags))
            own = {**values, "cookie": cookie, "cookie_pattern": re.escape(cookie), "flags": shown}
            yield _piece(file, template, own)
    elif "@policy@" not in template.lines or _POLICY.fullmatch(situation.policy):
        yield _piece(file, template, values)


def _piece(file: KindFile, template: Template, values: dict[str, str]) -> Piece:
    def fill(text: str) -> str:
        return _fill(text, values).strip("\n")

    place = file.places.get(template.place, "").replace("@port@", values["port"])
    lines, note = fill(template.lines), fill(template.note)
    if f"max-age={DAY}" in lines:
        note = f"{_LATER} {note}".strip()
    where = _where(template, place, fill(template.of))
    if template.only:
        where = f"{where}; if {template.only}"
    port = int(values["port"]) if values["port"] != "443" else 0
    return Piece(template.manner, where, lines, note, template.place, port=port, only=template.only)


def _fill(text: str, values: dict[str, str]) -> str:
    return _PLACEHOLDER.sub(lambda match: values[match[1]], text)


def _where(template: Template, place: str, of: str) -> str:
    match template.manner:
        case Manner.ADDS:
            return f"in {place}, beside what is there"
        case Manner.FIRST:
            return f"in {place}, before what is there"
        case Manner.LAST:
            return f"in {place}, behind what is there"
        case Manner.REPLACES if template.of:
            return f"in {place}, in place of {of}"
        case Manner.REPLACES:
            return f"in place of {place}"
        case Manner.NEW:
            return f"beside {place}"
        case Manner.BEFORE:
            return f"before {place}"
        case Manner.REMOVES:
            return f"in {place}, take out {of}"
        case Manner.COMMAND:
            return "run"
        case Manner.WORDS:
            return f"in {place}" if place else ""


def _age(situation: Situation) -> int:
    """Seconds: a new policy begins with a day; one that is in force is not shortened."""
    if situation.for_long:
        return YEAR
    now = situation.max_age
    return now if now is not None and DAY <= now <= 10 * YEAR else DAY


def _values(situation: Situation) -> dict[str, str]:
    port = "" if situation.port == 443 else f":{situation.port}"
    return {
        "host": situation.host,
        # Apache httpd takes no IPv6 address as a ServerName.
        "server_name": f"{'ServerAlias' if situation.host.startswith('[') else 'ServerName'} {situation.host}",
        "host_pattern": re.escape(situation.host),
        "origin": f"https://{situation.host}{port}",
        "landing": f"https://{situation.landing or situation.host}{port}",
        "canonical": situation.canonical,
        "sts": situation.sts,
        "port": str(situation.port),
        "policy": f"{situation.policy.strip().rstrip(';')}; " if situation.policy.strip(" ;") else "",
        "age": str(_age(situation)),
        "directives": "; ".join(("", *_kept(situation))),
        "directives_below": "; ".join(("", *dict.fromkeys(("includeSubDomains", *_kept(situation))))),
    }


_DIRECTIVES = {"includesubdomains": "includeSubDomains", "preload": "preload"}


def _kept(situation: Situation) -> tuple[str, ...]:
    """Directives of the policy in force, beside its age: a line that changes this keeps them."""
    found = (_DIRECTIVES.get(part.strip().lower()) for part in situation.sts.split(";"))
    return tuple(dict.fromkeys(each for each in found if each)) if situation.max_age else ()


def _holds(condition: str, situation: Situation) -> bool:
    match condition.split():
        case ["landing"]:
            return bool(situation.landing)
        case ["policy"]:
            return _has_policy(situation)
        case ["no", "policy"]:
            return not _has_policy(situation)
        case ["plain", "hop"]:
            return not situation.is_secure
        case ["secure", "hop"]:
            return situation.is_secure is not False
        case ["powered", "by"]:
            return situation.names_powered_by
        case ["own", "circle"]:
            return situation.is_own_circle
        case ["plain", "circle"]:
            return situation.is_plain_circle
        case ["cookie", name]:
            return name in situation.cookies
        case ["not", "only", "cookie", name]:
            return situation.cookies != (name,)
        case ["version", "unknown"]:
            return not situation.version
        case ["from", version]:
            return bool(situation.version) and situation.version >= _numbers(version)
        case ["before", version]:
            return bool(situation.version) and situation.version < _numbers(version)
    raise ValueError(condition)


def _has_policy(situation: Situation) -> bool:
    return bool(situation.max_age and _POLICY.fullmatch(situation.sts))


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(map(int, version.split(".")))


def repeats_policy(rule: str, kind: Kind) -> bool:
    """Whether lines for a rule repeat the Content-Security-Policy that is sent already."""
    return any("@policy@" in template.lines for template in kind_file(kind).templates(rule))


def kinds_with(rule: str) -> Iterable[Kind]:
    """Those that have lines for a rule."""
    return [kind for kind in Kind if kind_file(kind).templates(rule)]
