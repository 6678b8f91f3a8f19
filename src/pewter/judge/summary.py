"""A review in one row, with its gaps and what ends: what tables of many sites are made of."""

import datetime
import itertools
from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from pewter.evidence import Seen, Unseen
from pewter.facts.case import Case, accepted_versions
from pewter.levels import Level
from pewter.tls import version_name
from pewter.web.hsts import StrictTransportSecurity, read_sts

from .comparison import DOUBTFUL, GapChange
from .endings import endings_of
from .results import NOT_SENT, Results, ServedCertificate
from .review import Review

MAX_GAPS = 400
"""Of one site that stand in the table of gaps; its review holds them all."""

MAX_TEXT = 300

COLUMNS = {
    "site": "the host that decides the site",
    "names": "names of it that were looked at",
    "reached": "whether anything at all was seen of it",
    "worst": "the worst level: breaks, exposes, weakens or note; empty for no gap, and where it was not reached",
    "breaks": "gaps of that level, as entries of a report",
    "exposes": "likewise",
    "weakens": "likewise",
    "notes": "likewise",
    "unknown": "checks that could not be made",
    "lands_on": "the canonical origin, where its ways in should land",
    "opens": "what a visitor meets at the canonical address",
    "versions": "protocol versions that were agreed on, newest first",
    "key": "of the certificate that ends first",
    "issuer": "of that certificate",
    "not_before": "its begin (UTC)",
    "not_after": "its end (UTC)",
    "renewal": "when its renewal is due (UTC)",
    "days_left": "to its end, at the time of the look",
    "hsts_age": "max-age of the canonical host's policy, in seconds; 0 where none is sent, empty where it was not seen",
    "caa": "who may issue, as the zone says",
    "seconds": "for which the look went on",
    "connections": "that it made",
    "looked_at": "when it began (UTC)",
    "run": "of the survey, from 1",
    "error": "why it was not reached, or could not be reviewed",
}
"""Name and meaning of each column of a survey; an empty field is "not known"."""


class SiteRow(msgspec.Struct, frozen=True):
    """One site in a survey's table; fields as in COLUMNS but for the run, which the survey knows."""

    site: str
    names: int
    reached: bool
    worst: str | None
    breaks: int
    exposes: int
    weakens: int
    notes: int
    unknown: int
    lands_on: str | None
    opens: str | None
    versions: str | None
    key: str | None
    issuer: str | None
    not_before: datetime.datetime | None
    not_after: datetime.datetime | None
    renewal: datetime.datetime | None
    days_left: int | None
    hsts_age: int | None
    caa: str | None
    seconds: float
    connections: int
    looked_at: datetime.datetime
    error: str | None


class GapRow(msgspec.Struct, frozen=True):
    """One gap of a site."""

    rule: str
    level: str
    place: str
    """Its key: the same for the same place in another review."""

    accepted: bool = False


class EndRow(msgspec.Struct, frozen=True):
    """Something that ends."""

    at: datetime.datetime
    kind: str
    where: str
    words: str


class Summary(msgspec.Struct, frozen=True):
    """All that is kept of a review beside itself."""

    row: SiteRow
    gaps: tuple[GapRow, ...] = ()
    ends: tuple[EndRow, ...] = ()


Row = dict[str, Any]
"""By COLUMNS; moments are aware, what is not known is None."""

_MOMENTS = ("not_before", "not_after", "renewal", "looked_at")


def row_of(values: Iterable[Any]) -> Row:
    """From the texts and numbers of a database, in the order of COLUMNS."""
    row: Row = dict(zip(COLUMNS, values, strict=True))
    for name in _MOMENTS:
        row[name] = datetime.datetime.fromisoformat(row[name]) if row[name] is not None else None
    row["reached"] = bool(row["reached"])
    return row


class SiteChanges(msgspec.Struct, frozen=True):
    """What changed at one site from one run to the next."""

    site: str
    gaps: tuple[GapChange, ...]
    """But for those that stayed."""

    remark: str = ""
    is_known: bool = True
    """False where there is no review of one of the two runs, so that nothing can be told."""


class RunCount(msgspec.Struct, frozen=True):
    """The sites of a survey as they stood after one of its runs."""

    run: int
    begun: datetime.datetime
    not_reached: int
    levels: dict[str, int]
    """Those that were reached, by their worst level; empty for no gap."""


class RunChanges(msgspec.Struct, frozen=True):
    """One run of a survey against the one before."""

    compared: int
    stayed: int
    """Sites with the same gaps."""

    sites: tuple[SiteChanges, ...]
    runs: tuple[RunCount, ...] = ()
    """All that there were, the oldest first."""

    def in_doubt(self, level: Level) -> bool:
        """Whether a gap at this level or above opened, or could not be seen to be closed; or a site could not."""
        return any(
            not each.is_known or any(gap.change in DOUBTFUL and gap.level.rank <= level.rank for gap in each.gaps)
            for each in self.sites
        )


def summary_of(key: str, review: Review, case: Case | None = None) -> Summary:
    """Of a judged review; ``case``: of which it was made, where that is still at hand."""
    results, evidence = review.results, review.evidence
    counts = results.counts
    life = first_to_end(results.certificates)
    canonical = results.canonical if results.was_reviewed else None
    host = canonical.partition("://")[2] if canonical is not None else evidence.plan.first
    row = SiteRow(
        site=key,
        names=sum(1 for name in evidence.names if name.addresses),
        reached=results.was_reviewed,
        worst=results.worst.value if results.worst is not None and results.was_reviewed else None,
        breaks=counts.get("breaks", 0),
        exposes=counts.get("exposes", 0),
        weakens=counts.get("weakens", 0),
        notes=counts.get("note", 0),
        unknown=sum(len(places) for result in results.rules for places in result.unknown.values()),
        lands_on=_short(canonical),
        opens=next((each.meets.value for each in results.visits if each.start == f"{canonical}/"), None),
        versions=_versions(review),
        key=life.key if life is not None else None,
        issuer=_short(life.issuer) if life is not None else None,
        not_before=life.life.not_before if life is not None and life.life is not None else None,
        not_after=life.life.not_after if life is not None and life.life is not None else None,
        renewal=life.life.renewal if life is not None and life.life is not None else None,
        days_left=life.life.days_left if life is not None and life.life is not None else None,
        hsts_age=_hsts_age(review, host),
        caa=_short("; ".join(zone.caa for zone in results.zones) or None),
        seconds=evidence.elapsed_seconds,
        connections=evidence.connections,
        looked_at=evidence.begun,
        error=_short(_error(review)),
    )
    return Summary(row, tuple(itertools.islice(_gaps(results), MAX_GAPS)), tuple(_ends(review, case)))


def summary_of_failure(key: str, why: str, begun: datetime.datetime, seconds: float) -> Summary:
    """Of a site of which there is no review."""
    row = SiteRow(
        key, 0, False, None, 0, 0, 0, 0, 0, None, None, None, None, None, None, None, None, None, None, None,
        seconds, 0, begun, why,
    )  # fmt: skip
    return Summary(row)


def first_to_end(certificates: tuple[ServedCertificate, ...]) -> ServedCertificate | None:
    """Of those with an end."""
    lives = [(each.life.not_after, each) for each in certificates if each.life is not None and not each.life.is_endless]
    return min(lives, key=lambda found: found[0], default=(None, None))[1]


def _short(text: str | None) -> str | None:
    return text[:MAX_TEXT] if text is not None else None


def _versions(review: Review) -> str | None:
    spoken = {version for endpoint in review.evidence.endpoints for version in accepted_versions(endpoint)}
    return ", ".join(version_name(version) for version in sorted(spoken, reverse=True)) or None


def _hsts_age(review: Review, host: str) -> int | None:
    facts = next((each for each in review.results.names if each.name == host), None)
    if facts is None or not facts.policies:
        return None
    read = read_sts(facts.policies[0])
    if isinstance(read, StrictTransportSecurity):
        return min(read.max_age, (1 << 53) - 1)
    return 0 if facts.policies[0] == NOT_SENT else None


def _error(review: Review) -> str | None:
    evidence = review.evidence
    if evidence.faults:
        return f"a fault of Pewter's own: {evidence.faults[0].what}: {evidence.faults[0].detail}"
    if review.results.was_reviewed:
        return None
    if evidence.names and not any(name.addresses for name in evidence.names):
        first = evidence.names[0]
        for lookup in first.lookups:
            match lookup.answer:
                case Unseen(reason=reason):
                    return reason
                case Seen(value=answer) if answer.rcode != "NOERROR":
                    return f"no such name ({answer.rcode})"
        return "the name has no address"
    if evidence.not_contacted:
        return f"not contacted: {evidence.not_contacted[0].reason}"
    return review.results.why_not


def _gaps(results: Results) -> Iterator[GapRow]:
    for result in results.rules:
        for gap in result.gaps:
            where = results.places[gap.place].key[:MAX_TEXT]
            yield GapRow(result.rule, gap.level.value, where, accepted=gap.until is not None)


def _ends(review: Review, case: Case | None) -> Iterator[EndRow]:
    for each in endings_of(review, "", case):
        yield EndRow(each.at, each.kind.value, each.where[:MAX_TEXT], each.words[:MAX_TEXT])
