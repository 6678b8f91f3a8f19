"""iCalendar (RFC 5545): what ends, at its moment; renewals are entries of their own."""

import datetime
import hashlib
from collections.abc import Iterator, Sequence

from pewter.errors import FileError
from pewter.escape import escaped
from pewter.judge.endings import Ending, EndingKind, endings_of, soonest_first
from pewter.judge.review import Review

MAX_OCTETS = 75
_EPOCH = datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC)
_TITLES = {
    EndingKind.CERTIFICATE: "The certificate ends",
    EndingKind.RENEWAL: "Renewal of the certificate is due",
    EndingKind.INTERMEDIATE: "The intermediate certificate ends",
    EndingKind.SIGNATURES: "The zone's signatures end",
    EndingKind.ACCEPTED: "An accepted gap counts again",
}


def render_icalendar(review: Review) -> bytes:
    """What of a review ends after it was made."""
    begun = review.evidence.begun
    return calendar(soonest_first(endings_of(review, review.evidence.plan.first)), begun)


def calendar(endings: Sequence[Ending], at: datetime.datetime) -> bytes:
    """Entries after ``at``, each place once; FileError with none, since a calendar without an entry is none."""
    ahead = {(each.kind, each.where): each for each in reversed(endings) if each.at > at}
    if not ahead:
        raise FileError("Nothing that was seen ends after the review: there is nothing to write into a calendar.")
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Pewter//HTTPS review//EN", "CALSCALE:GREGORIAN"]
    for ending in sorted(ahead.values(), key=lambda each: (each.at, each.kind.value, each.where)):
        lines += _entry(ending, at)
    lines.append("END:VCALENDAR")
    return b"".join(piece + b"\r\n" for line in lines for piece in _folded(line))


def _entry(ending: Ending, at: datetime.datetime) -> Iterator[str]:
    """The UID is of the place and not of the certificate: after a renewal the same entry moves."""
    identity = hashlib.sha256(f"{ending.kind.value} {ending.where}".encode("utf-8", "replace")).hexdigest()[:32]
    yield "BEGIN:VEVENT"
    yield f"UID:{identity}@pewter"
    yield f"DTSTAMP:{at:%Y%m%dT%H%M%SZ}"
    yield f"LAST-MODIFIED:{at:%Y%m%dT%H%M%SZ}"
    yield f"SEQUENCE:{max(0, int((at - _EPOCH).total_seconds() // 60))}"
    yield f"DTSTART:{ending.at:%Y%m%dT%H%M%SZ}"
    yield f"SUMMARY:{_text(f'{_TITLES[ending.kind]}: {ending.where}')}"
    yield f"DESCRIPTION:{_text(f'{ending.where}: {ending.words}')}"
    yield "TRANSP:TRANSPARENT"
    yield from ("BEGIN:VALARM", "ACTION:DISPLAY", f"DESCRIPTION:{_text(ending.where)}", "TRIGGER:-P7D", "END:VALARM")
    yield "END:VEVENT"


def _text(text: str) -> str:
    """Section 3.3.11: backslash, semicolon and comma, and nothing else; control characters are written out before."""
    shown = escaped(text)
    return shown.replace("\\", "\\\\").replace(";", "\\;").replace(",", "\\,")


def _folded(line: str) -> Iterator[bytes]:
    """At most 75 octets a line, never broken inside a character (section 3.1)."""
    piece = b""
    for character in line:
        octets = character.encode("utf-8", "replace")
        if len(piece) + len(octets) > MAX_OCTETS:
            yield piece
            piece = b" "
        piece += octets
    yield piece
