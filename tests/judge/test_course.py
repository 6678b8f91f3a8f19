"""The course of a site over several looks: when each gap opened and closed, and how long it was open."""

import csv
import datetime
import io
import json
import random
from xml.etree import ElementTree

import pytest
from msgspec import structs

from pewter.errors import FileError, UsageError
from pewter.evidence import Unseen
from pewter.facts.case import Case
from pewter.judge.comparison import Change
from pewter.judge.course import course_of
from pewter.judge.review import make_review, write_review
from pewter.report.course import render_course
from pewter.report.formats import OF_COURSES
from pewter.tasks.saved import course
from support.cases import case, endpoint, handshake, hop, journey, stored
from support.certificates import HOST, NOW, intermediate, leaf

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
FLAGS = "; Secure; HttpOnly; SameSite=Lax"


def look(day, *, redirects=True, age=31536000, there=True, flags=FLAGS, left=60):
    """A look so many days after NOW: at a site with or without this or that."""
    at, served = NOW + datetime.timedelta(days=day), leaf(left=left, life=90)
    page = hop(
        HTTPS, 200, ("Strict-Transport-Security", f"max-age={age}"), ("Set-Cookie", f"sid=1{flags}"), issued=served
    )
    ways = [journey(hop(HTTP, 301, ("Location", HTTPS)), page) if redirects else journey(hop(HTTP, 200)), journey(page)]
    answers = [handshake(served, intermediate()), handshake(served, intermediate(), version=0x0303)]
    made = case(
        *(ways if there else ()),
        endpoints=[endpoint(*answers) if there else endpoint(Unseen("no answer within 8 s"))],
        certificates=stored(served),
        at=at,
    )
    return f"{at:%Y-%m-%d}.json", make_review(
        Case(structs.replace(made.evidence, begun=at), made.terms, at, made.own_stores)
    )


LOOKS = [
    look(0, age=300, flags=""),
    look(20, age=300),
    look(34, age=300, redirects=False),
    look(40, there=False),
    look(52, redirects=False),
    look(63),
    look(64, left=150),
    look(80, left=150, redirects=False),
]


def told(found):
    """Rule, and days from NOW: not there, first seen, last seen, ended; and how."""

    def day(at):
        return None if at is None else (at - NOW).days

    return {
        (each.rule, day(each.not_before), day(each.first_seen), day(each.last_seen), day(each.ended), each.end)
        for each in found.spells
    }


def test_each_gap_has_its_times():
    shuffled = random.Random(3).sample(LOOKS, len(LOOKS))
    found = course_of(shuffled)
    assert told(found) == {
        ("cookie/not-secure", None, 0, 0, 20, Change.CLOSED),
        ("cookie/not-http-only", None, 0, 0, 20, Change.CLOSED),
        ("cookie/same-site", None, 0, 0, 20, Change.CLOSED),
        ("hsts/short", None, 0, 34, 52, Change.CLOSED),
        ("redirect/missing", 20, 34, 52, 63, Change.CLOSED),
        ("date/expiring", 40, 52, 52, 63, Change.REPLACED),
        ("date/hsts-locks-out", 40, 52, 63, 64, Change.CLOSED),
        ("date/expired", 52, 63, 63, 64, Change.CLOSED),
        ("redirect/missing", 64, 80, 80, None, None),
    }
    by_rule = {each.rule: each for each in found.spells if not each.is_open}
    # A look that saw nothing neither closes nor shortens.
    assert [(at - NOW).days for at in by_rule["redirect/missing"].unseen] == [40]
    assert {rule: by_rule[rule].days(found.last) for rule in by_rule} == {
        "cookie/not-secure": (0, None), "cookie/not-http-only": (0, None), "cookie/same-site": (0, None), "hsts/short": (34, None),
        "redirect/missing": (18, 43), "date/expiring": (0, 23), "date/hsts-locks-out": (11, 24), "date/expired": (0, 12),
    }  # fmt: skip
    looks = [(sum(each.gaps.values()), each.opened, each.ended, each.unseen, each.was_reviewed) for each in found.looks]
    assert looks == [
        (4, 0, 0, 0, True), (1, 0, 3, 0, True), (2, 1, 0, 0, True), (0, 0, 0, 2, False), (3, 2, 1, 0, True), (2, 1, 2, 0, True),
        (0, 0, 2, 0, True), (1, 1, 0, 0, True),
    ]  # fmt: skip
    assert [each.subject for each in found.looks[6].facts][:1] == [f"certificate of {HOST}"]


def test_what_is_printed_of_it():
    text = render_course(course_of(LOOKS), 100).plain
    assert text.startswith(
        f"""◆ {HOST}: 1 open, 8 ended  8 looks from 2026-11-23 to 2027-02-11

Open  1
   open for 0 to 16 days; seen from 2027-02-11 (not on 2027-01-26)
    ◆ Plain http is answered with content  {HTTP}

Ended  8
   was open for 0 to 12 days; seen from 2027-01-25 (not on 2027-01-14); closed on 2027-01-26
    ✓ The certificate has expired  {HOST}
   was open since before the first look; seen from 2026-11-23 (the first look); closed on 2026-12-13
    ✓ Scripts can read a cookie  {HTTPS}
"""
    )
    assert "  2027-01-02 12:00  ?  2 could not be seen, nothing was reviewed: no answer within 8 s\n" in text
    assert "    ? The certificate is about to expire" in text


def test_every_format_of_it():
    found = course_of(LOOKS)
    made = {each.suffix: OF_COURSES.render(each.suffix, found) for each in OF_COURSES.rows}
    rows = list(csv.DictReader(io.StringIO(made[".csv"].decode())))
    assert len(rows) == 9 and rows[0]["end"] == "open" and rows[0]["days_at_most"] == "16"
    read = json.loads(made[".json"])
    assert (read["format"], len(read["looks"]), read["spells"][0]["first_seen"]) == (
        "pewter-course/1",
        8,
        "2027-02-11T12:00:00Z",
    )
    assert ElementTree.fromstring(made[".svg"]).tag.endswith("svg")
    assert made[".png"].startswith(b"\x89PNG")
    page = made[".html"].decode()
    assert "<svg" in page and page.count("<tr>") == 3 + 9 + 8
    assert all(OF_COURSES.render(suffix, found) == octets for suffix, octets in made.items())


def test_of_one_look_all_is_open_since_before_it():
    (only,) = course_of(LOOKS[:1]).looks
    assert (only.opened, only.ended, sum(only.gaps.values())) == (0, 0, 4)
    assert "open since before the first look" in render_course(course_of(LOOKS[:1]), 80).plain


def test_files_of_one_site(tmp_path):
    for source, review in LOOKS:
        (tmp_path / source).write_bytes(write_review(review))
    (tmp_path / "notes.json").write_text("{}")
    said = []
    assert told(course([tmp_path], said.append)) == told(course_of(LOOKS))
    assert said[0].startswith("left out: ") and said[1] == "8 of 9 files are told of"
    with pytest.raises(FileError, match=r"notes\.json"):
        course([tmp_path / LOOKS[0][0], tmp_path / LOOKS[1][0], tmp_path / "notes.json"])
    (tmp_path / "none").mkdir()
    with pytest.raises(FileError, match="none holds no saved review"):
        course([tmp_path / "none"])
    other = structs.replace(LOOKS[0][1].evidence.plan.targets[0], host="x.example")
    plan = structs.replace(LOOKS[0][1].evidence.plan, targets=(other,))
    moved = structs.replace(LOOKS[0][1], evidence=structs.replace(LOOKS[0][1].evidence, plan=plan))
    (tmp_path / "other.json").write_bytes(write_review(moved))
    with pytest.raises(UsageError, match="reviews of several sites"):
        course([tmp_path])
