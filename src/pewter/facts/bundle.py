"""Certificate and key files before they are installed: what a server would send of them, and the files themselves.

The file that holds the server's certificate is taken for what will be installed, so that the rules on chains, names
and dates judge it like what a server sends.  The rules of the area ``bundle`` look at the files.
"""

import datetime
import functools
import re
from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

import msgspec

from pewter.evidence import FetchedIssuer, Hop, StoredCertificate
from pewter.expectations import Terms
from pewter.facts.chains import Chains, SentChain, Sources, Trust
from pewter.pki import Certificate, FaultKind, Path, Store, build_paths, covers
from pewter.pki.files import FileContents, FileItem, FileKind
from pewter.places import Place, in_file
from pewter.web.urls import https_origin

_T = TypeVar("_T")


class LiveChain(msgspec.Struct, frozen=True):
    """What a running server sends."""

    place: Place

    certificates: tuple[Certificate, ...]
    """Leaf first; empty where none came."""

    reason: str = ""
    """Why none came."""


class Bundle(msgspec.Struct, frozen=True, dict=True):
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
        keys = {item.spki for item in self.items(FileKind.PRIVATE_KEY)}
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

    def items(self, kind: FileKind) -> Iterator[FileItem]:
        return (item for file in self.files for item in file.items if item.kind is kind)


def is_server(certificate: Certificate) -> bool:
    """Not a CA's; a self-signed one with names is a server's all the same."""
    return not certificate.extensions.is_ca or bool(certificate.extensions.dns_names)


NAMELESS = "nameless.invalid"
"""Stands for the host of a certificate that names none (RFC 6761 section 6.4)."""

_HOST_NAME = re.compile(
    r"(?=[^\s]{1,253}\Z)(?:[a-z0-9_](?:[a-z0-9_-]{0,61}[a-z0-9_])?\.){0,126}[a-z0-9_](?:[a-z0-9_-]{0,61}[a-z0-9_])?"
)


class BundleCase:
    """What rules are given that judge files."""

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
        self.at = at
        self.terms = Terms()
        self.expect = self.terms.expect
        sent = tuple(_sent(bundle))
        self.resolving_names = tuple(sorted(bundle.names or {each.host for each in sent}))
        self.names_in_order = self.resolving_names
        """The names that have to be covered: of a site, those that resolve."""

        trust = Trust(tuple(stores), tuple(each.sha256 for each in given), given_only)
        self.chains = Chains(sent, (), _sources(bundle, given), trust, at, at)

    @property
    def canonical(self) -> str:
        return https_origin(next(iter(self.resolving_names), NAMELESS))

    def expected_hosts(self, name: str) -> tuple[str, ...]:
        """Visitors land where they are: no server is asked."""
        return (name,)

    def why_not_of_site(self, where: Place) -> str:
        """Files are what is judged."""
        return ""

    def server_given(self, host: str) -> str:
        """Files are for no server in particular."""
        return ""

    def hops_of(self, host: str) -> tuple[Hop, ...]:
        """No answer of a server is at hand."""
        return ()

    def once(self, what: object, work_out: Callable[[], _T]) -> _T:
        return self.chains.once(what, work_out)

    @functools.cached_property
    def best_path(self) -> Path | None:
        """Of the certificate to install, through all that is at hand in whichever file."""
        leaf, stores = self.bundle.leaf, self.chains.stores
        return build_paths(leaf, self.bundle.all_certificates, stores, self.at)[0] if leaf is not None else None

    @functools.cached_property
    def issuer_missing(self) -> Certificate | None:
        """The topmost certificate of a path that breaks off because its issuer is in none of the files."""
        path = self.best_path
        if path is None or path.anchor is not None:
            return None
        top = path.certificates[-1]
        kinds = {fault.kind for fault in path.faults}
        return top if not top.is_self_issued and kinds == {FaultKind.NO_ANCHOR} else None

    @functools.cached_property
    def in_parts(self) -> tuple[FileContents, ...]:
        """The files that make up the whole chain together, in the order in which they are to be joined; else empty."""
        path = self.best_path
        if path is None or path.anchor is None:
            return ()
        needed = [each for each in path.certificates if each is not path.anchor] or path.certificates
        homes = [home for home in map(self.bundle.home_of, needed) if home is not None]
        parts = tuple({home.name: home for home in homes}.values())
        return parts if len(homes) == len(needed) and len(parts) > 1 else ()


def _sources(bundle: Bundle, given: Sequence[Certificate]) -> Sources:
    certificates = {each.sha256: each.der for each in (*bundle.all_certificates, *given)}
    in_files = (
        FetchedIssuer(file.name, "", tuple(each.sha256 for each in file.certificates if each.extensions.is_ca))
        for file in bundle.files
    )
    by_aia = (FetchedIssuer(url, "", tuple(each.sha256 for each in found)) for url, found in bundle.fetched)
    stored = tuple(StoredCertificate(sha256, octets) for sha256, octets in certificates.items())
    return Sources(stored, (*in_files, *by_aia))


def _sent(bundle: Bundle) -> Iterator[SentChain]:
    """Each server's certificate for each name that was asked for and that it covers, else for its own.

    A name that none covers is held against the first of them.
    """
    for leaf in bundle.leaves:
        asked = [name for name in bundle.names if covers(leaf, name)]
        if leaf is bundle.leaf:
            asked += [name for name in bundle.names if not any(covers(each, name) for each in bundle.leaves)]
        fingerprints = tuple(each.sha256 for each in bundle.sent_with(leaf))
        home = bundle.home_of(leaf)
        assert home is not None
        for name in asked or (() if bundle.names and len(bundle.leaves) < 2 else (_own_name(leaf),)):
            yield SentChain(in_file(home.name, name, is_alone=len(bundle.leaves) < 2), name, fingerprints)


def _own_name(leaf: Certificate) -> str:
    """The first name that a host can have; what else stands there is told by the rules on names."""
    names = (*leaf.extensions.dns_names, leaf.title)
    plain = (name.removeprefix("*.").rstrip(".").lower() for name in names)
    return next((name for name in plain if _HOST_NAME.fullmatch(name)), NAMELESS)


class NotMended(msgspec.Struct, frozen=True):
    """There is no chain to be installed."""

    reason: str


def mended_chain(case: BundleCase) -> tuple[Certificate, ...] | NotMended:
    """What the file to install should hold, leaf first and without the root; or why it cannot be put together."""
    leaf = case.bundle.leaf
    if leaf is None:
        return NotMended("there is no server's certificate among the files")
    path = case.best_path
    assert path is not None
    if path.anchor is not None:
        kept = tuple(each for each in path.certificates if each is not path.anchor)
        return kept or (leaf,)
    top = path.certificates[-1]
    if top.is_self_issued:
        return path.certificates if len(path.certificates) == 1 else path.certificates[:-1]
    return NotMended(f"{lacking(top)}. {where_issuer_is(top)}.")


def lacking(top: Certificate) -> str:
    return f"{top.issuer.title}, the issuer of {top.title}, is in none of the files"


def where_issuer_is(top: Certificate) -> str:
    urls = " or ".join(top.extensions.ca_issuers[:2])
    return f"It is at {urls}; --fetch gets it" if urls else "Its CA has it for download"
