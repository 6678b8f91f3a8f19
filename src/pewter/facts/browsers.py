"""What current browsers object to in an https hop: in the handshake, in the chain, in the certificate.

Two browsers are told apart, as they were measured (docs/browser-agreement.md).  What one of them refuses breaks the
site for its users, so a rule's level follows the stricter of the two.
"""

import enum
import itertools
from collections.abc import Iterator, Sequence

import msgspec

from pewter.evidence import BrowserHello, Endpoint, Handshake, Hop, Seen
from pewter.phrases import some
from pewter.pki import (
    MUST_STAPLE,
    Certificate,
    FaultKind,
    KeyFacts,
    MalformedCertificate,
    Path,
    PathFault,
    StatusKind,
    StatusVerdict,
    covers,
    form_faults,
    presented_names,
)
from pewter.pki.extensions import DIGITAL_SIGNATURE, KEY_ENCIPHERMENT
from pewter.pki.identifiers import ANY_EXTENDED_KEY_USAGE, SERVER_AUTH
from pewter.pki.identity import matches
from pewter.pki.life import life_of
from pewter.tls import Version
from pewter.tls.suites import table
from pewter.web.redirects import next_url
from pewter.web.sites import are_siblings
from pewter.web.suffixes import is_registry_suffix
from pewter.web.urls import InvalidUrl, Url, read_url

from .case import Case, accepted_versions
from .chains import Chain, HasChains
from .lives import excess_of_life
from .logs import count_logs
from .revocation import staples_of


class Browser(enum.Enum):
    """By name, as a report gives it."""

    CHROMIUM = "Chromium"
    FIREFOX = "Firefox"


BOTH = frozenset(Browser)
CHROMIUM, FIREFOX = frozenset({Browser.CHROMIUM}), frozenset({Browser.FIREFOX})

LONGEST_CERTIFICATE_MESSAGE = 100 << 10
"""Octets; OpenSSL's clients stop there too."""


class Prediction(enum.Enum):
    """What a visitor meets, in the words of a report."""

    OPENS = "opens"
    PARTS_BLOCKED = "opens, parts blocked"
    IN_SOME = "opens in some browsers only"
    ERROR_PAGE = "shows an error page"
    NOT_TRUSTED = "warning: not trusted"
    WRONG_NAME = "warning: wrong name"
    OUT_OF_DATE = "warning: date"
    REVOKED = "warning: revoked"
    CANNOT_CONNECT = "cannot connect"
    OLD_PROTOCOL = "old protocol refused"
    CIRCLES = "goes round in circles"
    UNENCRYPTED = "stays unencrypted"
    UNKNOWN = "not known"

    @property
    def is_good(self) -> bool:
        return self is Prediction.OPENS

    @property
    def shows_page(self) -> bool:
        """The visitor gets to see the site's page, over https."""
        return self in {Prediction.OPENS, Prediction.PARTS_BLOCKED}


_DATE_FAULTS = frozenset({FaultKind.EXPIRED_ISSUER, FaultKind.ISSUER_NOT_YET_VALID, FaultKind.ANCHOR_OUT_OF_DATE})
"""An issuer out of date is shown as a warning of the date, as Chromium does."""


class Objection(msgspec.Struct, frozen=True):
    """One reason for which browsers do not show a page."""

    browsers: frozenset[Browser]
    prediction: Prediction
    words: str


def objections(case: Case, hop: Hop, *, is_typed: bool = False) -> tuple[Objection, ...]:
    """Everything that stops a browser at an https hop, in the order in which one hides the other.

    ``is_typed``: the hop's own URL was typed, so that a browser may correct it.
    """
    host = read_url(hop.url).host
    what = ("objections", host, hop.address, hop.certificate, is_typed)
    return case.once(what, lambda: tuple(_objections(case, hop, host, is_typed=is_typed)))


def _objections(case: Case, hop: Hop, host: str, *, is_typed: bool) -> Iterator[Objection]:
    if hop.certificate is None:
        return
    leaf = case.chains.certificate(hop.certificate)
    if not isinstance(leaf, Certificate):
        yield Objection(BOTH, Prediction.NOT_TRUSTED, f"the certificate cannot be read: {leaf.reason}")
        return
    endpoint = _endpoint_of(case, host, hop.address)
    if endpoint is not None:
        yield from _of_handshake(case, endpoint, leaf)
    chain = _chain_of(case, hop)
    yield from _of_key(leaf, uses_static_rsa(endpoint.handshakes if endpoint is not None else ()))
    assessment = case.chains.assess(chain, by_aia_alone=True)
    if assessment is None:
        yield Objection(BOTH, Prediction.NOT_TRUSTED, "no path")
        return
    for issuer, refusing in _issuers_with_refused_keys(assessment.best):
        yield Objection(refusing, Prediction.NOT_TRUSTED, f"{issuer.title} has {with_article(str(issuer.key))} key")
    faults = assessment.best.faults
    undated = [fault for fault in faults if fault.kind not in _DATE_FAULTS]
    if undated and {fault.kind for fault in undated} == {FaultKind.WORK_LIMIT} and assessment.best.anchor is not None:
        yield Objection(BOTH, Prediction.UNKNOWN, undated[0].detail)
    else:
        for opens_in, of in itertools.groupby(sorted(undated, key=_opens_in), key=_opens_in):
            refusing = BOTH - {Browser(opens_in)} if opens_in else BOTH
            yield Objection(refusing, Prediction.NOT_TRUSTED, next(of).detail)
    yield from _of_path(assessment.best)
    if words := bare_anchor(case, assessment.best):
        yield Objection(FIREFOX, Prediction.NOT_TRUSTED, words)
    if assessment.helped is not None:
        yield Objection(FIREFOX, Prediction.NOT_TRUSTED, "it does not fetch the missing certificate")
    yield from _of_form(leaf)
    served = _served(case, endpoint, chain)
    if served is not None:
        yield from _of_status(case, served)
    yield from _of_name(case, leaf, host, is_typed=is_typed)
    if faults and not undated:
        yield Objection(BOTH, Prediction.OUT_OF_DATE, faults[0].detail)
    life = life_of(leaf)
    if life.is_over(case.at):
        yield Objection(BOTH, Prediction.OUT_OF_DATE, f"ended {life.not_after:%Y-%m-%d}")
    if life.is_ahead(case.at):
        yield Objection(BOTH, Prediction.OUT_OF_DATE, f"begins {life.not_before:%Y-%m-%d}")


# The handshake


def _of_handshake(case: Case, endpoint: Endpoint, leaf: Certificate) -> Iterator[Objection]:
    accepted = accepted_versions(endpoint)
    if accepted and max(accepted) < Version.TLS_1_2:
        yield Objection(BOTH, Prediction.OLD_PROTOCOL, "nothing newer than TLS 1.1")
        return
    longest = max((each.certificate_octets for each in endpoint.handshakes), default=0)
    if longest > LONGEST_CERTIFICATE_MESSAGE:
        words = f"the certificates take {longest:,} octets; browsers stop at {LONGEST_CERTIFICATE_MESSAGE:,}"
        yield Objection(BOTH, Prediction.CANNOT_CONNECT, words)
    for browser in Browser:
        words = why_hello_refused(endpoint, browser)
        if words and browser not in browsers_refusing_key(leaf.key):
            yield Objection(frozenset({browser}), Prediction.CANNOT_CONNECT, words)


def _hello_of(endpoint: Endpoint, browser: Browser) -> BrowserHello | None:
    """What came of a hello with just what the browser offers."""
    hellos = endpoint.protocol.browsers if endpoint.protocol is not None else ()
    return next((each for each in hellos if each.browser == browser.value), None)


def takes_hello_of(endpoint: Endpoint, browser: Browser) -> bool:
    """Whether a hello with just what the browser offers was taken."""
    hello = _hello_of(endpoint, browser)
    return hello is not None and hello.seen == Seen(True)


def why_hello_refused(endpoint: Endpoint, browser: Browser) -> str:
    """In words; empty where the server took the browser's hello, or where that was not seen."""
    hello = _hello_of(endpoint, browser)
    if hello is None or hello.seen != Seen(False):
        return ""
    if hello.minds or hello.minds_octets:
        return f"the server ends its hello for {hello.minds or f'its {hello.minds_octets:,} octets'}"
    return f"the server refuses its hello ({hello.how}): nothing in common"


def _of_key(leaf: Certificate, static_rsa: bool) -> Iterator[Objection]:
    refusing = browsers_refusing_key(leaf.key)
    if refusing:
        yield Objection(refusing, Prediction.CANNOT_CONNECT, f"the certificate has {with_article(str(leaf.key))} key")
    if leaf.key.kind in {"RSA", "RSA-PSS"} and 0 < leaf.key.bits < SMALLEST_RSA_KEY:
        words = f"an RSA key of {leaf.key.bits} bits is too weak for it"
        yield Objection(BOTH - FIREFOX, Prediction.NOT_TRUSTED, words)
    if words := key_usage_problem(leaf, static_rsa=static_rsa):
        yield Objection(CHROMIUM, Prediction.CANNOT_CONNECT, words)


SMALLEST_RSA_KEY = 1024
_USUAL_CURVES = frozenset({"P-256", "P-384"})


def browsers_refusing_key(key: KeyFacts, *, is_issuer: bool = False) -> frozenset[Browser]:
    """Which browsers do not take a key of this kind, as the server's own or as an issuer's."""
    if key.kind == "RSA" or (key.kind == "EC" and key.curve in _USUAL_CURVES):
        return frozenset()
    if key.kind == "EC" and key.curve == "P-521":
        return frozenset() if is_issuer else CHROMIUM
    return BOTH


def with_article(text: str) -> str:
    """``an EC P-521``, ``a DSA 1024``."""
    spoken = text[:1].lower() in "aeio" or text[:2] in {"EC", "RS"} or text[:1] in {"8"}
    return f"{'an' if spoken else 'a'} {text}"


def uses_static_rsa(handshakes: Sequence[Handshake]) -> bool:
    """Whether every handshake exchanged its key by RSA, which needs no signature."""
    suites = [table().get(each.cipher_suite) for each in handshakes]
    return bool(suites) and all(suite is not None and suite.key_exchange == "RSA" for suite in suites)


def key_usage_problem(leaf: Certificate, *, static_rsa: bool) -> str:
    """Why the key may not sign handshakes, as all suites of TLS 1.3 and those with ephemeral keys need it.

    Where the key exchange is RSA's own, it has to encipher keys instead.
    """
    usage = leaf.extensions.key_usage
    if usage is None or (KEY_ENCIPHERMENT if static_rsa else DIGITAL_SIGNATURE) in usage:
        return ""
    allowed = [title for bit, title in _USAGES.items() if bit in usage]
    lacking = "keyEncipherment" if static_rsa else "digitalSignature"
    return f"keyUsage allows {', '.join(allowed) or 'nothing'}, and not {lacking}"


_USAGES = {
    0: "digitalSignature",
    1: "nonRepudiation",
    2: "keyEncipherment",
    3: "dataEncipherment",
    4: "keyAgreement",
    5: "keyCertSign",
    6: "cRLSign",
}


# The certificate


def _of_form(leaf: Certificate) -> Iterator[Objection]:
    for fault in form_faults(leaf):
        if fault.stops and fault.opens_in:
            yield Objection(BOTH - {Browser(fault.opens_in)}, Prediction.NOT_TRUSTED, fault.words)
    if words := purpose_problem(leaf):
        yield Objection(FIREFOX, Prediction.NOT_TRUSTED, words)


MOST_INTERMEDIATES = 6
"""That Firefox takes between a certificate and its root."""


def _of_path(path: Path) -> Iterator[Objection]:
    """What Firefox alone asks of the intermediates."""
    if words := too_deep(path):
        yield Objection(FIREFOX, Prediction.NOT_TRUSTED, words)
    for issuer in path.intermediates:
        if words := issuer_purpose_problem(issuer):
            yield Objection(FIREFOX, Prediction.NOT_TRUSTED, words)


def too_deep(path: Path) -> str:
    """More intermediates than one browser takes; empty where there are not."""
    count = len(path.intermediates)
    return f"{count} intermediates, and it takes {MOST_INTERMEDIATES}" if count > MOST_INTERMEDIATES else ""


def issuer_purpose_problem(issuer: Certificate) -> str:
    """An intermediate for any purpose alone is one for servers to one browser, and not to the other."""
    purposes = issuer.extensions.purposes
    if purposes is None or ANY_EXTENDED_KEY_USAGE not in purposes or SERVER_AUTH in purposes:
        return ""
    return f"{issuer.title} is for anyExtendedKeyUsage alone, not for server authentication"


def _opens_in(fault: PathFault) -> str:
    return fault.opens_in


def purpose_problem(leaf: Certificate) -> str:
    """What one browser refuses in a certificate that the other takes for a server's."""
    purposes = leaf.extensions.purposes
    if purposes is not None and ANY_EXTENDED_KEY_USAGE in purposes and SERVER_AUTH not in purposes:
        return "the certificate is for anyExtendedKeyUsage alone, not for server authentication"
    return "the server's certificate is a CA's (basicConstraints says cA)" if leaf.extensions.is_ca else ""


def _of_status(case: Case, served: Chain) -> Iterator[Objection]:
    """Staples, and the rules for public CAs."""
    staples = staples_of(case, served)
    for _, verdict in staples:
        if verdict.kind is StatusKind.REVOKED:
            yield Objection(BOTH, Prediction.REVOKED, verdict.detail)
        if staple_stops_firefox(served.leaf, verdict):
            yield Objection(FIREFOX, Prediction.NOT_TRUSTED, f"the stapled response is {verdict.kind.value}")
    if isinstance(served.leaf, Certificate) and MUST_STAPLE in served.leaf.extensions.tls_features and not staples:
        yield Objection(FIREFOX, Prediction.NOT_TRUSTED, "the certificate demands a stapled response, and none came")
    if excess := excess_of_life(case, served):
        yield Objection(BOTH, Prediction.NOT_TRUSTED, excess)
    count = count_logs(case, served)
    if count is not None and not count.is_enough:
        yield Objection(BOTH, Prediction.NOT_TRUSTED, count.seen)


def staple_stops_firefox(leaf: Certificate | MalformedCertificate, verdict: StatusVerdict) -> bool:
    """Of a stale or foreign response it asks the CA's own responder; where the certificate names none, it stops.

    It lets clocks be wrong by a day.
    """
    kind = verdict.kind
    if verdict.is_off_by_less_than_a_day:
        return False
    if kind in {StatusKind.STALE, StatusKind.FOREIGN}:
        return isinstance(leaf, Certificate) and not leaf.extensions.ocsp_responders
    return kind in {StatusKind.UNKNOWN, StatusKind.AHEAD}


def _of_name(case: Case, leaf: Certificate, host: str, *, is_typed: bool) -> Iterator[Objection]:
    refusing = browsers_not_matching(leaf, host)
    if not refusing:
        return
    names = presented_names(leaf)
    words = f"covers {some(names, 2) or 'no name'}"
    if len(refusing) == 1:
        words = name_refusal(leaf, host)
    other = next((name for name in case.resolving_names if are_siblings(name, host) and covers(leaf, name)), None)
    if is_typed and other is not None and leads_to(case, other, host):
        # Firefox goes to the other name as well, is sent back, and warns.
        yield Objection(refusing, Prediction.WRONG_NAME, f"{words}; {other} leads back here")
        return
    if is_typed and other is not None:
        yield Objection(refusing - FIREFOX, Prediction.WRONG_NAME, f"the certificate is for {other} alone")
        return
    yield Objection(refusing, Prediction.WRONG_NAME, words)


def leads_to(case: HasChains, name: str, host: str) -> bool:
    """Whether the home page of ``name`` over https redirects to the https of ``host``."""
    for hop in case.hops_of(name):
        here = read_url(hop.url)
        if here.is_https and here.path == "/":
            try:
                target = next_url(hop.status, hop.values("Location"), here)
            except InvalidUrl:
                continue
            if isinstance(target, Url) and target.is_https and target.host == host:
                return True
    return False


def browsers_not_matching(leaf: Certificate, host: str) -> frozenset[Browser]:
    """Which browsers find no name in the certificate that is the host's."""
    if not covers(leaf, host):
        # A name with a dot at its end is none by RFC 9525; one browser takes it all the same.
        dotted = any(name.endswith(".") and matches(name[:-1], host) for name in leaf.extensions.dns_names)
        return FIREFOX if dotted else BOTH
    matching = [name.lower() for name in leaf.extensions.dns_names if matches(name, host)]
    if not matching or any(not name.startswith("*.") for name in matching):
        return frozenset()
    bases = [name[2:] for name in matching]
    refusing: frozenset[Browser] = frozenset()
    if all(map(is_registry_suffix, bases)):
        refusing |= CHROMIUM
    if all("." not in base for base in bases):
        refusing |= FIREFOX
    return refusing


def name_refusal(leaf: Certificate, host: str) -> str:
    """Why a name that one browser takes is none to the other."""
    dotted = next((name for name in leaf.extensions.dns_names if name.endswith(".")), "")
    if dotted and not covers(leaf, host):
        return f"{dotted!r} ends in a dot"
    wildcard = next((name for name in leaf.extensions.dns_names if matches(name, host)), "")
    return f"{wildcard} is a wildcard directly under the suffix of a registry"


# Where it is in the evidence


def _endpoint_of(case: Case, host: str, address: str) -> Endpoint | None:
    return next((each for each in case.endpoints_of(host) if each.address == address), None)


def _served(case: Case, endpoint: Endpoint | None, chain: tuple[str, ...]) -> Chain | None:
    if endpoint is None:
        return None
    at = case.chains.at_endpoint(endpoint.name, endpoint.address)
    return next((each for each in at if each.fingerprints == chain), None)


def _chain_of(case: Case, hop: Hop) -> tuple[str, ...]:
    """What the server sent with this leaf, by the look at the same endpoint; else at any; else the leaf alone."""
    assert hop.certificate is not None
    host = read_url(hop.url).host
    endpoints = sorted(case.evidence.endpoints, key=lambda each: (each.name, each.address) != (host, hop.address))
    chains = (handshake.chain for endpoint in endpoints for handshake in endpoint.handshakes)
    return next((chain for chain in chains if chain[0] == hop.certificate), (hop.certificate,))


def demands_certificate(endpoint: Endpoint) -> bool:
    """Whether the server asked for a certificate of the client's."""
    return any(each.wants_client_certificate for each in endpoint.handshakes)


def bare_anchor(case: HasChains, path: Path) -> str:
    """A given root that does not say that it is a CA: one browser takes it, and the other does not."""
    anchor = path.anchor
    is_given = anchor is not None and any(
        store.is_examined and store.anchors_like(anchor) for store in case.chains.stores
    )
    if (
        anchor is None
        or not is_given
        or len(path.certificates) == 1
        or anchor.extensions.is_ca is not None
        or anchor.version != 3
    ):
        return ""
    return f"the given root {anchor.title} does not say that it is a CA (no basicConstraints)"


def _issuers_with_refused_keys(path: Path) -> Iterator[tuple[Certificate, frozenset[Browser]]]:
    """Issuers below the root with keys that browsers do not take."""
    for certificate in path.certificates[1:]:
        refusing = browsers_refusing_key(certificate.key, is_issuer=True)
        if refusing and certificate is not path.anchor:
            yield certificate, refusing
