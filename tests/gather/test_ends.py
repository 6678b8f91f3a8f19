"""How looks end: what they leave in their caller's loop, and what of them goes on."""

import asyncio
import datetime
import socket
import threading
import time

import pytest

import pewter
from pewter.errors import FileError, NotReviewedError
from pewter.evidence import Fault, Plan, Step, Target, Unseen
from pewter.gather.board import Board, Given
from pewter.gather.budget import Budget
from pewter.gather.dns_asking import SharedAnswers
from pewter.gather.journeys import JourneyContext, OngoingJourney
from pewter.gather.look import Interruption, look
from pewter.gather.network import Network
from pewter.gather.scene import Scene
from pewter.gather.slots import BudgetSpent
from pewter.gather.together import failures_in, one_of, together
from pewter.lab.web_server import Response, VirtualHost
from pewter.web.urls import read_url
from support.certificates import parsed, root, store
from support.looks import CHAIN, HOST, PEER, NoProgress, world

LONG = b"<!doctype html><title>Ferries</title>" + b"<p>A line of the time table.</p>" * 400
GIVEN = ((store(root()),), (parsed(root()),))


def handle(request):
    if request.scheme == "http":
        return Response(301, (("Location", f"https://{request.host}{request.target}"),))
    return Response(200, (("Content-Type", "text/html"),), LONG)


class Silence:
    """A name server that hears questions, answers none, and counts what still comes."""

    def __enter__(self):
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.bind(("127.0.0.1", 0))
        self.socket.settimeout(0.1)
        self.heard, self._over = 0, threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()
        return self

    def _run(self):
        while not self._over.is_set():
            try:
                self.socket.recvfrom(512)
                self.heard += 1
            except TimeoutError:
                pass

    def __exit__(self, *_):
        self._over.set()
        self._thread.join(5)
        self.socket.close()

    @property
    def text(self):
        return f"127.0.0.1:{self.socket.getsockname()[1]}"


def plan_in(running, *names, **more):
    return Plan(
        tuple(Target(each) for each in names),
        routes=running.routes,
        resolvers=(running.resolver,),
        steps=(Step.WAYS_IN, Step.CERTIFICATES),
        step_seconds=5.0,
        **more,
    )


def silent_plan(resolver, seconds):
    return Plan((Target(HOST),), resolvers=(resolver,), whole_seconds=seconds, step_seconds=30.0)


async def left():
    """Tasks of the loop beside the one that asks."""
    await asyncio.sleep(0)
    return [each for each in asyncio.all_tasks() if each is not asyncio.current_task()]


def test_a_look_leaves_its_callers_loop_as_it_was():
    async def run(plan):
        before = asyncio.get_running_loop()._default_executor
        evidence = await look(plan, Given(*GIVEN), NoProgress())
        return (
            evidence.faults,
            asyncio.get_running_loop()._default_executor is before,
            await asyncio.to_thread(len, "ok"),
        )

    with world({HOST: VirtualHost(handle, CHAIN)}) as running:
        assert asyncio.run(run(plan_in(running, HOST))) == ((), True, 2)


def test_looks_side_by_side_disturb_each_other_in_nothing():
    """The first ends while the second has long pages to read yet."""

    def slow(request):
        time.sleep(0.4)
        return handle(request)

    def outcome(evidence):
        return evidence.faults, sorted((each.start, tuple(h.status for h in each.hops)) for each in evidence.journeys)

    async def run(running):
        plans = [plan_in(running, HOST), plan_in(running, PEER)]
        alone = [outcome(await look(each, Given(*GIVEN), NoProgress())) for each in plans]
        beside = await asyncio.gather(*(look(each, Given(*GIVEN), NoProgress()) for each in plans))
        return alone, [outcome(each) for each in beside], await left()

    hosts = {HOST: VirtualHost(handle, CHAIN), PEER: VirtualHost(slow, CHAIN)}
    with world(hosts) as running:
        alone, beside, tasks = asyncio.run(run(running))
    assert alone == beside
    assert all(faults == () and journeys for faults, journeys in alone)
    assert tasks == []


def ends_by_deadline(resolver):
    return look(silent_plan(resolver, 0.5), Given(*GIVEN), NoProgress())


async def ends_by_interruption(resolver):
    interruption = Interruption()
    asyncio.get_running_loop().call_later(0.5, interruption.interrupt)
    return await look(silent_plan(resolver, 60), Given(*GIVEN), NoProgress(), interruption=interruption)


async def ends_by_interruption_from_python(resolver):
    interruption = pewter.Interruption()
    asyncio.get_running_loop().call_later(0.5, interruption.interrupt)
    return await pewter.look(silent_plan(resolver, 60), interruption)


async def ends_by_its_callers_timeout(resolver):
    with pytest.raises(TimeoutError):
        async with asyncio.timeout(0.5):
            await look(silent_plan(resolver, 60), Given(*GIVEN), NoProgress())


async def ends_by_cancellation(resolver):
    task = asyncio.create_task(look(silent_plan(resolver, 60), Given(*GIVEN), NoProgress()))
    await asyncio.sleep(0.5)
    task.cancel()
    with pytest.raises(asyncio.CancelledError):
        await task


@pytest.mark.parametrize(
    ("ending", "interrupted"),
    [
        pytest.param(ends_by_deadline, False, id="its-deadline"),
        pytest.param(ends_by_interruption, True, id="an-interruption"),
        pytest.param(ends_by_interruption_from_python, True, id="an-interruption-from-python"),
        pytest.param(ends_by_its_callers_timeout, None, id="its-callers-timeout"),
        pytest.param(ends_by_cancellation, None, id="its-callers-cancellation"),
    ],
)
def test_nothing_of_a_look_goes_on_after_its_end(ending, interrupted):
    async def run(server):
        evidence = await ending(server.text)
        tasks = await left()
        await asyncio.sleep(0.3)  # what was on its way
        heard = server.heard
        await asyncio.sleep(2.5)  # longer than a question waits before it is asked again
        return evidence, tasks, heard, server.heard

    with Silence() as server:
        evidence, tasks, heard, later = asyncio.run(run(server))
    assert tasks == []
    assert 0 < heard == later
    if interrupted is not None:
        assert evidence.interrupted is interrupted
        why = "interrupted" if interrupted else "not reached before the deadline"
        assert all(isinstance(each.end, Unseen) and why in each.end.reason for each in evidence.journeys)


def test_an_interruption_that_came_before_it_ends_a_look_at_once():
    async def run():
        interruption = Interruption()
        interruption.interrupt()
        return await look(silent_plan("127.0.0.1:9", 60), Given(*GIVEN), NoProgress(), interruption=interruption)

    begun = time.monotonic()
    assert asyncio.run(run()).interrupted
    assert time.monotonic() - begun < 20


def test_one_failure_ends_what_is_beside_it():
    ended = []

    async def fails(exc):
        raise exc

    async def goes_on():
        try:
            await asyncio.sleep(60)
        finally:
            ended.append(True)

    async def run(*work):
        try:
            await together(*work)
        except Exception as exc:
            return exc, await left()

    failed, tasks = asyncio.run(run(goes_on(), fails(KeyError("x")), goes_on()))
    assert (repr(failed), tasks, ended) == ("KeyError('x')", [], [True, True])


def test_every_failure_of_one_step_is_kept():
    async def fails(exc):
        raise exc

    async def run():
        plan = Plan((Target(PEER),), resolvers=("127.0.0.1:9",))
        network = Network.for_plan(plan, Budget())
        board, told = Board(plan, Given(*GIVEN)), []
        async with asyncio.TaskGroup() as group:
            scene = Scene(plan, board, network, Budget(), NoProgress(), group, JourneyContext(network, 1.0))
            scene.start(
                together(fails(KeyError("x")), fails(BudgetSpent("spent")), fails(OSError("y"))), "step", told.append
            )
            scene.start(together(fails(BudgetSpent("spent")), fails(BudgetSpent("spent"))), "other", told.append)
        return board.faults, told

    faults, told = asyncio.run(run())
    assert faults == [Fault("step", "KeyError: 'x'"), Fault("step", "OSError: y")]
    assert told == [Fault.REASON, "spent"]


@pytest.mark.parametrize(
    ("failures", "goes_on"),
    [
        pytest.param((KeyError("x"),), KeyError, id="the-only-one"),
        pytest.param((KeyError("x"), FileError("y")), FileError, id="what-a-user-can-mend"),
        pytest.param((KeyError("x"), ExceptionGroup("more", [NotReviewedError("z")])), NotReviewedError, id="within"),
        pytest.param((KeyError("x"), OSError("y")), ExceptionGroup, id="all-of-them"),
    ],
)
def test_which_failure_goes_on(failures, goes_on):
    group = ExceptionGroup("failed", failures)
    assert type(one_of(group)) is goes_on
    assert len(tuple(failures_in(group))) == len(failures)


def test_a_server_has_one_bound_however_many_there_are():
    shared = SharedAnswers(4)
    servers = [(f"192.0.{n // 250}.{n % 250}", 53) for n in range(3000)]
    held = {each: shared.turns(each) for each in servers}
    assert all(shared.turns(each) is turns for each, turns in held.items())
    del held
    assert len(shared._turns) == 0


def test_a_page_that_is_asked_again_as_a_browser_has_the_cookies_of_the_journey():
    """The page that moves its visitors on sets a cookie; the one that it leads to refuses Pewter by its name."""
    asked = []

    def moving(request):
        if request.scheme == "http" or request.target != "/in":
            cookie = ("Set-Cookie", "sid=abc; Secure; Path=/")
            return Response(200, (cookie, ("Refresh", "0; url=/in"), ("Content-Type", "text/html")), b"<p>on</p>")
        asked.append(request.cookie)
        return Response(200 if len(asked) > 1 else 403, (("Content-Type", "text/html"),), b"<p>in</p>")

    with world({PEER: VirtualHost(moving, CHAIN)}) as running:
        evidence = asyncio.run(look(plan_in(running, PEER), Given(*GIVEN), NoProgress()))
    moved = [each for each in evidence.journeys if each.start == f"https://{PEER}/in"]
    assert asked == ["sid=abc", "sid=abc"]
    assert {each.hops[-1].status for each in moved} == {200}
    assert f"403 at https://{PEER}/in" in {each.answered_otherwise for each in moved}


def test_a_journey_asks_again_from_where_it_began():
    """What an answer set in the first course belongs to that course alone."""

    async def run():
        plan = Plan((Target(PEER),), resolvers=("127.0.0.1:9",))
        journey = OngoingJourney(read_url(f"https://{PEER}/"), JourneyContext(Network.for_plan(plan, Budget()), 1.0))
        copy = journey.jar.copy()
        journey.jar.take(("a=1; Secure",), journey.start, datetime.datetime.now(datetime.UTC))
        return copy.field_for(journey.start), journey.jar.field_for(journey.start)

    assert asyncio.run(run()) == (None, "a=1")
