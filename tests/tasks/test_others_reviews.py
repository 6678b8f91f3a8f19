"""Whom a saved review may have contacted and trusted: one's own as it stands, another's by the user's word alone."""

import msgspec
import pytest

from pewter.errors import UsageError
from pewter.evidence import Target
from pewter.judge.review import make_review, read_review, write_review
from pewter.plan.own_mark import decided_by, is_signed, marked, named, signed
from pewter.plan.saved_reviews import read_saved
from pewter.tasks.rechecking import RecheckRequest, recheck
from pewter.tasks.surroundings import Alone
from support.cases import case, endpoint, fingerprint, handshake, hop, journey
from support.certificates import HOST, root

MADE = case(journey(hop(f"http://{HOST}/", 200)), endpoints=[endpoint(handshake())])
OF_FILE = {
    "routes": {"routes": (f"{HOST}:443=127.0.0.1:22",)},
    "resolvers": {"resolvers": ("192.168.0.1:53",)},
    "origins": {"origins": (f"{HOST}=10.0.0.1:443",)},
    "this-machine": {"targets": (Target("localhost", 8000),)},
    "private-address": {"targets": (Target("169.254.169.254", 80),)},
    "link-local": {"targets": (Target("fe80::1", 443),)},
}


class Prepared(Alone):
    def __init__(self):
        self.said, self.plans = [], []

    def say(self, words):
        self.said.append(words)

    def look(self, plan, given):
        self.plans.append((plan, given))
        return msgspec.structs.replace(MADE.evidence, plan=plan)


def review(trusts=False, **plan):
    evidence = msgspec.structs.replace(MADE.evidence, plan=msgspec.structs.replace(MADE.evidence.plan, **plan))
    if trusts:
        evidence = msgspec.structs.replace(evidence, given_trust=(fingerprint(root()),))
    return make_review(type(MADE)(evidence, MADE.terms, MADE.at, MADE.own_stores))


@pytest.fixture
def kept(tmp_path):
    def keep(made):
        (tmp_path / "review.json").write_bytes(signed(write_review(made)))
        return tmp_path / "review.json"

    return keep


@pytest.mark.parametrize("what", [*OF_FILE, "root"])
def test_another_s_is_not_followed_without_a_word(kept, what):
    file, around = kept(review(trusts=what == "root", **OF_FILE.get(what, {}))), Prepared()
    with pytest.raises(UsageError, match=r"was not made here by you, and names .*--as-in-file"):
        recheck(RecheckRequest(file), around)
    assert around.plans == []
    recheck(RecheckRequest(file, as_in_file=True), around)
    assert [plan.names_are_listed for plan, _ in around.plans] == [False]
    assert around.said == [f"as in {file}: {named(decided_by(read_review(file.read_bytes(), '').evidence))}"]


def test_another_s_names_alone_are_followed_to_public_addresses(kept):
    around = Prepared()
    recheck(RecheckRequest(kept(review())), around)
    assert ([plan.names_are_listed for plan, _ in around.plans], around.said) == ([True], [])


def test_one_s_own_needs_no_word_and_what_comes_of_it_is_one_s_own(kept):
    around = Prepared()
    found = recheck(RecheckRequest(kept(marked(review(trusts=True, **OF_FILE["routes"])))), around)
    assert ([plan.names_are_listed for plan, _ in around.plans], around.said) == ([False], [])
    assert found.new.mark


def test_a_word_is_needed_once(kept):
    found = recheck(RecheckRequest(kept(review(**OF_FILE["routes"])), as_in_file=True), Prepared())
    recheck(RecheckRequest(kept(found.new)), Prepared())


def test_a_mark_is_of_the_whole_file():
    made = signed(write_review(marked(review(trusts=True))))
    assert is_signed(made)
    assert not is_signed(signed(write_review(review())))
    assert not is_signed(made.replace(b"marram", b"narram", 1))
    assert not is_signed(made[:-35] + b"0" * 32 + b'"}\n')
    assert not is_signed(made + b" ")


def test_what_another_s_file_says_is_made_anew(kept):
    """Its gaps, lines and checks are not said in our voice; one's own are shown as they were saved."""
    made = review()
    gap = msgspec.structs.replace(made.results.gaps[0], check="rm -rf /", mend="Curl this into a shell.")
    forged = msgspec.structs.replace(made, results=msgspec.structs.replace(made.results, gaps=(gap,)))
    assert read_saved(kept(forged)).results == made.results
    assert read_saved(kept(marked(forged))).results == forged.results


def test_without_a_place_for_the_key_nothing_is_signed(monkeypatch, tmp_path):
    octets = write_review(marked(review()))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "file"))
    (tmp_path / "file").write_text("no folder")
    assert not is_signed(signed(octets))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    made = signed(octets)
    key = tmp_path / "pewter" / "key"
    assert (len(key.read_bytes()), key.stat().st_mode & 0o777, is_signed(made)) == (32, 0o600, True)
    key.write_bytes(b"short")
    assert not is_signed(made)


def test_many_things_are_counted():
    routes = tuple(f"{HOST}:{port}=127.0.0.1:{port}" for port in range(9))
    assert named(decided_by(review(routes=routes).evidence)).endswith("and 3 more")
