"""Are files of certificates and keys fit to be installed?"""

from collections.abc import Iterator
from typing import Any

from pewter.evidence import Step
from pewter.facts.bundle import BundleCase, is_server, lacking, where_issuer_is
from pewter.facts.chains import told_apart
from pewter.judge.nature import OF_CERTIFICATES, OF_FILES
from pewter.judge.outcomes import Gap, Holds, RuleOutcome
from pewter.judge.rule import Rule, rule
from pewter.levels import Level
from pewter.pki import Path, covers
from pewter.pki.files import FileContents, FileKind
from pewter.places import of_file
from pewter.web.sites import sibling_of
from pewter.web.suffixes import is_apex

from . import chain


@rule("bundle/no-certificate", level=Level.BREAKS, sources=("RFC 8446 section 4.4.2",), nature=OF_FILES)
def no_certificate(case: BundleCase) -> Iterator[RuleOutcome]:
    """Among the files there has to be a server's certificate."""
    bundle = case.bundle
    where = of_file(", ".join(each.name for each in bundle.files))
    if bundle.leaf is not None:
        yield Holds(where, f"{bundle.leaf.title} in {bundle.install.name if bundle.install else where}")
        return
    kinds = {item.kind for file in bundle.files for item in file.items}
    if FileKind.CERTIFICATE in kinds:
        seen = "certificates of CAs alone: the chain without the certificate that it is for"
    elif FileKind.REQUEST in kinds:
        seen = "a certificate request (CSR), which the CA is to sign: what the CA sends back is what to install"
    elif FileKind.PRIVATE_KEY in kinds:
        seen = "a private key in the certificate's place"
    else:
        seen = "nothing that is a certificate"
    yield Gap(where, seen, "the server's certificate")


@rule("bundle/unreadable", level=Level.BREAKS, sources=("RFC 7468 section 2",), nature=OF_FILES)
def unreadable(case: BundleCase) -> Iterator[RuleOutcome]:
    """Every file and every block in it has to be readable by the server."""
    bundle = case.bundle
    for file in bundle.files:
        problems = [*file.problems]
        for position, item in enumerate(file.items, start=1):
            if item.problem:
                problems.append(f"{position}. {item.words}: {item.problem}")
        for problem in problems:
            yield Gap(of_file(file.name), problem, "PEM blocks, whole and one after the other", about=problem)
        if not problems:
            yield Holds(of_file(file.name), f"{file.form.value}, {len(file.items)} entries")


@rule("bundle/key-mismatch", level=Level.BREAKS, sources=("RFC 8446 section 4.4.3",), nature=OF_FILES)
def key_mismatch(case: BundleCase) -> Iterator[RuleOutcome]:
    """The key has to belong to the certificate: their public keys are the same."""
    bundle = case.bundle
    certificates = [each for file in bundle.files for each in file.certificates]
    for file in bundle.files:
        for item in file.items:
            if item.kind is not FileKind.PRIVATE_KEY or item.spki is None:
                continue
            owners = [each for each in certificates if each.spki == item.spki]
            requests = [each for each in bundle.items(FileKind.REQUEST) if each.spki == item.spki]
            if owners:
                yield Holds(of_file(file.name), f"the key belongs to {owners[0].title}")
            elif certificates:
                leaf = bundle.leaf
                other = f"{leaf.title} has {leaf.key}" if leaf is not None else "no server's certificate is here"
                request = "; it belongs to the request" if requests else ""
                seen = f"{item.words}, which belongs to no certificate here ({other}){request}"
                yield Gap(of_file(file.name), seen, "the certificate's own key")


@rule("bundle/leaf-not-first", level=Level.BREAKS, sources=("RFC 8446 section 4.4.2",), nature=OF_FILES)
def leaf_not_first(case: BundleCase) -> Iterator[RuleOutcome]:
    """Servers take the first certificate of the file for their own."""
    bundle = case.bundle
    file, leaf = bundle.install, bundle.leaf
    if file is None or leaf is None:
        return
    first = file.certificates[0]
    if file.form.is_set:
        return
    if first.sha256 == leaf.sha256:
        yield Holds(of_file(file.name), f"begins with {leaf.title}")
    elif is_server(first):
        seen = f"two servers' certificates in one file: {first.title} comes first, {leaf.title} has the key"
        yield Gap(of_file(file.name), seen, "one server's certificate in a file, with its own chain")
    else:
        yield Gap(of_file(file.name), f"begins with {first.title}", f"{leaf.title} first, then its issuers")


@rule("bundle/live-differs", level=Level.NOTE, sources=("the running server",), nature=OF_FILES)
def live_differs(case: BundleCase) -> Iterator[RuleOutcome]:
    """What a running server sends, held against the files."""
    bundle = case.bundle
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
        detail = _SAME_KEY if served.spki == leaf.spki else ""
        expected = "the certificate in the file, once it is installed"
        yield Gap(live.place, seen, expected, cause=served.sha256, detail=detail)


_SAME_KEY = "Both have one key: where the served one was revoked, or its key may be known, a new key is needed first"


@rule("bundle/issuer-missing", level=Level.BREAKS, sources=("RFC 8446 section 4.4.2",), nature=OF_FILES)
def issuer_missing(case: BundleCase) -> Iterator[RuleOutcome]:
    """The files have to hold every issuer up to the root."""
    top = case.issuer_missing
    if top is not None:
        where = case.chains.first().where
        yield Gap(where, lacking(top), "every issuer up to the root", detail=where_issuer_is(top))
    elif case.chains:
        yield Holds(case.chains.first().where, "every issuer is at hand")


def _can_be_joined(path: Path, parts: tuple[FileContents, ...]) -> bool:
    """Whether the files, one after the other, are the path: PEM with nothing else in them; the root may be last."""
    joined = [item.certificate for file in parts for item in file.items]
    wanted = [each.sha256 for each in path.certificates]
    found = [each.sha256 if each is not None else "" for each in joined]
    return found in (wanted, wanted[:-1]) and all(file.form.is_pem for file in parts)


@rule("bundle/in-parts", level=Level.NOTE, sources=("RFC 8446 section 4.4.2",), nature=OF_FILES)
def in_parts(case: BundleCase) -> Iterator[RuleOutcome]:
    """Everything is there, in several files: servers take it in one."""
    parts = case.in_parts
    if parts and case.best_path is not None:
        where, names = case.chains.first().where, [file.name for file in parts]
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
        yield Holds(case.chains.first().where, "one file")


@rule("chain/incomplete", level=Level.BREAKS, sources=chain.incomplete.sources, nature=OF_CERTIFICATES)
def incomplete(case: BundleCase) -> Iterator[RuleOutcome]:
    """As for a site; where other files hold what one lacks, or no file does, the area bundle speaks."""
    if not case.in_parts and case.issuer_missing is None:
        yield from chain.incomplete.outcomes(case)


@rule("bundle/without-sibling", level=Level.WEAKENS, sources=("RFC 9525 section 6",), nature=OF_FILES)
def without_sibling(case: BundleCase) -> Iterator[RuleOutcome]:
    """People type a site with and without www; of names asked for with --name, name/sibling-not-covered speaks."""
    for leaf in case.bundle.leaves:
        home = case.bundle.home_of(leaf)
        assert home is not None
        where = of_file(home.name)
        pairs = [(name.lower(), sibling_of(name.lower(), is_apex)) for name in leaf.extensions.dns_names]
        uncovered = [(name, other) for name, other in pairs if other is not None and not covers(leaf, other)]
        asked = set(case.bundle.names)
        lacking = [(name, other) for name, other in uncovered if not name.startswith("*.") and other not in asked]
        if lacking:
            name, other = lacking[0]
            yield Gap(where, f"covers {name}, and not {other}", f"{name} and {other}", cause=leaf.sha256)
        elif not uncovered and any(other is not None for _, other in pairs):
            yield Holds(where, "covers names with and without www")


@rule("chain/untrusted", level=Level.BREAKS, sources=chain.untrusted.sources, nature=OF_CERTIFICATES)
def untrusted(case: BundleCase) -> Iterator[RuleOutcome]:
    """As for a site; where only an issuer is missing from the files, bundle/issuer-missing speaks."""
    if case.issuer_missing is None:
        yield from chain.untrusted.outcomes(case)


STEPS: tuple[Step, ...] = ()
"""What has to be asked for its rules."""

RULES = (
    no_certificate,
    unreadable,
    key_mismatch,
    leaf_not_first,
    issuer_missing,
    in_parts,
    without_sibling,
    live_differs,
)
FOR_FILES: dict[str, Rule[Any]] = {each.name: each for each in (untrusted, incomplete)}
"""In place of the rules of these names for sites."""
