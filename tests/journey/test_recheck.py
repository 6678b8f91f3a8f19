"""``recheck``: the same look again, and waiting; what the looks see is prepared."""

import dataclasses
import datetime
import time

import msgspec
import pytest

from pewter.cli import demo
from pewter.cli.ending import Output
from pewter.cli.recheck import run_recheck
from pewter.cli.review import run_review
from pewter.cli.surroundings import Terminal
from pewter.errors import NotReviewedError, UsageError
from pewter.evidence import Step, Unseen
from pewter.judge.review import make_review, read_review, write_review
from pewter.lab.marram import Stage, marram_ferries
from pewter.lab.world import World, WorldThread
from pewter.plan.own_mark import marked, signed
from pewter.tasks.rechecking import RecheckRequest
from pewter.tasks.reviewing import ReviewRequest
from support.cases import case, endpoint, fingerprint, handshake, hop, journey, name, unseen
from support.certificates import HOST, NOW, root
from support.dns import WWW, changed

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
SHORT = journey(hop(HTTPS, 200, ("Strict-Transport-Security", "max-age=60")))
GOOD = journey(hop(HTTPS, 200, ("Strict-Transport-Security", "max-age=31536000; includeSubDomains")))
PLAIN, MOVED = journey(hop(HTTP)), journey(hop(HTTP, 301, ("Location", HTTPS)), hop(HTTPS))


def evidence(*ways, **more):
    return case(*ways, **{"endpoints": [endpoint(handshake())], "given_trust": (fingerprint(root()),), **more}).evidence


OPEN = evidence(PLAIN, SHORT)


class Looks(Terminal):
    """Gives each evidence in turn, the last for ever, and keeps what was asked; its clock goes by what is slept."""

    def __init__(self, *found):
        self.found, self.plans, self.slept = list(found), [], []

    def now(self):
        return NOW + datetime.timedelta(seconds=sum(self.slept))

    def wait(self, seconds):
        self.slept.append(seconds)

    def look(self, plan, given):
        self.plans.append(plan)
        return msgspec.structs.replace(self.found.pop(0) if len(self.found) > 1 else self.found[0], plan=plan)


@pytest.fixture
def run(tmp_path, capsys):
    def start(*found, old=OPEN, write=(), **options):
        file = tmp_path / "review.json"
        file.write_bytes(signed(write_review(marked(make_review(case_of(old))))))
        looks = Looks(*found)
        status = run_recheck(RecheckRequest(file, **options), Output(write), looks)
        said = capsys.readouterr()
        return status, said.out, said.err, looks

    return start


def case_of(found):
    made = case()
    return type(made)(found, made.terms, made.at, made.own_stores)


def test_it_shows_what_closed_and_what_stayed(run):
    still_short = journey(hop(HTTP, 301, ("Location", HTTPS)), SHORT.hops[0])
    status, out, err, looks = run(evidence(still_short, SHORT), fail_on="breaks")
    assert (status, len(looks.plans)) == (0, 1)
    assert "✓ Plain http is answered with content  http://www.marram-ferries.example/  redirect/missing" in out
    assert "Stayed" in out
    assert "connections, of 0 in the review that was kept" in err


def test_it_waits_until_the_chosen_gaps_are_closed_and_asks_only_what_they_need(run):
    status, _, err, looks = run(
        OPEN, evidence(unseen(HTTP)), evidence(MOVED), rules=("redirect/missing",), wait="2 hours", every="30 seconds"
    )
    assert (status, len(looks.plans), looks.slept) == (0, 3, [30.0, 30.0])
    assert Step.PROTOCOLS not in looks.plans[0].steps
    assert looks.plans[0].only == ("redirect/missing",)
    lines = [line.partition(" UTC ")[2] for line in err.splitlines()]
    what = f"Plain http is answered with content at {HTTP} (redirect/missing)"
    assert lines[:4] == [
        f"still awaited, 1: {what}: 200 over plain http",
        f"not seen this time: {what}: not reached",
        f"still awaited, 1: {what}: not reached",
        f"closed: {what}: leaves plain http",
    ]
    assert err.startswith("pewter: 2026-11-23 12:00:00 UTC still awaited")


def test_what_cannot_be_seen_is_not_closed(run):
    status, out, err, looks = run(
        evidence(unseen(HTTP)), rules=("redirect/missing",), wait="40 seconds", every="30 seconds"
    )
    assert (status, len(looks.plans)) == (1, 2)
    assert "the wait is over, and not all is closed" in err
    assert out.startswith(f"? {HOST}: 1 not seen this time\n")


def test_a_look_that_saw_nothing_closes_nothing(run):
    """Without a network, with a wait or without: status 3, and nothing green."""
    nothing = evidence(unseen(HTTP), unseen(HTTPS), endpoints=[endpoint(Unseen("no way out"))])
    for options in ({}, {"wait": "40 seconds", "every": "30 seconds"}, {"rules": ("redirect/missing",)}):
        with pytest.raises(NotReviewedError, match=r"Nothing of www\.marram-ferries\.example was seen this time"):
            run(nothing, **options)


def test_a_gap_that_could_not_be_seen_again_is_no_success(run):
    """All that was seen is in order, and the redirect was not looked at: not 0."""
    status, out, err, _ = run(evidence(unseen(HTTP), GOOD))
    assert status == 1
    assert "not every gap at exposes or above could be seen to be closed" in err
    assert "Could not be seen this time" in out


def test_it_waits_for_what_fails_and_not_for_every_note(run):
    """The name without CAA and the short policy are lesser: the wait ends once the redirect is there."""
    status, _, err, looks = run(evidence(MOVED, SHORT), wait="1 hour", every="30 seconds")
    assert (status, len(looks.plans)) == (0, 1)
    assert looks.plans[0].only == ("redirect/missing",)
    assert "other gaps of that review: not asked about" in err or "other gap of that review" in err
    status, _, err, _ = run(evidence(MOVED, SHORT), old=evidence(MOVED, SHORT), wait="1 hour")
    assert "no gap at exposes or above was open, so nothing is waited for" in err
    assert status == 0
    status, _, _, looks = run(evidence(MOVED, GOOD), wait="1 hour", fail_on="note")
    assert "hsts/short" in looks.plans[0].only


def test_it_ends_where_the_wait_is_over(run):
    status, _, err, looks = run(OPEN, wait="10 seconds")
    assert (status, len(looks.plans), looks.slept) == (1, 1, [])
    assert "pewter: the wait is over, and not all is closed" in err


def test_an_old_copy_at_the_resolver_is_known_from_the_review_before(run):
    old = evidence(
        names=[name(WWW)],
        dns=changed(
            {f"r {WWW} A": f"NOERROR ra; {WWW} A 300 5.5.5.9", f"12 {WWW} A": f"NOERROR aa; {WWW} A 300 5.5.5.9"}
        ),
    )
    new = evidence(names=[name(WWW)], dns=changed({f"r {WWW} A": f"NOERROR ra; {WWW} A 120 5.5.5.9"}))
    _, out, _, _ = run(new, old=old)
    assert "A resolver still gives the old answer" in out
    assert "still gives 5.5.5.9, for 120 s more" in " ".join(out.split())


def test_a_waiting_one_sees_the_demo_mended_part_by_part(tmp_path, capsys):
    now = datetime.datetime.now(datetime.UTC)
    scenario = marram_ferries(Stage.AS_FOUND, now)
    mends = [dataclasses.replace(mend, copies_last=min(mend.copies_last, 8.0)) for mend in scenario.mending]
    thread = WorldThread(World(scenario, keep_ports=True))
    with thread as world:
        demo.write_site_file(tmp_path, scenario, world, now)
        assert run_review(ReviewRequest(folder=tmp_path), Output((tmp_path / "review.json",))) == 1

        class Mending(Terminal):
            """Each wait is as long as three mends take; its clock goes on by as much as was wished."""

            waited = 0.0

            def wait(self, seconds):
                self.waited += seconds
                for mend in [mends.pop(0) for _ in range(min(3, len(mends)))]:
                    thread.do(world.change(mend))
                time.sleep(0 if mends else 3)

            def now(self):
                return now + datetime.timedelta(seconds=self.waited)

        capsys.readouterr()
        request = RecheckRequest(tmp_path / "review.json", wait="1 hour", every="30 seconds")
        status = run_recheck(request, Output(), Mending())
    said = capsys.readouterr()
    # Copies at the resolver end by the clock: on a busy machine before the last mend, which none of the gaps waits for.
    assert (status, {each.words for each in mends} - {"the registry vouches for the zone's signatures"}) == (
        0,
        set(),
    ), said.err
    lines = [line.split(" ", 2)[2] for line in said.err.splitlines() if " still awaited" in line]
    assert "; 1 of 2 name servers of marram-ferries.example have the newest zone; ns2." in lines[1]
    assert f"; copies at the resolver {world.resolver.rpartition(':')[0]} end by " in lines[1]
    assert "still behind" not in lines[-1]
    closed = [line for line in said.err.splitlines() if " closed: " in line]
    assert closed.index(next(each for each in closed if "chain/incomplete" in each)) < closed.index(
        next(each for each in closed if "page/blocked-content" in each)
    )
    assert said.out.startswith("✓ www.marram-ferries.example: 21 closed\n")


def test_it_writes_the_last_review(run, tmp_path):
    file = tmp_path / "last.json"
    run(OPEN, evidence(MOVED, GOOD), wait="1 hour", write=(file,))
    last = read_review(file.read_bytes(), "last.json")
    assert "redirect/missing" not in {gap.rule for gap in last.results.gaps}


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"wait": "0 seconds"}, "--wait '0 seconds'"),
        ({"wait": "0"}, "--wait '0'"),
        ({"wait": "31 days"}, "at most 30 days"),
        ({"every": "5 seconds"}, "at least 30 seconds"),
        ({"rules": ("hsts/absurd",)}, "--rule 'hsts/absurd' is no rule. Did you mean hsts/absent?"),
        ({"rules": ("chain/incomplete",)}, "there is nothing to wait for"),
        ({"wheres": ("nowhere.example",)}, "there is nothing to wait for"),
    ],
)
def test_mistakes(run, options, words):
    with pytest.raises(UsageError, match=words.replace("(", r"\(").replace("?", r"\?").replace(".", r"\.")):
        run(OPEN, **options)
