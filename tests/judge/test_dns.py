"""The area dns: the facts of the zone by hand, and whole outcomes."""

import datetime

import msgspec

from pewter.evidence import (
    Alert,
    Answer,
    Ended,
    HowEnded,
    HowFailed,
    Lookup,
    Name,
    NoConnection,
    NotTls,
    Seen,
    Service,
    Unanswered,
    Unseen,
)
from pewter.expectations import Expectations, Terms
from pewter.judge.rules import dns, dns_https, dns_names, dns_records, reach
from support.cases import case, endpoint, handshake, hop, journey, outcomes, probe, stored, table
from support.certificates import intermediate, leaf
from support.dns import NONE, SOA, WWW, ZONE, changed

SILENT, TOO_MANY = Unanswered.SILENT, Unanswered.TOO_MANY
NAME = Name(
    WWW, True, (Lookup("A", Seen(Answer("NOERROR", (), ("5.5.5.10",)))), Lookup("AAAA", Seen(Answer("NOERROR"))))
)
FAILING = Name(WWW, True, tuple(Lookup(kind, Unseen("the name service failed")) for kind in ("A", "AAAA")))
ALIAS = f"NOERROR ra; {WWW} CNAME 300 gone.other.test; !other.test SOA 60 a b 1 2 3 4 5"
DENIED = Name(WWW, True, tuple(Lookup(kind, Seen(Answer("NXDOMAIN"))) for kind in ("A", "AAAA")))
OPENS = journey(hop(f"https://{WWW}/"))
WITH_H2 = msgspec.structs.replace(handshake(), alpn="h2")
CLOSED = NoConnection(HowFailed.REFUSED, "the connection was refused")
H2 = endpoint(WITH_H2, host=WWW, address="5.5.5.10")
WITHOUT = endpoint(handshake(), host=WWW, address="5.5.5.10")


def zone(*changes, expect=None, name=NAME, journeys=(), endpoints=(), services=(), **options):
    terms = Terms(expect=expect or Expectations())
    seen = {"dns": changed(*changes, **options), "services": services, "certificates": stored(leaf("mail.x.example"))}
    return case(*journeys, names=[name], endpoints=endpoints, terms=terms, **seen)


def caa(*values, at=WWW):
    """A set at a name, of ``flags tag value``."""
    records = []
    for value in values:
        flags, tag, text = value.split(" ", 2)
        octets = bytes([int(flags), len(tag)]) + tag.encode() + text.encode()
        records.append(f"{at} CAA 60 {octets.hex()}")
    return {f"r {at} CAA": f"NOERROR ra; {'; '.join(records)}"}


def https(*data):
    return {f"r {WWW} HTTPS": "NOERROR ra; " + "; ".join(f"{WWW} HTTPS 60 {each}" for each in data)}


B, C, ITSELF = (
    "0162047465737400",
    "0163047465737400",
    f"03777777{len(ZONE.split('.')[0]):02x}{ZONE.split('.')[0].encode().hex()}07{b'example'.hex()}00",
)
"""Targets in octets: b.test, c.test and the name."""

AT_B = {"r b.test A": "NOERROR ra; b.test A 60 5.5.5.20", "r b.test AAAA": "NOERROR ra", "r b.test HTTPS": "NOERROR ra"}


def serves(answer, address="5.5.5.20", target="b.test", port=443):
    return Service(WWW, target, port, probe(answer), address)


def promised(record, *services, **changes):
    """By a record at a name that opens, in hexadecimal; b.test has an address."""
    told = {f"r {name.replace('_', '.')}": text for name, text in changes.items()}
    told = {key.rpartition(".")[0] + " " + key.rpartition(".")[2]: text for key, text in told.items()}
    return zone(https(record), AT_B | told, endpoints=[H2], journeys=[OPENS], services=services)


def keys(*tags, signed=None, ends="4000000000"):
    records = [f"{ZONE} DNSKEY 60 257 13 {tag}" for tag in tags]
    sigs = [f"{ZONE} RRSIG 60 DNSKEY {ends} 1700000000 {tag} {ZONE}" for tag in (tags if signed is None else signed)]
    soa = f"{ZONE} RRSIG 60 SOA {ends} 1700000000 1 {ZONE}"
    return {
        f"r {ZONE} DS": f"NOERROR ra; {ZONE} DS 60 11 13 2 ab",
        f"12 {ZONE} DNSKEY signed": f"NOERROR aa; {'; '.join([*records, *sigs])}",
        f"12 {ZONE} SOA signed": f"NOERROR aa; {SOA}; {soa}",
    }


BOGUS = {f"r {WWW} A": "SERVFAIL ra", f"r {WWW} A checking disabled": f"NOERROR ra; {WWW} A 60 5.5.5.10"}
NOTHING = dict.fromkeys((*(f"r {n} {k}" for n in (WWW, ZONE, "example", ".") for k in ("A", "AAAA", "SOA", "NS", "CAA", "DS", "HTTPS")), *(f"r ns{n}.{ZONE} {k}" for n in (1, 2) for k in ("A", "AAAA"))), SILENT)  # fmt: skip
BLOCKED = {f"{s} {rest}": SILENT for s in "p12" for rest in (f"{ZONE} SOA", f"{ZONE} NS", f"{ZONE} DS", f"{ZONE} SOA tcp", f"{WWW} A", f"{WWW} AAAA", f"{WWW} CAA", f"{WWW} HTTPS", f"pewter-1.{ZONE} A random")}  # fmt: skip
BEHIND = {f"2 {WWW} A": (f"NOERROR aa; {WWW} A 300 5.5.5.9",) * 4, f"1 {WWW} A": (f"NOERROR aa; {WWW} A 300 5.5.5.10",) * 4,
          f"2 {ZONE} SOA": f"NOERROR aa; {SOA.replace(' 7 7200', ' 6 7200')}"}  # fmt: skip

NINTH_WITHOUT_GLUE = {f"p {ZONE} NS": f"NOERROR; !{ZONE} NS 300 ns1.{ZONE}; !{ZONE} NS 300 ns9.{ZONE}"}
NINTH = {f"p {ZONE} NS": f"{NINTH_WITHOUT_GLUE[f'p {ZONE} NS']}; +ns9.{ZONE} A 300 5.5.5.59"}

CASES = {
    reach.no_address: {
        "denied-by-a-copy": zone({f"r {WWW} {k}": f"NXDOMAIN ra; !{SOA}" for k in ("A", "AAAA")}, name=DENIED),
        "denied-by-all": zone({f"r {WWW} {k}": f"NXDOMAIN ra; !{SOA}" for k in ("A", "AAAA")}, {f"12 {WWW} {k}": f"NXDOMAIN aa; !{SOA}" for k in ("A", "AAAA")}, name=DENIED),
        "denied-by-one-server": zone({f"r {WWW} {k}": f"NXDOMAIN ra; !{SOA}" for k in ("A", "AAAA")}, {f"1 {WWW} {k}": f"NXDOMAIN aa; !{SOA}" for k in ("A", "AAAA")}, name=DENIED),
    },
    dns_names.does_not_resolve: {
        "healthy": zone(),
        "servfail": zone({f"r {WWW} A": "SERVFAIL ra", f"r {WWW} AAAA": "SERVFAIL ra"}, name=FAILING),
        "bogus": zone(BOGUS, name=FAILING),
        "loop": zone({f"r {WWW} {k}": "SERVFAIL ra" for k in ("A", "AAAA")}, {f"12 {WWW} A": f"NOERROR aa; {WWW} CNAME 60 {WWW}"}, name=FAILING),
        "resolver-silent": zone(NOTHING, name=FAILING),
    },
    dns.lame_server: {
        "healthy": zone(),
        "refuses": zone({f"2 {ZONE} SOA": "REFUSED", f"2 {ZONE} SOA tcp": "REFUSED"}),
        "silent-then-answers": zone({f"2 {ZONE} SOA": (SILENT, f"NOERROR aa; {SOA}")}),
        "silent-over-udp-alone": zone({f"2 {ZONE} SOA": (SILENT, SILENT)}),
        "all": zone({f"12 {ZONE} SOA": "SERVFAIL", f"12 {ZONE} SOA tcp": "SERVFAIL"}),
        "glue-alone-is-known": zone(NINTH, {f"r ns9.{ZONE} {k}": SILENT for k in ("A", "AAAA")}),
        "address-alone-is-known": zone(NINTH_WITHOUT_GLUE, {f"r ns9.{ZONE} A": f"NOERROR ra; ns9.{ZONE} A 60 5.5.5.59"}),
        "without-an-address": zone(NINTH_WITHOUT_GLUE, {f"r ns9.{ZONE} {k}": "NXDOMAIN ra" for k in ("A", "AAAA")}),
        "address-not-looked-up": zone(NINTH_WITHOUT_GLUE, {f"r ns9.{ZONE} {k}": SILENT for k in ("A", "AAAA")}),
        "not-reached": zone({f"2 {ZONE} SOA": TOO_MANY, f"2 {ZONE} SOA tcp": TOO_MANY}),
        "no-ipv6-here": zone({f"2 {ZONE} SOA": Unanswered.NO_IPV6, f"2 {ZONE} SOA tcp": Unanswered.NO_IPV6}),
        "blocked": zone(BLOCKED),
        "answer-resolvers-alone": zone({f"12 {ZONE} SOA": SILENT, f"12 {ZONE} SOA tcp": SILENT, f"r pewter-2.{ZONE} A random": f"NXDOMAIN ra; !{SOA}"}),
        "refuse-all-but-resolvers": zone({f"12 {ZONE} SOA": "REFUSED", f"12 {ZONE} SOA tcp": "REFUSED", f"r pewter-2.{ZONE} A random": f"NXDOMAIN ra; !{SOA}"}),
        "one-answers-resolvers-alone": zone({f"2 {ZONE} SOA": "REFUSED", f"2 {ZONE} SOA tcp": "REFUSED", f"r pewter-2.{ZONE} A random": f"NXDOMAIN ra; !{SOA}"}),
        "only-a-private-address": zone(NINTH_WITHOUT_GLUE, {f"r ns9.{ZONE} A": f"NOERROR ra; ns9.{ZONE} A 60 192.168.0.9"}),
        "only-private-glue": zone({f"p {ZONE} NS": NINTH[f"p {ZONE} NS"].replace("5.5.5.59", "10.0.0.9")}, {f"r ns9.{ZONE} {k}": SILENT for k in ("A", "AAAA")}),
        "no-glue-and-no-address": zone(NINTH_WITHOUT_GLUE, {f"r ns9.{ZONE} {k}": "SERVFAIL ra" for k in ("A", "AAAA")}),
    },
    dns.delegation: {
        "own-sets-differ": zone({f"2 {ZONE} NS": f"NOERROR aa; {ZONE} NS 300 ns1.{ZONE}"}),
        "healthy": zone(),
        "above-names-more": zone({f"p {ZONE} NS": f"NOERROR; !{ZONE} NS 300 ns1.{ZONE}; !{ZONE} NS 300 ns9.other.test"}),
        "same-servers": zone({f"p {ZONE} NS": f"NOERROR aa; {ZONE} NS 300 ns1.{ZONE}"}),
        "above-silent": zone({f"p {ZONE} NS": SILENT}),
        "own-set-silent": zone({f"12 {ZONE} NS": SILENT}),
    },
    dns.unexpected_servers: {
        "not-given": zone(),
        "as-expected": zone(expect=Expectations(name_servers=(f"NS2.{ZONE}.", f"ns1.{ZONE}"))),
        "others": zone(expect=Expectations(name_servers=("ns.elsewhere.example",))),
    },
    dns.glue: {
        "healthy": zone(),
        "missing": zone({f"p {ZONE} NS": f"NOERROR; !{ZONE} NS 300 ns1.{ZONE}; !{ZONE} NS 300 ns2.{ZONE}; +ns1.{ZONE} A 300 192.0.2.53"}),
        "all-missing": zone({f"p {ZONE} NS": f"NOERROR; !{ZONE} NS 300 ns1.{ZONE}; !{ZONE} NS 300 ns2.{ZONE}"}),
        "old": zone({f"p {ZONE} NS": f"NOERROR; !{ZONE} NS 300 ns1.{ZONE}; !{ZONE} NS 300 ns2.{ZONE}; +ns1.{ZONE} A 300 192.0.2.99; +ns2.{ZONE} A 300 192.0.2.54"}),
    },
    dns.server_alias: {
        "healthy": zone(),
        "alias": zone({f"r ns2.{ZONE} A": f"NOERROR ra; ns2.{ZONE} CNAME 60 real.{ZONE}; real.{ZONE} A 60 192.0.2.54"}),
    },
    dns.one_server: {
        "healthy": zone(),
        "fewer-than-wished": zone(expect=Expectations(name_server_minimum=3)),
        "two-names-at-one-address": zone({f"r {ZONE} NS": f"NOERROR ra; {ZONE} NS 60 ns8.{ZONE}; {ZONE} NS 60 ns9.{ZONE}", f"12 {ZONE} NS": SILENT, f"p {ZONE} NS": f"NOERROR; !{ZONE} NS 300 ns8.{ZONE}; !{ZONE} NS 300 ns9.{ZONE}; +ns8.{ZONE} A 300 192.0.2.90; +ns9.{ZONE} A 300 192.0.2.90"}),
    },
    dns.no_tcp: {
        "healthy": zone(),
        "silent": zone({f"2 {ZONE} SOA tcp": SILENT}),
        "silent-and-cut-off": zone({f"2 {ZONE} SOA tcp": SILENT, f"2 {WWW} HTTPS": "NOERROR aa tc"}),
        "not-asked": zone({f"2 {ZONE} SOA tcp": TOO_MANY}),
    },
    dns.edns: {
        "healthy": zone(),
        "dropped": zone({f"2 {ZONE} SOA": SILENT, f"2 {ZONE} SOA plain": f"NOERROR aa; {SOA}"}),
        "formerr": zone({f"2 {ZONE} SOA": "FORMERR", f"2 {ZONE} SOA plain": f"NOERROR aa; {SOA}"}),
    },
    dns.slow_server: {
        "healthy": zone(),
        "slow": zone(milliseconds=1500),
        "slow-at-the-limit": zone(milliseconds=1000),
        "one-answer": zone({f"2 {rest}": SILENT for rest in (f"{ZONE} NS", f"{ZONE} SOA tcp", f"{WWW} A", f"{WWW} AAAA", f"{WWW} CAA", f"{WWW} HTTPS", f"pewter-1.{ZONE} A random")}),
    },
    dns.serials_differ: {
        "healthy": zone(),
        "differ": zone({f"2 {ZONE} SOA": f"NOERROR aa; {SOA.replace(' 7 7200', ' 4294967295 7200')}"}),
        "disagreeing-is-another-rule": zone(BEHIND),
    },
    dns.wildcard: {
        "healthy": zone(),
        "a-name-that-is-called-like-it": zone({f"12 pewter-1.{ZONE} A": f"NOERROR aa; pewter-1.{ZONE} A 60 5.5.5.10"}),
        "every-name": zone({f"12 pewter-1.{ZONE} A random": f"NOERROR aa; pewter-1.{ZONE} A 60 5.5.5.10"}),
        "unanswered": zone({f"12 pewter-1.{ZONE} A random": SILENT}),
    },
    dns_names.type_fails: {
        "healthy": zone(),
        "caa-servfail": zone({f"12 {WWW} CAA": "SERVFAIL aa"}),
        "aaaa-nxdomain": zone({f"2 {WWW} AAAA": f"NXDOMAIN aa; !{SOA}"}),
        "https-silent": zone({f"2 {WWW} HTTPS": SILENT}),
        "alias-to-nowhere-is-none": zone({f"12 {WWW} {k}": f"NXDOMAIN aa; {WWW} CNAME 60 gone.{ZONE}" for k in ("A", "AAAA", "CAA", "HTTPS")}),
        "one-refuses-the-name": zone({f"2 {WWW} {k}": "REFUSED" for k in ("A", "AAAA", "CAA", "HTTPS")}),
        "one-fails-for-a": zone({f"2 {WWW} A": "SERVFAIL"}),
        "one-silent-and-over-tcp": zone({f"2 {WWW} AAAA": SILENT, f"2 {WWW} AAAA tcp": NONE}),
        "all-refuse-the-name": zone({f"12 {WWW} {k}": "REFUSED" for k in ("A", "AAAA", "CAA", "HTTPS")}),
    },
    dns_names.servers_disagree: {
        "healthy": zone(),
        "behind": zone(BEHIND),
        "rotation": zone({f"{n} {WWW} A": (f"NOERROR aa; {WWW} A 60 5.5.5.1", f"NOERROR aa; {WWW} A 60 5.5.5.2", f"NOERROR aa; {WWW} A 60 5.5.5.{n}") for n in "12"}),
        "steady-outside-the-pool": zone({f"1 {WWW} A": (f"NOERROR aa; {WWW} A 60 5.5.5.1", f"NOERROR aa; {WWW} A 60 5.5.5.2"), f"2 {WWW} A": (f"NOERROR aa; {WWW} A 60 5.5.5.7",) * 2}),
        "the-whole-over-tcp": zone({f"2 {WWW} A": "NOERROR aa tc", f"2 {WWW} A tcp": f"NOERROR aa; {WWW} A 300 5.5.5.10"}),
        "cut-off-and-no-tcp": zone({f"2 {WWW} A": "NOERROR aa tc"}),
        "cut-off-alike-and-other-over-tcp": zone({f"12 {WWW} A": "NOERROR aa tc", f"1 {WWW} A tcp": f"NOERROR aa; {WWW} A 300 5.5.5.10", f"2 {WWW} A tcp": f"NOERROR aa; {WWW} A 300 5.5.5.9"}),
        "lost-and-over-tcp": zone({f"2 {WWW} A": SILENT, f"2 {WWW} A tcp": f"NOERROR aa; {WWW} A 300 5.5.5.9"}),
        "one-refuses-the-name": zone({f"2 {WWW} {k}": "REFUSED" for k in ("A", "AAAA", "CAA", "HTTPS")}),
        "one-lacks-the-name": zone({f"2 {WWW} A": (f"NXDOMAIN aa; !{SOA}",) * 4}),
        "one-answers": zone({f"2 {ZONE} SOA": "REFUSED", f"2 {ZONE} SOA tcp": "REFUSED"}),
        "blocked": zone(BLOCKED),
    },
    dns_names.still_cached: {
        "healthy": zone(),
        "a-denial": zone({f"r {WWW} {k}": f"NXDOMAIN ra; !{SOA}" for k in ("A", "AAAA")}),
        "a-denial-without-soa": zone({f"r {WWW} A": "NXDOMAIN ra"}),
        "another-answer": zone({f"r {WWW} A": f"NOERROR ra; {WWW} A 120 5.5.5.9"}),
    },
    dns_names.unexpected_address: {
        "not-given": zone(),
        "as-expected": zone(expect=Expectations(addresses={WWW: ("5.5.5.10",)})),
        "one-of-three": zone(BEHIND, expect=Expectations(addresses={WWW: ("5.5.5.9",)})),
        "nobody": zone(expect=Expectations(addresses={WWW: ("5.5.5.1",)})),
    },
    dns_names.long_ttl: {
        "healthy": zone(),
        "two-days": zone({f"12 {WWW} A": f"NOERROR aa; {WWW} A 172800 5.5.5.10"}),
        "beyond-31-bits-is-none": zone({f"12 {WWW} A": f"NOERROR aa; {WWW} A 4294967295 5.5.5.10"}),
    },
    dns_names.dangling_alias: {
        "no-alias": zone(),
        "leads-somewhere": zone({f"r {WWW} A": f"NOERROR ra; {WWW} CNAME 60 a.other.test; a.other.test A 60 5.5.5.1"}),
        "only-one-resolver": zone({f"r {WWW} {k}": ALIAS.replace("NOERROR", "NXDOMAIN") for k in ("A", "AAAA")}),
        "two-resolvers": zone({f"{r} {WWW} {k}": ALIAS.replace("NOERROR", "NXDOMAIN") for r in ("r", "r2") for k in ("A", "AAAA")}),
        "its-server-says-so": zone({f"r {WWW} {k}": ALIAS.replace("NOERROR", "NXDOMAIN") for k in ("A", "AAAA")}, {"p gone.other.test A": "NXDOMAIN aa"}, {"r other.test SOA": "NXDOMAIN ra"}),
        "inside": zone({f"r {WWW} {k}": f"NOERROR ra; {WWW} CNAME 60 gone.{ZONE}; !{SOA}" for k in ("A", "AAAA")}, {f"1 gone.{ZONE} A": NONE}),
    },
    dns_names.alias_at_apex: {
        "healthy": zone(),
        "alias": zone({f"12 {ZONE} NS": f"NOERROR aa; {ZONE} CNAME 60 {WWW}"}, {f"r {ZONE} A": f"NOERROR ra; {ZONE} A 60 5.5.5.1"}),
        "and-no-address": zone({f"12 {ZONE} NS": f"NOERROR aa; {ZONE} CNAME 60 {WWW}"}, {f"r {ZONE} A": f"NOERROR ra; !{SOA}"}),
    },
    dns_names.alias_beside_records: {
        "healthy": zone(),
        "beside": zone({f"12 {WWW} A": f"NOERROR aa; {WWW} CNAME 60 a.{ZONE}"}, {f"12 {WWW} CAA": f"NOERROR aa; {WWW} CAA 60 00"}),
        "alone": zone({f"12 {WWW} {k}": f"NOERROR aa; {WWW} CNAME 60 a.{ZONE}" for k in ("A", "AAAA", "CAA", "HTTPS")}),
    },
    (dns_names.alias_loop, dns_names.long_alias_chain): {
        "no-alias": zone(),
        "loop": zone({f"r {WWW} {k}": f"NOERROR ra; {WWW} CNAME 60 a.{ZONE}; a.{ZONE} CNAME 60 {WWW}" for k in ("A", "AAAA")}),
        "five": zone({f"r {WWW} A": "NOERROR ra; " + "; ".join(f"{a} CNAME 60 {b}" for a, b in zip([WWW, *"abcd"], "abcde", strict=True)) + "; e A 60 5.5.5.1"}),
        "forty": zone({f"r {WWW} A": "NOERROR ra; " + "; ".join(f"{a} CNAME 60 {b}" for a, b in zip([WWW, *map(str, range(40))], map(str, range(41)), strict=True))}),
    },
    dns_names.private_address: {
        "public": zone(),
        "private": zone({f"12 {WWW} A": f"NOERROR aa; {WWW} A 60 10.0.0.1"}),
        "private-beside-public": zone({f"12 {WWW} A": f"NOERROR aa; {WWW} A 60 10.0.0.1; {WWW} A 60 5.5.5.10"}),
    },
    (dns_records.caa_absent, dns_records.caa_excludes_issuer, dns_records.caa_unreadable, dns_records.caa_shadowed, dns_records.caa_unanswered): {
        "none": zone(endpoints=[H2], expect=Expectations(caa_domains=("ca.example",))),
        "allows": zone(caa("0 issue CA.example", at=ZONE), endpoints=[H2], expect=Expectations(caa_domains=("ca.example",))),
        "excludes": zone(caa("0 issue other.example"), endpoints=[H2], expect=Expectations(caa_domains=("ca.example",))),
        "forbids": zone(caa("0 issue ;"), endpoints=[H2], expect=Expectations(caa_domains=("ca.example",))),
        "forbids-beside-one": zone(caa("0 issue ;", "0 issue ca.example"), endpoints=[H2], expect=Expectations(caa_domains=("ca.example",))),
        "with-account": zone(caa("0 issue ca.example; accounturi=https://ca.example/1"), endpoints=[H2], expect=Expectations(caa_domains=("ca.example",))),
        "private-ca": zone(caa("0 issue other.example"), endpoints=[H2]),
        "malformed": zone(caa("0 issue ca example")),
        "flag-1": zone(caa("1 issue ca.example")),
        "critical-unknown": zone(caa("128 future x"), endpoints=[H2], expect=Expectations(caa_domains=("ca.example",))),
        "letter-off": zone(caa("0 issu ca.example")),
        "iodef-hides": zone(caa("0 iodef mailto:a@x.example"), caa("0 issue ca.example", at=ZONE)),
        "servfail": zone({f"r {WWW} CAA": "SERVFAIL ra"}),
        "servfail-signed": zone({f"r {WWW} CAA": "SERVFAIL ra"}, keys(11)),
    },
    (dns_https.https_record_unreadable, dns_https.https_record_contradicts, dns_https.https_record_locks_out, dns_https.https_record_dead_end): {
        "none": zone(),
        "good": zone(https("00010000010003026832"), endpoints=[H2], journeys=[OPENS]),
        "no-h2": zone(https("00010000010003026832"), endpoints=[WITHOUT], journeys=[OPENS]),
        "hint": zone(https("000100000400040505" + "0509"), endpoints=[H2], journeys=[OPENS]),
        "hint-of-a-pool-elsewhere": zone(https("000100000400040505" + "0509"), {f"r {WWW} A": f"NOERROR ra; {WWW} CNAME 60 pool.other.test; pool.other.test A 60 5.5.5.10"}, endpoints=[H2], journeys=[OPENS]),
        "malformed": zone(https("0001000003000301bb01")),
        "alias-beside-service": zone(https("000000", "000100")),
        "alias-to-nowhere": zone(https("0000" + "01780000"), {"r x A": "NXDOMAIN ra", "r x AAAA": "NXDOMAIN ra", "r x HTTPS": "NXDOMAIN ra"}),
        "alias-not-looked-up": zone(https("0000" + "01780000")),
        "locks-out": zone(https("000100")),
        "ech-not-tried": zone(https("0001000005" + "0003aabbcc"), endpoints=[H2], journeys=[OPENS]),
        "h3-not-tried": zone(https("00010000010003026833"), endpoints=[H2], journeys=[OPENS]),
    },
    (dns_https.https_record_contradicts, dns_https.https_record_dead_end): {
        "alias-end-fails": promised(f"0000{B}", b_test_HTTPS="SERVFAIL ra"),
        "alias": promised(f"0000{B}"),
        "alias-to-no-service": promised("000000"),
        "alias-to-itself": promised(f"0000{ITSELF}"),
        "alias-by-way-to-no-service": promised(f"0000{B}", b_test_HTTPS="NOERROR ra; b.test HTTPS 60 000000"),
        "aliases-in-a-circle": promised(f"0000{B}", b_test_HTTPS=f"NOERROR ra; b.test HTTPS 60 0000{C}", c_test_HTTPS=f"NOERROR ra; c.test HTTPS 60 0000{B}"),
        "alias-to-a-service": promised(f"0000{B}", serves(WITH_H2), b_test_HTTPS="NOERROR ra; b.test HTTPS 60 00010000010003026832"),
        "alias-to-a-service-that-is-closed": promised(f"0000{B}", serves(CLOSED), b_test_HTTPS="NOERROR ra; b.test HTTPS 60 000100"),
        "target": promised(f"0001{B}00010003026832", serves(WITH_H2)),
        "target-with-another-certificate": promised(f"0001{B}", serves(handshake(leaf("mail.x.example"), intermediate()))),
        "target-closed": promised(f"0001{B}", serves(CLOSED)),
        "target-closed-at-one-address": promised(f"0001{B}00010003026832", serves(WITH_H2), serves(CLOSED, "5.5.5.21")),
        "target-without-h2": promised(f"0001{B}00010003026832", serves(handshake())),
        "target-refuses": promised(f"0001{B}", serves(Alert(2, 112))),
        "target-speaks-no-tls": promised(f"0001{B}", serves(NotTls(b"SSH-2.0"))),
        "target-ends-the-hello": promised(f"0001{B}", serves(Ended(HowEnded.RESET, "reset"))),
        "target-not-contacted": promised(f"0001{B}", serves(Unseen("not contacted: 10.0.0.1 is private"), "")),
        "target-not-looked-at": promised(f"0001{B}"),
        "target-is-private": promised(f"0001{B}", b_test_A="NOERROR ra; b.test A 60 10.0.0.1"),
        "port": promised("00010000030002" + "20fb", serves(WITH_H2, "5.5.5.10", WWW, 8443)),
        "port-closed": promised("00010000030002" + "20fb", serves(CLOSED, "5.5.5.10", WWW, 8443)),
        "h3-alone-needs-no-tcp": promised(f"0001{B}000100030268330002" + "0000"),
    },
    (dns_records.dnssec_broken, dns_records.dnssec_expiring, dns_records.dnssec_absent): {
        "unsigned": zone(),
        "good": zone(keys(11)),
        "other-key": zone(keys(12)),
        "key-that-does-not-sign": zone(keys(11, 12, signed=[12])),
        "no-keys": zone(keys()),
        "bogus": zone(BOGUS, keys(11)),
        "bogus-for-one-type": zone({f"r {WWW} AAAA": "SERVFAIL ra", f"r {WWW} AAAA checking disabled": f"NOERROR ra; !{SOA}"}, keys(11)),
        "algorithms-that-nobody-knows": zone(keys(12), {f"r {ZONE} DS": f"NOERROR ra; {ZONE} DS 60 11 99 2 ab; {ZONE} DS 60 12 13 77 ab"}),
        "one-of-two-known": zone(keys(12), {f"r {ZONE} DS": f"NOERROR ra; {ZONE} DS 60 11 99 2 ab; {ZONE} DS 60 12 13 2 ab"}),
        "ends-soon": zone(keys(11, ends=str(int(datetime.datetime(2026, 6, 1, 15, tzinfo=datetime.UTC).timestamp())))),
        "blocked": zone(keys(11), BLOCKED),
        "ds-unanswered": zone({f"r {ZONE} DS": SILENT, f"p {ZONE} DS": SILENT}),
    },
}  # fmt: skip


@table(CASES)
def test_outcomes(rule, looked, told):
    told(outcomes(rule, looked))
