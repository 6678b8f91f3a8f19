"""``pewter bundle``: certificate and key files before they are installed."""

import datetime
import getpass
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import msgspec

from pewter.errors import OWN_FAULT, FileError, UsageError, own_fault_words
from pewter.escape import escaped, json_escaped
from pewter.evidence import Endpoint, Evidence, Fault, Handshake, Plan, Step, Target
from pewter.gather.board import Given
from pewter.gather.routes import read_route
from pewter.judge.bundle_review import make_bundle_review
from pewter.judge.counts import reaches
from pewter.judge.facts.bundle import Bundle, BundleCase, LiveChain, mended_chain
from pewter.judge.facts.case import why_no_handshake
from pewter.pki import Certificate, Store, read_certificate
from pewter.pki.files import FileContents, read_file
from pewter.pki.pem import write_pem
from pewter.places import of_endpoint, of_name
from pewter.plan.files import check_writable, read_bounded, write_whole
from pewter.plan.own_files import read_trust_file
from pewter.plan.root_stores import own_stores
from pewter.plan.texts import read_as_of, read_level, read_target, resolver_text
from pewter.report.bundle import render_bundle
from pewter.web.urls import InvalidUrl, read_host

from .ending import INTERRUPTED
from .looking import take_look
from .output import output_marks, output_width, print_octets, print_text
from .progress import show_progress
from .saying import say

MAX_FILE = 16 << 20
MAX_PASSPHRASE = 4096


@dataclass(frozen=True)
class BundleCommand:
    """The options as typed."""

    files: tuple[Path, ...] = ()
    names: tuple[str, ...] = ()
    live: str | None = None
    routes: tuple[str, ...] = ()
    resolvers: tuple[str, ...] = ()
    fetch: bool = False
    trust: tuple[Path, ...] = ()
    trust_only: tuple[Path, ...] = ()
    passphrase_file: Path | None = None
    as_of: str | None = None
    fail_on: str = "exposes"
    write: Path | None = None
    json: bool = False


def run_bundle(command: BundleCommand) -> int:
    """Read the files, judge them, print, and write the mended chain; exit status as for a review."""
    fail_on = read_level(command.fail_on)
    at = read_as_of(command.as_of) or datetime.datetime.now(datetime.UTC)
    if not command.files and command.live is None:
        raise UsageError("No file. Type: pewter bundle fullchain.pem privkey.pem")
    if command.trust and command.trust_only:
        raise UsageError("--trust adds to the root stores and --trust-only takes their place: give one of them.")
    if command.write is not None:
        check_writable(command.write)
    ask = _Passphrase(command.passphrase_file)
    files = tuple(read_file(escaped(str(path)), read_bounded(path, MAX_FILE), ask) for path in command.files)
    names = tuple(map(_read_name, command.names))
    given = tuple(each for file in command.trust_only or command.trust for each in read_trust_file(file))
    stores = () if command.trust_only else own_stores()
    bundle = Bundle(files, names)
    if command.live is not None or command.fetch:
        bundle = _gathered(bundle, command, stores, given)
    case = BundleCase(bundle, at, stores, given, given_only=bool(command.trust_only))
    failures: list[Fault | KeyboardInterrupt] = []
    review = make_bundle_review(case, failures.append)
    chain = mended_chain(case)
    next_lines = _write(command, command.write, chain) if command.write is not None else _advice(case, chain)
    if command.json:
        print_octets(json_escaped(msgspec.json.format(msgspec.json.encode(review), indent=1)) + b"\n")
        for line in next_lines if command.write is not None else ():
            say(line)
    else:
        print_text(render_bundle(review, next_lines, output_width(), output_marks()))
    for failure in failures:
        if isinstance(failure, KeyboardInterrupt):
            return INTERRUPTED
        say(own_fault_words(f"{failure.what}: {failure.detail}"))
        return OWN_FAULT
    unwritten = command.write is not None and isinstance(chain, str)
    return 1 if unwritten or reaches(review.outcomes, fail_on) else 0


def _read_name(text: str) -> str:
    try:
        return read_host(text)
    except InvalidUrl as exc:
        raise UsageError(f"--name {text!r} is no host name: {exc}.") from exc


class _Passphrase:
    """From the file that was given, else typed on the terminal; never from the command line."""

    def __init__(self, file: Path | None) -> None:
        self._given = read_bounded(file, MAX_PASSPHRASE).rstrip(b"\r\n") if file is not None else None

    def __call__(self, what: str) -> bytes | None:
        if self._given is not None:
            return self._given
        if not sys.stdin.isatty():
            return None
        try:
            return getpass.getpass(f"Passphrase for {what} (empty: leave it closed): ", sys.stderr).encode() or None
        except EOFError:
            return None


# The network: only where it was asked for


def _gathered(
    bundle: Bundle, command: BundleCommand, stores: tuple[Store, ...], given: tuple[Certificate, ...]
) -> Bundle:
    target = read_target(command.live) if command.live is not None else None
    resolvers = tuple(map(resolver_text, command.resolvers))
    plan = Plan(
        targets=(Target(target.host, target.port),) if target is not None else (),
        routes=tuple(str(read_route(text)) for text in command.routes),
        resolvers=resolvers,
        steps=(Step.CERTIFICATES, Step.ISSUERS),
        whole_seconds=30.0,
    )
    others = tuple(each for each in bundle.all_certificates if each not in bundle.sent)
    chains = ((*bundle.sent, *others),) if command.fetch and bundle.sent else ()
    with show_progress() as progress:
        evidence = take_look(plan, Given(stores, given, bool(command.trust_only), chains=chains), progress)
    read = {stored.sha256: read_certificate(stored.der) for stored in evidence.certificates}

    def found(fingerprints: tuple[str, ...]) -> tuple[Certificate, ...]:
        return tuple(each for each in map(read.get, fingerprints) if isinstance(each, Certificate))

    live = [_live_chain(evidence, endpoint, found) for endpoint in evidence.endpoints]
    if target is not None and not live:
        live = [LiveChain(of_name(target.host), (), f"{target.host} has no address")]
    fetched = tuple((one.url, found(one.answer)) for one in evidence.fetched_issuers if isinstance(one.answer, tuple))
    for one in evidence.fetched_issuers:
        if isinstance(one.answer, str):
            say(f"{one.url}: {one.answer}")
    files = bundle.files
    if not files and live and live[0].certificates:
        files = (_as_file(live[0]),)
    return Bundle(files, bundle.names, tuple(live), fetched)


def _live_chain(
    evidence: Evidence, endpoint: Endpoint, found: Callable[[tuple[str, ...]], tuple[Certificate, ...]]
) -> LiveChain:
    is_alone = sum(1 for each in evidence.endpoints if each.name == endpoint.name) < 2
    place = of_endpoint(endpoint.name, endpoint.address, endpoint.port, is_alone=is_alone)
    for probe in endpoint.probes:
        if isinstance(probe.answer, Handshake):
            return LiveChain(place, found(probe.answer.chain))
    return LiveChain(place, (), why_no_handshake(endpoint))


def _as_file(live: LiveChain) -> FileContents:
    """What a server sends, as if it lay in a file."""
    pem = b"".join(write_pem(each.der) for each in live.certificates)
    return read_file(f"as sent by {live.place}", pem)


# Writing


Mended = tuple[Certificate, ...] | str
"""The mended chain, or why it cannot be put together."""


def _write(command: BundleCommand, path: Path, chain: Mended) -> tuple[str, ...]:
    """Write the mended chain where there is one; what was done, in words."""
    if isinstance(chain, str):
        return (f"{path} was not written: {chain}",)
    octets = b"".join(write_pem(each.der) for each in chain)
    if path.exists() and any(path.samefile(file) for file in command.files if file.exists()):
        raise FileError(f"--write {path} is one of the files that were read; write the mended chain to another.")
    if path.exists() and (not path.is_file() or path.read_bytes() != octets):
        raise FileError(f"{path} exists already and holds something else; write the mended chain to another file.")
    write_whole(path, octets)
    titles = ", ".join(each.title for each in chain)
    return (f"Wrote {path}: {titles}. The root is left out, and keys are never written.",)


def _advice(case: BundleCase, chain: Mended) -> tuple[str, ...]:
    if isinstance(chain, str):
        return (chain[0].upper() + chain[1:] + ("" if chain.endswith(".") else "."),)
    if [each.sha256 for each in chain] != [each.sha256 for each in case.bundle.sent]:
        return (f"--write chain.pem writes the mended chain: {', '.join(each.title for each in chain)}",)
    return ()
