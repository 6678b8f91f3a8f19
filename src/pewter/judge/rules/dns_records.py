"""Does everybody get the same, right answer?  CAA and signatures."""

from collections.abc import Iterator

from pewter.evidence import Reply, Unseen, Way
from pewter.expectations import write_duration
from pewter.facts.case import Case
from pewter.facts.naming import (
    Naming,
    Zone,
    each_name,
    naming,
)
from pewter.facts.revocation import is_public
from pewter.facts.unseen import UnseenAt
from pewter.judge.nature import OF_NAMES, GoesBy
from pewter.judge.outcomes import Gap, Holds, RuleOutcome, Unknown
from pewter.judge.rule import Rule, rule
from pewter.levels import Level
from pewter.names.answers import NOT_ASKED, parent_of
from pewter.names.caa import RelevantSet, climb, may_issue, oddities
from pewter.names.issuers import domains_of
from pewter.names.signatures import (
    delegated_tags,
    first_to_expire,
    is_bogus,
    is_opaque,
    key_tags,
    signatures_in,
    validates,
)
from pewter.names.spread import ttl_of
from pewter.pki import Certificate, life_of
from pewter.places import of_name

from .walks import over, unknown


def _relevant(found: Naming, name: str) -> RelevantSet | Unseen | None:
    return climb(name, lambda above: found.answers.resolved(above, "CAA"))


# CAA (RFC 8659)


@rule("dns/caa-absent", level=Level.NOTE, sources=("RFC 8659 section 3",), nature=OF_NAMES)
@over(each_name)
def caa_absent(case: Case, found: Naming, name: str) -> Iterator[RuleOutcome]:
    """A CAA set says which CAs may issue for the name; without one, every CA may."""
    relevant = _relevant(found, name)
    if relevant is None:
        seen = "no CAA set at the name or above it"
        yield Gap(of_name(name), seen, "a set that names the site's CA", cause="none")
    elif isinstance(relevant, Unseen):
        yield Unknown(of_name(name), relevant.reason)
    else:
        yield Holds(of_name(name), f"a set at {relevant.owner}")


@rule(
    "dns/caa-excludes-issuer",
    level=Level.WEAKENS,
    sources=("RFC 8659 section 4.2", "Baseline Requirements 3.2.2.8"),
    nature=OF_NAMES.but(goes_by=frozenset({GoesBy.SERVED})),
)
def caa_excludes_issuer(case: Case) -> Iterator[RuleOutcome]:
    """The CA of the present certificate has to be allowed for each of its names: else the next renewal is refused."""
    found = naming(case)
    if not found.names or found.why_nothing:
        return
    private: set[str] = set()
    renewals: dict[tuple[str, str], bool] = {}
    for chain in case.chains:
        leaf = chain.leaf
        if not isinstance(leaf, Certificate):
            continue
        if not case.expect.caa_domains and not is_public(case, chain):
            private.add(chain.host)
            continue
        is_due = life_of(leaf).passed(case.at) > case.expect.renewal_point
        issuer = leaf.issuer.owner
        for name in map(str.lower, leaf.extensions.dns_names):
            renewals[name, issuer] = renewals.get((name, issuer), False) or is_due
    for host in sorted(private):
        yield Unknown(of_name(host), "a private CA need not look at CAA")
    for (name, issuer), is_due in renewals.items():
        yield _of_next(case, found, name, issuer, is_due=is_due)


def _of_next(case: Case, found: Naming, name: str, issuer: str, *, is_due: bool) -> RuleOutcome:
    """Whether the next certificate of a name can be of the same CA."""
    domains = case.expect.caa_domains or domains_of(issuer)
    relevant = _relevant(found, name)
    if isinstance(relevant, Unseen):
        return Unknown(of_name(name), relevant.reason)
    verdict = may_issue(relevant, name, domains or None)
    if verdict.allowed is None:
        return Unknown(of_name(name), verdict.words)
    if verdict.allowed:
        return Holds(of_name(name), verdict.words)
    seen = f"{verdict.words}; the present certificate is of {issuer}{', and its renewal is due' if is_due else ''}"
    expected = f"{' or '.join(domains)} allowed, if {issuer} is to issue again" if domains else "a CA that may issue"
    return Gap(of_name(name), seen, expected, cause=seen, level=Level.EXPOSES if is_due else None)


@rule(
    "dns/caa-unreadable", level=Level.WEAKENS, sources=("RFC 8659 section 4.1", "RFC 8659 section 4.2"), nature=OF_NAMES
)
def caa_unreadable(case: Case) -> Iterator[RuleOutcome]:
    """A CAA record that cannot mean what was meant: malformed, it forbids."""
    told: set[str] = set()
    for each in each_name(case):
        if isinstance(each, UnseenAt):
            yield from unknown([each])
            continue
        found, name = each
        relevant = _relevant(found, name)
        if isinstance(relevant, Unseen):
            yield Unknown(of_name(name), relevant.reason)
        elif relevant is not None and relevant.owner not in told:
            told.add(relevant.owner)
            wrong = tuple(f"{record}: {why}" for record in relevant.records for why in oddities(record))
            if wrong:
                yield Gap(of_name(relevant.owner), "; ".join(wrong), "records that CAs read as meant", parts=wrong)
            else:
                yield Holds(of_name(relevant.owner), ", ".join(map(str, relevant.records)))


@rule("dns/caa-shadowed", level=Level.NOTE, sources=("RFC 8659 section 3",), nature=OF_NAMES)
@over(each_name)
def caa_shadowed(case: Case, found: Naming, name: str) -> Iterator[RuleOutcome]:
    """The nearest set that is not empty decides alone: one without issue hides the issue further up."""
    near = _relevant(found, name)
    if near is None or isinstance(near, Unseen) or near.has_issue:
        return
    further = _relevant(found, parent_of(near.owner)) if "." in near.owner else None
    if isinstance(further, RelevantSet) and further.has_issue:
        seen = f"the set at {near.owner} has no issue and hides that at {further.owner}"
        yield Gap(of_name(name), seen, "issue in the nearer set", cause=seen)
    else:
        yield Holds(of_name(name), "nothing is hidden")


@rule(
    "dns/caa-unanswered",
    level=Level.WEAKENS,
    sources=("RFC 8659 section 6", "Baseline Requirements 3.2.2.8"),
    nature=OF_NAMES,
)
@over(each_name)
def caa_unanswered(case: Case, found: Naming, name: str) -> Iterator[RuleOutcome]:
    """CAA has to be answered at every step up the tree: where it fails, CAs stop."""
    relevant = _relevant(found, name)
    if not isinstance(relevant, Unseen):
        yield Holds(of_name(name), "answered at every step")
        return
    if _rcode(found, name, "A") not in {"NOERROR", "NXDOMAIN"}:
        yield Unknown(of_name(name), relevant.reason)
        return
    zone = found.zone_of(name)
    ds = found.answers.resolved(zone.apex, "DS") if zone is not None else NOT_SIGNED
    signed = isinstance(ds, Reply) and zone is not None and bool(delegated_tags(ds, zone.apex))
    level = Level.EXPOSES if signed else None
    yield Gap(of_name(name), f"{relevant.reason}, though A is answered", "an answer", level=level)


NOT_SIGNED = Unseen("no zone was found")


def _rcode(found: Naming, name: str, kind: str) -> str:
    reply = found.answers.resolved(name, kind)
    return reply.rcode if isinstance(reply, Reply) else ""


# Signatures


def _signed(found: Naming, zone: Zone) -> frozenset[int] | Unseen:
    """The keys that the zone above vouches for: told by the resolver, or by a server above."""
    reply = _delegation_of(found, zone)
    return reply if isinstance(reply, Unseen) else delegated_tags(reply, zone.apex)


def _unsigned(found: Naming, zone: Zone) -> str:
    """How a zone is not signed, in words."""
    reply = _delegation_of(found, zone)
    if isinstance(reply, Reply) and is_opaque(reply, zone.apex):
        return "its DS records name algorithms that resolvers do not know: unsigned to them"
    return "unsigned"


def _delegation_of(found: Naming, zone: Zone) -> Reply | Unseen:
    why = Unseen("the zone above was not asked")
    for number, server in enumerate(found.answers.seen.servers):
        way = Way.RESOLVED if server.is_resolver else Way.DIRECT
        reply = found.answers.reply(number, zone.apex, "DS", way)
        if isinstance(reply, Reply) and reply.rcode == "NOERROR" and (server.is_resolver or reply.is_authoritative):
            return reply
        if isinstance(reply, Unseen) and reply is not NOT_ASKED:
            why = reply
    return why


@rule("dns/dnssec-broken", level=Level.BREAKS, sources=("RFC 4035 section 4.3", "RFC 4035 section 5"), nature=OF_NAMES)
def dnssec_broken(case: Case) -> Iterator[RuleOutcome]:
    """A zone that the zone above calls signed has to be signed by a key that it vouches for."""
    found = naming(case)
    answers = found.answers
    for zone in found.zones:
        bogus = [
            (name, kind)
            for name in (zone.apex, *zone.names)
            for kind in ("SOA", "A", "AAAA", "CAA", "HTTPS")
            if is_bogus(answers.resolved(name, kind), answers.resolved(name, kind, Way.CHECKING_DISABLED))
        ]
        if bogus:
            name, kind = bogus[0]
            alone = "" if kind in {"SOA", "A"} else f" {kind}"
            seen = f"the resolver fails for {name}{alone}, and answers once it does not check signatures"
            yield Gap(zone.place, seen, "signatures that validate")
            continue
        tags = _signed(found, zone)
        if isinstance(tags, Unseen):
            yield Unknown(zone.place, tags.reason)
        elif not tags:
            yield Holds(zone.place, _unsigned(found, zone))
        elif found.why_not_direct or not zone.good:
            if validates(answers.resolved(".", "SOA")):
                yield Holds(zone.place, "the resolver validates, and answers")
            else:
                yield Unknown(zone.place, found.why_not_direct or f"no server answers for {zone.apex}")
        else:
            yield from _held_against_keys(found, zone, tags)


def _held_against_keys(found: Naming, zone: Zone, tags: frozenset[int]) -> Iterator[RuleOutcome]:
    for number in zone.good:
        reply = found.answers.reply(number, zone.apex, "DNSKEY", Way.SIGNED)
        if isinstance(reply, Unseen):
            yield Unknown(zone.place, reply.reason)
            continue
        keys = key_tags(reply, zone.apex)
        signing = {each.key_tag for each in signatures_in(reply, zone.apex) if each.covered == "DNSKEY"}
        if tags & keys & signing:
            yield Holds(zone.place, "a key that the zone above vouches for signs")
        else:
            shown = ", ".join(map(str, sorted(keys)))
            had = f"key {shown}, signed by {', '.join(map(str, sorted(signing))) or 'none'}" if keys else "no key"
            wanted = ", ".join(map(str, sorted(tags)))
            seen = f"the zone above vouches for key {wanted}; {zone.title(number)} has {had}"
            yield Gap(zone.place, seen, "a key that it vouches for", cause=f"{zone.apex} keys")


@rule("dns/dnssec-expiring", level=Level.WEAKENS, sources=("RFC 6781 section 4.4.2",), nature=OF_NAMES)
def dnssec_expiring(case: Case) -> Iterator[RuleOutcome]:
    """Signatures have to be renewed while copies with their TTL are still good."""
    found = naming(case)
    for zone in found.zones:
        if isinstance(tags := _signed(found, zone), Unseen) or not tags:
            continue
        if found.why_not_direct or not zone.good:
            yield Unknown(zone.place, found.why_not_direct or f"no server answers for {zone.apex}")
            continue
        for number in zone.good:
            for question, reply in found.answers.replies_of(number):
                if question.way is not Way.SIGNED:
                    continue
                first = first_to_expire(signatures_in(reply, question.name))
                if first is None:
                    continue
                ttl = ttl_of(each for each in reply.answer if each.type == "RRSIG") or 0
                left = first.expires - case.at
                margin = case.expect.signature_margin.total_seconds() + ttl
                if left.total_seconds() < margin:
                    when = f"until {first.expires:%Y-%m-%d %H:%M} UTC"
                    seen = f"{zone.title(number)}: the signature of {question.name} {first.covered} lasts {when}"
                    expected = f"its TTL of {ttl} s and {write_duration(case.expect.signature_margin)} more"
                    yield Gap(zone.place, seen, expected, cause=f"{zone.apex} {number}")
                else:
                    yield Holds(zone.place, f"until {first.expires:%Y-%m-%d}")


@rule("dns/dnssec-absent", level=Level.NOTE, sources=("RFC 4033 section 2",), nature=OF_NAMES)
def dnssec_absent(case: Case) -> Iterator[RuleOutcome]:
    """Whether the zone above vouches for keys of the zone."""
    found = naming(case)
    for zone in found.zones:
        tags = _signed(found, zone)
        if isinstance(tags, Unseen):
            yield Unknown(zone.place, tags.reason)
        elif tags:
            yield Holds(zone.place, f"key {', '.join(map(str, sorted(tags)))}")
        else:
            seen = _unsigned(found, zone)
            yield Gap(zone.place, seen, "optional: signatures", cause=seen)


RULES: tuple[Rule[Case], ...] = (
    caa_absent,
    caa_excludes_issuer,
    caa_unreadable,
    caa_shadowed,
    caa_unanswered,
    dnssec_broken,
    dnssec_expiring,
    dnssec_absent,
)
