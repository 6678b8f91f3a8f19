"""Strict-Transport-Security."""

import datetime
import functools
from collections.abc import Callable, Iterator

from pewter.evidence import Journey, Step, is_ip_address
from pewter.expectations import write_duration
from pewter.facts.browsers import Prediction
from pewter.facts.case import Case
from pewter.facts.policies_in_force import FIELD, StsAnswer, policy_of, sts_answers
from pewter.facts.visits import predict_visits
from pewter.judge.nature import OF_HSTS, Safety
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import rule
from pewter.levels import Level
from pewter.places import of_name
from pewter.web.fields import IgnoredField
from pewter.web.hsts import StrictTransportSecurity
from pewter.web.suffixes import is_apex
from pewter.web.urls import Url, https_origin, place_of, read_url

_LONGEST = datetime.timedelta(days=36500)


def _answers(case: Case) -> Iterator[tuple[str, tuple[StsAnswer, ...] | Unknown]]:
    """Each name with its https answers, home page first, or why there are none."""
    for name in case.evidence.names:
        if not name.addresses or is_ip_address(name.name):
            continue
        answers = sts_answers(case, name.name)
        yield name.name, answers or Unknown(of_name(name.name), case.why_no_https_answer(name.name))


def _of_each_name(
    judge: Callable[[Case, str, tuple[StsAnswer, ...]], Iterator[RuleOutcome]],
) -> Callable[[Case], Iterator[RuleOutcome]]:
    """A check of every name from one of a name's answers; a name without any is unknown."""

    @functools.wraps(judge)
    def check(case: Case) -> Iterator[RuleOutcome]:
        for name, answers in _answers(case):
            if isinstance(answers, Unknown):
                yield answers
            else:
                yield from judge(case, name, answers)

    return check


@rule("hsts/absent", level=Level.WEAKENS, sources=("RFC 6797 sections 7.1 and 8.1",), nature=OF_HSTS)
@_of_each_name
def absent(case: Case, name: str, answers: tuple[StsAnswer, ...]) -> Iterator[RuleOutcome]:
    """No answer carries a policy: hsts/uneven speaks where some do, hsts/invalid of one that browsers ignore.

    Of a bare name whose www has one, hsts/apex-never-seen speaks.
    """
    readable = [answer for answer in answers if isinstance(answer.read, StrictTransportSecurity)]
    if readable:
        yield Holds(of_name(name), f"{FIELD}: {readable[0].values[0]}")
    elif not any(answer.values for answer in answers) and policy_of(case, f"www.{name}") is None:
        yield Gap(of_name(name), f"no {FIELD}", _wanted(case))


@rule("hsts/invalid", level=Level.WEAKENS, sources=("RFC 6797 sections 6.1 and 8.1",), nature=OF_HSTS)
@_of_each_name
def invalid(case: Case, name: str, answers: tuple[StsAnswer, ...]) -> Iterator[RuleOutcome]:
    """A field that does not conform is ignored whole."""
    bad = [answer for answer in answers if isinstance(answer.read, IgnoredField)]
    for answer in bad[:1]:
        assert isinstance(answer.read, IgnoredField)
        seen = f"{FIELD}: {answer.values[0][:200]} is ignored by browsers: {answer.read.reason}"
        yield Gap(place_of(answer.hop.url), seen, "max-age=31536000")
    if not bad and any(answer.read for answer in answers):
        yield Holds(of_name(name), "browsers can read it")


@rule("hsts/twice", level=Level.WEAKENS, sources=("RFC 6797 section 8.1",), nature=OF_HSTS)
@_of_each_name
def twice(case: Case, name: str, answers: tuple[StsAnswer, ...]) -> Iterator[RuleOutcome]:
    """Of several fields only the first counts, and not every program agrees on that."""
    several = [answer for answer in answers if len(answer.values) > 1]
    if several:
        yield Gap(
            place_of(several[0].hop.url),
            " and ".join(value[:80] for value in several[0].values),
            "one field",
            cause=name,
        )
    elif any(answer.values for answer in answers):
        yield Holds(of_name(name), "one field")


@rule(
    "hsts/short",
    level=Level.WEAKENS,
    sources=("RFC 6797 section 11.2",),
    nature=OF_HSTS.but(safety=Safety.HOLDS_FOR_LONG),
)
@_of_each_name
def short(case: Case, name: str, answers: tuple[StsAnswer, ...]) -> Iterator[RuleOutcome]:
    """A policy must outlive the pause between two visits; hsts/zero speaks of max-age=0."""
    policy = answers[0].read
    if not isinstance(policy, StrictTransportSecurity) or policy.max_age == 0:
        return
    seen = f"max-age={policy.max_age}"
    age = datetime.timedelta(seconds=min(policy.max_age, _LONGEST.total_seconds()))
    if age < case.expect.hsts_minimum_age:
        yield Gap(of_name(name), f"{seen} ({write_duration(age)})", _wanted(case))
    else:
        yield Holds(of_name(name), seen)


@rule("hsts/zero", level=Level.WEAKENS, sources=("RFC 6797 section 6.1.1",), nature=OF_HSTS)
@_of_each_name
def zero(case: Case, name: str, answers: tuple[StsAnswer, ...]) -> Iterator[RuleOutcome]:
    """max-age=0 has browsers forget the policy."""
    if isinstance(answers[0].read, StrictTransportSecurity):
        if answers[0].read.max_age == 0:
            yield Gap(of_name(name), "max-age=0: browsers forget the policy", _wanted(case))
        else:
            yield Holds(of_name(name), f"max-age={answers[0].read.max_age}")


@rule("hsts/over-http", level=Level.NOTE, sources=("RFC 6797 section 7.2",), nature=OF_HSTS)
def over_http(case: Case) -> Iterator[RuleOutcome]:
    """Over plain http the field must not be sent, and is ignored."""
    for name in sorted(case.site_names):
        hops = [hop for journey, _ in case.ways_in("http") for hop in journey.hops if _is_plain_of(hop.url, name)]
        sent = [hop for hop in hops if hop.values(FIELD)]
        if sent:
            yield Gap(place_of(sent[0].url), f"{FIELD} over plain http", "the field over https only", cause=name)
        elif hops:
            yield Holds(of_name(name), "not over http")


def _is_plain_of(text: str, name: str) -> bool:
    url = read_url(text)
    return not url.is_https and url.host == name


@rule("hsts/uneven", level=Level.WEAKENS, sources=("RFC 6797 section 7.1",), nature=OF_HSTS)
@_of_each_name
def uneven(case: Case, name: str, answers: tuple[StsAnswer, ...]) -> Iterator[RuleOutcome]:
    """The field has to be on every https answer: pages, redirects and errors, from every address."""
    with_it = [answer for answer in answers if answer.values]
    without = [answer for answer in answers if not answer.values]
    if with_it and without:
        seen = f"on {_place(with_it[0])}; missing on {', '.join(dict.fromkeys(map(_place, without[:4])))}"
        at = without[0].hop.url
        yield Gap(of_name(name), seen, f"{FIELD} on every answer", cause=name, check_url=at)
    elif len({answer.values for answer in with_it}) > 1:
        each = {answer.values[0]: answer for answer in with_it}
        seen = "; ".join(f"{value[:60]} on {_place(answer)}" for value, answer in list(each.items())[:3])
        at = next(answer.hop.url for answer in with_it if answer.values != with_it[0].values)
        yield Gap(of_name(name), seen, "one policy on every answer", cause=name, check_url=at)
    elif with_it:
        yield Holds(of_name(name), f"on {len(with_it)} answers")


def _place(answer: StsAnswer) -> str:
    return f"{read_url(answer.hop.url).target} ({answer.hop.status} from {answer.hop.address})"


@rule(
    "hsts/no-subdomains",
    level=Level.NOTE,
    sources=("RFC 6797 section 6.1.2",),
    nature=OF_HSTS.but(safety=Safety.HOLDS_BELOW),
)
def no_subdomains(case: Case) -> Iterator[RuleOutcome]:
    """On the apex, includeSubDomains keeps every host below it safe; hsts/would-lock-out says whether it can be."""
    for name, policy in _apex_policies(case):
        if policy.include_subdomains:
            yield Holds(of_name(name), "includeSubDomains")
        else:
            yield Gap(of_name(name), f"max-age={policy.max_age} without includeSubDomains", "includeSubDomains")


def _apex_policies(case: Case) -> Iterator[tuple[str, StrictTransportSecurity]]:
    for name in sorted(case.site_names):
        policy = policy_of(case, name) if not is_ip_address(name) and is_apex(name) else None
        if policy is not None:
            yield name, policy


@rule(
    "hsts/apex-never-seen",
    level=Level.WEAKENS,
    sources=("RFC 6797 sections 6.1.2 and 7.2",),
    nature=OF_HSTS.but(safety=Safety.HOLDS_BELOW),
)
def apex_never_seen(case: Case) -> Iterator[RuleOutcome]:
    """A policy of www says nothing about the apex, which most people type."""
    for apex in sorted(case.site_names):
        www = f"www.{apex}"
        if {apex, www} - set(case.resolving_names) or policy_of(case, www) is None:
            continue
        visited = [journey for journey, start in case.ways_in("http") if start.host == apex]
        skips = [journey for journey in visited if journey.hops and not _crosses(journey, apex)]
        if policy_of(case, apex) is None:
            yield Gap(of_name(apex), f"{www} has a policy, {apex} has none", f"{FIELD} on https://{apex} too")
        elif skips:
            yield Gap(
                of_name(apex),
                f"{skips[0].start} never crosses https://{apex}",
                f"http://{apex} to https://{apex} first",
            )
        else:
            yield Holds(of_name(apex), "has a policy that visitors meet")


def _crosses(journey: Journey, host: str) -> bool:
    urls = [read_url(hop.url) for hop in journey.hops]
    return any(url.is_https and url.host == host for url in urls)


@rule(
    "hsts/preload-unready",
    level=Level.WEAKENS,
    sources=("the requirements of browsers' preload lists",),
    nature=OF_HSTS.but(safety=Safety.HOLDS_FOR_LONG),
)
def preload_unready(case: Case) -> Iterator[RuleOutcome]:
    """A policy that says preload asks for a place on a list, which has requirements."""
    for name, answers in _answers(case):
        if isinstance(answers, Unknown):
            continue
        policy = answers[0].read
        if not isinstance(policy, StrictTransportSecurity) or "preload" not in policy.unrecognised:
            continue
        unmet = [words for words, met in preload_requirements(case, name, policy) if not met]
        apex = name.removeprefix("www.")
        of_apex = policy_of(case, apex) if apex != name else None
        if of_apex is not None and all(met for _, met in preload_requirements(case, apex, of_apex)):
            yield Holds(of_name(name), f"{apex}, which is what lists take, meets every requirement")
        elif unmet:
            yield Gap(of_name(name), "preload, but not: " + "; ".join(unmet), "every requirement of the preload list")
        else:
            yield Holds(of_name(name), "every requirement is met")


def preload_requirements(case: Case, name: str, policy: StrictTransportSecurity) -> list[tuple[str, bool]]:
    """Each requirement in words, and whether it is met as far as the review can see."""
    visits = predict_visits(case)
    https = [visit.meets for visit in visits if visit.start == f"{https_origin(name)}/"]
    below = [visit for visit in visits if _is_https_home_below(visit.start, name)]
    first_hops = [
        (here, there)
        for journey, start in case.ways_in("http")
        if start.host == name and len(journey.hops) > 1
        for here, there in [(read_url(journey.hops[0].url), read_url(journey.hops[1].url))]
    ]
    plain_answers = [journey for journey, start in case.ways_in("http") if start.host == name and journey.hops]
    minimum = int(case.expect.preload_minimum_age.total_seconds())
    return [
        (f"{name} is a registrable domain", is_apex(name)),
        ("a valid certificate", bool(https) and all(map(_works, https))),
        ("http leads to https on the same host first", not plain_answers or _same_host_first(first_hops)),
        (f"max-age={minimum} or more", policy.max_age >= minimum),
        ("includeSubDomains", policy.include_subdomains),
        ("every reviewed host below works over https", all(_works(visit.meets) for visit in below)),
    ]


def _same_host_first(first_hops: list[tuple[Url, Url]]) -> bool:
    return bool(first_hops) and all(there.is_https and there.host == here.host for here, there in first_hops)


def _works(prediction: Prediction) -> bool:
    return prediction.shows_page or prediction is Prediction.ERROR_PAGE


def _is_https_home_below(start: str, name: str) -> bool:
    url = read_url(start)
    return url.is_https and url.target == "/" and url.host.endswith("." + name)


@rule("hsts/would-lock-out", level=Level.EXPOSES, sources=("RFC 6797 sections 8.3, 8.4 and 14.4",), nature=OF_HSTS)
def would_lock_out(case: Case) -> Iterator[RuleOutcome]:
    """Under includeSubDomains a host without working https cannot be reached at all."""
    visits = predict_visits(case)
    for name in sorted(case.site_names):
        policy = policy_of(case, name)
        if policy is None or not policy.include_subdomains:
            continue
        below = [visit for visit in visits if _is_https_home_below(visit.start, name)]
        unknown = [visit for visit in below if visit.meets is Prediction.UNKNOWN]
        locked = [visit for visit in below if not _works(visit.meets) and visit.meets is not Prediction.UNKNOWN]
        if locked:
            hosts = ", ".join(dict.fromkeys(f"{read_url(each.start).host} ({each.meets.value})" for each in locked))
            yield Gap(of_name(name), f"includeSubDomains reaches {hosts}", "working https on every host below")
        elif unknown:
            yield Unknown(of_name(name), f"{unknown[0].start}: {unknown[0].detail}")
        else:
            yield Holds(of_name(name), f"{len(below)} hosts below work" if below else "no reviewed host below")


@rule("hsts/on-address", level=Level.NOTE, sources=("RFC 6797 section 8.1.1",), nature=OF_HSTS)
def on_address(case: Case) -> Iterator[RuleOutcome]:
    """For a host given as an IP address browsers note no policy."""
    for name in sorted(case.site_names):
        if not is_ip_address(name):
            continue
        for hop in case.https_answers(name)[:1]:
            if hop.values(FIELD):
                yield Gap(of_name(name), f"{FIELD} for an IP address", "a host name")
            else:
                yield Holds(of_name(name), f"no {FIELD}")


def _wanted(case: Case) -> str:
    minimum = case.expect.hsts_minimum_age
    return f"max-age={int(minimum.total_seconds())} or more ({write_duration(minimum)})"


STEPS: tuple[Step, ...] = (
    Step.SIBLINGS,
    Step.WAYS_IN,
    Step.ABSENT,
    Step.FOUND,
    Step.CERTIFICATES,
    Step.VERSIONS,
    Step.ISSUERS,
)
"""What has to be asked for its rules."""

RULES = (
    absent,
    invalid,
    twice,
    short,
    zero,
    over_http,
    uneven,
    no_subdomains,
    apex_never_seen,
    preload_unready,
    would_lock_out,
    on_address,
)
