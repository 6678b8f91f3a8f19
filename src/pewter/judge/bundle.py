"""Certificate and key files before they are installed: the chain that a server would send, and the files themselves.

The file that holds the server's certificate is taken for what will be installed; a case is made of it
as if an endpoint had sent it, so that the rules on chains, names and dates judge it like any other.
The rules of the area ``bundle`` look at the files.
"""

import datetime
import functools
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from pewter.evidence import (
    Endpoint,
    Evidence,
    FetchedIssuer,
    Handshake,
    Name,
    Offer,
    Probe,
    Proof,
    Question,
    StoredCertificate,
)
from pewter.pki import Certificate, FaultKind, Path, Store, build_paths, covers
from pewter.pki.files import FileContents, FileItem
from pewter.web.sites import sibling_of
from pewter.web.suffixes import is_apex

from . import chain, chain_status, date
from . import name as name_rules
from .case import Case
from .date import told_apart
from .expectations import Wishes
from .outcomes import Gap, Holds, Level, RuleOutcome
from .rules import Rule, rule


@dataclass(frozen=True)
class LiveChain:
    """What a running server sends."""

    place: str
    """``www.x.example`` or ``www.x.example at 192.0.2.7``."""

    certificates: tuple[Certificate, ...]
    """Leaf first; empty where none came."""

    reason: str = ""
    """Why none came."""


@dataclass(frozen=True)
class Bundle:
    """The files, and what they are held against."""

    files: tuple[FileContents, ...]
    names: tuple[str, ...] = ()
    """Host names that have to be covered."""

    live: tuple[LiveChain, ...] = ()
    fetched: tuple[tuple[str, tuple[Certificate, ...]], ...] = ()
    """Address and what came from it, of issuers that were fetched."""

    @property
    def install(self) -> FileContents | None:
        """The file that would be installed: the first that holds a server's certificate."""
        return next((each for each in self.files if any(map(is_server, each.certificates))), None)

    @functools.cached_property
    def _server_certificates(self) -> tuple[Certificate, ...]:
        return tuple(each for file in self.files for each in file.certificates if is_server(each))

    @functools.cached_property
    def leaf(self) -> Certificate | None:
        """The server's certificate: of several the one to which a given key belongs, else the first."""
        candidates = self._server_certificates
        keys = {item.spki for item in self.items("private key")}
        return next((each for each in candidates if each.spki in keys), candidates[0] if candidates else None)

    @functools.cached_property
    def leaves(self) -> tuple[Certificate, ...]:
        """Every server's certificate, each once: :attr:`leaf`, which will be installed, comes first."""
        distinct: dict[str, Certificate] = {}
        for each in sorted(self._server_certificates, key=lambda each: each is not self.leaf):
            distinct.setdefault(each.sha256, each)
        return tuple(distinct.values())

    @property
    def sent(self) -> tuple[Certificate, ...]:
        """As a server would send the file: the server's certificate, then the others in their order."""
        return self.sent_with(self.leaf) if self.leaf is not None else ()

    def home_of(self, certificate: Certificate) -> FileContents | None:
        """The first file in which a certificate lies."""
        return next(
            (file for file in self.files if certificate.sha256 in {each.sha256 for each in file.certificates}), None
        )

    def sent_with(self, leaf: Certificate) -> tuple[Certificate, ...]:
        """What would be sent for one of several servers' certificates: itself, and the CAs' of its file."""
        file = self.home_of(leaf)
        assert file is not None
        home = file.certificates
        position = [each.sha256 for each in home].index(leaf.sha256)
        others = home[:position] + home[position + 1 :]
        return (leaf, *(each for each in others if leaf is self.leaf or not is_server(each)))

    @property
    def all_certificates(self) -> tuple[Certificate, ...]:
        found = [each for file in self.files for each in file.certificates]
        found += [each for live in self.live for each in live.certificates]
        found += [each for _, fetched in self.fetched for each in fetched]
        return tuple({each.sha256: each for each in found}.values())

    def items(self, kind: str) -> Iterator[FileItem]:
        return (item for file in self.files for item in file.items if item.kind == kind)


def is_server(certificate: Certificate) -> bool:
    """Not a CA's; a self-signed one with names is a server's all the same."""
    return not certificate.extensions.is_ca or bool(certificate.extensions.dns_names)


NAMELESS = "nameless.invalid"
"""Stands for the host of a certificate that names none (RFC 6761 section 6.4)."""

_HOST_NAME = re.compile(
    r"(?=[^\s]{1,253}\Z)(?:[a-z0-9_](?:[a-z0-9_-]{0,61}[a-z0-9_])?\.){0,126}[a-z0-9_](?:[a-z0-9_-]{0,61}[a-z0-9_])?"
)


class BundleCase(Case):
    """A case made of files."""

    def __init__(
        self,
        bundle: Bundle,
        at: datetime.datetime,
        stores: Sequence[Store],
        given: Sequence[Certificate] = (),
        *,
        given_only: bool = False,
    ) -> None:
        self.bundle = bundle
        super().__init__(_evidence(bundle, at, given, given_only=given_only), Wishes(), at, stores)

    @functools.cached_property
    def best_path(self) -> Path | None:
        """Of the certificate to install, through all that is at hand in whichever file."""
        leaf = self.bundle.leaf
        return build_paths(leaf, self.bundle.all_certificates, self.stores, self.at)[0] if leaf is not None else None


def _evidence(bundle: Bundle, at: datetime.datetime, given: Sequence[Certificate], *, given_only: bool) -> Evidence:
    endpoints = tuple(_endpoints(bundle))
    names = bundle.names or tuple(dict.fromkeys(each.name for each in endpoints))
    certificates = {each.sha256: each.der for each in (*bundle.all_certificates, *given)}
    in_files = (
        FetchedIssuer(file.name, "", tuple(each.sha256 for each in file.certificates if each.extensions.is_ca))
        for file in bundle.files
    )
    by_aia = (FetchedIssuer(url, "", tuple(each.sha256 for each in found)) for url, found in bundle.fetched)
    return Evidence(
        question=Question(tuple(names) or ("www.x.example",)),
        begun=at,
        elapsed_seconds=0.0,
        names=tuple(Name(name, routed=("",)) for name in names),
        endpoints=endpoints,
        certificates=tuple(StoredCertificate(sha256, octets) for sha256, octets in certificates.items()),
        fetched_issuers=(*in_files, *by_aia),
        given_trust=tuple(each.sha256 for each in given),
        trusts_given_only=given_only,
    )


def _endpoints(bundle: Bundle) -> Iterator[Endpoint]:
    """As if each server's certificate were sent for each name that was asked for and that it covers, else for its own.

    A name that none covers is held against the first of them.
    """
    for leaf in bundle.leaves:
        asked = [name for name in bundle.names if covers(leaf, name)]
        if leaf is bundle.leaf:
            asked += [name for name in bundle.names if not any(covers(each, name) for each in bundle.leaves)]
        handshake = Handshake(
            0x0304, 0x1301, tuple(each.sha256 for each in bundle.sent_with(leaf)), proof=Proof.NOT_GIVEN
        )
        home = bundle.home_of(leaf)
        address = home.name if home is not None and len(bundle.leaves) > 1 else ""
        for name in asked or (() if bundle.names and len(bundle.leaves) < 2 else (_own_name(leaf),)):
            yield Endpoint(name, address, 443, (Probe(Offer((0x0304,)), handshake),))


def _own_name(leaf: Certificate) -> str:
    """The first name that a host can have; what else stands there is told by the rules on names."""
    names = (*leaf.extensions.dns_names, leaf.title)
    plain = (name.removeprefix("*.").rstrip(".").lower() for name in names)
    return next((name for name in plain if _HOST_NAME.fullmatch(name)), NAMELESS)


def mended_chain(case: BundleCase) -> tuple[Certificate, ...] | str:
    """What the file to install should hold, leaf first and without the root; or why it cannot be put together."""
    leaf = case.bundle.leaf
    if leaf is None:
        return "there is no server's certificate among the files"
    path = case.best_path
    assert path is not None
    if path.anchor is not None:
        kept = tuple(each for each in path.certificates if each is not path.anchor)
        return kept or (leaf,)
    top = path.certificates[-1]
    if top.is_self_issued:
        return path.certificates if len(path.certificates) == 1 else path.certificates[:-1]
    return f"{_lacking(top)}. {_where_to_get(top)}."


def _lacking(top: Certificate) -> str:
    return f"{top.issuer.title}, the issuer of {top.title}, is in none of the files"


def _where_to_get(top: Certificate) -> str:
    urls = " or ".join(top.extensions.ca_issuers[:2])
    return f"It is at {urls}; --fetch gets it" if urls else "Its CA has it for download"


# Rules on the files

FileCheck = Callable[[Bundle], Iterator[RuleOutcome]]


def _file_rule(name: str, level: Level, source: str) -> Callable[[FileCheck], Rule]:
    def make(check: FileCheck) -> Rule:
        def of_case(case: Case) -> Iterator[RuleOutcome]:
            assert isinstance(case, BundleCase)
            return check(case.bundle)

        of_case.__doc__ = check.__doc__
        return rule(name, level=level, sources=(source,))(of_case)

    return make


@_file_rule("bundle/no-certificate", Level.BREAKS, "RFC 8446 section 4.4.2")
def no_certificate(bundle: Bundle) -> Iterator[RuleOutcome]:
    """Among the files there has to be a server's certificate."""
    where = ", ".join(each.name for each in bundle.files)
    if bundle.leaf is not None:
        yield Holds(where, f"{bundle.leaf.title} in {bundle.install.name if bundle.install else where}")
        return
    kinds = {item.kind for file in bundle.files for item in file.items}
    if "certificate" in kinds:
        seen = "certificates of CAs alone: the chain without the certificate that it is for"
    elif "certificate request" in kinds:
        seen = "a certificate request (CSR), which the CA is to sign: what the CA sends back is what to install"
    elif "private key" in kinds:
        seen = "a private key in the certificate's place"
    else:
        seen = "nothing that is a certificate"
    yield Gap(where, seen, "the server's certificate")


@_file_rule("bundle/unreadable", Level.BREAKS, "RFC 7468 section 2")
def unreadable(bundle: Bundle) -> Iterator[RuleOutcome]:
    """Every file and every block in it has to be readable by the server."""
    for file in bundle.files:
        problems = [*file.problems]
        for position, item in enumerate(file.items, start=1):
            if item.problem:
                problems.append(f"{position}. {item.words}: {item.problem}")
        for problem in problems:
            yield Gap(file.name, problem, "PEM blocks, whole and one after the other")
        if not problems:
            yield Holds(file.name, f"{file.form}, {len(file.items)} entries")


@_file_rule("bundle/key-mismatch", Level.BREAKS, "RFC 8446 section 4.4.3")
def key_mismatch(bundle: Bundle) -> Iterator[RuleOutcome]:
    """The key has to belong to the certificate: their public keys are the same."""
    certificates = [each for file in bundle.files for each in file.certificates]
    for file in bundle.files:
        for item in file.items:
            if item.kind != "private key" or item.spki is None:
                continue
            owners = [each for each in certificates if each.spki == item.spki]
            requests = [each for each in bundle.items("certificate request") if each.spki == item.spki]
            if owners:
                yield Holds(file.name, f"the key belongs to {owners[0].title}")
            elif certificates:
                leaf = bundle.leaf
                other = f"{leaf.title} has {leaf.key}" if leaf is not None else "no server's certificate is here"
                request = "; it belongs to the request" if requests else ""
                seen = f"{item.words}, which belongs to no certificate here ({other}){request}"
                yield Gap(file.name, seen, "the certificate's own key")


@_file_rule("bundle/leaf-not-first", Level.BREAKS, "RFC 8446 section 4.4.2")
def leaf_not_first(bundle: Bundle) -> Iterator[RuleOutcome]:
    """Servers take the first certificate of the file for their own."""
    file, leaf = bundle.install, bundle.leaf
    if file is None or leaf is None:
        return
    first = file.certificates[0]
    if file.form.startswith("PKCS"):
        return  # a set without an order; servers read none of these forms as they are
    if first.sha256 == leaf.sha256:
        yield Holds(file.name, f"begins with {leaf.title}")
    elif is_server(first):
        seen = f"two servers' certificates in one file: {first.title} comes first, {leaf.title} has the key"
        yield Gap(file.name, seen, "one server's certificate in a file, with its own chain")
    else:
        yield Gap(file.name, f"begins with {first.title}", f"{leaf.title} first, then its issuers")


@_file_rule("bundle/live-differs", Level.NOTE, "the running server")
def live_differs(bundle: Bundle) -> Iterator[RuleOutcome]:
    """What a running server sends, held against the files."""
    leaf = bundle.leaf
    for live in bundle.live:
        if not live.certificates or leaf is None:
            continue
        served = live.certificates[0]
        if served.sha256 == leaf.sha256:
            same = [each.sha256 for each in live.certificates] == [each.sha256 for each in bundle.sent]
            yield Holds(live.place, "serves this very certificate" + ("" if same else ", with another chain"))
            continue
        key = "the same key" if served.spki == leaf.spki else "another key"
        names = "" if any(covers(served, name) for name in leaf.extensions.dns_names) else "; it is for other names"
        age = "older than" if served.not_before < leaf.not_before else "newer than"
        seen = f"serves {told_apart(served)}: {age} the file ({told_apart(leaf)}), {key}{names}"
        yield Gap(live.place, seen, "the certificate in the file, once it is installed", cause=served.sha256)


def _issuer_missing(case: Case) -> Certificate | None:
    """The topmost certificate of a path that breaks off because its issuer is in none of the files."""
    assert isinstance(case, BundleCase)
    path = case.best_path
    if path is None or path.anchor is not None:
        return None
    top = path.certificates[-1]
    kinds = {fault.kind for fault in path.faults}
    return top if not top.is_self_issued and kinds == {FaultKind.NO_ANCHOR} else None


@rule("bundle/issuer-missing", level=Level.BREAKS, sources=("RFC 8446 section 4.4.2",))
def issuer_missing(case: Case) -> Iterator[RuleOutcome]:
    """The files have to hold every issuer up to the root."""
    top = _issuer_missing(case)
    if top is not None:
        where = case.chains[0].where
        yield Gap(where, _lacking(top), "every issuer up to the root", detail=_where_to_get(top))
    elif case.chains:
        yield Holds(case.chains[0].where, "every issuer is at hand")


def _in_parts(case: Case) -> tuple[FileContents, ...]:
    """The files that make up the whole chain together, in the order in which they are to be joined; else empty."""
    assert isinstance(case, BundleCase)
    path = case.best_path
    if path is None or path.anchor is None:
        return ()
    needed = [each for each in path.certificates if each is not path.anchor] or path.certificates
    homes = [home for home in map(case.bundle.home_of, needed) if home is not None]
    parts = tuple({home.name: home for home in homes}.values())
    return parts if len(homes) == len(needed) and len(parts) > 1 else ()


def _can_be_joined(path: Path, parts: tuple[FileContents, ...]) -> bool:
    """Whether the files, one after the other, are the path: PEM with nothing else in them; the root may be last."""
    joined = [item.certificate for file in parts for item in file.items]
    wanted = [each.sha256 for each in path.certificates]
    found = [each.sha256 if each is not None else "" for each in joined]
    return found in (wanted, wanted[:-1]) and all(file.form.startswith("PEM") for file in parts)


@rule("bundle/in-parts", level=Level.NOTE, sources=("RFC 8446 section 4.4.2",))
def in_parts(case: Case) -> Iterator[RuleOutcome]:
    """Everything is there, in several files: servers take it in one."""
    assert isinstance(case, BundleCase)
    parts = _in_parts(case)
    if parts and case.best_path is not None:
        where, names = case.chains[0].where, [file.name for file in parts]
        can_be_joined = _can_be_joined(case.best_path, parts)
        how = (
            f"cat {' '.join(names)} > fullchain.pem" if can_be_joined else "Join their certificates, the server's first"
        )
        mend = (
            f"{how}, in this order. nginx (ssl_certificate), Apache httpd 2.4.8 and "
            "newer (SSLCertificateFile) and Caddy take that file and the key beside it; HAProxy takes one with the "
            "key behind the certificates; IIS takes a PKCS #12 file of all of it. --write fullchain.pem writes it."
        )
        yield Gap(where, f"whole, in separate files: {', '.join(names)}", "one file, in this order", mend=mend)
    elif case.chains:
        yield Holds(case.chains[0].where, "one file")


@rule("chain/incomplete", level=Level.BREAKS, sources=chain.incomplete.sources)
def incomplete(case: Case) -> Iterator[RuleOutcome]:
    """As for a site; where other files hold what one lacks, or no file does, the area bundle speaks."""
    if not _in_parts(case) and _issuer_missing(case) is None:
        yield from chain.incomplete.outcomes(case)


@rule("bundle/without-sibling", level=Level.WEAKENS, sources=("RFC 9525 section 6",))
def without_sibling(case: Case) -> Iterator[RuleOutcome]:
    """People type a site with and without www; of names asked for with --name, name/sibling-not-covered speaks."""
    assert isinstance(case, BundleCase)
    for leaf in case.bundle.leaves:
        pairs = [(name.lower(), sibling_of(name.lower(), is_apex)) for name in leaf.extensions.dns_names]
        lacking = [(name, other) for name, other in pairs if other is not None and not covers(leaf, other)]
        asked = set(case.bundle.names)
        lacking = [(name, other) for name, other in lacking if not name.startswith("*.") and other not in asked]
        if lacking:
            name, other = lacking[0]
            yield Gap(leaf.title, f"covers {name}, and not {other}", f"{name} and {other}", cause=leaf.sha256)
        elif any(other is not None for _, other in pairs):
            yield Holds(leaf.title, "covers names with and without www")


@rule("chain/untrusted", level=Level.BREAKS, sources=chain.untrusted.sources)
def untrusted(case: Case) -> Iterator[RuleOutcome]:
    """As for a site; where only an issuer is missing from the files, bundle/issuer-missing speaks."""
    if _issuer_missing(case) is None:
        yield from chain.untrusted.outcomes(case)


FILE_RULES = (
    no_certificate,
    unreadable,
    key_mismatch,
    leaf_not_first,
    issuer_missing,
    in_parts,
    without_sibling,
    live_differs,
)
BUNDLE_RULES: tuple[Rule, ...] = (
    *FILE_RULES,
    untrusted,
    incomplete,
    *(each for each in chain.RULES if each not in {chain.untrusted, chain.incomplete, *chain_status.RULES}),
    chain_status.not_logged,
    name_rules.not_covered,
    name_rules.sibling_not_covered,
    name_rules.common_name_only,
    name_rules.odd_entries,
    date.expired,
    date.not_yet_valid,
    date.expiring,
    date.renewal_overdue,
    date.too_long,
)
"""What is judged of files."""
