"""What is done with saved reviews, without the network: ``report``, ``judge`` and ``compare``."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from pewter.errors import FileError, UsageError
from pewter.evidence import StoredCertificate
from pewter.judge.comparison import compare, judged_again
from pewter.judge.review import Review, case_of, make_review
from pewter.plan.files import check_writable, write_whole
from pewter.plan.own_files import read_trust_file
from pewter.plan.saved_reviews import read_saved
from pewter.plan.site_file import read_site_file
from pewter.plan.terms import SUPPOSITIONS, terms_of
from pewter.plan.texts import read_as_of, read_level
from pewter.report.changes import render_changes
from pewter.report.formats import COMPARISON_FORMATS, check_format, render

from .ending import exit_status, write_files
from .output import output_marks, output_width, print_octets, print_report, print_text
from .saying import say


@dataclass(frozen=True)
class Output:
    """The options that every command with a judged review shares."""

    fail_on: str | None = None
    write: tuple[Path, ...] = ()
    json: bool = False
    full: bool = False
    """Every gap in full, not only what breaks or exposes."""


@dataclass(frozen=True)
class JudgeCommand:
    """The options as typed."""

    review: Path
    as_of: str | None = None
    site: Path | None = None
    trust: tuple[Path, ...] = ()
    suppose: tuple[str, ...] = ()
    output: Output = field(default_factory=Output)


def run_report(path: Path, site: str | None, output: Output) -> int:
    """Print a saved review as it was judged, or write it in other formats; of a survey's folder, one site's."""
    if path.is_dir():
        if site is None:
            raise UsageError(f"{path} is a folder: --site NAME says whose review of its survey, --show tells of all.")
        from pewter.survey.store import Ledger  # noqa: PLC0415

        with Ledger.open_to_read(path) as ledger:
            return _put_out(ledger.review(site), output)
    if site is not None:
        raise UsageError("--site is of a survey's folder; a saved review is of one site.")
    return _put_out(read_saved(path), output)


def run_judge(command: JudgeCommand) -> int:
    """Judge saved evidence again: for another day, by other terms, with further anchors."""
    review = read_saved(command.review)
    terms = terms_of(read_site_file(command.site)) if command.site is not None else review.terms
    for supposed in command.suppose:
        if supposed not in SUPPOSITIONS:
            raise UsageError(f"--suppose {supposed!r}: what can be supposed is hsts.")
    if command.suppose:
        terms = msgspec.structs.replace(terms, suppose=command.suppose)
    case = case_of(_with_trust(review, command.trust), terms, read_as_of(command.as_of))
    return _put_out(make_review(case), command.output)


def run_compare(old: Path, new: Path | None, write: Sequence[Path] = (), *, json: bool = False) -> int:
    """Say what changed; 1 where gaps at or above the level of the newer review opened, or could not be seen again."""
    if new is None:
        if old.is_dir():
            return _compare_runs(old, write, json=json)
        raise UsageError("Two saved reviews are compared, or the last two runs in the folder of a survey.")
    before, after = read_saved(old), read_saved(new)
    if not _are_of_one_site(before, after):
        sites = f"{old} is of {before.evidence.plan.first} and {new} of {after.evidence.plan.first}"
        raise UsageError(f"{sites}: two sites cannot be compared.")
    for file in write:
        check_format(file, COMPARISON_FORMATS)
        check_writable(file)
    (before, of_old), (after, of_new) = judged_again(before), judged_again(after)
    remarks = (of_old, of_new)
    comparison = compare(before, after, remarks)
    for file, remark in zip((old, new), remarks, strict=True):
        if remark:
            say(f"{file}: {remark}")
    for file in write:
        write_whole(file, COMPARISON_FORMATS[file.suffix](before, after, remarks))
        say(f"wrote {file}")
    if json:
        print_octets(COMPARISON_FORMATS[".json"](before, after, remarks))
    else:
        print_text(render_changes(comparison, output_width(), output_marks()))
    return 1 if comparison.in_doubt(read_level(after.terms.fail_on)) else 0


def _compare_runs(folder: Path, write: Sequence[Path], *, json: bool) -> int:
    """What changed from each site's review before to its last.

    1 where gaps that break or expose opened, or could not be seen again.
    """
    from pewter.report.many import render_run_changes, render_run_changes_json  # noqa: PLC0415
    from pewter.survey.changes import changes_of_runs  # noqa: PLC0415
    from pewter.survey.store import Ledger  # noqa: PLC0415

    for file in write:
        check_format(file, (".json",))
        check_writable(file)
    with Ledger.open_to_read(folder) as ledger:
        changes = changes_of_runs(ledger)
    for file in write:
        write_whole(file, render_run_changes_json(changes))
        say(f"wrote {file}")
    if json:
        print_octets(render_run_changes_json(changes))
    else:
        print_text(render_run_changes(changes, output_width(), output_marks()))
    return 1 if changes.in_doubt(read_level("exposes")) else 0


def _are_of_one_site(old: Review, new: Review) -> bool:
    """They share a name under review."""
    return bool({each.name for each in old.evidence.names} & {each.name for each in new.evidence.names})


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


def _put_out(review: Review, output: Output) -> int:
    if output.fail_on is not None:
        review = msgspec.structs.replace(
            review, terms=msgspec.structs.replace(review.terms, fail_on=read_level(output.fail_on).value)
        )
    for file in output.write:
        check_format(file)
        check_writable(file)
    failed = write_files(output.write, review)
    if output.json:
        print_octets(render(review, ".json"))
    elif not output.write:
        print_report(review, full=output.full)
    else:
        say(f"{review.evidence.plan.first}: {review.results.verdict}")
    status = exit_status(review, read_level(review.terms.fail_on))
    return FileError.exit_status if failed and status < FileError.exit_status else status
