"""``pewter review``: from options and site file to a look, a judgement and its output."""

import datetime
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec

from pewter.errors import OWN_FAULT, FileError, NotReviewedError, UsageError, own_fault_words
from pewter.evidence import GivenLog, Journey, Page
from pewter.gather.look import LookOptions
from pewter.gather.routes import Routes, read_address_and_port, read_route
from pewter.judge.expectations import Terms
from pewter.judge.facts.case import Case
from pewter.judge.outcomes import Level
from pewter.judge.results import reaches
from pewter.judge.review import Review, make_review, write_review
from pewter.pki import Certificate, Log, read_certificate, read_certificate_blocks
from pewter.pki.pem import read_public_keys
from pewter.web.har import MAX_FILE, HarError, read_har
from pewter.web.sites import are_siblings
from pewter.web.urls import InvalidUrl, Url, read_host, read_url

from .files import check_writable, read_bounded, write_whole
from .looking import take_look
from .output import print_octets, print_report
from .progress import show_progress
from .root_stores import own_stores
from .saying import say
from .site_file import NAME, SiteFile, read_site_file

MAX_TRUST_FILE = 16 << 20
INTERRUPTED = 130
WRONG_FILE = FileError.exit_status
GENTLE_SECONDS = 300.0
"""For the whole review, where it makes one connection at a time."""


@dataclass(frozen=True)
class ReviewCommand:
    """The options as typed."""

    targets: tuple[str, ...] = ()
    canonical: str | None = None
    also: tuple[str, ...] = ()
    paths: tuple[str, ...] = ()
    routes: tuple[str, ...] = ()
    resolver: str | None = None
    trust: tuple[Path, ...] = ()
    trust_only: tuple[Path, ...] = ()
    certificates: tuple[Path, ...] = ()
    ct_logs: tuple[Path, ...] = ()
    revocation: bool = False
    gentle: bool = False
    har: tuple[Path, ...] = ()
    suppose: tuple[str, ...] = ()
    as_of: str | None = None
    timeout: float | None = None
    fail_on: str = "exposes"
    write: tuple[Path, ...] = ()
    json: bool = False


@dataclass(frozen=True)
class _Target:
    host: str
    port: int
    path: str | None


def run_review(command: ReviewCommand, folder: Path) -> int:
    """Take the look, judge it, print and write; the exit status of DESIGN.md section 4."""
    fail_on = read_level(command.fail_on)
    as_of = read_as_of(command.as_of)
    for file in command.write:
        check_format(file)
        check_writable(file)
    recordings = [read_har_file(file) for file in command.har]
    site_file = _site_file(command, folder)
    options, terms = _settle(command, site_file, folder)
    with show_progress() as progress:
        evidence = take_look(options, progress)
    for journeys, pages in recordings:
        evidence = msgspec.structs.replace(
            evidence, journeys=(*evidence.journeys, *journeys), pages=(*evidence.pages, *pages)
        )
    case = Case(evidence, terms, as_of or evidence.begun, options.stores)
    review = make_review(case)
    octets = write_review(review) if command.write or command.json else b""
    failed = write_files(command.write, octets)
    if command.json:
        print_octets(octets)
    else:
        print_report(review)
    status = _exit_status(review, fail_on)
    return WRONG_FILE if failed and status < OWN_FAULT else status


def write_files(files: Sequence[Path], octets: bytes) -> bool:
    """Each by itself: whether any failed, which is said and costs neither the others nor the report."""
    failed = False
    for file in files:
        try:
            write_whole(file, octets)
            say(f"wrote {file}")
        except FileError as exc:
            failed = True
            say(str(exc))
    return failed


def _exit_status(review: Review, fail_on: Level) -> int:
    if review.evidence.interrupted:
        return INTERRUPTED
    if review.evidence.faults:
        fault = review.evidence.faults[0]
        say(own_fault_words(f"{fault.what}: {fault.detail}"))
        return OWN_FAULT
    results = review.results
    if not results.was_reviewed:
        raise NotReviewedError(f"{review.evidence.plan.first} could not be reviewed: {results.why_not}.")
    return 1 if reaches(results.outcomes, fail_on) else 0


# From options to a look


def _site_file(command: ReviewCommand, folder: Path) -> SiteFile:
    """The folder's site file, where no target is given or the first is a name of that site."""
    path = folder / NAME
    if not path.exists():
        if not command.targets:
            raise UsageError(f"No target, and no {NAME} in this folder. Type: pewter review www.x.example")
        return SiteFile()
    site_file = read_site_file(path)
    if command.targets and not _is_of(site_file, read_target(command.targets[0]).host):
        say(f"{NAME} in this folder is of another site and is not used")
        return SiteFile()
    say(f"using {NAME}")
    return site_file


def _is_of(site_file: SiteFile, host: str) -> bool:
    """A name of the site, or the apex or www of one."""
    return any(host == name or are_siblings(host, name) for name in _names_of(site_file))


def _names_of(site_file: SiteFile) -> tuple[str, ...]:
    canonical = (_read_canonical(site_file.site.canonical).host,) if site_file.site.canonical else ()
    return tuple(dict.fromkeys((*canonical, *(read_target(name).host for name in site_file.site.names))))


def _settle(command: ReviewCommand, site_file: SiteFile, folder: Path) -> tuple[LookOptions, Terms]:
    """What the command line says comes before what the site file says."""
    typed = [read_target(text) for text in (*command.targets, *command.also)]
    targets = typed if command.targets else [*(_Target(name, 443, None) for name in _names_of(site_file)), *typed]
    if not targets:
        raise UsageError(f"{NAME} names no site: give site.canonical or site.names.")
    canonical = command.canonical or site_file.site.canonical
    paths = (*command.paths, *(target.path for target in typed if target.path is not None))
    if not command.targets:
        paths = (*site_file.site.paths, *paths)
    gentle = command.gentle or site_file.look.gentle
    usual = GENTLE_SECONDS if gentle else 60.0
    timeout = command.timeout if command.timeout is not None else site_file.look.timeout or usual
    if not 0 < timeout <= 3600:
        raise UsageError(f"--timeout is {timeout:g}; allowed are more than 0 and at most 3600 seconds.")
    trust_only = command.trust_only or tuple(folder / name for name in site_file.look.trust_only)
    trust_files = (*(folder / name for name in site_file.look.trust), *command.trust)
    if command.trust_only and command.trust:
        raise UsageError("--trust adds to the root stores and --trust-only takes their place: give one of them.")
    certificate_files = (*(folder / name for name in site_file.look.certificates), *command.certificates)
    log_files = (*(folder / name for name in site_file.look.ct_logs), *command.ct_logs)
    resolver = command.resolver or site_file.look.resolver
    options = LookOptions(
        targets=tuple({target.host: (target.host, target.port) for target in targets}.values()),
        paths=tuple(dict.fromkeys(("/", *map(_read_path, paths)))),
        routes=Routes(tuple(read_route(text) for text in (*command.routes, *site_file.route_texts))),
        resolver=read_address_and_port(resolver, "--resolver", 53) if resolver else None,
        stores=own_stores(),
        given_trust=tuple(each for file in trust_only or trust_files for each in read_trust_file(file)),
        trusts_given_only=bool(trust_only),
        given_certificates=tuple(der for file in certificate_files for der in read_certificate_file(file)),
        given_logs=tuple(log for file in log_files for log in read_log_file(file)),
        revocation=command.revocation or site_file.look.revocation,
        connections_per_address=1 if gentle else 8,
        whole_seconds=timeout,
        step_seconds=min(10.0, timeout),
    )
    origin = _read_canonical(canonical).origin if canonical else None
    for supposed in command.suppose:
        if supposed != "hsts":
            raise UsageError(f"--suppose {supposed!r}: what can be supposed is hsts.")
    return options, Terms(site_file.expect, origin, site_file.levels, site_file.accept, command.suppose)


def read_target(text: str) -> _Target:
    """A host name, ``NAME:PORT`` or URL; UsageError says what is wrong."""
    try:
        if "://" in text:
            url = read_url(text)
            read_host(url.host)
            port = url.port if url.is_https else 443
            return _Target(url.host, port, None if url.target == "/" else f"{url.host}{url.target}")
        try:
            return _Target(read_host(text.strip("[]")), 443, None)  # IPv6 addresses have colons of their own
        except InvalidUrl:
            url = read_url(f"https://{text}")
            read_host(url.host)  # stricter than a browser with a link: what is typed has to be a name
            return _Target(url.host, url.port, None if url.target == "/" else f"{url.host}{url.target}")
    except InvalidUrl as exc:
        raise UsageError(f"{text!r} is no target: {exc}. Write a host name or a URL, as in www.x.example.") from exc


def _read_canonical(text: str) -> Url:
    try:
        url = read_url(text if "://" in text else f"https://{text}")
    except InvalidUrl as exc:
        raise UsageError(f"canonical {text!r}: {exc}. Write it as https://www.x.example.") from exc
    if not url.is_https or url.target != "/":
        raise UsageError(f"canonical {text!r} has to be an https address without a path, as in https://www.x.example.")
    return url


def _read_path(text: str) -> str:
    """``/x?y``, or a name before it for that name alone."""
    owner, slash, rest = text.partition("/")
    if not slash:
        raise UsageError(
            f"--path {text!r} has no '/'. Write /login for every name, or tickets.x.example/login for one."
        )
    try:
        url = read_url(f"https://{owner or 'any.example'}/{rest}")
    except InvalidUrl as exc:
        raise UsageError(f"--path {text!r}: {exc}.") from exc
    return (url.host if owner else "") + url.target


def read_level(text: str) -> Level:
    try:
        return Level(text)
    except ValueError:
        allowed = ", ".join(level.value for level in Level)
        raise UsageError(f"--fail-on {text!r} is no level; allowed: {allowed}.") from None


def read_as_of(text: str | None) -> datetime.datetime | None:
    """A day (its first moment in UTC) or a time with its zone."""
    if text is None:
        return None
    try:
        moment = datetime.datetime.fromisoformat(text)
    except ValueError:
        raise UsageError(f"--as-of {text!r} is no date; write it as 2027-03-01 or 2027-03-01T12:00+00:00.") from None
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=datetime.UTC)


# Files


def read_trust_file(path: Path) -> list[Certificate]:
    """Every certificate of a file; FileError where there is none."""
    found = [read_certificate(der) for der in read_certificate_blocks(read_bounded(path, MAX_TRUST_FILE))]
    certificates = [each for each in found if isinstance(each, Certificate)]
    if not certificates:
        raise FileError(f"{path} holds no certificate that can be read. --trust takes root certificates as PEM or DER.")
    return certificates


def read_certificate_file(path: Path) -> tuple[bytes, ...]:
    """DER of every certificate of a file that can be read; FileError where there is none.

    Nothing else is kept: under the label of a certificate may stand a private key, and reviews are passed on.
    """
    blocks = read_certificate_blocks(read_bounded(path, MAX_TRUST_FILE))
    found = tuple(der for der in blocks if isinstance(read_certificate(der), Certificate))
    if not found:
        raise FileError(f"{path} holds no certificate that can be read. 'pewter bundle {path}' says what it holds.")
    if len(found) < len(blocks):
        say(f"{path}: {len(blocks) - len(found)} of its {len(blocks)} blocks cannot be read and are left aside")
    return found


def read_log_file(path: Path) -> list[GivenLog]:
    """The public keys of logs as PEM; the line of text above a key is the log's name."""
    found: list[GivenLog] = []
    for title, spki in read_public_keys(read_bounded(path, MAX_TRUST_FILE)):
        log = Log(title or f"log {len(found) + 1} of {path.name}", spki)
        if log.key is not None:
            found.append(GivenLog(log.title, spki))
    if not found:
        raise FileError(f"{path} holds no public key of a log. --ct-logs takes PEM, the log's name above each key.")
    return found


def read_har_file(path: Path) -> tuple[tuple[Journey, ...], tuple[Page, ...]]:
    """Journeys and pages of a recording; FileError for what is none."""
    octets = read_bounded(path, MAX_FILE, "HAR recording: record again with less, or without contents")
    try:
        return read_har(octets, datetime.datetime.now(datetime.UTC))
    except HarError as exc:
        raise FileError(f"{path} is no HAR recording: {exc}. Browsers save one from their network panel.") from exc


def check_format(path: Path) -> None:
    """The suffix says the format."""
    if path.suffix != ".json":
        raise UsageError(f"--write {path}: the suffix says the format, and only .json can be written so far.")
