"""Certificate and key files before they are installed."""

from collections.abc import Callable
from pathlib import Path

import msgspec

from pewter.errors import FileError, UsageError
from pewter.escape import escaped
from pewter.evidence import Endpoint, Evidence, Fault, Handshake, Plan, Step, Target
from pewter.facts.bundle import Bundle, BundleCase, LiveChain, NotMended, mended_chain
from pewter.facts.case import why_no_handshake
from pewter.gather.board import Given
from pewter.gather.routes import read_route
from pewter.judge.bundle_review import BundleReview, make_bundle_review
from pewter.pki import Certificate, Store, read_certificate
from pewter.pki.files import FileContents, read_file
from pewter.pki.pem import write_pem
from pewter.places import of_endpoint, of_name
from pewter.plan.files import check_writable, read_bounded, write_whole
from pewter.plan.own_files import read_trust_file
from pewter.plan.root_stores import own_stores
from pewter.plan.texts import read_as_of, read_target, resolver_text
from pewter.web.urls import InvalidUrl, read_host

from .surroundings import Alone, Surroundings

MAX_FILE = 16 << 20
MAX_PASSPHRASE = 4096


class BundleRequest(msgspec.Struct, frozen=True):
    """Which files, for which names, and what is asked of the network."""

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
    write: Path | None = None
    """Where the mended chain goes."""


class Bundled(msgspec.Struct, frozen=True):
    """What came of it."""

    review: BundleReview
    failures: tuple[Fault | KeyboardInterrupt, ...]
    next_lines: tuple[str, ...]
    """What was written, or what to do next, in whole sentences."""

    is_mended: bool
    """There is a chain to be installed."""


def bundle(request: BundleRequest, around: Surroundings | None = None) -> Bundled:
    """Read the files, judge them, and write the mended chain where that is wished.  Raises UsageError or FileError."""
    around = around or Alone()
    at = read_as_of(request.as_of) or around.now()
    if not request.files and request.live is None:
        raise UsageError("No file. Type: pewter bundle fullchain.pem privkey.pem")
    if request.trust and request.trust_only:
        raise UsageError("--trust adds to the root stores and --trust-only takes their place: give one of them.")
    if request.write is not None:
        check_writable(request.write)
    ask = _passphrase(request.passphrase_file, around)
    files = tuple(read_file(escaped(str(path)), read_bounded(path, MAX_FILE), ask) for path in request.files)
    names = tuple(map(_read_name, request.names))
    given = tuple(each for file in request.trust_only or request.trust for each in read_trust_file(file))
    stores = () if request.trust_only else own_stores()
    found = Bundle(files, names)
    if request.live is not None or request.fetch:
        found = _gathered(found, request, stores, given, around)
    case = BundleCase(found, at, stores, given, given_only=bool(request.trust_only))
    failures: list[Fault | KeyboardInterrupt] = []
    review = make_bundle_review(case, failures.append)
    chain = mended_chain(case)
    next_lines = _write(request, request.write, chain) if request.write is not None else _advice(case, chain)
    return Bundled(review, tuple(failures), next_lines, not isinstance(chain, NotMended))


def _read_name(text: str) -> str:
    try:
        return read_host(text)
    except InvalidUrl as exc:
        raise UsageError(f"--name {text!r} is no host name: {exc}.") from exc


def _passphrase(file: Path | None, around: Surroundings) -> Callable[[str], bytes | None]:
    """From the file that was given, else asked for; never from the command line."""
    if file is None:
        return around.passphrase
    given = read_bounded(file, MAX_PASSPHRASE).rstrip(b"\r\n")
    return lambda _: given


# The network: only where it was asked for


def _gathered(
    bundle: Bundle,
    request: BundleRequest,
    stores: tuple[Store, ...],
    given: tuple[Certificate, ...],
    around: Surroundings,
) -> Bundle:
    target = read_target(request.live) if request.live is not None else None
    resolvers = tuple(map(resolver_text, request.resolvers))
    plan = Plan(
        targets=(Target(target.host, target.port),) if target is not None else (),
        routes=tuple(str(read_route(text)) for text in request.routes),
        resolvers=resolvers,
        steps=(Step.CERTIFICATES, Step.ISSUERS),
        whole_seconds=30.0,
    )
    others = tuple(each for each in bundle.all_certificates if each not in bundle.sent)
    chains = ((*bundle.sent, *others),) if request.fetch and bundle.sent else ()
    evidence = around.look(plan, Given(stores, given, bool(request.trust_only), chains=chains))
    read = {stored.sha256: read_certificate(stored.der) for stored in evidence.certificates}

    def found(fingerprints: tuple[str, ...]) -> tuple[Certificate, ...]:
        return tuple(each for each in map(read.get, fingerprints) if isinstance(each, Certificate))

    live = [_live_chain(evidence, endpoint, found) for endpoint in evidence.endpoints]
    if target is not None and not live:
        live = [LiveChain(of_name(target.host), (), f"{target.host} has no address")]
    fetched = tuple((one.url, found(one.answer)) for one in evidence.fetched_issuers if isinstance(one.answer, tuple))
    for one in evidence.fetched_issuers:
        if isinstance(one.answer, str):
            around.say(f"{one.url}: {one.answer}")
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


Mended = tuple[Certificate, ...] | NotMended
"""The mended chain, or why it cannot be put together."""


def _write(request: BundleRequest, path: Path, chain: Mended) -> tuple[str, ...]:
    """Write the mended chain where there is one; what was done, in words."""
    if isinstance(chain, NotMended):
        return (f"{path} was not written: {chain.reason}",)
    octets = b"".join(write_pem(each.der) for each in chain)
    if path.exists() and any(path.samefile(file) for file in request.files if file.exists()):
        raise FileError(f"--write {path} is one of the files that were read; write the mended chain to another.")
    if path.exists() and (not path.is_file() or path.read_bytes() != octets):
        raise FileError(f"{path} exists already and holds something else; write the mended chain to another file.")
    write_whole(path, octets)
    titles = ", ".join(each.title for each in chain)
    return (f"Wrote {path}: {titles}. The root is left out, and keys are never written.",)


def _advice(case: BundleCase, chain: Mended) -> tuple[str, ...]:
    if isinstance(chain, NotMended):
        why = chain.reason
        return (why[0].upper() + why[1:] + ("" if why.endswith(".") else "."),)
    if [each.sha256 for each in chain] != [each.sha256 for each in case.bundle.sent]:
        return (f"--write chain.pem writes the mended chain: {', '.join(each.title for each in chain)}",)
    return ()
