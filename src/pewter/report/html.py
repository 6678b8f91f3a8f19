"""HTML: one file that loads nothing and needs no script; dark and light, printable, readable on a phone."""

import functools
import re
from collections.abc import Callable, Sequence
from typing import Any

import msgspec

from pewter.escape import escaped
from pewter.evidence import VersionOutcome, WayIn
from pewter.judge.comparison import CHANGE_TITLES, Change, compare
from pewter.judge.order import when_words
from pewter.judge.results import LinkState, Prediction, ServedCertificate, Visit
from pewter.judge.review import Review
from pewter.levels import Level
from pewter.phrases import plural
from pewter.report.name_lines import name_lines
from pewter.version import __version__
from pewter.web.sites import common_domain

from .certificates import life_level, life_words
from .changes import look_words
from .name_table import cells_of, has_table, sight_of
from .terminal import unknown_lines
from .ways_in import fold_addresses

MARKS = {
    "breaks": "■", "exposes": "◆", "weakens": "▲", "note": "·", "holds": "✓", "unknown": "?", "accepted": "○",
}  # fmt: skip
MAX_GAPS = 300
LEGEND = (
    ("breaks", "stops or warns visitors"),
    ("exposes", "traffic or cookies can be read or changed"),
    ("weakens", "a defence is missing"),
    ("note", "worth knowing"),
    ("holds", "was checked and is as expected"),
    ("unknown", "could not be seen, and counts as nothing"),
    ("accepted", "a gap that the owner accepts"),
)
"""What the marks mean."""

_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}(?: [0-9]{2}:[0-9]{2})?")


def render_html(review: Review) -> bytes:
    """The whole review; every text in it is shown as it was sent, control characters written out."""
    results, evidence = review.results, review.evidence
    shown = [visit for visit in results.visits if visit.reason is not WayIn.ABSENT]
    worst = results.worst.value if results.worst is not None else "holds" if results.was_reviewed else "unknown"
    text: str = template("review.html.j2").render(
        site=evidence.plan.first,
        verdict=review.results.verdict,
        verdict_class=worst,
        verdict_mark=MARKS[worst],
        counts=[
            (level, count, plural(count, "") if level == Level.NOTE.value else "")
            for level, count in results.counts.items()
        ],
        marks=MARKS,
        begun=f"{evidence.begun:%Y-%m-%d %H:%M}",
        judged=f"{review.judged.at:%Y-%m-%d %H:%M}",
        names_count=sum(1 for name in evidence.names if name.declared or name.addresses),
        connections=evidence.connections,
        elapsed=f"{evidence.elapsed_seconds:.1f}",
        conditions=results.conditions[:1].upper() + results.conditions[1:],
        interrupted=evidence.interrupted,
        supposed=results.supposed,
        first=[(step.what, when_words(step, review.judged.at), sorted(step.gaps)) for step in results.first],
        after_first=results.after_first,
        names=_names(review),
        domain=common_domain([line.name for line in name_lines(review)]),
        canonical=results.canonical,
        visits=[_visit(*each) for each in fold_addresses(shown)],
        legs=results.legs,
        zones=results.zones,
        certificates=[_certificate(each) for each in results.certificates],
        lost_states={each.value for each in LinkState} - {LinkState.SENT.value, LinkState.ANCHOR.value},
        not_sent=LinkState.NOT_SENT.value,
        protocols=[_protocol(each) for each in results.protocols],
        areas=results.areas,
        common_cause=results.common_cause,
        titles=results.titles,
        gaps=[
            {**msgspec.structs.asdict(each), "where": [results.places[number].text for number in each.places]}
            for each in results.gaps[:MAX_GAPS]
        ],
        unknowns=unknown_lines(results.unknowns),
        legend=LEGEND,
        version=__version__,
        judged_by=review.judged.pewter,
        not_asked=evidence.dns.not_asked,
        accepted=results.accepted,
    )
    return text.encode("utf-8", "replace")


def _names(review: Review) -> Sequence[tuple[str, str, Sequence[str]]]:
    """Mark, class and cells of each name, where there are enough for a table."""
    found = []
    lines = name_lines(review) if has_table(review) else ()
    domain = common_domain([line.name for line in lines])
    for line in lines:
        css = line.worst.value if line.worst is not None else "accepted" if line.is_accepted else sight_of(line)
        found.append((MARKS[css], css, cells_of(line, review.results.shorts, domain)))
    return found[:MAX_GAPS]


def render_html_changes(old: Review, new: Review, remarks: Sequence[str] = ("", "")) -> bytes:
    """What changed between two reviews."""
    comparison = compare(old, new, remarks)
    groups, worst = comparison.groups, comparison.worst_open
    sound = "unknown" if {Change.UNSEEN, Change.REPLACED} & set(groups) else "holds"
    text: str = template("comparison.html.j2").render(
        comparison=comparison,
        groups=[(CHANGE_TITLES[change], found) for change, found in comparison.entries.items()],
        looks=[(label, look_words(look)) for label, look in zip(("Before", "After"), comparison.looks, strict=False)],
        verdict=", ".join(comparison.counts),
        verdict_class=worst.value if worst is not None else sound,
        marks=MARKS,
        most=MAX_GAPS,
    )
    return text.encode("utf-8", "replace")


def _visit(visit: Visit, addresses: str) -> dict[str, Any]:
    """One row for the addresses at which it goes alike."""
    level = (
        "holds" if visit.meets.is_good and not visit.detail
        else "weakens" if visit.meets.is_good
        else "unknown" if visit.meets is Prediction.UNKNOWN
        else "exposes" if visit.meets is Prediction.UNENCRYPTED
        else "breaks"
    )  # fmt: skip
    return {**msgspec.structs.asdict(visit), "addresses": addresses, "css": level, "mark": MARKS[level]}


def _certificate(certificate: ServedCertificate) -> dict[str, Any]:
    life = certificate.life
    level: Level | None = life_level(life) if life is not None else None
    return {
        **msgspec.structs.asdict(certificate),
        "life_words": life_words(life) if life is not None else "",
        "life_class": level.value if level is not None else "holds",
        "passed": f"{(life.passed if life is not None else 0) * 100:.1f}",
        "due": f"{(life.renewal_at if life is not None else 0) * 100:.1f}",
    }


def _protocol(drawn: Any) -> dict[str, Any]:
    spoken = [name for name, outcome in drawn.versions if outcome is VersionOutcome.ACCEPTED]
    return {**msgspec.structs.asdict(drawn), "spoken": spoken}


@functools.cache
def template(name: str) -> Any:
    """One of our own; every text in it is escaped."""
    import jinja2  # noqa: PLC0415  needed for this format alone
    import markupsafe  # noqa: PLC0415

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("pewter.report"),
        autoescape=True,
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_shown,
    )
    # Octets of our own making: charts, in which every text was escaped, and a script.
    environment.filters["drawn"] = markupsafe.Markup
    environment.filters["lines"] = lambda text: markupsafe.Markup("\n").join(map(escaped, text.split("\n")))
    environment.filters["dates"] = lambda text: _with_dates(markupsafe.Markup, markupsafe.escape(escaped(text)))
    return environment.get_template(name)


def _with_dates(markup: Callable[[str], Any], text: str) -> Any:
    """An escaped text whose dates are never broken in two."""
    return markup(_DATE.sub(lambda match: f'<span class="date">{match[0]}</span>', str(text)))


def _shown(value: object) -> object:
    """Control characters and line ends are written out; escaping for HTML comes after it."""
    return escaped(value) if isinstance(value, str) and not hasattr(value, "__html__") else value
