"""Nothing is called closed that was not checked: a whole review of the demo's site against every partial look at it.

The site is the same in both, so that whatever is called closed was closed by not looking.
"""

import datetime
import random

import msgspec
import pytest

from pewter.cli import demo
from pewter.cli.ending import Output
from pewter.cli.review import run_review
from pewter.evidence import DnsSeen, Lookup, Name, Step, Unanswered, Unseen
from pewter.facts.case import Case
from pewter.judge.comparison import Change, compare
from pewter.judge.review import make_review, read_review, stores_of
from pewter.judge.rules import AREAS, SITE_RULES, chosen_rules, steps_for
from pewter.lab.marram import Stage, marram_ferries
from pewter.lab.world import World, WorldThread
from pewter.tasks.reviewing import ReviewRequest
from pewter.web.urls import read_url

LATE = Unseen("not reached before the deadline of 5 s")
replace = msgspec.structs.replace


@pytest.fixture(scope="module")
def whole(tmp_path_factory):
    folder, now = tmp_path_factory.mktemp("site"), datetime.datetime.now(datetime.UTC)
    scenario = marram_ferries(Stage.AS_FOUND, now)
    with WorldThread(World(scenario)) as world:
        demo.write_site_file(folder, scenario, world, now)
        run_review(ReviewRequest(folder=folder), Output((folder / "review.json",)))
    return read_review((folder / "review.json").read_bytes(), "review.json")


# Partial looks: what the same look would have seen


def with_plan(evidence, **changes):
    """As by other options: what its steps do not ask is not there."""
    plan = replace(evidence.plan, **changes)
    if "only" in changes or "skip" in changes:
        plan = replace(plan, steps=tuple(each for each in steps_for(chosen_rules(plan.only, plan.skip))))
    return with_steps(replace(evidence, plan=plan), plan.steps)


def with_steps(evidence, steps):
    reasons = {"absent": Step.ABSENT, "found": Step.FOUND, "typed": Step.WAYS_IN, "moved": Step.WAYS_IN}
    endpoints = tuple(
        replace(
            each,
            probes=each.probes if Step.VERSIONS in steps else each.probes[:1],
            protocol=each.protocol if Step.PROTOCOLS in steps else None,
            nameless=each.nameless if Step.PROTOCOLS in steps else (),
        )
        for each in evidence.endpoints
        if Step.CERTIFICATES in steps
    )
    return replace(
        evidence,
        plan=replace(evidence.plan, steps=tuple(steps)),
        journeys=tuple(each for each in evidence.journeys if reasons[each.reason.value] in steps),
        pages=evidence.pages if Step.WAYS_IN in steps else (),
        host_probes=evidence.host_probes if Step.HOSTS in steps else (),
        endpoints=endpoints,
        front_ends=evidence.front_ends if Step.PROTOCOLS in steps else (),
        origins=evidence.origins if Step.ORIGINS in steps else (),
        fetched_issuers=evidence.fetched_issuers if Step.ISSUERS in steps else (),
        covered_names=evidence.covered_names if Step.COVERED_NAMES in steps else (),
        status_answers=evidence.status_answers if Step.REVOCATION in steps else (),
        dns=evidence.dns if Step.DNS in steps else DnsSeen(),
    )


def without_name(evidence, name):
    plan = evidence.plan
    return replace(
        evidence,
        plan=replace(plan, targets=tuple(each for each in plan.targets if each.host != name)),
        names=tuple(each for each in evidence.names if each.name != name),
        endpoints=tuple(each for each in evidence.endpoints if each.name != name),
        journeys=tuple(each for each in evidence.journeys if read_url(each.start).host != name),
        host_probes=tuple(each for each in evidence.host_probes if each.name != name),
    )


def silent(evidence, name):
    """A name of which nothing answers."""
    return replace(
        evidence,
        endpoints=tuple(late_endpoint(each) if each.name == name else each for each in evidence.endpoints),
        journeys=tuple(late_journey(each) if read_url(each.start).host == name else each for each in evidence.journeys),
        host_probes=tuple(replace(each, answer=LATE) if each.name == name else each for each in evidence.host_probes),
    )


def unresolved(evidence, name):
    """A name that the name service did not tell this time."""
    gone = silent(without_name(evidence, name), name)
    lookups = tuple(Lookup(kind, Unseen("the resolver did not answer")) for kind in ("A", "AAAA"))
    names = tuple(Name(name, each.declared, lookups) if each.name == name else each for each in evidence.names)
    return replace(gone, plan=evidence.plan, names=names)


def late_endpoint(endpoint):
    probes = tuple(replace(probe, answer=LATE) for probe in endpoint.probes)
    return replace(endpoint, probes=probes, nameless=(), protocol=None)


def late_journey(journey):
    return replace(journey, hops=(), end=LATE)


def late_dns(dns, numbers):
    """Questions, by their numbers, that got no answer."""
    questions = tuple(
        msgspec.convert(
            [*msgspec.to_builtins(each)[:4], 0, None, Unanswered.LATE.value] if number in numbers else
            msgspec.to_builtins(each), type(each),
        )
        for number, each in enumerate(dns.questions)
    )  # fmt: skip
    return replace(dns, questions=questions)


def by_a_route(evidence, name):
    names = tuple(
        Name(name, each.declared, (), ("127.0.0.1",)) if each.name == name else each for each in evidence.names
    )
    return replace(evidence, names=names)


def cut_off(evidence, share):
    """A deadline: only the first of everything was reached."""
    journeys = evidence.journeys
    kept = round(len(journeys) * share)
    endpoints = evidence.endpoints
    of_endpoints = round(len(endpoints) * share)
    numbers = set(range(round(len(evidence.dns.questions) * share), len(evidence.dns.questions)))
    return replace(
        evidence,
        journeys=(*journeys[:kept], *map(late_journey, journeys[kept:])),
        endpoints=(*endpoints[:of_endpoints], *map(late_endpoint, endpoints[of_endpoints:])),
        dns=late_dns(evidence.dns, numbers),
        host_probes=tuple(replace(each, answer=LATE) for each in evidence.host_probes),
    )


def nothing(evidence):
    gone = cut_off(evidence, 0)
    lookups = tuple(Lookup(kind, LATE) for kind in ("A", "AAAA"))
    names = tuple(Name(each.name, each.declared, lookups) for each in evidence.names if each.declared)
    return replace(
        gone, names=names, journeys=(), endpoints=(), host_probes=(), pages=(), front_ends=(), dns=DnsSeen(),
        origins=(), status_answers=(), covered_names=(), fetched_issuers=(), connections=0,
    )  # fmt: skip


def closed(whole, evidence):
    """What a partial look is said to have closed."""
    new = make_review(Case(evidence, whole.terms, whole.judged.at, stores_of(whole)))
    return [
        f"{each.rule} at {each.where.text}: {each.after}"
        for each in compare(whole, new).gaps
        if each.change is Change.CLOSED
    ]


def test_the_same_look_closes_nothing_and_opens_nothing(whole):
    changes = {each.change for each in compare(whole, whole).gaps}
    assert changes == {Change.STAYED}


@pytest.mark.parametrize("chosen", [*AREAS[:-1], *(rule.name for rule in SITE_RULES)])
def test_only_one_area_or_rule(whole, chosen):
    assert closed(whole, with_plan(whole.evidence, only=(chosen,))) == []


@pytest.mark.parametrize("chosen", AREAS[:-1])
def test_one_area_skipped(whole, chosen):
    assert closed(whole, with_plan(whole.evidence, skip=(chosen,))) == []


@pytest.mark.parametrize("step", Step, ids=lambda step: step.value)
def test_one_step_not_taken(whole, step):
    steps = tuple(each for each in whole.evidence.plan.steps if each is not step)
    assert closed(whole, with_steps(whole.evidence, steps)) == []


@pytest.mark.parametrize("lessened", [without_name, silent, unresolved, by_a_route], ids=lambda each: each.__name__)
def test_one_name_out_of_sight(whole, lessened):
    for name in whole.evidence.names:
        assert (name.name, closed(whole, lessened(whole.evidence, name.name))) == (name.name, [])


@pytest.mark.parametrize("share", [0, 0.1, 0.3, 0.5, 0.7, 0.9, 0.97])
def test_a_deadline(whole, share):
    assert closed(whole, cut_off(whole.evidence, share)) == []


def test_no_network_at_all(whole):
    assert closed(whole, nothing(whole.evidence)) == []


def test_without_what_the_reviewer_gave(whole):
    evidence = whole.evidence
    for lessened in (
        replace(evidence, status_answers=(), revocation_asked=False),
        replace(evidence, given_trust=(), certificates=evidence.certificates),
        replace(evidence, origins=()),
        replace(evidence, fetched_issuers=()),
        replace(evidence, plan=replace(evidence.plan, paths=("/",)), journeys=tuple(
            each for each in evidence.journeys if read_url(each.start).target == "/" or each.reason.value != "typed"
        )),
    ):  # fmt: skip
        assert closed(whole, lessened) == []


@pytest.mark.parametrize("seed", range(120))
def test_any_part_that_was_not_reached(whole, seed):
    """Seeds, and not examples that are sought: what fails is told by its seed, and the same every time."""
    chance, evidence = random.Random(seed), whole.evidence
    share = chance.choice((0.02, 0.1, 0.4))

    def lessen(items, late):
        return tuple(late(each) if chance.random() < share else each for each in items)

    asked = {number for number in range(len(evidence.dns.questions)) if chance.random() < share}
    lessened = replace(
        evidence,
        journeys=lessen(evidence.journeys, late_journey),
        endpoints=lessen(evidence.endpoints, late_endpoint),
        dns=late_dns(evidence.dns, asked),
        host_probes=lessen(evidence.host_probes, lambda each: replace(each, answer=LATE)),
        pages=tuple(each for each in evidence.pages if chance.random() >= share),
        names=tuple(each for each in evidence.names if each.declared or chance.random() >= share),
    )
    assert closed(whole, lessened) == []
