"""What a visitor meets at the end of each way in: what current browsers show."""

import msgspec

from pewter.evidence import Hop, Journey, Landed, StopCause, Stopped, Unseen, WayIn
from pewter.tls import Version
from pewter.web.heads import NUL_IN_HEAD, blank_before_colon
from pewter.web.redirects import FOLLOWED
from pewter.web.refresh import moves_of
from pewter.web.urls import https_origin, read_url

from .blocked_parts import blocked_parts
from .browsers import Browser, Objection, Prediction, demands_certificate, objections, takes_hello_of
from .case import Case, accepted_versions
from .revocation import revocation_of

BLANK_IN_LOCATION = blank_before_colon("Location")
"""Firefox passes over a field that is written so: it shows the answer as a page."""

LOGIN_WALLS = frozenset({401, 403})
"""Answers that keep strangers out on purpose."""

NO_PAGE = frozenset({204, 205})
"""At which browsers stay where they are; of 304, for which nobody asked, Chromium does."""

MAX_REDIRECTS_OF_CHROMIUM = 20
"""At which it gives up; Firefox takes so many, and no more."""

MAX_MOVES = 5
"""Pages that move their visitors on one after the other, before it is a circle."""


class Visit(msgspec.Struct, frozen=True, omit_defaults=True):
    """One way in, predicted."""

    start: str
    statuses: tuple[int, ...]
    """Of each hop that a browser gets to see: it stops at a warning."""

    lands: str
    """Where the browser is in the end, or where it stopped."""

    meets: Prediction
    detail: str = ""
    reason: WayIn = WayIn.TYPED
    """Why this way in, as in the evidence's journey."""

    is_login_wall: bool = False
    """The error page keeps strangers out on purpose."""

    by_address: str | None = None
    """The one address that was visited."""


def predict_visits(case: Case) -> tuple[Visit, ...]:
    """A prediction for every journey that was followed, in the order of the evidence."""
    return case.once(
        "visits",
        lambda: tuple(
            _of_all_browsers(case, journey)
            for journey in case.evidence.journeys
            if journey.reason not in {WayIn.RECORDED, WayIn.MOVED}
        ),
    )


def _of_all_browsers(case: Case, journey: Journey) -> Visit:
    """One prediction for both browsers; where only one shows the page, which one does not, and why."""
    visits = {browser: predict_for(case, journey, browser) for browser in Browser}
    first = visits[Browser.CHROMIUM]
    stopped = {browser: visit for browser, visit in visits.items() if not _is_shown(visit)}
    if len(stopped) == 1:
        ((browser, stop),) = stopped.items()
        shown = next(visit for other, visit in visits.items() if other is not browser)
        why = stop.detail or stop.meets.value
        if shown.meets is Prediction.UNENCRYPTED:
            return _as_typed(shown, journey)
        in_some = msgspec.structs.replace(shown, meets=Prediction.IN_SOME, detail=f"not in {browser.value}: {why}")
        return _as_typed(in_some, journey)
    return _as_typed(first, journey)


def _is_shown(visit: Visit) -> bool:
    return visit.meets.shows_page or visit.meets in {Prediction.ERROR_PAGE, Prediction.UNENCRYPTED}


def _as_typed(visit: Visit, journey: Journey) -> Visit:
    return msgspec.structs.replace(visit, start=journey.start, by_address=journey.by_address, reason=journey.reason)


def predict_for(case: Case, journey: Journey, browser: Browser, moves: int = 0) -> Visit:
    """What one browser's user meets, ``moves`` pages after the one that was typed."""
    statuses: list[int] = []
    detail = ""
    for position, hop in enumerate(journey.hops):
        if hop.is_https:
            objection = _objection_of(case, hop, browser, is_typed=position == 0 and journey.reason is not WayIn.MOVED)
            if objection is not None:
                prediction, words = objection.prediction, objection.words
                return Visit(journey.start, tuple(statuses), hop.url, prediction, words)
            detail = _remark(case, hop) or detail
        statuses.append(hop.status)
        if browser is Browser.FIREFOX and hop is not journey.hops[-1] and BLANK_IN_LOCATION in hop.oddities:
            meets = Prediction.UNENCRYPTED if not hop.is_https else Prediction.OPENS
            return Visit(journey.start, tuple(statuses), hop.url, meets, "")
    last = journey.hops[-1] if journey.hops else None
    lands = last.url if last is not None else journey.start
    meets = Prediction.UNKNOWN
    match journey.end:
        case Unseen(reason=reason):
            detail = reason
        case Stopped(cause=StopCause.LOOP):
            meets = Prediction.CIRCLES
        case Stopped(cause=StopCause.TOO_MANY_HOPS):
            words = f"too many redirects: {len(journey.hops)} and no page; browsers give up after 20"
            meets, detail = Prediction.CANNOT_CONNECT, words
        case Stopped() as stopped:
            return _stopped(case, journey, stopped, browser, tuple(statuses))
        case Landed() if words := why_no_page(journey, browser):
            meets, detail = Prediction.CANNOT_CONNECT, words
        case Landed():
            assert last is not None
            onward = _moved_on(case, last, browser, moves)
            if onward is not None:
                return msgspec.structs.replace(onward, statuses=(*statuses, *onward.statuses))
            meets, words = _landed(case, last, browser)
            detail = words or detail
    is_wall = meets is Prediction.ERROR_PAGE and last is not None and last.status in LOGIN_WALLS
    return Visit(journey.start, tuple(statuses), lands, meets, detail, is_login_wall=is_wall)


def why_no_page(journey: Journey, browser: Browser) -> str:
    """Why a browser shows nothing of a journey that landed, whatever its last answer holds; empty where it does."""
    last, is_chromium = journey.hops[-1], browser is Browser.CHROMIUM
    if is_chromium and any(NUL_IN_HEAD in hop.oddities for hop in journey.hops):
        return NUL_IN_HEAD
    if is_chromium and len(journey.hops) > MAX_REDIRECTS_OF_CHROMIUM:
        return f"{len(journey.hops) - 1} redirects; Chromium gives up at {MAX_REDIRECTS_OF_CHROMIUM}"
    if last.status in NO_PAGE or (last.status == 304 and is_chromium):
        return f"status {last.status}: no page comes with it"
    return ""


def _stopped(case: Case, journey: Journey, stopped: Stopped, browser: Browser, statuses: tuple[int, ...]) -> Visit:
    meets, detail = Prediction.CANNOT_CONNECT, stopped.detail
    if browser is Browser.FIREFOX and not journey.hops and stopped.cause is StopCause.NO_CONNECTION:
        # Where port 80 refuses, it tries https by itself.
        twin = _https_twin(case, journey)
        if twin is not None and (visit := predict_for(case, twin, browser)).meets.shows_page:
            return visit
    if stopped.cause is StopCause.NO_TLS:
        endpoints = case.endpoints_of(read_url(stopped.at).host)
        accepted = [version for endpoint in endpoints for version in accepted_versions(endpoint)]
        if accepted and max(accepted) < Version.TLS_1_2:
            meets = Prediction.OLD_PROTOCOL
        elif any(map(demands_certificate, endpoints)):
            detail = CLIENT_CERTIFICATE
    if (
        meets is Prediction.CANNOT_CONNECT
        and detail == stopped.detail
        and _takes_browser(case, journey, stopped, browser)
    ):
        meets, detail = Prediction.UNKNOWN, f"{stopped.detail}; the hello of {browser.value} is taken"
    return Visit(journey.start, statuses, stopped.at, meets, detail)


def _takes_browser(case: Case, journey: Journey, stopped: Stopped, browser: Browser) -> bool:
    """Whether a handshake that Pewter's request did not get is had by the browser, wherever it was asked for."""
    url = read_url(stopped.at)
    if not url.is_https or stopped.cause not in {StopCause.NO_TLS, StopCause.NO_CONNECTION}:
        return False
    endpoints = [each for each in case.endpoints_of(url.host) if journey.by_address in {None, each.address}]
    return bool(endpoints) and all(takes_hello_of(each, browser) for each in endpoints)


CLIENT_CERTIFICATE = "the server demands a client certificate"


def _https_twin(case: Case, journey: Journey) -> Journey | None:
    start = read_url(journey.start)
    if start.is_https or start.port != 80:
        return None
    wanted = f"{https_origin(start.host)}{start.target}"
    same = (each for each, url in case.ways_in("https") if str(url) == wanted and each.by_address == journey.by_address)
    return next(same, None)


def _landed(case: Case, last: Hop, browser: Browser) -> tuple[Prediction, str]:
    is_https = last.is_https
    if last.body_fault:
        return Prediction.CANNOT_CONNECT, last.body_fault
    locations = last.values("Location")
    if browser is Browser.FIREFOX and last.status in FOLLOWED and locations and not locations[0].strip():
        return Prediction.CIRCLES, "it takes an empty Location for the page itself"
    if last.status >= 400:
        return Prediction.ERROR_PAGE, str(last.status) + ("" if is_https else ", unencrypted")
    if not is_https:
        return Prediction.UNENCRYPTED, ""
    blocked = blocked_parts(case, last)
    if blocked:
        return Prediction.PARTS_BLOCKED, f"{len(blocked)} blocked, {blocked[0].use.value} first"
    return Prediction.OPENS, ""


def _moved_on(case: Case, last: Hop, browser: Browser, moves: int) -> Visit | None:
    """Where the page moves its visitors on by itself, as far as that was followed."""
    url = read_url(last.url)
    for move in moves_of(last.values("Refresh"), case.page_of(last), url):
        onward = case.onward(move.url) if move.certain and move.url != last.url else None
        if onward is None:
            continue
        if moves >= MAX_MOVES:
            return Visit("", (), last.url, Prediction.CIRCLES, "one page moves on to the next without end")
        return predict_for(case, onward, browser, moves + 1)
    return None


def _objection_of(case: Case, hop: Hop, browser: Browser, *, is_typed: bool) -> Objection | None:
    return next((each for each in objections(case, hop, is_typed=is_typed) if browser in each.browsers), None)


def certificate_prediction(case: Case, hop: Hop) -> tuple[Prediction | None, str]:
    """What stops a visitor at an https hop in one browser or the other, with its reason; None where nothing does."""
    objection = next(iter(objections(case, hop)), None)
    if objection is None:
        return None, ""
    if len(objection.browsers) == len(Browser):
        return objection.prediction, objection.words
    (browser,) = objection.browsers
    return objection.prediction, f"in {browser.value}: {objection.words}"


def _remark(case: Case, hop: Hop) -> str:
    """What holds for a part of a browser's users only."""
    for chain in case.chains.at_endpoint(read_url(hop.url).host, hop.address):
        if chain.fingerprints[0] == hop.certificate and revocation_of(case, chain) is not None:
            return "only in browsers that do not ask whether it is revoked"
    return ""
