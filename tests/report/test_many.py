"""What the terminal tells of a survey: the worst first, and why sites were not reached."""

import pytest

from pewter.judge.summary import summary_of_failure
from pewter.report.many import Found, render_summary
from support.certificates import NOW


def row(site, error=None):
    found = summary_of_failure(site, error or "", NOW, 1.0).row
    values = {name: getattr(found, name) for name in found.__struct_fields__}
    return values | {"reached": error is None, "error": error}


def told(found):
    return render_summary(found, 100).plain.splitlines()


def survey(rows, rules=()):
    return Found(rows, rules, len(rows), 1, NOW, True, {"hsts/absent": "No HSTS policy"})


@pytest.mark.parametrize("extra", [0, 2])
def test_gaps_stand_worst_level_first_and_most_sites_first(extra):
    rules = [
        ("dns/caa-absent", "note", 9),
        *((f"page/{number}", "note", 8 - number) for number in range(2 + extra)),
        ("hsts/absent", "weakens", 5),
        ("redirect/missing", "exposes", 3),
        ("date/expired", "breaks", 1),
    ]
    lines = told(survey([row("a.example")], rules))
    start = lines.index("Gaps  worst level first, sites with each")
    assert [line.rstrip() for line in lines[start + 1 :]] == [
        "  ■       1  date/expired",
        "  ◆       3  redirect/missing",
        "  ▲       5  No HSTS policy  hsts/absent",
        "  ·       9  dns/caa-absent",
        "  ·       8  page/0",
        "  ·       7  page/1",
        *(["  and 2 rules more: -w FILE.json holds them all"] if extra else []),
    ]


def test_nothing_reached_is_told_with_its_causes():
    why = "the name service did not answer within 4 s"
    assert told(survey([row("a.example", why), row("b.example", why)])) == [
        "2 of 2 sites: 0 reached, 2 not",
        "",
        "Not reached  2 sites",
        f"  ?       2  {why}",
    ]
