"""``pewter bundle``."""

import msgspec

from pewter.errors import OWN_FAULT, own_fault_words
from pewter.escape import json_escaped
from pewter.judge.counts import reaches
from pewter.plan.texts import read_level
from pewter.report.bundle import render_bundle
from pewter.tasks.bundling import BundleRequest, bundle

from .ending import INTERRUPTED
from .output import output_marks, output_width, print_octets, print_text
from .saying import say
from .surroundings import Terminal


def run_bundle(request: BundleRequest, fail_on: str, *, json: bool) -> int:
    """Judge the files and print; exit status as for a review, and 1 where no chain could be written."""
    level = read_level(fail_on)
    found = bundle(request, Terminal())
    if json:
        print_octets(json_escaped(msgspec.json.format(msgspec.json.encode(found.review), indent=1)) + b"\n")
        for line in found.next_lines if request.write is not None else ():
            say(line)
    else:
        print_text(render_bundle(found.review, found.next_lines, output_width(), output_marks()))
    for failure in found.failures:
        if isinstance(failure, KeyboardInterrupt):
            return INTERRUPTED
        say(own_fault_words(f"{failure.what}: {failure.detail}"))
        return OWN_FAULT
    unwritten = request.write is not None and not found.is_mended
    return 1 if unwritten or reaches(found.review.outcomes, level) else 0
