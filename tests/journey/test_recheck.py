"""``recheck``: the same look again, and waiting; what the looks see is prepared."""

import datetime

import msgspec
import pytest

from pewter.cli import recheck
from pewter.cli.recheck import Clock, RecheckCommand, run_recheck
from pewter.errors import UsageError
from pewter.evidence import Step
from pewter.judge.review import make_review, read_review, write_review
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


class Looks:
    """Gives each evidence in turn, the last for ever, and keeps what was asked; its clock goes by what is slept."""

    def __init__(self, *found):
        self.found, self.plans, self.slept = list(found), [], []
        self.clock = Clock(lambda: NOW + datetime.timedelta(seconds=sum(self.slept)), self.slept.append)

    def __call__(self, plan, given):
        self.plans.append(plan)
        return msgspec.structs.replace(self.found.pop(0) if len(self.found) > 1 else self.found[0], plan=plan)


@pytest.fixture
def run(tmp_path, capsys):
    def start(*found, old=OPEN, **options):
        file = tmp_path / "review.json"
        file.write_bytes(write_review(make_review(case_of(old))))
        looks = Looks(*found)
        status = run_recheck(RecheckCommand(file, **options), looks, looks.clock)
        said = capsys.readouterr()
        return status, said.out, said.err, looks

    return start


def case_of(found):
    made = case()
    return type(made)(found, made.terms, made.at, made.own_stores)


def test_it_shows_what_closed_and_what_stayed(run):
    still_short = journey(hop(HTTP, 301, ("Location", HTTPS)), SHORT.hops[0])
    status, out, err, looks = run(evidence(still_short, SHORT), output=recheck.Output(fail_on="breaks"))
    assert (status, len(looks.plans)) == (0, 1)
    assert "✓ redirect/missing  " + HTTP in out
    assert "Stayed" in out
    assert "connections, of 0 in the review that was kept" in err


def test_it_waits_until_the_chosen_gaps_are_closed_and_asks_only_what_they_need(run):
    status, _, err, looks = run(
        OPEN, evidence(unseen(HTTP)), evidence(MOVED), rules=("redirect/missing",), wait="2 hours", every="30 seconds"
    )
    assert (status, len(looks.plans), looks.slept) == (0, 3, [30.0, 30.0])
    assert Step.PROTOCOLS not in looks.plans[0].steps
    assert looks.plans[0].only == ("redirect/missing",)
    lines = [line.partition(" ")[2].partition(" ")[2] for line in err.splitlines()]
    assert lines[:4] == [
        f"still awaited, 1: redirect/missing at {HTTP}: 200 over plain http",
        f"no longer seen: redirect/missing at {HTTP}: not reached",
        f"still awaited, 1: redirect/missing at url {HTTP}: not reached",
        f"closed: redirect/missing at {HTTP}: leaves plain http",
    ]


def test_what_cannot_be_seen_is_not_closed(run):
    status, _, err, looks = run(
        evidence(unseen(HTTP)), rules=("redirect/missing",), wait="40 seconds", every="30 seconds"
    )
    assert status == 1
    assert "the wait is over, and not all is closed" in err or len(looks.plans) > 1


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
    assert "dns/still-cached" in out
    assert "still gives 5.5.5.9, for 120 s more" in " ".join(out.split())


def test_it_writes_the_last_review(run, tmp_path):
    file = tmp_path / "last.json"
    run(OPEN, evidence(MOVED, GOOD), wait="1 hour", output=recheck.Output(write=(file,)))
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
