"""What current browsers object to, and the rules that follow the stricter of them."""

import msgspec
import pytest
from cryptography import x509
from cryptography.x509 import ocsp as x509_ocsp
from cryptography.x509.oid import ExtendedKeyUsageOID

from pewter.evidence import (
    BrowserHello,
    GroupsSeen,
    Move,
    MoveKind,
    Order,
    Page,
    Seen,
    StopCause,
    Stopped,
    SuitesSeen,
    Tries,
    Unseen,
    VersionOutcome,
    VersionSeen,
    WayIn,
    protocols,
)
from pewter.evidence import Protocol as Spoken
from pewter.facts.case import Case
from pewter.facts.visits import predict_visits
from pewter.judge.rules import chain, chain_keys, chain_status, page, protocol_suites, reach, redirect, redirect_ends
from pewter.judge.rules import name as name_rules
from pewter.lab.authority import DAY, issue_ca, issue_server
from support.cases import (
    case,
    endpoint,
    fingerprint,
    handshake,
    hop,
    journey,
    name,
    outcomes,
    predicted,
    stopped,
    stored,
    table,
)
from support.cases import page as shown
from support.certificates import FAR_OFF, HOST, LONG_AGO, NOW, extension, intermediate, key, leaf, parsed, remade, root
from support.status import ocsp_response

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
APEX, OTHER = "marram-ferries.example", "elsewhere.example"
ANY = x509.ObjectIdentifier("2.5.29.37.0")


def usage(*bits):
    names = (
        "digital_signature content_commitment key_encipherment data_encipherment key_agreement key_cert_sign crl_sign"
    )
    values = {each: each in bits for each in names.split()}
    return x509.KeyUsage(**values, encipher_only=False, decipher_only=False), True


def server(*names, kind="P-256", **options):
    return issue_server(
        names or (HOST,),
        options.pop("issuer", intermediate()),
        NOW - DAY,
        NOW + 60 * DAY,
        key=key(f"b {kind}", kind),
        **options,
    )


def at(sent, *chain_sent, host=HOST, answer=None, protocol=None, names=(), way=HTTPS, **more) -> Case:
    """A host that serves these certificates, and one way in to it."""
    sent_all = (sent, *(chain_sent or (intermediate(),)))
    answer = answer or handshake(*sent_all)
    looked = msgspec.structs.replace(endpoint(answer, host=host), protocol=protocol)
    ways = (journey(hop(way.replace(HOST, host), issued=sent)),)
    return case(*ways, names=names or [name(host)], endpoints=[looked], certificates=stored(*sent_all), **more)


ISSUER = issue_ca("Ed CA", root(), LONG_AGO, FAR_OFF, key=key("Ed CA", "Ed25519"))
P521 = issue_ca("P-521 CA", root(), LONG_AGO, FAR_OFF, key=key("P-521 CA", "P-521"))
SECOND = DAY / 86_400
ANY_PURPOSE_CA = issue_ca("Any CA", root(), LONG_AGO, FAR_OFF, key=key("Any CA"), purposes=[ANY])


def issuing(title, *extra):
    return issue_ca(title, root(), LONG_AGO, FAR_OFF, key=key(title), extra=[(each, True) for each in extra])


def deep(count):
    """A certificate below so many intermediates, in the order of sending."""
    chain = [root()]
    for number in range(count):
        title = f"Depth {number}"
        chain.insert(0, issue_ca(title, chain[0], LONG_AGO, FAR_OFF, key=key(title)))
    return server(issuer=chain[0]), *chain[:-1]


WITH_POLICY = issuing("Policy CA", x509.PolicyConstraints(0, None))
EXCLUDING = issuing("Excluding CA", x509.NameConstraints(None, [x509.DNSName(f".other.{APEX}")]))
MANY_NAMES = issuing("Wide CA", x509.NameConstraints(None, [x509.DNSName(f"b{n}.example") for n in range(600)]))
STAPLE_DEMANDED = (x509.TLSFeature([x509.TLSFeatureType.status_request]), False)


def stapled(**options):
    of = server(**({"extra": [STAPLE_DEMANDED]} if options.pop("must", False) else {}))
    response = ocsp_response(of, **options) if options else None
    return at(of, answer=msgspec.structs.replace(handshake(of, intermediate()), staple=response))


LARGE = server()
CERTIFICATES = {
    "good": at(server()),
    "p-521": at(server(kind="P-521")),
    "ed25519": at(server(kind="Ed25519")),
    "p-521-issuer": at(server(issuer=P521), P521),
    "ed25519-issuer": at(server(issuer=ISSUER), ISSUER),
    "rsa-for-keys-alone": at(server(kind="RSA 2048", extra=[usage("key_encipherment", "data_encipherment")])),
    "ec-for-agreement-alone": at(server(extra=[usage("key_agreement")])),
    "any-purpose": at(server(purposes=[ANY])),
    "any-purpose-and-servers": at(server(purposes=[ANY, ExtendedKeyUsageOID.SERVER_AUTH])),
    "a-ca-as-server": at(server(extra=[(x509.BasicConstraints(True, None), True)])),
    "no-subject": at(server(common_name="")),
    "no-subject-critical": at(server(common_name="", names_critical=True)),
    "extension-twice": at(remade(server(), intermediate(), extension("2.5.29.19", b"\x30\x00"), extension("2.5.29.19", b"\x30\x00"))),
    "odd-boolean": at(remade(server(), intermediate(), extension("2.5.29.19", b"\x30\x03\x01\x01\x01"))),
    "unreadable-crl-points": at(remade(server(), intermediate(), extension("2.5.29.31", b"\x30\x05\x01"))),
    "unreadable-features": at(remade(server(), intermediate(), extension("1.3.6.1.5.5.7.1.24", b"\x30\x03\x02\x05\x05"))),
    "dotted-name": at(server(f"{HOST}.")),
    "suffix-wildcard": at(server("*.co.uk"), host="marram.co.uk"),
    "private-suffix-wildcard": at(server("*.github.io"), host="marram.github.io"),
    "unknown-suffix-wildcard": at(server("*.test"), host="marram.test"),
    "www-alone": at(server(f"www.{APEX}"), host=APEX, names=[name(APEX), name(f"www.{APEX}")], way=f"https://{HOST}/"),
    "staple-good": stapled(status=x509_ocsp.OCSPCertStatus.GOOD),
    "staple-unknown": stapled(status=x509_ocsp.OCSPCertStatus.UNKNOWN),
    "staple-ahead": stapled(this_update=NOW + DAY + SECOND, next_update=NOW + 3 * DAY),
    "staple-ahead-by-a-day": stapled(this_update=NOW + DAY, next_update=NOW + 3 * DAY),
    "staple-expired": stapled(next_update=NOW - DAY - SECOND),
    "staple-expired-for-a-day": stapled(next_update=NOW - DAY),
    "any-purpose-issuer": at(server(issuer=ANY_PURPOSE_CA), ANY_PURPOSE_CA),
    "six-intermediates": at(*deep(6)),
    "seven-intermediates": at(*deep(7)),
    "policy-demanded": at(server(issuer=WITH_POLICY), WITH_POLICY),
    "critical-nocheck": at(server(extra=[(x509.OCSPNoCheck(), True)])),
    "excluded-with-a-dot": at(server(f"*.{APEX}", issuer=EXCLUDING), EXCLUDING, host=HOST),
    "names-that-were-not-held": at(server(*(f"n{n}.{APEX}" for n in range(600)), HOST, issuer=MANY_NAMES), MANY_NAMES),
    "staple-demanded": stapled(must=True),
    "too-large": at(LARGE, answer=msgspec.structs.replace(handshake(LARGE, intermediate()), certificate_octets=102_401)),
    "as-large-as-can-be": at(LARGE, answer=msgspec.structs.replace(handshake(LARGE, intermediate()), certificate_octets=102_400)),
}  # fmt: skip
RULES = (
    predicted,
    chain.not_for_servers, chain.key_usage, chain.too_large, chain_keys.unusual_key, chain_keys.malformed,
    chain_status.staple_broken, chain_status.staple_missing, name_rules.not_covered, name_rules.sibling_not_covered,
)  # fmt: skip

# Anchors that were given


def below(*anchors, **options):
    """A chain under a root with this fault, or under the last of these anchors; the roots are given."""
    given = issue_ca(
        "Given", None, options.pop("begins", LONG_AGO), options.pop("ends", FAR_OFF), key=key("Given"), **options
    )
    issuing = issue_ca("Issuing", given, LONG_AGO, FAR_OFF, key=key("Issuing"))
    lower = issue_ca("Lower", issuing, LONG_AGO, FAR_OFF, key=key("Lower"))
    anchors = anchors or (given,)
    looked = at(server(issuer=lower), lower, issuing, given_trust=tuple(map(fingerprint, anchors)))
    evidence = msgspec.structs.replace(looked.evidence, certificates=(*looked.evidence.certificates, *stored(*anchors)))
    return Case(evidence, looked.terms, looked.at, ())


ANCHORS = {
    "good": {}, "expired": {"ends": NOW - DAY}, "ahead": {"begins": NOW + DAY}, "no-ca": {"is_ca": False},
    "no-cert-sign": {"key_cert_sign": False}, "for-mail": {"purposes": [ExtendedKeyUsageOID.EMAIL_PROTECTION]}, "too-short": {"path_length": 1},
    "long-enough": {"path_length": 2}, "bare": {"has_basic_constraints": False},
    "critical": {"extra": [(x509.UnrecognizedExtension(x509.ObjectIdentifier("1.2.3.4"), b"\x05\x00"), True)]},
}  # fmt: skip


OLD_GIVEN, NEW_GIVEN = (issue_ca("Given", None, LONG_AGO, end, key=key("Given")) for end in (NOW - DAY, FAR_OFF))
"""A root that was issued anew with its old key: the old one, out of date, does not stop anybody."""


# Missing issuers that cannot be fetched


STRANGER_ROOT = issue_ca("Stranger Root", None, LONG_AGO, FAR_OFF, key=key("Stranger Root"))
STRANGER = issue_ca("Stranger Issuing CA 7", STRANGER_ROOT, LONG_AGO, FAR_OFF, key=key("Stranger"))
BY_STRANGER = server(issuer=STRANGER)


# What a browser's own hello showed


def spoken(*hellos, versions=(0x0304, 0x0303), suites=(0xC02B,), groups=(0x001D,), tries=()):
    return Spoken(
        versions=tuple(VersionSeen(each, VersionOutcome.ACCEPTED) for each in versions),
        suites=(SuitesSeen(0x0303, suites, "server", 390),),
        groups=(GroupsSeen(0x0303, groups, Order.ONE, 25),),
        browsers=hellos,
        tries=tries,
    )


TAKEN = (
    BrowserHello("Chromium", Seen(True), 0x0304, 0x1301, 0x001D),
    BrowserHello("Firefox", Seen(True), 0x0304, 0x1301, 0x001D),
)
REFUSED = BrowserHello("Chromium", Seen(False), how="alert handshake_failure")
REFUSED_TOO = BrowserHello("Firefox", Seen(False), how="alert handshake_failure")
HELLOS = {
    "taken": spoken(*TAKEN),
    "no-suite": spoken(REFUSED, REFUSED_TOO, versions=(0x0303,), suites=(0xC024,)),
    "no-group": spoken(REFUSED, REFUSED_TOO, versions=(0x0303,), groups=(0x0019,)),
    "one-browser": spoken(REFUSED, TAKEN[1], versions=(0x0303,), suites=(0xC00A,)),
    "for-its-size": spoken(
        msgspec.structs.replace(REFUSED, how="closed", minds="its size, with a post-quantum key share"), TAKEN[1]
    ),
    "in-common-all-the-same": spoken(REFUSED, TAKEN[1], versions=(0x0303,)),
    "not-seen": spoken(BrowserHello("Chromium", Unseen("late"))),
    "not-asked": spoken(),
}


FEATURE = protocols.Feature(protocols.GREASE_TOLERANCE, Seen(True))
TOLERANT = at(server(), protocol=msgspec.structs.replace(spoken(), features=(FEATURE,)))
MINDING = case(endpoints=[msgspec.structs.replace(TOLERANT.endpoints[0], minds=(5,))])


# Reach: who is let in, and how steadily


def unsteady(at_hellos=(), at_requests=()):
    looked = msgspec.structs.replace(endpoint(handshake()), tries=at_hellos)
    return case(msgspec.structs.replace(journey(hop(HTTPS)), tries=at_requests), endpoints=[looked])


def asked(again, otherwise=""):
    return case(msgspec.structs.replace(journey(hop(HTTPS)), asked_again=again, answered_otherwise=otherwise))


WANTS = msgspec.structs.replace(handshake(), wants_client_certificate=True)
DEMANDED = "the server demands a client certificate (alert certificate_required)"


def demanding(answer, way):
    return case(way, endpoints=[endpoint(answer)])


# Redirects


FOREIGN, GOOD = leaf(OTHER, left=-4), leaf(OTHER)
SENT_BY_OTHER = [endpoint(handshake(each, intermediate()), host=OTHER) for each in (FOREIGN, GOOD)]


def lands(issued):
    way = journey(HTTPS, hop(f"https://{OTHER}/", issued=issued))
    return case(way, endpoints=SENT_BY_OTHER, certificates=stored(issued))


def moves(start, how, to, certain=True):
    of = shown(start, moves=(Move(MoveKind(how), to, certain),))
    onward = msgspec.structs.replace(journey(hop(to)), reason=WayIn.MOVED)
    return case(journey(hop(start, page=of.sha256)), onward, pages=(of,), endpoints=[endpoint(handshake())])


def circle(*urls):
    hops = [hop(url, 302) for url in urls]
    return case(journey(*hops, end=Stopped(urls[0], StopCause.LOOP, "")))


ENDS = {
    "error": journey(hop(HTTPS, 503)),
    "plain-error": journey(hop(HTTP, 404)),
    "body-that-does-not-unpack": journey(
        hop(HTTPS, body_fault="Content-Encoding is gzip, and the body does not unpack")
    ),
    "too-many": journey(
        *(hop(f"{HTTPS}{n}", 302) for n in range(21)), end=Stopped(f"{HTTPS}21", StopCause.TOO_MANY_HOPS, "")
    ),
    "mail": journey(hop(HTTPS, 302), end=Stopped(HTTPS, StopCause.BAD_LOCATION, "its scheme is 'mailto'", "mailto:x")),
    "empty-location": journey(hop(HTTPS, 301, ("Location", ""))),
    "port-80-refused": stopped(HTTP, StopCause.NO_CONNECTION),
}
# Versions that are named


def names(*fields, versions=()):
    of = Page(f"{HTTPS}gone", "a" * 64, 10, versions=versions)
    way = journey(hop(f"{HTTPS}gone", 404, *fields, page=of.sha256), reason="absent")
    return case(way, pages=(of,))


CASES = {
    RULES: CERTIFICATES,
    (chain.anchor_refused, chain.untrusted, predicted): {
        **{fault: below(**options) for fault, options in ANCHORS.items()},
        "old-and-new": below(OLD_GIVEN, NEW_GIVEN),
        "new-and-old": below(NEW_GIVEN, OLD_GIVEN),
    },
    (chain.incomplete, chain.untrusted): {
        "an-intermediate-by-its-address": at(server(issuer=STRANGER, ca_issuers="http://ca.example/7"), BY_STRANGER),
        "not-known": at(BY_STRANGER, BY_STRANGER),
        "an-unknown-root": at(BY_STRANGER, STRANGER, STRANGER_ROOT),
    },
    (protocol_suites.nothing_in_common, predicted): {
        title: at(server(), protocol=spoken) for title, spoken in HELLOS.items()
    },
    protocol_suites.intolerant: {"tolerant": TOLERANT, "minds-an-extension": MINDING},
    reach.unsteady: {
        "holds": unsteady(),
        "hello": unsteady((Tries("the hello for TLS 1.3 and TLS 1.2", 3, 1),)),
        "request": unsteady((), (Tries(HTTPS, 2, 1),)),
        "of-many-the-first-three": unsteady(tuple(Tries(f"hello {n}", 3, 2) for n in "1234")),
        "never-is-another-rule": unsteady((Tries("the hello", 3, 0),)),
    },
    reach.asks_who: {"not-asked": asked(False), "the-same": asked(True), "gap": asked(True, f"403 at {HTTPS}")},
    reach.sloppy_answer: {
        "holds": case(journey(hop(HTTPS))),
        "gap": case(journey(hop(HTTPS, oddities=("lines that end in LF alone", "a blank before the colon of Server")))),
    },
    (reach.client_certificate, redirect_ends.broken_target, predicted): {
        "not-asked-for": demanding(handshake(), journey(hop(HTTPS))),
        "asked-for-and-not-needed": demanding(WANTS, journey(hop(HTTPS))),
        "refused-in-tls": demanding(WANTS, stopped(HTTPS, StopCause.NO_TLS, DEMANDED)),
        "refused-by-status": demanding(WANTS, journey(hop(HTTPS, 400))),
        "not-seen": demanding(Unseen("late"), stopped(HTTPS, StopCause.NO_TLS, "x")),
    },
    redirect_ends.lands_behind_warning: {
        "gap": lands(FOREIGN),
        "holds": lands(GOOD),
        "no-redirect": case(journey(HTTPS)),
    },
    (redirect.downgrade, redirect.by_page, predicted): {
        "refresh-down": moves(HTTPS, "meta refresh", HTTP),
        "script-down": moves(HTTPS, "script", HTTP),
        "script-perhaps": moves(HTTPS, "script", HTTP, certain=False),
        "refresh-up": moves(HTTP, "meta refresh", HTTPS),
        "within-https": moves(HTTPS, "meta refresh", f"{HTTPS}a"),
        "refresh-field": case(journey(hop(HTTPS, 200, ("Refresh", f"0; url={HTTP}")))),
    },
    redirect_ends.loop: {
        "https-and-http": circle(HTTPS, HTTP),
        "https-alone": circle(HTTPS),
        "http-alone": circle(HTTP),
        "two-hosts": circle(HTTPS, f"https://{APEX}/"),
    },
    (redirect_ends.broken_target, redirect_ends.loop, predicted): {
        title: case(way, *([] if way.hops else [journey(hop(HTTPS))]), endpoints=[endpoint(handshake())])
        for title, way in ENDS.items()
    },
    (page.names_version, page.debug_output): {
        "holds": names(("Server", "nginx")),
        "fields": names(("Server", "nginx/1.22.1"), ("X-Powered-By", "PHP/8.2.1")),
        "error-page": names(versions=("nginx/1.22.1",)),
    },
}


@table(CASES)
def test_rule(told, rule, looked):
    told(outcomes(rule, looked))


def test_where_visitors_land():
    assert lands(FOREIGN).canonical == f"https://{HOST}", "a foreign host is never the canonical one"
    for start, how, to, certain in ((HTTPS, "script", HTTP, True), (HTTPS, "script", HTTP, False)):
        (only,) = predict_visits(moves(start, how, to, certain))
        assert only.lands == (to if certain else start)


@pytest.mark.parametrize("order", [(OLD_GIVEN, NEW_GIVEN), (NEW_GIVEN, OLD_GIVEN)])
def test_every_anchor_of_one_name_and_key_is_tried(order):
    (found,) = below(*order).chains
    assert (chain.path_problem(found), found.assessment.best.anchor) == ("", parsed(NEW_GIVEN))
