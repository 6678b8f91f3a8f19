"""The mend of a review, fitted to the server's own configuration."""

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from pewter.errors import UsageError
from pewter.fitting.fit import Fitted, Put, fit
from pewter.judge.review import Review
from pewter.judge.whole_mend import whole_mend
from pewter.mends.kinds import Kind, kind_file
from pewter.plan.server_files import read_server_files


def fit_review(review: Review, files: Sequence[Path], say: Callable[[str], None]) -> tuple[Kind, Fitted]:
    """All lines of a review for the kind of server whose files these are.  Raises UsageError or FileError."""
    kind, tree = read_server_files(files, review.terms.server, say)
    title = kind_file(kind).title
    programs = whole_mend(review.results).programs
    program = next((each for each in programs if each.server == title), None)
    if program is None:
        there = [each.server for each in programs]
        has = f"its lines are for {' and '.join(there)}" if there else "it has no lines for a server"
        raise UsageError(
            f"--server-config {files[0]}: this is a configuration of {title}, and of this review {has}."
            + (f" --server {kind.value} says that {title} answers." if there else "")
        )
    rules = {entry.number: entry.rule for entry in review.results.gaps}
    puts = [Put(put.piece, put.gaps, rules[put.gaps[0]]) for block in program.blocks for put in block.puts]
    site = [each.name for each in review.evidence.names]
    fitted = fit(kind, tree, puts, site)
    reload = program.reload or kind_file(kind).reload
    commands = (*(each for each in fitted.commands if each != reload), reload)
    return kind, msgspec.structs.replace(fitted, commands=commands)
