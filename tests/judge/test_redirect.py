import pytest

from pewter.evidence import StopCause, Stopped, Unseen
from pewter.judge import redirect
from pewter.judge.expectations import Wishes
from support.cases import case, hop, journey, name, outcomes, stopped, unseen
from support.certificates import HOST

APEX = "marram-ferries.example"
OTHER = "tickets.marram-ferries.example"
HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
NAMES = [name(HOST), name(APEX), name(OTHER)]
LOOP = Stopped(HTTP, StopCause.LOOP, "it comes round again")


def judged(rule, *journeys):
    return outcomes(rule, case(*journeys, names=NAMES, wishes=Wishes(canonical=f"https://{HOST}")))


@pytest.mark.parametrize(
    "ways",
    [
        pytest.param([journey(HTTP, HTTPS)], id="holds"),
        pytest.param([journey(HTTP)], id="gap"),
        pytest.param([journey(hop(HTTP, 401))], id="password-asked-for"),
        pytest.param([journey(HTTP, f"http://{APEX}/")], id="plain-to-plain"),
        pytest.param([unseen(HTTP)], id="unknown"),
        pytest.param([journey(HTTP), journey(f"{HTTP}a", f"{HTTPS}a")], id="mixed-is-partial"),
        pytest.param([stopped(HTTP, StopCause.NO_CONNECTION)], id="closed-is-another-rule"),
        pytest.param([journey(hop(HTTP, 404))], id="error-page-is-another-rule"),
        pytest.param([journey(HTTPS)], id="https-is-left-alone"),
    ],
)  # fmt: skip
def test_missing(told, ways):
    told(judged(redirect.missing, *ways))


@pytest.mark.parametrize(
    "ways",
    [
        pytest.param([journey(HTTP, HTTPS), journey(f"{HTTP}login")], id="gap"),
        pytest.param([journey(HTTP, HTTPS), journey(f"{HTTP}a", f"{HTTPS}a")], id="holds"),
        pytest.param([journey(HTTP, HTTPS), unseen(f"{HTTP}a")], id="unknown"),
        pytest.param([journey(HTTP), journey(f"{HTTP}a")], id="none-redirected-is-missing"),
        pytest.param([journey(HTTP, HTTPS)], id="one-path-tells-nothing"),
    ],
)  # fmt: skip
def test_partial(told, ways):
    told(judged(redirect.partial, *ways))


def moved(status, *urls):
    *first, last = urls
    return journey(
        *(hop(url, status, ("Location", after)) for url, after in zip(first, urls[1:], strict=True)), hop(last)
    )


@pytest.mark.parametrize(
    "way",
    [
        pytest.param(moved(301, HTTP, HTTPS), id="holds"),
        pytest.param(moved(308, HTTP, HTTPS), id="308-holds"),
        pytest.param(moved(307, HTTP, HTTPS), id="gap"),
        pytest.param(moved(302, f"https://{APEX}/", HTTPS), id="to-the-canonical-host"),
        pytest.param(moved(302, HTTPS, f"{HTTPS}login"), id="within-one-host-is-left-alone"),
        pytest.param(
            journey(hop(HTTP, 302, ("Location", HTTPS)), hop(HTTPS, 302), end=LOOP), id="loop-is-another-rule"
        ),
    ],
)
def test_temporary(told, way):
    told(judged(redirect.temporary, way))


@pytest.mark.parametrize(
    "way",
    [
        pytest.param(journey(HTTP, HTTPS), id="holds"),
        pytest.param(journey(HTTPS, f"http://{OTHER}/"), id="gap"),
        pytest.param(journey(HTTP), id="never-https-is-left-alone"),
        pytest.param(journey(hop(HTTPS, 302), hop(HTTP, 302), end=LOOP), id="loop-is-another-rule"),
    ],
)
def test_downgrade(told, way):
    told(judged(redirect.downgrade, way))


def test_loop_reads_alike_from_every_way_in(told):
    there = journey(hop(HTTP, 302), hop(HTTPS, 302), end=Stopped(HTTP, StopCause.LOOP, ""))
    back = journey(hop(HTTPS, 302), hop(HTTP, 302), end=Stopped(HTTPS, StopCause.LOOP, ""))
    told(judged(redirect.loop, there, back))


@pytest.mark.parametrize(
    "way",
    [
        pytest.param(journey(HTTP, HTTPS), id="holds"),
        pytest.param(unseen(HTTP), id="unknown"),
        pytest.param(
            journey(
                *(hop(f"{HTTPS}{n}", 302) for n in range(21)), end=Stopped(f"{HTTPS}21", StopCause.TOO_MANY_HOPS, "")
            ),
            id="endless",
        ),
        pytest.param(stopped(HTTP, StopCause.NO_CONNECTION), id="no-answer-is-another-rule"),
    ],
)
def test_loop(told, way):
    told(judged(redirect.loop, way))


@pytest.mark.parametrize(
    "way",
    [
        pytest.param(journey(f"http://{APEX}/", HTTPS), id="holds"),
        pytest.param(journey(f"http://{APEX}/", f"https://{APEX}/"), id="gap"),
        pytest.param(journey(f"http://{OTHER}/", f"https://{OTHER}/"), id="another-service-keeps-its-visitors"),
        pytest.param(journey(HTTP), id="plain-http-is-another-rule"),
        pytest.param(journey(hop(f"https://{APEX}/", 404)), id="error-is-another-rule"),
    ],
)  # fmt: skip
def test_wrong_place(told, way):
    told(judged(redirect.wrong_place, way))


DEEP = "timetable?day=sat"


@pytest.mark.parametrize(
    ("way", "lost"),
    [
        pytest.param(journey(HTTP + DEEP, HTTPS + DEEP), False, id="holds"),
        pytest.param(journey(HTTP + DEEP, HTTPS + "en/" + DEEP), False, id="prefix-added"),
        pytest.param(journey(HTTP + DEEP, HTTPS), True, id="path-and-query-lost"),
        pytest.param(journey(HTTP + DEEP, HTTPS + "timetable"), True, id="query-lost"),
        pytest.param(journey(HTTP, HTTPS), None, id="home-page-is-left-alone"),
        pytest.param(journey(HTTPS + DEEP, HTTPS), None, id="within-one-origin-is-left-alone"),
    ],
)
def test_drops_path(told, way, lost):
    found = judged(redirect.drops_path, way)
    told(found)
    if lost:
        assert found[0].expected == HTTPS + DEEP


@pytest.mark.parametrize(
    "way",
    [
        pytest.param(journey(HTTPS), id="holds"),
        pytest.param(journey(hop(HTTPS, 403)), id="closed-to-strangers"),
        pytest.param(journey(hop(HTTPS, 404)), id="error-without-a-redirect"),
        pytest.param(journey(HTTP, hop(HTTPS, 404)), id="error-behind-a-redirect"),
        pytest.param(journey(hop(HTTPS, 302), end=Stopped(HTTPS, StopCause.BAD_LOCATION, "no http", "file:///x")), id="bad-location"),
        pytest.param(stopped(HTTPS, StopCause.NO_ANSWER, "the answer is no HTTP"), id="no-http"),
        pytest.param(stopped(HTTPS, StopCause.NO_CONNECTION), id="first-hop-without-connection-is-reach"),
        pytest.param(journey(hop(HTTP, 301), end=Stopped(HTTPS, StopCause.NO_CONNECTION, "refused")), id="so-is-a-later-one"),
        pytest.param(journey(hop(HTTP, 301), end=Stopped("https://y.example/", StopCause.NO_CONNECTION, "refused")), id="a-foreign-host-is-not"),
        pytest.param(journey(hop(HTTP, 301), end=Unseen("late")), id="unseen"),
    ],
)  # fmt: skip
def test_broken_target(told, way):
    told(judged(redirect.broken_target, way))
