"""Metrics: OpenMetrics text 1.0, and the older text format that a textfile collector reads."""

from collections.abc import Iterable, Iterator, Sequence

import msgspec

from pewter.escape import escaped
from pewter.judge.endings import Ending
from pewter.judge.outcomes import Gap, Holds, Unknown
from pewter.judge.review import Review
from pewter.levels import Level

Labels = tuple[tuple[str, str], ...]


class Family(msgspec.Struct, frozen=True):
    """One gauge; the unit is the end of its name."""

    name: str
    help: str
    unit: str
    samples: tuple[tuple[Labels, float], ...]


def render_openmetrics(review: Review) -> bytes:
    """In OpenMetrics."""
    return openmetrics(_families(review))


def render_textfile(review: Review) -> bytes:
    """For a textfile collector."""
    return textfile(_families(review))


def openmetrics(families: Iterable[Family]) -> bytes:
    """Ends with ``# EOF``."""
    lines = [line for family in families for line in _lines(family, with_unit=True)]
    return ("\n".join((*lines, "# EOF")) + "\n").encode("utf-8", "replace")


def textfile(families: Iterable[Family]) -> bytes:
    """Gauges alone, without units and end mark: one other type, and the whole file would be dropped."""
    lines = [line for family in families for line in _lines(family, with_unit=False)]
    return ("\n".join(lines) + "\n").encode("utf-8", "replace")


def families_of_endings(endings: Sequence[Ending]) -> tuple[Family, ...]:
    """When each thing ends: of each kind and place the earliest."""
    earliest: dict[Labels, float] = {}
    for ending in endings:
        labels = (("kind", ending.kind.value), ("where", ending.where))
        earliest[labels] = min(earliest.get(labels, 1e12), ending.at.timestamp())
    return (Family("pewter_ends_timestamp_seconds", "When it ends.", "seconds", tuple(earliest.items())),)


def _lines(family: Family, *, with_unit: bool) -> Iterator[str]:
    if not family.samples:
        return
    yield f"# HELP {family.name} {family.help}"
    yield f"# TYPE {family.name} gauge"
    if with_unit and family.unit:
        yield f"# UNIT {family.name} {family.unit}"
    for labels, value in family.samples:
        pairs = ",".join(f'{name}="{_label(text)}"' for name, text in labels)
        yield f"{family.name}{{{pairs}}} {_number(value)}"


def _label(text: str) -> str:
    return escaped(text).replace("\\", "\\\\").replace('"', '\\"')


def _number(value: float) -> str:
    return str(int(value)) if value == int(value) else f"{value:.3f}"


def _families(review: Review) -> Iterator[Family]:
    results, evidence = review.results, review.evidence
    site = (("site", evidence.plan.first),)
    yield Family(
        "pewter_reviewed", "Whether anything of the site was seen.", "", ((site, float(results.was_reviewed)),)
    )
    levels = tuple(((*site, ("level", level.value)), float(results.counts.get(level.value, 0))) for level in Level)
    # Of a site of which nothing was seen no number of gaps is known: none is no good news.
    yield Family("pewter_gaps", "Gap entries by level.", "", levels if results.was_reviewed else ())
    kinds = {"gap": Gap, "holds": Holds, "unknown": Unknown}
    checks = tuple(
        (
            (*site, ("area", area), ("outcome", name)),
            float(sum(1 for each in of_area if isinstance(each.outcome, kind))),
        )
        for area in dict.fromkeys(each.rule.partition("/")[0] for each in results.outcomes)
        for of_area in [[each for each in results.outcomes if each.rule.startswith(f"{area}/")]]
        for name, kind in kinds.items()
    )
    yield Family("pewter_checks", "Checks by area and outcome.", "", checks)
    yield Family(
        "pewter_review_timestamp_seconds", "When the review began.", "seconds", ((site, evidence.begun.timestamp()),)
    )
    yield Family("pewter_review_duration_seconds", "How long it took.", "seconds", ((site, evidence.elapsed_seconds),))
    ends: dict[Labels, float] = {}
    renewals: dict[Labels, float] = {}
    for certificate in results.certificates:
        if certificate.life is None or certificate.life.is_endless:
            continue
        for place in certificate.hosts:
            labels = (*site, ("name", place))
            ends[labels] = min(ends.get(labels, 1e12), certificate.life.not_after.timestamp())
            renewals[labels] = min(renewals.get(labels, 1e12), certificate.life.renewal.timestamp())
    yield Family(
        "pewter_certificate_not_after_timestamp_seconds",
        "The end of the certificate that ends first at a name.",
        "seconds",
        tuple(ends.items()),
    )
    yield Family(
        "pewter_certificate_renewal_timestamp_seconds",
        "When its renewal is due.",
        "seconds",
        tuple(renewals.items()),
    )
