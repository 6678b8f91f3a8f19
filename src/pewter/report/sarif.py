"""SARIF 2.1.0 (OASIS, Errata 01), as code scanning screens read it."""

import datetime
import re
import uuid
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import msgspec

from pewter.escape import escaped, json_escaped
from pewter.judge.comparison import Change, changes_by_key, key_of
from pewter.judge.outcomes import Accepted, Gap, Judged, Unknown
from pewter.judge.results import Place
from pewter.judge.review import Review
from pewter.levels import Level
from pewter.web.urls import https_origin

SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_NAMESPACE = uuid.UUID("6f1b1d0e-1c83-5c39-9a53-6d2f7f0f3b11")
_LEVELS = {Level.BREAKS: "error", Level.EXPOSES: "error", Level.WEAKENS: "warning", Level.NOTE: "note"}
_ACTS = re.compile(r"([\\\[\]])")


def render_sarif(review: Review) -> bytes:
    """One run; gaps and accepted gaps are results, what is unknown is a notification."""
    shown = [(each, "") for each in review.results.outcomes if isinstance(each.outcome, Gap | Accepted)]
    return _log(review, shown, None)


def render_sarif_changes(old: Review, new: Review, remarks: Sequence[str] = ("", "")) -> bytes:
    """The newer review's run with its results' baseline states, and what is absent now (section 3.27.24).

    Only what was seen to be closed is absent; what could not be seen this time is unchanged.
    """
    del remarks  # the reviews were judged again where need be
    before = dict(_numbered(_shown(old)))
    states = {key: change.change for key, change in changes_by_key(old, new).items()}
    shown: list[tuple[Judged, str]] = []
    for identity, judged in _numbered(_shown(new)):
        was = before.pop(identity, None)
        is_same = was is not None and type(was.outcome) is type(judged.outcome) and was.level is judged.level
        shown.append((judged, "new" if was is None else "unchanged" if is_same else "updated"))
    for judged in before.values():
        gap = _gap_of(judged)
        is_closed = states.get(key_of(judged.rule, gap.where, gap.about)) is Change.CLOSED
        shown.append((judged, "absent" if is_closed else "unchanged"))
    return _log(new, shown, old)


def _shown(review: Review) -> list[Judged]:
    return [each for each in review.results.outcomes if isinstance(each.outcome, Gap | Accepted)]


def _gap_of(judged: Judged) -> Gap:
    outcome = judged.outcome
    gap = outcome.gap if isinstance(outcome, Accepted) else outcome
    assert isinstance(gap, Gap)
    return gap


def _numbered(shown: Iterable[Judged]) -> Iterator[tuple[str, Judged]]:
    """Each with its identity: of rule and place, never of a date, a digest or an address of a pool that rotates."""
    used: dict[str, int] = {}
    for judged in shown:
        gap = _gap_of(judged)
        identity = " ".join(filter(None, (judged.rule, gap.where.key, gap.where.address, gap.about)))
        used[identity] = used.get(identity, 0) + 1
        yield (identity if used[identity] == 1 else f"{identity} {used[identity]}"), judged


def _log(review: Review, shown: list[tuple[Judged, str]], baseline: Review | None) -> bytes:
    unknown = [each for each in review.results.outcomes if isinstance(each.outcome, Unknown)]
    needed = {each.rule for each in (*(judged for judged, _ in shown), *unknown)}
    reviews = [review] if baseline is None else [review, baseline]
    names = list(
        dict.fromkeys(result.rule for each in reviews for result in each.results.rules if result.rule in needed)
    )
    indexes = {name: index for index, name in enumerate(names)}
    titles = {rule: title for each in reversed(reviews) for rule, title in each.results.titles.items()}
    run: dict[str, Any] = {
        "tool": {"driver": _driver(reviews, names)},
        "automationDetails": {"id": f"pewter/{review.evidence.plan.first}/", "guid": _guid(review)},
        "invocations": [_invocation(review, unknown, indexes)],
        "columnKind": "unicodeCodePoints",
        "results": list(_results(review, shown, indexes, titles)),
    }
    if baseline is not None:
        run["baselineGuid"] = _guid(baseline)
    return (
        json_escaped(
            msgspec.json.format(msgspec.json.encode({"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}), indent=1)
        )
        + b"\n"
    )


def words(text: str) -> str:
    """In a message braces hold a place and brackets make a link (sections 3.11.5 and 3.11.6)."""
    return _ACTS.sub(r"\\\1", escaped(text)).replace("{", "{{").replace("}", "}}")


def _guid(review: Review) -> str:
    """The same for the same review."""
    return str(uuid.uuid5(_NAMESPACE, f"{review.evidence.plan.first} {review.evidence.begun.isoformat()}"))


def _driver(reviews: list[Review], names: list[str]) -> dict[str, Any]:
    review = reviews[0]
    results = {result.rule: result for each in reversed(reviews) for result in each.results.rules}
    entries = {entry.rule: entry for each in reversed(reviews) for entry in reversed(each.results.gaps)}
    return {
        "name": "Pewter",
        "semanticVersion": review.judged.pewter,
        "rules": [
            {
                "id": name,
                "shortDescription": {"text": result.title},
                "fullDescription": {"text": words(entry.why) if entry is not None else result.title},
                "help": {"text": words(entry.mend) if entry is not None else result.title},
                "defaultConfiguration": {"level": _LEVELS[result.level]},
                "properties": {"tags": [name.partition("/")[0]], "level": result.level.value},
            }
            for name in names
            for result, entry in [(results[name], entries.get(name))]
        ],
    }


def _results(
    review: Review, shown: list[tuple[Judged, str]], indexes: dict[str, int], titles: dict[str, str]
) -> Iterator[dict[str, Any]]:
    identities = (identity for identity, _ in _numbered(judged for judged, _ in shown))
    for identity, (judged, state) in zip(identities, shown, strict=True):
        outcome, gap = judged.outcome, _gap_of(judged)
        title = titles[judged.rule]
        found: dict[str, Any] = {
            "ruleId": judged.rule,
            "ruleIndex": indexes[judged.rule],
            "kind": "fail",
            "level": _LEVELS[judged.level],
            "message": {"text": words(f"{title}. At {gap.where.text}: {gap.seen}; expected: {gap.expected}.")},
            "locations": [_location(review, gap.where)],
            "partialFingerprints": {"ruleAndPlace/v1": identity},
            "suppressions": [],
            "properties": {"level": judged.level.value},
        }
        if state:
            found["baselineState"] = state
        if isinstance(outcome, Accepted):
            found["suppressions"] = [
                {"kind": "external", "status": "accepted", "justification": escaped(outcome.because)}
            ]
            found["properties"]["until"] = outcome.until.isoformat()
        yield found


def _location(review: Review, where: Place) -> dict[str, Any]:
    """Screens want a file and a line: those of the site file that name the host, else the site."""
    plan, host = review.evidence.plan, where.host or review.evidence.plan.first
    artifact, line = {"uri": f"{https_origin(_for_uri(host))}/"}, 1
    if plan.site_file:
        artifact, line = {"uri": plan.site_file, "uriBaseId": "%SRCROOT%"}, plan.site_lines.get(host, 1)
    return {
        "physicalLocation": {"artifactLocation": artifact, "region": {"startLine": line}},
        "logicalLocations": [{"fullyQualifiedName": escaped(where.text), "kind": "resource"}],
    }


def _for_uri(host: str) -> str:
    """A host of a wildcard certificate is none of a URI."""
    return host.removeprefix("*.")


def _invocation(review: Review, unknown: list[Judged], indexes: dict[str, int]) -> dict[str, Any]:
    begun = review.evidence.begun
    ended = begun + datetime.timedelta(seconds=review.evidence.elapsed_seconds)
    notifications = [
        {
            "level": "note",
            "message": {"text": words(f"Not known at {each.outcome.where.text}: {each.outcome.reason}.")},
            "associatedRule": {"id": each.rule, "index": indexes[each.rule]},
        }
        for each in unknown
        if isinstance(each.outcome, Unknown)
    ]
    faults = [
        {"level": "error", "message": {"text": words(f"{fault.what}: {fault.detail}")}}
        for fault in review.evidence.faults
    ]
    return {
        "executionSuccessful": not review.evidence.interrupted and not faults,
        "startTimeUtc": f"{begun:%Y-%m-%dT%H:%M:%S}.{begun.microsecond // 1000:03d}Z",
        "endTimeUtc": f"{ended:%Y-%m-%dT%H:%M:%S}.{ended.microsecond // 1000:03d}Z",
        "toolExecutionNotifications": [*notifications, *faults],
    }
