"""CSV: one row an outcome, the columns of ``pewter-outcomes`` (RFC 4180)."""

import csv
import io
from collections.abc import Iterable, Iterator

from pewter.escape import escaped
from pewter.judge.outcomes import Accepted, Gap, Holds, Judged, Unknown
from pewter.judge.review import Review

COLUMNS = {
    "site": "the host that decides the site",
    "looked_at": "when the look began (UTC, ISO 8601)",
    "judged_for": "the moment for which it was judged",
    "rule": "area/slug",
    "area": "its area",
    "outcome": "gap, holds, unknown or accepted",
    "level": "of a gap: breaks, exposes, weakens or note",
    "place_kind": "site, zone, name, name server, endpoint, front end, url, cookie or file",
    "place": "where it holds, for readers",
    "place_key": "the same for the same place in another review",
    "host": "the host name of the place",
    "address": "its address, where one of several is meant",
    "seen": "what was seen; of an unknown, why it could not be",
    "expected": "what was expected; of gaps",
    "cause": "gaps of one rule with the same cause belong together",
    "because": "why the owner accepts it",
    "until": "the day to which it is accepted",
    "mend": "what to do about a gap",
}
"""Name and meaning; an empty field is "not known" or "does not apply"."""

_RUN_BY_SPREADSHEETS = ("=", "+", "-", "@", "\t", "\r", "\uff1d", "\uff0b", "\uff0d", "\uff20")


def render_rows(review: Review) -> bytes:
    """With one head line; every line ends in CRLF."""
    begun, at = review.evidence.begun, review.judged.at
    head = (review.evidence.plan.first, f"{begun:%Y-%m-%dT%H:%M:%SZ}", f"{at:%Y-%m-%dT%H:%M:%SZ}")
    mends = {
        (entry.rule, review.results.places[number].key): " ".join((entry.mend, *entry.details))
        for entry in review.results.gaps
        for number in entry.places
    }
    rows = ((judged, mends.get((judged.rule, judged.outcome.where.key), "")) for judged in review.results.outcomes)
    return table(
        COLUMNS, ((*head, *_row(judged), mend if isinstance(judged.outcome, Gap) else "") for judged, mend in rows)
    )


def table(columns: Iterable[str], rows: Iterable[Iterable[str]]) -> bytes:
    """A head line and one line a row, each cell visible and inert; UTF-8."""
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(columns)
    writer.writerows(map(_cell, row) for row in rows)
    return out.getvalue().encode("utf-8", "replace")


def _row(judged: Judged) -> Iterator[str]:
    outcome = judged.outcome
    gap = outcome.gap if isinstance(outcome, Accepted) else outcome if isinstance(outcome, Gap) else None
    where = outcome.where
    yield judged.rule
    yield judged.rule.partition("/")[0]
    yield {Gap: "gap", Holds: "holds", Unknown: "unknown", Accepted: "accepted"}[type(outcome)]
    yield judged.level.value if gap is not None else ""
    yield from (where.kind.value, where.text, where.key, where.host, where.address)
    match outcome:
        case Holds(seen=seen) | Unknown(reason=seen):
            yield seen
        case _:
            yield gap.seen if gap is not None else ""
    yield from (gap.expected, gap.cause) if gap is not None else ("", "")
    yield from (outcome.because, outcome.until.isoformat()) if isinstance(outcome, Accepted) else ("", "")


def _cell(text: str) -> str:
    """Visible and inert: what a spreadsheet would run gets an apostrophe before it."""
    shown = escaped(text)
    return f"'{shown}" if shown.startswith(_RUN_BY_SPREADSHEETS) else shown
