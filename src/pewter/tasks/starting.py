"""A look, and a starter ``pewter.toml`` out of it."""

from pathlib import Path

import msgspec

from pewter.errors import NotReviewedError, UsageError
from pewter.facts.case import Case
from pewter.judge.review import make_review
from pewter.names.issuers import domains_of
from pewter.pki import Certificate
from pewter.plan.files import check_writable, write_whole
from pewter.plan.request import LookRequest
from pewter.plan.settle import settle
from pewter.plan.site_file import NAME, read_site_file
from pewter.plan.starter import starter_text

from .surroundings import Alone, Surroundings


class InitRequest(msgspec.Struct, frozen=True):
    """For which site, and where."""

    look: LookRequest = msgspec.field(default_factory=LookRequest)
    force: bool = False
    """What is there is overwritten."""

    folder: Path = msgspec.field(default_factory=Path)


def init(request: InitRequest, around: Surroundings | None = None) -> Path:
    """Write it into the folder, and say where.  Raises UsageError, FileError or NotReviewedError."""
    around = around or Alone()
    file = request.folder / NAME
    if file.is_symlink() and not file.exists():
        raise UsageError(f"{NAME} is a link to what is not there: take it away, or make the file that it names.")
    if file.exists() and not request.force:
        raise UsageError(f"{NAME} is there already. --force writes it anew; what stands in it is then lost.")
    check_writable(file)
    # A file that is about to be overwritten is no expectation.
    settled = settle(msgspec.structs.replace(request.look, uses_site_file=False), request.folder, around.say)
    evidence = around.look(settled.plan, settled.given)
    case = Case(evidence, settled.terms, evidence.begun, settled.given.stores)
    review = make_review(case)
    if not review.results.was_reviewed:
        raise NotReviewedError(f"{evidence.plan.first} could not be reviewed: {review.results.why_not}.")
    text = starter_text(review, map(str, request.look.trust), _caa_domains(case))
    write_whole(file, text.encode("utf-8"))
    read_site_file(file)
    return file


def _caa_domains(case: Case) -> tuple[str, ...]:
    """What the CAs of the present certificates declare, where that is known of all of them."""
    leaves = [chain.leaf for chain in case.chains if isinstance(chain.leaf, Certificate)]
    known = [domains_of(next(iter(leaf.issuer.organizations), "")) for leaf in leaves]
    return tuple(dict.fromkeys(each for found in known if found for each in found)) if all(known) else ()
