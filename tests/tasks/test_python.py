"""The interface for Python: what it says of wrong types, what completion offers, frames and pictures."""

import asyncio
import json
import re
from pathlib import Path

import jsonschema
import msgspec
import pytest

import pewter
from pewter.errors import FileError, UsageError
from pewter.judge.comparison import write_comparison
from pewter.judge.endings import endings_of, soonest_first
from pewter.judge.review import make_review
from pewter.judge.summary import COLUMNS, RunChanges, RunCount, SiteChanges, summary_of
from pewter.report.formats import OF_COURSES, OF_RUNS, OF_SURVEYS
from pewter.report.many import Found
from pewter.report.schema import build_schemas
from pewter.tasks.expiring import Endings
from support.cases import case, endpoint, handshake, hop, journey
from support.certificates import HOST, NOW

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
OPEN = make_review(case(journey(hop(HTTP, 200)), journey(hop(HTTPS)), endpoints=[endpoint(handshake())]))
MOVED = make_review(
    case(
        journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS)), journey(hop(HTTPS)), endpoints=[endpoint(handshake())]
    )
)
ENDINGS = Endings(soonest_first(endings_of(OPEN, "a.json")), NOW)
NOTHING = Endings((), NOW)

WRONG = {
    "a number for a list": ({"routes": 5}, "routes is a list of texts, or one text; it was given 5"),
    "a number in a list": ({"paths": ["/", 5]}, "each of paths is a text; it was given 5"),
    "octets": ({"also": b"x"}, "also is a list of texts, or one text; it was given b'x'"),
    "a word for a switch": ({"gentle": "yes"}, "gentle is True or False; it was given 'yes'"),
    "a text for seconds": ({"timeout": "5"}, "timeout is a number of seconds; it was given '5'"),
    "a list for a text": ({"canonical": ["x"]}, "canonical is a text; it was given ['x']"),
    "no such option": ({"sekonds": 5}, "sekonds is no option of a look; there are targets, canonical, also"),
}


@pytest.mark.parametrize("title", WRONG)
def test_a_wrong_type_is_one_sentence(title):
    options, words = WRONG[title]
    with pytest.raises(TypeError) as raised:
        pewter.settle(HOST, **options)
    assert str(raised.value).startswith(words) and "\n" not in str(raised.value)


def test_errors_name_what_was_given_here_and_no_options():
    with pytest.raises(UsageError, match=r"^routes 'x' has no '='\."):
        pewter.settle(HOST, routes="x")
    with pytest.raises(TypeError, match="a target is a text; it was given 5"):
        pewter.settle(5)


def test_one_text_is_the_list_of_it(tmp_path):
    settled = pewter.settle(HOST, paths="/login", only="hsts", routes=iter(["x.example=192.0.2.7"]))
    assert (settled.plan.only, settled.plan.routes) == (("hsts",), ("x.example=192.0.2.7",))
    with pytest.raises(FileError, match="cannot be read"):
        pewter.settle(HOST, trust=Path("nowhere.pem"))


def test_completion_offers_the_interface_alone():
    assert dir(pewter) == sorted(pewter.__all__)
    assert all(getattr(pewter, name) is not None for name in dir(pewter))


def test_a_review_where_a_loop_runs_already(tmp_path):
    async def within():
        return pewter.review("127.0.0.1:1", timeout=3, only="reach")

    for made in (asyncio.run(within()), pewter.review("127.0.0.1:1", timeout=3, only="reach")):
        assert re.fullmatch(
            r"<Review of 127\.0\.0\.1, .* UTC: not reviewed: port 1: the connection was refused>", repr(made)
        )

    async def wrong():
        return pewter.review("no such host!")

    with pytest.raises(UsageError):
        asyncio.run(wrong())


def test_what_a_notebook_shows():
    assert repr(OPEN) == f"<Review of {HOST}, {NOW:%Y-%m-%d %H:%M} UTC: 1 exposes, 1 weakens>"
    assert (
        OPEN._repr_html_().startswith('<iframe srcdoc="&lt;!doctype html&gt;') and "<script" not in OPEN._repr_html_()
    )
    assert repr(pewter.compare(OPEN, MOVED)).startswith(f"<Comparison of {HOST}, ")
    assert repr(pewter.course([OPEN])) == f"<Course of {HOST}, 1 looks: 2 open, 0 ended>"
    with pytest.raises(ValueError, match="at least one"):
        pewter.course([])


def test_frames_and_pictures_of_all_that_there_is():
    things = [
        OPEN,
        MOVED,
        pewter.compare(OPEN, MOVED),
        pewter.compare(MOVED, MOVED),
        pewter.course([OPEN, MOVED]),
        ENDINGS,
        NOTHING,
    ]
    for each in things:
        made = pewter.frame(each)
        assert len(made.columns) > 4 and not any(made[name].dtype == object for name in made.columns), made.dtypes
        for suffix, begin in ((".svg", b"<svg"), (".png", b"\x89PNG")):
            assert pewter.plot(each, suffix).octets.startswith(begin)
    gaps, checks = pewter.frame(OPEN), pewter.frame(OPEN, checks=True)
    assert list(gaps[gaps["level"] >= "exposes"]["rule"]) == ["redirect/missing"]
    assert set(checks["outcome"]) >= {"gap", "holds"}
    changes = pewter.frame(pewter.compare(OPEN, MOVED))
    assert list(changes[changes["change"] == "closed"]["rule"]) == ["redirect/missing"]
    assert pewter.plot(OPEN)._repr_png_() is None and pewter.plot(OPEN, ".png")._repr_svg_() is None
    for wrong in (5, "x", None):
        with pytest.raises(TypeError, match="there is no"):
            pewter.frame(wrong)
        with pytest.raises(TypeError, match="there is no picture"):
            pewter.plot(wrong)


def test_what_is_written_as_json_is_as_its_schema_says():
    changes = RunChanges(
        1, 0, (SiteChanges("x.example", pewter.compare(OPEN, MOVED).gaps),), (RunCount(1, NOW, 0, {"weakens": 1}),)
    )
    row = dict(zip(COLUMNS, msgspec.structs.astuple(summary_of("x.example", OPEN).row), strict=False)) | {
        "run": 1,
        "error": None,
    }
    survey = Found([row], [("hsts/absent", "weakens", 1)], 1, 1, NOW, is_whole=True)
    written = {
        "pewter-comparison": write_comparison(OPEN, MOVED),
        "pewter-course": OF_COURSES.render(".json", pewter.course([OPEN, MOVED])),
        "pewter-survey": OF_SURVEYS.render(".json", survey),
        "pewter-survey-comparison": OF_RUNS.render(".json", changes),
        "pewter-review": pewter.render(OPEN, ".json"),
    }
    for name, octets in written.items():
        schema = json.loads(build_schemas()[f"{name}.schema.json"])
        document = json.loads(octets)
        validator = jsonschema.Draft202012Validator(schema, format_checker=jsonschema.FormatChecker())
        assert [each.message for each in validator.iter_errors(document)] == []
        assert document["format"].partition("/")[0] == name
        wrong = list(validator.iter_errors({**document, "format": 5}))
        assert wrong, name
