"""SARIF 2.1.0 (OASIS, Errata 01), as code scanning screens read it."""

import datetime
import re
from collections.abc import Iterator
from typing import Any

import msgspec

from pewter.escape import escaped
from pewter.judge.outcomes import Accepted, Gap, Judged, Level, Unknown
from pewter.judge.results import Place
from pewter.judge.review import Review
from pewter.web.urls import https_origin

SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_LEVELS = {Level.BREAKS: "error", Level.EXPOSES: "error", Level.WEAKENS: "warning", Level.NOTE: "note"}
_ACTS = re.compile(r"([\\\[\]])")


def render_sarif(review: Review) -> bytes:
    """One run; gaps and accepted gaps are results, what is unknown is a notification."""
    judged = review.results.outcomes
    shown = [each for each in judged if isinstance(each.outcome, Gap | Accepted)]
    unknown = [each for each in judged if isinstance(each.outcome, Unknown)]
    needed = {each.rule for each in (*shown, *unknown)}
    names = [result.rule for result in review.results.rules if result.rule in needed]
    indexes = {name: index for index, name in enumerate(names)}
    run = {
        "tool": {"driver": _driver(review, names)},
        "automationDetails": {"id": f"pewter/{review.evidence.plan.first}/"},
        "invocations": [_invocation(review, unknown, indexes)],
        "columnKind": "unicodeCodePoints",
        "results": list(_results(review, shown, indexes)),
    }
    return (
        msgspec.json.format(msgspec.json.encode({"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}), indent=1)
        + b"\n"
    )


def words(text: str) -> str:
    """In a message braces hold a place and brackets make a link (sections 3.11.5 and 3.11.6)."""
    return _ACTS.sub(r"\\\1", escaped(text)).replace("{", "{{").replace("}", "}}")


def _driver(review: Review, names: list[str]) -> dict[str, Any]:
    results = {result.rule: result for result in review.results.rules}
    entries = {entry.rule: entry for entry in reversed(review.results.gaps)}
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


def _results(review: Review, shown: list[Judged], indexes: dict[str, int]) -> Iterator[dict[str, Any]]:
    used: dict[str, int] = {}
    titles = review.results.titles
    for judged in shown:
        outcome = judged.outcome
        assert isinstance(outcome, Gap | Accepted)
        gap = outcome.gap if isinstance(outcome, Accepted) else outcome
        identity = " ".join(filter(None, (judged.rule, gap.where.key, gap.where.address, gap.about)))
        used[identity] = used.get(identity, 0) + 1
        if used[identity] > 1:
            identity += f" {used[identity]}"
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
        if isinstance(outcome, Accepted):
            found["suppressions"] = [
                {"kind": "external", "status": "accepted", "justification": escaped(outcome.because)}
            ]
            found["properties"]["until"] = outcome.until.isoformat()
        yield found


def _location(review: Review, where: Place) -> dict[str, Any]:
    """The place of the site: screens want an artifact and a region."""
    host = where.host or review.evidence.plan.first
    return {
        "physicalLocation": {
            "artifactLocation": {"uri": f"{https_origin(_for_uri(host))}/"},
            "region": {"startLine": 1},
        },
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
