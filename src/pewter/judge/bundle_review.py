"""What a look at certificate and key files comes to, so that the renderer only prints."""

import datetime
import hashlib
from collections.abc import Iterator

import msgspec

from pewter.facts.bundle import BundleCase, is_server
from pewter.levels import Level
from pewter.pictures.certificates import ServedCertificate, served_certificates
from pewter.pki import Certificate
from pewter.pki.files import FileItem
from pewter.places import Place
from pewter.web.sites import common_domain
from pewter.web.urls import read_url

from .counts import worst_level
from .entries import GapEntry, count_by_level, gap_entries, worded
from .judging import judge
from .order import FirstStep, Told, first_steps
from .outcomes import Gap, Judged
from .results import Failed, guarded
from .rules import FILE_RULES
from .saved_outcomes import places_of

FORMAT = "pewter-bundle/1"


class ItemDrawn(msgspec.Struct, frozen=True, omit_defaults=True):
    """One thing in a file."""

    words: str
    is_faulty: bool = False


class FileDrawn(msgspec.Struct, frozen=True, omit_defaults=True):
    """One file."""

    name: str
    form: str
    items: tuple[ItemDrawn, ...]
    problems: tuple[str, ...] = ()


class LiveDrawn(msgspec.Struct, frozen=True):
    """What a running server sends."""

    words: str
    is_same: bool | None
    """The certificate in the files; None where it sent none."""


class BundleReview(msgspec.Struct, frozen=True):
    """Files, and what is made of them."""

    format: str
    judged_for: datetime.datetime
    subject: str
    """The file that would be installed, else all of them."""

    can_be_installed: bool
    """There is a server's certificate at all."""

    worst: Level | None
    counts: dict[str, int]
    held: int
    """Checks of which there is no gap."""

    files: tuple[FileDrawn, ...]
    chain: tuple[str, ...]
    """SHA-256 fingerprints of what would be sent, leaf first."""

    certificates: tuple[ServedCertificate, ...]
    live: tuple[LiveDrawn, ...]
    first: tuple[FirstStep, ...]
    """What to do first."""

    after_first: tuple[int, ...]
    gaps: tuple[GapEntry, ...]
    places: tuple[Place, ...]
    titles: dict[str, str]
    """Of rules, by their names."""

    outcomes: tuple[Judged, ...]


def make_bundle_review(case: BundleCase, failed: Failed) -> BundleReview:
    """Judge files.  Faults of ours, and an interruption, are told to ``failed``."""
    outcomes = judge(case, FILE_RULES, failed)
    gaps = guarded(failed, "the gaps", lambda: gap_entries(case, outcomes), tuple[GapEntry, ...]())
    bundle = case.bundle
    install = bundle.install
    names = case.resolving_names
    told = Told(names, common_domain(names), read_url(case.canonical).host, frozenset(), case.at)
    no_steps: tuple[tuple[FirstStep, ...], tuple[int, ...]] = ((), ())
    first, after_first = guarded(failed, "what to do first", lambda: first_steps(worded(gaps), told), no_steps)
    return BundleReview(
        format=FORMAT,
        judged_for=case.at,
        subject=install.name if install is not None else ", ".join(each.name for each in bundle.files) or "no file",
        can_be_installed=install is not None,
        worst=worst_level(outcomes),
        counts=count_by_level(gaps),
        held=sum(1 for each in outcomes if not isinstance(each.outcome, Gap)),
        files=tuple(
            FileDrawn(file.name, file.form.value, tuple(_item(case, each) for each in file.items), file.problems)
            for file in bundle.files
        ),
        chain=tuple(each.sha256 for each in bundle.sent),
        certificates=guarded(failed, "the certificates", lambda: served_certificates(case), ()),
        live=tuple(_live(case)),
        first=first,
        after_first=after_first,
        gaps=gaps,
        places=tuple(places_of(outcomes)),
        titles={rule.name: rule.words.title for rule in FILE_RULES},
        outcomes=outcomes,
    )


def _item(case: BundleCase, item: FileItem) -> ItemDrawn:
    certificate = item.certificate
    if isinstance(certificate, Certificate):
        span = f"{certificate.not_before:%Y-%m-%d} to {certificate.not_after:%Y-%m-%d}"
        kind = "server" if is_server(certificate) else "root" if certificate.is_self_issued else "CA"
        by = "by itself" if certificate.is_self_issued else f"by {certificate.issuer.title}"
        words = f"{kind}: {certificate.title}, {span}, {by}; {certificate.key}, SHA-256 {certificate.sha256[:8]}"
        words += f", key {certificate.spki_sha256.hex()[:8]}"
        return ItemDrawn(words, bool(item.problem))
    words = item.words + (f": {item.problem}" if item.problem else "")
    if item.spki is not None:
        owners = [each.title for each in case.bundle.all_certificates if each.spki == item.spki]
        words += f", key {hashlib.sha256(item.spki).hexdigest()[:8]}"
        words += f", belongs to {owners[0]}" if owners else ", belongs to no certificate here"
    return ItemDrawn(words, bool(item.problem))


def _live(case: BundleCase) -> Iterator[LiveDrawn]:
    leaf = case.bundle.leaf
    for live in case.bundle.live:
        if not live.certificates:
            yield LiveDrawn(f"{live.place}: {live.reason}", None)
            continue
        served = live.certificates[0]
        is_same = leaf is not None and served.sha256 == leaf.sha256
        words = "serves this certificate" if is_same else "serves another certificate"
        if leaf is not None and not is_same:
            words += " with the same key" if served.spki == leaf.spki else " with another key"
        span = f"{served.not_before:%Y-%m-%d} to {served.not_after:%Y-%m-%d} by {served.issuer.title}"
        count = len(live.certificates)
        yield LiveDrawn(f"{live.place}: {words} ({span}, SHA-256 {served.sha256[:8]}), {count} sent", is_same)
