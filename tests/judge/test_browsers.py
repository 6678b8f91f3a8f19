"""What current browsers object to, and the rules that follow the stricter of them."""

import msgspec
import pytest
from cryptography import x509
from cryptography.x509 import ocsp as x509_ocsp
from cryptography.x509.oid import ExtendedKeyUsageOID

from pewter.evidence import (
    BrowserHello,
    GroupsSeen,
    Page,
    Seen,
    StopCause,
    Stopped,
    SuitesSeen,
    Tries,
    Unseen,
    VersionSeen,
    protocols,
)
from pewter.evidence import Protocol as Spoken
from pewter.judge import chain, chain_keys, chain_status, page, protocol_suites, reach, redirect
from pewter.judge import name as name_rules
from pewter.judge.case import Case
from pewter.judge.visits import predict_visits
from pewter.lab.authority import DAY, issue_ca, issue_server
from support.cases import case, endpoint, fingerprint, handshake, hop, journey, name, outcomes, stopped, stored
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


def visit(looked: Case) -> str:
    first = predict_visits(looked)[0]
    return f"{first.meets.value}: {first.detail}" if first.detail else first.meets.value


ISSUER = issue_ca("Ed CA", root(), LONG_AGO, FAR_OFF, key=key("Ed CA", "Ed25519"))
P521 = issue_ca("P-521 CA", root(), LONG_AGO, FAR_OFF, key=key("P-521 CA", "P-521"))
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
    "staple-ahead": stapled(this_update=NOW + DAY, next_update=NOW + 3 * DAY),
    "staple-expired": stapled(next_update=NOW - DAY / 2),
    "staple-demanded": stapled(must=True),
    "too-large": at(LARGE, answer=msgspec.structs.replace(handshake(LARGE, intermediate()), certificate_octets=102_401)),
    "as-large-as-can-be": at(LARGE, answer=msgspec.structs.replace(handshake(LARGE, intermediate()), certificate_octets=102_400)),
}  # fmt: skip
RULES = (
    chain.not_for_servers, chain.key_usage, chain.too_large, chain_keys.unusual_key, chain_keys.malformed,
    chain_status.staple_broken, chain_status.staple_missing, name_rules.not_covered, name_rules.sibling_not_covered,
)  # fmt: skip

PREDICTED = {
    "good": "opens",
    "p-521": "opens in some browsers only: not in Chromium: the certificate has an EC P-521 key",
    "ed25519": "cannot connect: the certificate has an Ed25519 key",
    "p-521-issuer": "opens",
    "ed25519-issuer": "warning: not trusted: Ed CA has an Ed25519 key",
    "ec-for-agreement-alone": "opens in some browsers only: not in Chromium: keyUsage allows keyAgreement, and not digitalSignature",
    "rsa-for-keys-alone": "opens in some browsers only: not in Chromium: keyUsage allows keyEncipherment, dataEncipherment, and not digitalSignature",
    "any-purpose-and-servers": "opens",
    "no-subject-critical": "opens",
    "unreadable-crl-points": "opens",
    "unreadable-features": "opens",
    "dotted-name": f"opens in some browsers only: not in Firefox: '{HOST}.' ends in a dot",
    "suffix-wildcard": "opens in some browsers only: not in Chromium: *.co.uk is a wildcard directly under the suffix of a registry",
    "private-suffix-wildcard": "opens",
    "unknown-suffix-wildcard": "warning: wrong name: covers *.test",
    "www-alone": f"opens in some browsers only: not in Chromium: the certificate is for {HOST} alone",
    "staple-good": "opens",
    "staple-expired": "opens in some browsers only: not in Firefox: the stapled response is out of date",
    "as-large-as-can-be": "opens",
}


@pytest.mark.parametrize("title", CERTIFICATES)
def test_certificates(told, title):
    """Each rule that has something to say, in whole outcomes."""
    for rule in RULES:
        told(outcomes(rule, CERTIFICATES[title]))


@pytest.mark.parametrize("title", PREDICTED)
def test_what_a_visitor_meets(title):
    assert visit(CERTIFICATES[title]) == PREDICTED[title]


# Anchors that were given


def below(**options):
    """A chain under a root with this fault; the root is given."""
    given = issue_ca(
        "Given", None, options.pop("begins", LONG_AGO), options.pop("ends", FAR_OFF), key=key("Given"), **options
    )
    issuing = issue_ca("Issuing", given, LONG_AGO, FAR_OFF, key=key("Issuing"))
    lower = issue_ca("Lower", issuing, LONG_AGO, FAR_OFF, key=key("Lower"))
    return at(server(issuer=lower), lower, issuing, given_trust=(fingerprint(given),)), given


ANCHORS = {
    "good": {}, "expired": {"ends": NOW - DAY}, "ahead": {"begins": NOW + DAY}, "no-ca": {"is_ca": False},
    "no-cert-sign": {"key_cert_sign": False}, "for-mail": {"purposes": [ExtendedKeyUsageOID.EMAIL_PROTECTION]}, "too-short": {"path_length": 1},
    "long-enough": {"path_length": 2}, "bare": {"has_basic_constraints": False},
    "critical": {"extra": [(x509.UnrecognizedExtension(x509.ObjectIdentifier("1.2.3.4"), b"\x05\x00"), True)]},
}  # fmt: skip


@pytest.mark.parametrize("fault", ANCHORS)
def test_anchors_are_examined(told, fault):
    looked, given = below(**ANCHORS[fault])
    looked.evidence = msgspec.structs.replace(
        looked.evidence, certificates=(*looked.evidence.certificates, *stored(given))
    )
    again = Case(looked.evidence, looked.wishes, looked.at, ())
    told(outcomes(chain.anchor_refused, again))
    told(outcomes(chain.untrusted, again))


def test_every_anchor_of_one_name_and_key_is_tried():
    """A root that was issued anew with its old key: the old one, out of date, does not stop anybody."""
    old, new = (issue_ca("Given", None, LONG_AGO, end, key=key("Given")) for end in (NOW - DAY, FAR_OFF))
    of = server(issuer=new)
    for order in ((old, new), (new, old)):
        looked = at(of, new, given_trust=tuple(map(fingerprint, order)))
        evidence = msgspec.structs.replace(
            looked.evidence, certificates=(*looked.evidence.certificates, *stored(*order))
        )
        again = Case(evidence, looked.wishes, looked.at, ())
        assert chain.path_problem(again.chains[0]) == ""
        assert again.chains[0].assessment.best.anchor == parsed(new)


# Missing issuers that cannot be fetched


def test_a_missing_issuer_is_an_intermediate_where_the_certificate_says_so(told):
    stranger_root = issue_ca("Stranger Root", None, LONG_AGO, FAR_OFF, key=key("Stranger Root"))
    stranger = issue_ca("Stranger Issuing CA 7", stranger_root, LONG_AGO, FAR_OFF, key=key("Stranger"))
    public = at(server(issuer=stranger, ca_issuers="http://ca.example/7"), server(issuer=stranger))
    private = at(server(issuer=stranger), server(issuer=stranger))
    rooted = at(server(issuer=stranger), stranger, stranger_root)
    for looked in (public, private, rooted):
        told(outcomes(chain.incomplete, looked))
        told(outcomes(chain.untrusted, looked))


# What a browser's own hello showed


def spoken(*hellos, versions=(0x0304, 0x0303), suites=(0xC02B,), groups=(0x001D,), tries=()):
    return Spoken(
        versions=tuple(VersionSeen(each, "accepted") for each in versions),
        suites=(SuitesSeen(0x0303, suites, "server", 390),),
        groups=(GroupsSeen(0x0303, groups, "one", 25),),
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


@pytest.mark.parametrize("title", HELLOS)
def test_nothing_in_common(told, title):
    looked = at(server(), protocol=HELLOS[title])
    told(outcomes(protocol_suites.nothing_in_common, looked))


@pytest.mark.parametrize(
    ("title", "meets"),
    [
        ("taken", "opens"),
        ("no-suite", "cannot connect: the server refuses its hello (alert handshake_failure): nothing in common"),
        ("one-browser", "opens in some browsers only: not in Chromium: the server refuses its hello (alert handshake_failure): nothing in common"),
        ("for-its-size", "opens in some browsers only: not in Chromium: the server ends its hello for its size, with a post-quantum key share"),
        ("not-seen", "opens"),
    ],
)  # fmt: skip
def test_a_refused_hello_decides_what_is_met(title, meets):
    assert visit(at(server(), protocol=HELLOS[title])) == meets


def test_intolerance_names_the_extension_that_is_minded(told):
    feature = protocols.Feature(protocols.GREASE_TOLERANCE, Seen(True))
    looked = at(server(), protocol=msgspec.structs.replace(spoken(), features=(feature,)))
    minding = msgspec.structs.replace(looked.endpoints[0], minds=(5,))
    told(outcomes(protocol_suites.intolerant, looked))
    told(outcomes(protocol_suites.intolerant, case(endpoints=[minding])))


# Reach: who is let in, and how steadily


@pytest.mark.parametrize(
    ("endpoint_tries", "request_tries"),
    [
        pytest.param((), (), id="holds"),
        pytest.param((Tries("the hello for TLS 1.3 and TLS 1.2", 3, 1),), (), id="hello"),
        pytest.param((), (Tries(HTTPS, 2, 1),), id="request"),
        pytest.param((Tries("the hello", 3, 0),), (), id="never-is-another-rule"),
    ],
)
def test_unsteady(told, endpoint_tries, request_tries):
    looked = msgspec.structs.replace(endpoint(handshake()), tries=endpoint_tries)
    way = msgspec.structs.replace(journey(hop(HTTPS)), tries=request_tries)
    told(outcomes(reach.unsteady, case(way, endpoints=[looked])))


@pytest.mark.parametrize(
    ("asked", "otherwise"),
    [
        pytest.param(False, "", id="not-asked"),
        pytest.param(True, "", id="the-same"),
        pytest.param(True, f"403 at {HTTPS}", id="gap"),
    ],
)
def test_asks_who(told, asked, otherwise):
    way = msgspec.structs.replace(journey(hop(HTTPS)), asked_again=asked, answered_otherwise=otherwise)
    told(outcomes(reach.asks_who, case(way)))


@pytest.mark.parametrize(
    "oddities", [(), ("lines that end in LF alone", "a blank before the colon of Server")], ids=["holds", "gap"]
)
def test_sloppy_answer(told, oddities):
    told(outcomes(reach.sloppy_answer, case(journey(hop(HTTPS, oddities=oddities)))))


WANTS = msgspec.structs.replace(handshake(), wants_client_certificate=True)
DEMANDED = "the server demands a client certificate (alert certificate_required)"


@pytest.mark.parametrize(
    ("answer", "way"),
    [
        pytest.param(handshake(), journey(hop(HTTPS)), id="not-asked-for"),
        pytest.param(WANTS, journey(hop(HTTPS)), id="asked-for-and-not-needed"),
        pytest.param(WANTS, stopped(HTTPS, StopCause.NO_TLS, DEMANDED), id="refused-in-tls"),
        pytest.param(WANTS, journey(hop(HTTPS, 400)), id="refused-by-status"),
        pytest.param(Unseen("late"), stopped(HTTPS, StopCause.NO_TLS, "x"), id="not-seen"),
    ],
)
def test_client_certificate(told, answer, way):
    looked = case(way, endpoints=[endpoint(answer)])
    told(outcomes(reach.client_certificate, looked))
    told(outcomes(redirect.broken_target, looked))
    told([])
    assert visit(looked) != "opens" or way.hops


# Redirects


def test_lands_behind_warning(told):
    stranger = leaf(OTHER, left=-4)
    bad = journey(HTTPS, hop(f"https://{OTHER}/", issued=stranger))
    good = journey(HTTPS, hop(f"https://{OTHER}/", issued=leaf(OTHER)))
    sent = [endpoint(handshake(each, intermediate()), host=OTHER) for each in (stranger, leaf(OTHER))]
    told(outcomes(redirect.lands_behind_warning, case(bad, endpoints=sent, certificates=stored(stranger))))
    told(outcomes(redirect.lands_behind_warning, case(good, endpoints=sent, certificates=stored(leaf(OTHER)))))
    told(outcomes(redirect.lands_behind_warning, case(journey(HTTPS))))
    assert case(bad).canonical == f"https://{HOST}", "a foreign host is never the canonical one"


def moving(url, *moves):
    of = shown(url, moves=moves)
    return journey(hop(url, page=of.sha256)), of


@pytest.mark.parametrize(
    ("start", "how", "to", "certain"),
    [
        pytest.param(HTTPS, "meta refresh", HTTP, True, id="refresh-down"),
        pytest.param(HTTPS, "script", HTTP, True, id="script-down"),
        pytest.param(HTTPS, "script", HTTP, False, id="script-perhaps"),
        pytest.param(HTTP, "meta refresh", HTTPS, True, id="refresh-up"),
        pytest.param(HTTPS, "meta refresh", f"{HTTPS}a", True, id="within-https"),
    ],
)
def test_pages_that_move_on(told, start, how, to, certain):
    from pewter.evidence import Move

    way, of = moving(start, Move(how, to, certain))
    onward = msgspec.structs.replace(journey(hop(to)), reason="moved")
    looked = case(way, onward, pages=(of,), endpoints=[endpoint(handshake())])
    told(outcomes(redirect.downgrade, looked))
    told(outcomes(redirect.by_page, looked))
    assert len(predict_visits(looked)) == 1
    lands = predict_visits(looked)[0].lands
    assert lands == (to if certain else start)


def test_the_refresh_field_moves_like_a_page(told):
    way = journey(hop(HTTPS, 200, ("Refresh", f"0; url={HTTP}")))
    told(outcomes(redirect.downgrade, case(way)))


CIRCLES = {
    "https-and-http": [HTTPS, HTTP],
    "https-alone": [HTTPS],
    "http-alone": [HTTP],
    "two-hosts": [HTTPS, f"https://{APEX}/"],
}


@pytest.mark.parametrize("title", CIRCLES)
def test_a_circle_is_explained_by_what_was_seen(told, title):
    hops = [hop(url, 302) for url in CIRCLES[title]]
    told(outcomes(redirect.loop, case(journey(*hops, end=Stopped(CIRCLES[title][0], StopCause.LOOP, "")))))


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
MEETS = {
    "error": "shows an error page: 503",
    "plain-error": "shows an error page: 404, unencrypted",
    "body-that-does-not-unpack": "cannot connect: Content-Encoding is gzip, and the body does not unpack",
    "too-many": "cannot connect: too many redirects: 21 and no page; browsers give up after 20",
    "mail": "cannot connect: its scheme is 'mailto'",
    "empty-location": "opens in some browsers only: not in Firefox: it takes an empty Location for the page itself",
    "port-80-refused": "opens in some browsers only: not in Chromium: the connection was refused",
}


@pytest.mark.parametrize("title", ENDS)
def test_ends_of_journeys(told, title):
    looked = case(
        ENDS[title], *([journey(hop(HTTPS))] if title == "port-80-refused" else []), endpoints=[endpoint(handshake())]
    )
    told(outcomes(redirect.broken_target, looked))
    told(outcomes(redirect.loop, looked))
    assert visit(looked) == MEETS[title]


# Versions that are named


@pytest.mark.parametrize(
    ("fields", "versions"),
    [
        pytest.param([("Server", "nginx")], (), id="holds"),
        pytest.param([("Server", "nginx/1.22.1"), ("X-Powered-By", "PHP/8.2.1")], (), id="fields"),
        pytest.param([], ("nginx/1.22.1",), id="error-page"),
    ],
)
def test_names_version(told, fields, versions):
    of = Page(f"{HTTPS}gone", "a" * 64, 10, versions=versions)
    way = journey(hop(f"{HTTPS}gone", 404, *fields, page=of.sha256), reason="absent")
    told(outcomes(page.names_version, case(way, pages=(of,))))
    told(outcomes(page.debug_output, case(way, pages=(of,))))
