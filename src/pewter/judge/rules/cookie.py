"""Are cookies safe where they go, and do browsers keep them?

A cookie that looks like a session or login is judged one level higher than others, though never as
``breaks``, which is kept for what stops a visitor.
"""

import datetime
from collections.abc import Iterator

import msgspec

from pewter.evidence import Hop, Step
from pewter.expectations import write_duration
from pewter.facts.case import Case
from pewter.judge.nature import OF_COOKIES, GoesBy
from pewter.judge.outcomes import Gap, Holds, RuleOutcome
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.places import Place, of_cookie
from pewter.web.cookie_kinds import CookieKind, Guess, guess_kind
from pewter.web.cookies import MAX_SET, Cookie, IgnoredCookie, RefusalKind, read_set_cookie
from pewter.web.urls import Url, read_url

_SOURCE = "RFC 6265bis"
_KNOWN_SAME_SITE = frozenset({"strict", "lax", "none"})
_SLUGS = {
    RefusalKind.NONE_NOT_SECURE: "none-not-secure",
    RefusalKind.PREFIX: "prefix",
    RefusalKind.OTHER: "refused",
    RefusalKind.OVER_HTTP: "",  # cookie/over-http speaks of it
}
"""Which rule speaks of which refusal."""


class _Set(msgspec.Struct, frozen=True):
    """One Set-Cookie field of one answer."""

    hop: Hop
    url: Url
    name: str
    attributes: str
    """As sent, for the report: ``session; Path=/; HttpOnly``."""

    read: Cookie | IgnoredCookie
    guess: Guess

    @property
    def where(self) -> Place:
        return of_cookie(self.hop.url, self.url.host, self.name)

    @property
    def cause(self) -> str:
        return f"{self.name} at {self.url.host}"

    @property
    def looks_like_session(self) -> bool:
        return self.guess.kind is CookieKind.SESSION

    @property
    def detail(self) -> str:
        if not self.looks_like_session:
            return ""
        return f"{self.name} looks like a session or login cookie: {self.guess.sign}"

    def gap(self, expected: str, level: Level, seen: str = "") -> Gap:
        raised = level
        if self.looks_like_session and level is not Level.BREAKS:
            raised = list(Level)[max(level.rank - 1, Level.EXPOSES.rank)]
        return Gap(self.where, seen or self.attributes, expected, cause=self.cause, level=raised, detail=self.detail)


def _cookies(case: Case) -> Iterator[_Set]:
    """Every Set-Cookie of the site's own names, each once for a host, name and wording.

    Deletions are left out, and what the same answer sets anew: browsers keep the last.
    """
    yield from case.once("cookies", lambda: tuple(_find_cookies(case)))


def _find_cookies(case: Case) -> Iterator[_Set]:
    seen: set[tuple[str, str, str]] = set()
    for journey in case.evidence.journeys:
        for hop in journey.hops:
            url = read_url(hop.url)
            if url.host not in case.site_names:
                continue
            fields = hop.values("Set-Cookie")[:MAX_SET]
            read = [read_set_cookie(field, url, hop.at) for field in fields]
            last = {each.key: position for position, each in enumerate(read) if isinstance(each, Cookie)}
            for position, (field, each) in enumerate(zip(fields, read, strict=True)):
                name, attributes = _split(field)
                key = (f"{url.scheme}://{url.host}", name, attributes)
                replaced = isinstance(each, Cookie) and (each.deletes or last[each.key] != position)
                if key not in seen and not replaced:
                    seen.add(key)
                    yield _Set(hop, url, name or "(no name)", attributes, each, guess_kind(name))


def _split(field: str) -> tuple[str, str]:
    pair, semicolon, attributes = field.partition(";")
    name, equals, _ = pair.partition("=")
    name = name.strip() if equals else ""
    return name, f"{name or '(no name)'}{semicolon}{attributes}"


def _kept(case: Case) -> Iterator[tuple[_Set, Cookie]]:
    for each in _cookies(case):
        if isinstance(each.read, Cookie):
            yield each, each.read


@rule("cookie/not-secure", level=Level.EXPOSES, sources=(_SOURCE,), nature=OF_COOKIES)
def not_secure(case: Case) -> Iterator[RuleOutcome]:
    """A cookie without Secure goes over plain http as well."""
    for each, cookie in _kept(case):
        if not each.url.is_https:
            continue
        if cookie.secure:
            yield Holds(each.where, f"{each.name}: Secure")
        else:
            yield each.gap("Secure", Level.EXPOSES)


@rule("cookie/over-http", level=Level.EXPOSES, sources=(_SOURCE,), nature=OF_COOKIES)
def over_http(case: Case) -> Iterator[RuleOutcome]:
    """A cookie set in a plain http answer has been read by whoever is on the way."""
    for each in _cookies(case):
        if each.url.is_https:
            yield Holds(each.where, f"{each.name}: set over https")
        else:
            gap = each.gap("set over https only", Level.EXPOSES)
            yield msgspec.structs.replace(gap, cause=f"set over http at {each.url.host}")


@rule("cookie/not-http-only", level=Level.WEAKENS, sources=(_SOURCE,), nature=OF_COOKIES)
def not_http_only(case: Case) -> Iterator[RuleOutcome]:
    """A cookie that no script needs should be out of every script's reach."""
    for each, cookie in _kept(case):
        if cookie.http_only:
            yield Holds(each.where, f"{each.name}: HttpOnly")
        elif each.guess.kind is not CookieKind.ANALYTICS:
            yield each.gap("HttpOnly", Level.NOTE if each.guess.kind is CookieKind.CSRF else Level.WEAKENS)


@rule("cookie/same-site", level=Level.WEAKENS, sources=(_SOURCE,), nature=OF_COOKIES)
def same_site(case: Case) -> Iterator[RuleOutcome]:
    """SameSite says on which requests from other sites a cookie goes along; where it is missing, browsers differ."""
    for each, cookie in _kept(case):
        if cookie.same_site is not None and cookie.same_site.lower() in _KNOWN_SAME_SITE:
            yield Holds(each.where, f"{each.name}: SameSite={cookie.same_site}")
        else:
            yield each.gap("SameSite=Lax, Strict or None", Level.WEAKENS)


def _refusals(case: Case) -> Iterator[tuple[_Set, str, str]]:
    """Each cookie with the rule that speaks of its refusal and the reason; both empty for one that is kept."""
    for each in _cookies(case):
        match each.read:
            case Cookie(dropped_by=browser) if browser:
                yield each, "refused", f"{browser} keeps no cookie without a name"
            case Cookie():
                yield each, "", ""
            case IgnoredCookie(kind=kind, reason=reason, kept_by=browser) if _SLUGS[kind]:
                yield each, _SLUGS[kind], reason + (f" ({browser} keeps it)" if browser else "")


def _refused_as(case: Case, slug: str, expected: str) -> Iterator[RuleOutcome]:
    for each, speaks, reason in _refusals(case):
        if speaks == slug:
            yield each.gap(expected, Level.BREAKS, f"{each.attributes}: {reason}")
        elif not speaks:
            yield Holds(each.where, f"{each.name}: kept")


@rule("cookie/none-not-secure", level=Level.BREAKS, sources=(_SOURCE,), nature=OF_COOKIES)
def none_not_secure(case: Case) -> Iterator[RuleOutcome]:
    """Browsers drop SameSite=None without Secure."""
    yield from _refused_as(case, "none-not-secure", "Secure beside SameSite=None")


@rule("cookie/prefix", level=Level.BREAKS, sources=(_SOURCE,), nature=OF_COOKIES)
def prefix(case: Case) -> Iterator[RuleOutcome]:
    """Browsers drop a cookie that does not keep what its name's prefix promises."""
    yield from _refused_as(case, "prefix", "Secure, and for __Host- Path=/ without Domain")


@rule("cookie/refused", level=Level.BREAKS, sources=(_SOURCE,), nature=OF_COOKIES)
def refused(case: Case) -> Iterator[RuleOutcome]:
    """Browsers drop what breaks their rules: a foreign Domain, control characters, too long."""
    yield from _refused_as(case, "refused", "a cookie that browsers keep")


@rule(
    "cookie/wide-domain",
    level=Level.WEAKENS,
    sources=(_SOURCE,),
    nature=OF_COOKIES.but(goes_by=frozenset({GoesBy.ALL_NAMES})),
)
def wide_domain(case: Case) -> Iterator[RuleOutcome]:
    """A session given to the whole domain goes to every host of it, the weakest included."""
    for each, cookie in _kept(case):
        if not each.looks_like_session:
            continue
        others = [name for name in case.resolving_names if name != each.url.host and name.endswith("." + cookie.domain)]
        if not cookie.host_only and others:
            yield each.gap(
                "no Domain attribute", Level.WEAKENS, f"{each.attributes}: goes to {', '.join(others[:4])} too"
            )
        else:
            yield Holds(each.where, f"{each.name}: {'one host' if cookie.host_only else cookie.domain}")


@rule("cookie/long-lived", level=Level.NOTE, sources=("Pewter's baseline: session_cookie_life",), nature=OF_COOKIES)
def long_lived(case: Case) -> Iterator[RuleOutcome]:
    """A session that lasts for months can be stolen for months."""
    for each, cookie in _kept(case):
        if not each.looks_like_session:
            continue
        longest = case.expect.session_cookie_life
        if cookie.life is not None and cookie.life > longest:
            expected = f"at most {write_duration(longest)}"
            whole = cookie.life == datetime.timedelta(days=cookie.life.days)
            days = f"{each.attributes}: {'' if whole else 'more than '}{cookie.life.days} days"
            if cookie.is_capped:
                days += ", to which browsers cut a longer life"
            yield Gap(each.where, days, expected, cause=each.cause, detail=each.detail)
        else:
            life = "a browser session" if cookie.life is None else write_duration(cookie.life)
            yield Holds(each.where, f"{each.name}: {life}")


@rule("cookie/overwritten", level=Level.NOTE, sources=(_SOURCE,), nature=OF_COOKIES)
def overwritten(case: Case) -> Iterator[RuleOutcome]:
    """One name set twice in one answer with different scope leaves two cookies, and chance decides which is read."""
    answers: dict[str, dict[str, list[tuple[_Set, Cookie]]]] = {}
    for each, cookie in _kept(case):
        answers.setdefault(each.hop.url, {}).setdefault(each.name, []).append((each, cookie))
    for by_name in answers.values():
        for name, pairs in by_name.items():
            scopes = {(cookie.domain, cookie.host_only, cookie.path) for _, cookie in pairs}
            if len(scopes) > 1:
                first = pairs[0][0]
                seen = "; then ".join(each.attributes for each, _ in pairs[:3])
                yield Gap(first.where, seen, f"{name} set once", cause=first.cause)
            else:
                yield Holds(pairs[0][0].where, f"{name}: one scope")


STEPS: tuple[Step, ...] = (Step.SIBLINGS, Step.WAYS_IN, Step.ABSENT, Step.FOUND)
"""What has to be asked for its rules."""

RULES = (
    not_secure,
    over_http,
    not_http_only,
    same_site,
    none_not_secure,
    prefix,
    refused,
    wide_domain,
    long_lived,
    overwritten,
)
