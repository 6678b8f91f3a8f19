"""What is done with saved reviews, without the network: shown again, judged again, compared."""

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from pewter.errors import FileError, UsageError
from pewter.evidence import StoredCertificate
from pewter.judge.comparison import Comparison, compare, judged_again
from pewter.judge.course import Course, course_of
from pewter.judge.review import Review, case_of, make_review
from pewter.judge.summary import RunChanges
from pewter.plan.own_files import read_trust_file
from pewter.plan.saved_reviews import read_saved
from pewter.plan.site_file import read_site_file
from pewter.plan.terms import SUPPOSITIONS, terms_of
from pewter.plan.texts import read_as_of


def read_report(path: Path, site: str | None = None) -> Review:
    """A saved review as it was judged; of a survey's folder that of one site.  Raises UsageError or FileError."""
    if path.is_dir():
        if site is None:
            raise UsageError(f"{path} is a folder: --site NAME says whose review of its survey, --show tells of all.")
        from pewter.survey.store import Ledger  # noqa: PLC0415

        with Ledger.open_to_read(path) as ledger:
            return ledger.review(site)
    if site is not None:
        raise UsageError("--site is of a survey's folder; a saved review is of one site.")
    return read_saved(path)


class JudgeRequest(msgspec.Struct, frozen=True):
    """Which review, and by what it is judged."""

    review: Path
    as_of: str | None = None
    site: Path | None = None
    """A site file, whose expectations and accepted gaps count."""

    trust: tuple[Path, ...] = ()
    suppose: tuple[str, ...] = ()


def judge(request: JudgeRequest) -> Review:
    """Judge saved evidence again: for another day, by other terms, with further anchors."""
    review = read_saved(request.review)
    terms = terms_of(read_site_file(request.site)) if request.site is not None else review.terms
    for supposed in request.suppose:
        if supposed not in SUPPOSITIONS:
            raise UsageError(f"--suppose {supposed!r}: what can be supposed is hsts.")
    if request.suppose:
        terms = msgspec.structs.replace(terms, suppose=request.suppose)
    return make_review(case_of(_with_trust(review, request.trust), terms, read_as_of(request.as_of)))


class Compared(msgspec.Struct, frozen=True):
    """Two reviews of one site, and what changed."""

    before: Review
    after: Review
    remarks: tuple[str, str]
    """What is to be said of the results of each, where they had to be judged again."""

    comparison: Comparison


def compare_files(old: Path, new: Path) -> Compared:
    """Raises UsageError for reviews of two sites, FileError for what is no review."""
    before, after = read_saved(old), read_saved(new)
    if not {each.name for each in before.evidence.names} & {each.name for each in after.evidence.names}:
        sites = f"{old} is of {before.evidence.plan.first} and {new} of {after.evidence.plan.first}"
        raise UsageError(f"{sites}: two sites cannot be compared.")
    (before, of_old), (after, of_new) = judged_again(before), judged_again(after)
    remarks = (of_old, of_new)
    return Compared(before, after, remarks, compare(before, after, remarks))


MOST_LOOKS = 200
"""Of one course, the newest: each is held in memory."""


def course(paths: Sequence[Path], say: Callable[[str], None] = lambda words: None) -> Course:
    """The course of one site, out of its reviews and folders of them; what else lies in a folder is left out and said.

    Raises UsageError for reviews of several sites, FileError for what is no review.
    """
    files: list[Path] = []
    for path in paths:
        files += sorted(path.glob("*.json")) if path.is_dir() else [path]
    found: list[tuple[str, Review]] = []
    for file in files:
        try:
            found.append((file.name, read_saved(file)))
        except FileError as exc:
            if file in paths:
                raise
            say(f"left out: {exc}")
        if len(found) > 2 * MOST_LOOKS:
            found = _newest(found)
    if not found:
        raise FileError(f"{paths[0]} holds no saved review (.json).")
    if len(sites := {review.evidence.plan.first for _, review in found}) > 1:
        raise UsageError(f"these are reviews of several sites ({', '.join(sorted(sites)[:4])}): a course is of one.")
    if len(kept := _newest(found)) < len(files):
        say(f"{len(kept):,} of {len(files):,} files are told of")
    return course_of((source, judged_again(review)[0]) for source, review in kept)


def _newest(found: list[tuple[str, Review]]) -> list[tuple[str, Review]]:
    return sorted(found, key=lambda each: each[1].evidence.begun)[-MOST_LOOKS:]


def compare_runs(folder: Path) -> RunChanges:
    """What changed from each site's review of a survey before to its last."""
    if not folder.is_dir():
        raise UsageError(
            "Two saved reviews are compared, or more of one site, or a folder of them, or the folder of a survey."
        )
    from pewter.survey.store import Ledger, changes_of_runs  # noqa: PLC0415

    with Ledger.open_to_read(folder) as ledger:
        return changes_of_runs(ledger)


def _with_trust(review: Review, files: Sequence[Path]) -> Review:
    anchors = [each for file in files for each in read_trust_file(file)]
    if not anchors:
        return review
    evidence = review.evidence
    known = {each.sha256 for each in evidence.certificates}
    stored = tuple(StoredCertificate(each.sha256, each.der) for each in anchors if each.sha256 not in known)
    return msgspec.structs.replace(
        review,
        evidence=msgspec.structs.replace(
            evidence,
            given_trust=tuple(dict.fromkeys((*evidence.given_trust, *(each.sha256 for each in anchors)))),
            certificates=(*evidence.certificates, *stored),
        ),
    )
