"""The tasks as a Python program has them: requests in, results out, nothing printed."""

import datetime

import msgspec
import pytest

from pewter.cli.options import request
from pewter.errors import FileError, NotReviewedError, UsageError
from pewter.judge.review import make_review, write_review
from pewter.pki.pem import write_pem
from pewter.plan.own_mark import marked, signed
from pewter.plan.request import LookRequest
from pewter.tasks.bundling import BundleRequest, bundle
from pewter.tasks.expiring import ExpiryRequest, expiry
from pewter.tasks.rechecking import RecheckRequest, recheck
from pewter.tasks.reviewing import ReviewRequest, review
from pewter.tasks.saved import JudgeRequest, compare_files, compare_runs, judge, read_report
from pewter.tasks.starting import InitRequest, init
from pewter.tasks.surroundings import Alone
from pewter.tasks.surveying import SurveyRequest, show_survey, survey
from support.cases import case, endpoint, fingerprint, handshake, hop, journey
from support.certificates import HOST, intermediate, leaf, root

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
OPEN = journey(hop(HTTP, 200))
MOVED = journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS, 200))


def evidence(*ways):
    return case(*ways, endpoints=[endpoint(handshake())], given_trust=(fingerprint(root()),)).evidence


class Prepared(Alone):
    """Gives evidence that is prepared, and keeps what it is told."""

    def __init__(self, found):
        self.found, self.said, self.plans = found, [], []

    def say(self, words):
        self.said.append(words)

    def look(self, plan, given):
        self.plans.append(plan)
        return msgspec.structs.replace(self.found, plan=plan)


@pytest.fixture
def kept(tmp_path):
    made = case()
    file = tmp_path / "review.json"
    review = make_review(type(made)(evidence(OPEN), made.terms, made.at, made.own_stores))
    file.write_bytes(signed(write_review(marked(review))))
    return file


@pytest.fixture(autouse=True)
def silent(capsys):
    yield
    assert capsys.readouterr() == ("", "")


def test_a_review_from_a_request(tmp_path):
    around = Prepared(evidence(OPEN))
    made = review(ReviewRequest(LookRequest((HOST,), only=("redirect",)), fail_on="weakens", folder=tmp_path), around)
    assert [each.rule for each in made.results.gaps] == ["redirect/missing"]
    assert (around.plans[0].only, made.terms.fail_on, around.said) == (("redirect",), "weakens", [])


def test_a_saved_review_is_read_judged_compared_and_rechecked(kept):
    again = judge(JudgeRequest(kept, as_of="2199-01-01"))
    assert read_report(kept).results.was_reviewed and "date/expired" in again.results.titles
    later = kept.with_name("later.json")
    later.write_bytes(write_review(again))
    assert "date/expired" in {each.rule for each in compare_files(kept, later).comparison.gaps}
    found = recheck(RecheckRequest(kept, rules=("redirect/missing",)), Prepared(evidence(MOVED)))
    assert found.still_open == 0
    assert recheck(RecheckRequest(kept), Prepared(evidence(OPEN))).still_open is None


def test_what_ends_when(kept):
    found = expiry(ExpiryRequest((kept.parent,), as_of="2026-12-01"))
    assert found.at == datetime.datetime(2026, 12, 1, tzinfo=datetime.UTC)
    assert [each.at for each in found.endings] == sorted(each.at for each in found.endings) != []


def test_files_before_they_are_installed(tmp_path):
    (tmp_path / "chain.pem").write_bytes(write_pem(leaf().der) + write_pem(intermediate().der))
    (tmp_path / "root.pem").write_bytes(root().pem)
    asked = BundleRequest((tmp_path / "chain.pem",), trust_only=(tmp_path / "root.pem",), write=tmp_path / "out.pem")
    found = bundle(asked)
    assert found.is_mended and found.failures == ()
    assert (tmp_path / "out.pem").read_bytes().count(b"BEGIN CERTIFICATE") == 2
    assert found.next_lines[0].startswith(f"Wrote {tmp_path / 'out.pem'}: ")


def test_a_starter_file(tmp_path):
    file = init(InitRequest(LookRequest((HOST,)), folder=tmp_path), Prepared(evidence(MOVED)))
    assert file == tmp_path / "pewter.toml" and f'canonical = "https://{HOST}"' in file.read_text()
    with pytest.raises(UsageError, match="is there already"):
        init(InitRequest(LookRequest((HOST,)), folder=tmp_path), Prepared(evidence(MOVED)))


def test_a_survey_of_nobody(tmp_path):
    (tmp_path / "sites.txt").write_text("192.0.2.7\n")
    look = LookRequest(only=("date",), timeout=1.0, routes=("192.0.2.7:443=127.0.0.1:9", "192.0.2.7:80=127.0.0.1:9"))
    asked = SurveyRequest(tmp_path / "sites.txt", tmp_path / "s", brief=True, look=look, workers=1)
    found = survey(asked).found
    assert ([row["site"] for row in found.rows], found.rows[0]["reached"], found.is_whole) == (
        ["192.0.2.7"],
        False,
        True,
    )
    assert list(show_survey(tmp_path / "s").found.rows) == list(found.rows)
    with pytest.raises(IndexError):
        found.rows[1]


@pytest.mark.parametrize(
    ("task", "error", "words"),
    [
        pytest.param(lambda f: review(ReviewRequest(folder=f)), UsageError, "No target", id="nothing-to-review"),
        pytest.param(lambda f: review(ReviewRequest(fail_on="x", folder=f)), UsageError, "'x'", id="no-level"),
        pytest.param(lambda f: read_report(f), UsageError, "is a folder", id="a-folder"),
        pytest.param(lambda f: read_report(f / "no"), FileError, "cannot be read", id="no-file"),
        pytest.param(lambda f: compare_runs(f / "no"), UsageError, "Two saved reviews", id="no-survey"),
        pytest.param(lambda f: show_survey(f), FileError, "survey", id="no-ledger"),
        pytest.param(lambda f: bundle(BundleRequest()), UsageError, "No file", id="no-bundle"),
        pytest.param(
            lambda f: init(InitRequest(LookRequest((HOST,)), folder=f), Prepared(case().evidence)),
            NotReviewedError,
            "could not be reviewed",
            id="nothing-seen",
        ),
    ],
)
def test_what_cannot_be_done_is_an_error_with_words(tmp_path, task, error, words):
    with pytest.raises(error, match=words):
        task(tmp_path)


def test_options_become_the_request_that_has_their_names():
    options = {"targets": ("x.example",), "trust": None, "timeout": 3.0, "gentle": True, "json": True}
    made = request(LookRequest, options)
    assert made == LookRequest(targets=("x.example",), timeout=3.0, gentle=True)
    assert set(ReviewRequest.__struct_fields__) == {"look", "har", "as_of", "fail_on", "folder"}
