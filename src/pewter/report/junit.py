"""JUnit XML, as build servers read it: a suite an area, a case a rule at a place."""

import re
from xml.etree import ElementTree as xml

from pewter.escape import escaped
from pewter.judge.outcomes import Accepted, Gap, Judged, Unknown
from pewter.judge.results import AREAS_IN_ORDER
from pewter.judge.review import Review
from pewter.levels import Level

_NOT_IN_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def render_junit(review: Review) -> bytes:
    """Gaps at or above the level of the terms fail; all other gaps, unknown and accepted ones are skipped."""
    fail_on = Level(review.terms.fail_on)
    suites = xml.Element("testsuites", name=f"pewter {review.evidence.plan.first}")
    totals = [0, 0, 0]
    for area in AREAS_IN_ORDER:
        judged = [each for each in review.results.outcomes if each.rule.partition("/")[0] == area]
        if judged:
            counts = _suite(suites, review, area, judged, fail_on)
            totals = [total + count for total, count in zip(totals, counts, strict=True)]
    faults = review.evidence.faults
    if faults:
        suite = xml.SubElement(suites, "testsuite", _attributes(review, "pewter", len(faults), 0, len(faults), 0))
        for fault in faults:
            of_fault = {"classname": _class(review, "pewter"), "name": _text(fault.what), "time": "0"}
            case = xml.SubElement(suite, "testcase", of_fault)
            xml.SubElement(case, "error", type="fault", message=_text(fault.detail))
    suites.set("tests", str(totals[0] + len(faults)))
    suites.set("failures", str(totals[1]))
    suites.set("errors", str(len(faults)))
    suites.set("time", f"{review.evidence.elapsed_seconds:.3f}")
    xml.indent(suites)
    octets: bytes = xml.tostring(suites, encoding="utf-8", xml_declaration=False)
    return b'<?xml version="1.0" encoding="UTF-8"?>\n' + octets + b"\n"


def _suite(
    suites: xml.Element, review: Review, area: str, judged: list[Judged], fail_on: Level
) -> tuple[int, int, int]:
    """Cases, failures and what was skipped."""
    suite = xml.SubElement(suites, "testsuite")
    named: dict[str, list[Judged]] = {}
    for each in judged:
        named.setdefault(f"{each.rule}: {each.outcome.where.text}", []).append(each)
    failures = skipped = 0
    for name, of_case in named.items():
        case = xml.SubElement(suite, "testcase", classname=_class(review, area), name=_text(name), time="0")
        worst = min(of_case, key=lambda each: _rank(each, fail_on))
        match worst.outcome:
            case Gap() as gap if worst.level.rank <= fail_on.rank:
                failures += 1
                failure = xml.SubElement(case, "failure", type=worst.level.value, message=_text(_message(gap)))
                failure.text = _text(_mend(review, worst.rule), several_lines=True)
            case Gap() as gap:
                skipped += 1
                xml.SubElement(case, "skipped", message=_text(f"{worst.level.value}: {_message(gap)}"))
            case Unknown(reason=reason):
                skipped += 1
                xml.SubElement(case, "skipped", message=_text(f"unknown: {reason}"))
            case Accepted(because=because, until=until):
                skipped += 1
                xml.SubElement(case, "skipped", message=_text(f"accepted until {until}: {because}"))
    for name, value in _attributes(review, area, len(named), failures, 0, skipped).items():
        suite.set(name, value)
    return len(named), failures, skipped


def _rank(judged: Judged, fail_on: Level) -> tuple[int, int]:
    """One outcome a case: the worst of several at one place."""
    kinds = {Gap: 0 if judged.level.rank <= fail_on.rank else 1, Unknown: 2, Accepted: 3}
    return kinds.get(type(judged.outcome), 4), judged.level.rank


def _attributes(review: Review, area: str, tests: int, failures: int, errors: int, skipped: int) -> dict[str, str]:
    return {
        "name": f"pewter.{review.evidence.plan.first}.{area}",
        "tests": str(tests),
        "failures": str(failures),
        "errors": str(errors),
        "skipped": str(skipped),
        "time": "0",
        "timestamp": f"{review.evidence.begun:%Y-%m-%dT%H:%M:%S}",
        "hostname": review.evidence.plan.first,
    }


def _class(review: Review, area: str) -> str:
    return f"pewter.{review.evidence.plan.first}.{area}"


def _message(gap: Gap) -> str:
    return f"{gap.seen}; expected: {gap.expected}"


def _mend(review: Review, rule: str) -> str:
    entry = next((each for each in review.results.gaps if each.rule == rule), None)
    return f"{entry.why}\nMend: {entry.mend}\nCheck: {entry.check}" if entry is not None else ""


def _text(text: str, *, several_lines: bool = False) -> str:
    """XML 1.0 has no place for control characters, escaped or not (section 2.2)."""
    shown = "\n".join(map(escaped, text.split("\n"))) if several_lines else escaped(text)
    return _NOT_IN_XML.sub("\N{REPLACEMENT CHARACTER}", shown)
