"""Files that somebody else wrote, changed at random: refused in a sentence, or used without a fault."""

import collections
import json

import pytest

import fuzz_files
from pewter.errors import FileError, UsageError
from pewter.judge.review import read_review, write_review
from pewter.plan.request import LookRequest
from pewter.plan.settle import settle


@pytest.mark.parametrize("seed", range(4))
def test_reviews_changed_at_random(seed):
    ends = collections.Counter()
    for how, words in fuzz_files.run(120, seed + 1000, 4):
        ends[how] += 1
        assert how != "FAILED", words
        assert "\n" not in words
    assert min(ends["refused"], ends["used"]) > 5


@pytest.mark.parametrize(
    ("octets", "words"),
    [
        (b"[" * 100_000, "f is no saved review"),
        (b'{"format": "pewter-review/2", "evidence": ' + b"[" * 100_000, "f is no saved review"),
        (b'{"format": "pewter-review/2", "x": ' + b"[" * 100_000 + b"]" * 100_000 + b"}", "f is "),
        (b'{"format": "pewter-review/3"}', "f has the format 'pewter-review/3'"),
    ],
)
def test_what_is_no_review(octets, words):
    with pytest.raises(FileError, match=words.replace("'", ".")):
        read_review(octets, "f", is_own=False)


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        (b'"elapsed_seconds":', b'"elapsed_seconds":1e300,"x":', "is no number of anything"),
        (b'"port":443', b'"port":70000', "70000 is no port"),
        (b'"begun":"2', b'"begun":"9', "is no day on which anybody looked"),
        (b'"url":"http:', b'"url":"ldap:', "a URL is none"),
        (b'"plan":{', b'"plan":{"whole_seconds":4000.0,', "whole_seconds is more than 3600"),
    ],
)
def test_what_no_look_could_have_brought(old, new, words):
    octets = write_review(fuzz_files.small_review())
    assert old in octets
    with pytest.raises(FileError, match=f"f is a damaged review: .*{words}"):
        read_review(octets.replace(old, new), "f")


@pytest.mark.parametrize("what", ["names", "endpoints", "journeys"])
def test_more_than_any_look_brings(what):
    document = json.loads(write_review(fuzz_files.small_review()))
    document["evidence"][what] *= 8_000
    with pytest.raises(FileError, match=f"f is a damaged review: it has more than [0-9,]+ {what}"):
        read_review(json.dumps(document).encode(), "f", is_own=False)


@pytest.mark.parametrize("what", ["targets", "paths"])
def test_a_site_has_bounds(what, tmp_path):
    many = {"targets": tuple(f"n{n}.x.example" for n in range(401)), "paths": tuple(f"/{n}" for n in range(401))}
    request = LookRequest(**{"targets": ("x.example",), what: many[what]})
    with pytest.raises(UsageError, match="are more than one site has: at most 400"):
        settle(request, tmp_path, print)
