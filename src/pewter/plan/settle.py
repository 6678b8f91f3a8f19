"""From what was typed and the site file to a plan, its terms, and what the reviewer's own files hold."""

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from pewter.errors import UsageError
from pewter.evidence import Plan, Target
from pewter.expectations import Terms
from pewter.facts.case import Case
from pewter.gather.board import Given
from pewter.gather.routes import read_route
from pewter.judge.rule import Rule
from pewter.judge.rules import SITE_RULES, chosen_rules, near, steps_for
from pewter.web.sites import are_siblings

from .own_files import read_certificate_file, read_log_file, read_trust_file
from .request import LookRequest
from .root_stores import own_stores
from .site_file import KINDS, NAME, SiteFile, lines_of_names, read_site_file
from .terms import SUPPOSITIONS, terms_of
from .texts import TypedTarget, origin_text, read_canonical, read_path, read_target, resolver_text

GENTLE_SECONDS = 300.0
"""For the whole review, where it makes one connection at a time."""


MOST_OF_A_SITE = 400
"""Names under review, and paths that are tried: what one look can bring."""


class Settled(msgspec.Struct, frozen=True):
    """What a look is made of."""

    plan: Plan
    terms: Terms
    given: Given


def settle(typed: LookRequest, folder: Path, say: Callable[[str], None]) -> Settled:
    """What was typed comes before what the folder's site file says.  ``say`` is told what is not used, and why."""
    site_file = _site_file(typed, folder, say)
    look, is_described = site_file.look, site_file != SiteFile()
    targets, paths = _targets_and_paths(typed, site_file)
    gentle = typed.gentle or look.gentle
    timeout = typed.timeout if typed.timeout is not None else look.timeout or (GENTLE_SECONDS if gentle else 60.0)
    rules = check_look(typed.only, typed.skip, timeout, typed.trust, typed.trust_only)
    for supposed in typed.suppose:
        if supposed not in SUPPOSITIONS:
            raise UsageError(f"--suppose {supposed!r}: what can be supposed is hsts.")
    resolvers = typed.resolvers or ((look.resolver,) if isinstance(look.resolver, str) else look.resolver)
    canonical = typed.canonical or site_file.site.canonical
    plan = Plan(
        targets=targets,
        paths=paths,
        routes=tuple(str(read_route(text)) for text in (*typed.routes, *site_file.route_texts)),
        origins=_origins(typed, site_file, targets),
        resolvers=tuple(map(resolver_text, dict.fromkeys(resolvers))),
        only=typed.only,
        skip=typed.skip,
        steps=steps_for(rules),
        revocation=typed.revocation or look.revocation,
        site_file=NAME if is_described else "",
        site_lines=lines_of_names(folder / NAME, [target.host for target in targets]) if is_described else {},
        connections_per_address=1 if gentle else 8,
        whole_seconds=timeout,
        step_seconds=min(10.0, timeout),
    )
    origin = read_canonical(canonical).origin if canonical else None
    if typed.server and typed.server not in KINDS:
        raise UsageError(f"--server {typed.server!r} is none of {', '.join(KINDS)}.")
    terms = msgspec.structs.replace(terms_of(site_file), canonical=origin, suppose=typed.suppose)
    if typed.server:
        terms = msgspec.structs.replace(terms, server=typed.server, servers={})
    return Settled(plan, terms, _given(typed, site_file, folder, say))


def _origins(typed: LookRequest, site_file: SiteFile, targets: Sequence[Target]) -> tuple[str, ...]:
    """Those that were typed, and of the site file's those of names under review."""
    hosts = {target.host for target in targets}

    def read(texts: Sequence[str]) -> tuple[str, ...]:
        return tuple(origin_text(text, targets[0].host) for text in texts)

    of_targets = (text for text in read(site_file.origin_texts) if text.partition("=")[0] in hosts)
    return tuple(dict.fromkeys((*read(typed.origins), *of_targets)))


def _given(typed: LookRequest, site_file: SiteFile, folder: Path, say: Callable[[str], None]) -> Given:
    look = site_file.look

    def in_folder(names: Sequence[str]) -> tuple[Path, ...]:
        return tuple(folder / name for name in names)

    trust_only = typed.trust_only or in_folder(look.trust_only)
    trust = trust_only or (*in_folder(look.trust), *typed.trust)
    certificates = (*in_folder(look.certificates), *typed.certificates)
    return Given(
        stores=own_stores(),
        trust=tuple(each for file in trust for each in read_trust_file(file)),
        trusts_given_only=bool(trust_only),
        certificates=tuple(der for file in certificates for der in read_certificate_file(file, say)),
        logs=tuple(log for file in (*in_folder(look.ct_logs), *typed.ct_logs) for log in read_log_file(file)),
    )


def _targets_and_paths(typed: LookRequest, site_file: SiteFile) -> tuple[tuple[Target, ...], tuple[str, ...]]:
    read = [read_target(text) for text in (*typed.targets, *typed.also)]
    targets = read if typed.targets else [*(TypedTarget(name, 443, None) for name in _names_of(site_file)), *read]
    if not targets:
        raise UsageError(f"{NAME} names no site: give site.canonical or site.names.")
    paths = (*typed.paths, *(target.path for target in read if target.path is not None))
    if not typed.targets:
        paths = (*site_file.site.paths, *paths)
    distinct = {target.host: Target(target.host, target.port) for target in targets}
    every_path = tuple(dict.fromkeys(("/", *map(read_path, paths))))
    for what, count in (("names", len(distinct)), ("paths", len(every_path))):
        if count > MOST_OF_A_SITE:
            raise UsageError(
                f"{count:,} {what} are more than one site has: at most {MOST_OF_A_SITE}; see pewter survey."
            )
    return tuple(distinct.values()), every_path


def _site_file(typed: LookRequest, folder: Path, say: Callable[[str], None]) -> SiteFile:
    """The folder's site file, where no target is given or the first is a name of that site."""
    path = folder / NAME
    if not typed.uses_site_file or not path.exists():
        if not typed.targets:
            raise UsageError(f"No target, and no {NAME} in this folder. Type: pewter review www.x.example")
        return SiteFile()
    site_file = read_site_file(path)
    if typed.targets and not _is_of(site_file, read_target(typed.targets[0]).host):
        say(f"{NAME} in this folder is of another site and is not used")
        return SiteFile()
    say(f"using {NAME}")
    return site_file


def _is_of(site_file: SiteFile, host: str) -> bool:
    """A name of the site, or the apex or www of one."""
    return any(host == name or are_siblings(host, name) for name in _names_of(site_file))


def _names_of(site_file: SiteFile) -> tuple[str, ...]:
    canonical = (read_canonical(site_file.site.canonical).host,) if site_file.site.canonical else ()
    return tuple(dict.fromkeys((*canonical, *(read_target(name).host for name in site_file.site.names))))


def check_look(
    only: Sequence[str], skip: Sequence[str], timeout: float, trust: Sequence[Path], trust_only: Sequence[Path]
) -> tuple[Rule[Case], ...]:
    """The rules of a look; UsageError for options that no look has, of one site or of many."""
    if not 0 < timeout <= 3600:
        raise UsageError(f"--timeout is {timeout:g}; allowed are more than 0 and at most 3600 seconds.")
    if trust_only and trust:
        raise UsageError("--trust adds to the root stores and --trust-only takes their place: give one of them.")
    _check_areas("--only", only)
    _check_areas("--skip", skip)
    rules = chosen_rules(only, skip)
    if not rules:
        raise UsageError("--only and --skip leave no rule to judge by.")
    return rules


def _check_areas(option: str, names: Sequence[str]) -> None:
    """Areas and rules; UsageError names the nearest to one that is none."""
    known = {known: None for rule in SITE_RULES for known in (rule.area, rule.name)}
    for name in names:
        if name not in known:
            raise UsageError(f"{option} {name!r} is no area and no rule.{near(name, known)} 'pewter rules' lists them.")
