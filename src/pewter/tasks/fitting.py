"""The mend of a review, fitted to the server's own configuration."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from pewter.errors import UsageError
from pewter.fitting.fit import Fitted, Put, fit
from pewter.judge.review import Review
from pewter.judge.whole_mend import Later, whole_mend
from pewter.mends.kinds import kind_file
from pewter.phrases import all_of
from pewter.plan.server_files import read_server_files


class FittedReview(NamedTuple):
    """The mend of a review for one kind of server, in the files of its configuration."""

    title: str
    folder: Path
    fitted: Fitted
    later: tuple[Later, ...]
    """Lines for it that would not be safe yet."""

    others: tuple[str, ...]
    """Kinds of servers that the review has lines for beside this one."""


def fit_review(review: Review, files: Sequence[Path], say: Callable[[str], None]) -> FittedReview:
    """All lines of a review for the kind of server whose files these are.  Raises UsageError or FileError."""
    kind, tree, folder = read_server_files(files, review.terms.server, say)
    title = kind_file(kind).title
    mend = whole_mend(review.results)
    program = next((each for each in mend.programs if each.server == title), None)
    others = tuple(each.server for each in mend.programs if each is not program)
    later = tuple(each for each in mend.later if each.server == title)
    if program is None and not later:
        has = f"its lines are for {all_of(others)}" if others else "it has no lines for a server"
        raise UsageError(
            f"--server-config {files[0]}: this is a configuration of {title}, and of this review {has}."
            + (f" A review with --server {kind.value} has lines for {title}." if others else "")
        )
    rules = {entry.number: entry.rule for entry in review.results.gaps}
    blocks = program.blocks if program is not None else ()
    puts = [Put(put.piece, put.gaps, rules[put.gaps[0]]) for block in blocks for put in block.puts]
    fitted = fit(kind, tree, puts, [each.name for each in review.evidence.names])
    reload = kind_file(kind).reload
    commands = (*(each for each in fitted.commands if each != reload), *([reload] if puts else []))
    return FittedReview(title, folder, msgspec.structs.replace(fitted, commands=commands), later, others)
