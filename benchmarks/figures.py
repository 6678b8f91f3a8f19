"""The figures that notes quote, measured: ``make figures``.

Not a test: it only prints.  Start-up is given as a ratio to importing Typer alone, a review as a
multiple of the round trip that the lab's relay adds.
"""

import asyncio
import contextlib
import datetime
import json
import lzma
import os
import shutil
import ssl
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

TESTS = Path(__file__).parents[1] / "tests"
sys.path.insert(0, str(TESTS))

from pewter.evidence import Offer, Plan, Probe, Target, WayIn
from pewter.gather.asking import Asker
from pewter.gather.budget import Budget
from pewter.gather.front_end_look import FrontEndLook
from pewter.gather.hellos import send_hello
from pewter.gather.network import Network
from pewter.gather.routes import Destination
from pewter.gather.slots import Priority
from pewter.lab.marram import WWW, Stage, marram_ferries
from pewter.lab.name_server import read_zone
from pewter.lab.relay import TcpRelay
from pewter.lab.web_server import Response, VirtualHost
from pewter.lab.world import Scenario, World, WorldThread
from pewter.tls.versions import FIRST_OFFERS
from support.certificates import root
from support.looks import CHAIN, PEER, take_in, world
from support.program import PROGRAM
from support.tls_servers import EVERYTHING, INTERMEDIATE, Setting, started

HERE = Path(__file__).parent
ROUND_TRIP = 0.1
CLEAN = "status.marram-ferries.example"


def seconds(command: list[str], folder: str, allowed: tuple[int, ...] = (0,)) -> float:
    """Wall seconds of a program that may keep its byte code."""
    kept = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    begun = time.perf_counter()
    run = subprocess.run(command, cwd=folder, capture_output=True, env=kept)
    assert run.returncode in allowed, run.stderr
    return time.perf_counter() - begun


def start_up() -> None:
    """Warm: the median of nine.  Cold: the first run after every byte-code file of ours and Typer's is gone."""
    commands = {
        "python -c 'import typer'": [sys.executable, "-c", "import typer"],
        "pewter --version": [str(PROGRAM), "--version"],
        "pewter --help": [str(PROGRAM), "--help"],
        "import pewter.cli.review": [sys.executable, "-c", "import pewter.cli.review"],
    }
    warm: dict[str, float] = {}
    cold: dict[str, float] = {}
    with tempfile.TemporaryDirectory() as folder:
        for title, command in commands.items():
            forget_byte_code()
            cold[title] = seconds(command, folder)
            warm[title] = statistics.median(seconds(command, folder) for _ in range(9))
    base = "python -c 'import typer'"
    for title in commands:
        print(
            f"{title:<26} warm {warm[title] * 1000:5.0f} ms ({warm[title] / warm[base]:.2f} x)   "
            f"cold {cold[title] * 1000:5.0f} ms ({cold[title] / cold[base]:.2f} x)"
        )


def offline() -> None:
    """Commands without the network on the demo's review: the median and the least of nine runs, with byte code."""
    review = "review-as-found.json"
    commands = {
        "report": ["report", review],
        "judge": ["judge", review],
        "compare": ["compare", review, review],
        "expiry": ["expiry", review],
        "explain": ["explain", "chain/incomplete"],
        "rules": ["rules"],
    }
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([PROGRAM, "demo", "--into", folder], check=True, capture_output=True)
        for title, command in commands.items():
            taken = [seconds([str(PROGRAM), *command], folder, allowed=(0, 1)) for _ in range(9)]
            print(f"pewter {title:<20} {statistics.median(taken) * 1000:5.0f} ms, at least {min(taken) * 1000:5.0f} ms")


def forget_byte_code() -> None:
    import typer

    import pewter

    for package in (pewter, typer):
        for cache in Path(package.__path__[0]).rglob("__pycache__"):
            shutil.rmtree(cache, ignore_errors=True)


def clean(request):
    """A clean host: http moves to https, https answers with a page."""
    if request.scheme == "http":
        return Response(301, (("Location", f"https://{request.host}{request.target}"),))
    return Response(200, (("Strict-Transport-Security", "max-age=31536000"),), b"<h1>page</h1>")


def move_to_www(request):
    if request.scheme == "http":
        return Response(301, (("Location", f"https://{request.host}{request.target}"),))
    return Response(301, (("Location", f"https://www.marram-ferries.example{request.target}"),))


def round_trips() -> None:
    one = {CLEAN: VirtualHost(clean, CHAIN)}
    two = {
        "www.marram-ferries.example": VirtualHost(clean, CHAIN),
        "marram-ferries.example": VirtualHost(move_to_www, CHAIN),
    }
    for title, hosts, target in (("one name", one, CLEAN), ("www and its apex", two, "www.marram-ferries.example")):
        with world(hosts) as running:
            take_in(running, target)  # what is loaded on first use is no part of the waits
        walls = []
        for _ in range(5):
            with world(hosts, delay_seconds=ROUND_TRIP / 2) as running:
                evidence = take_in(running, target, protocol=True)
                walls.append(evidence.elapsed_seconds)
        wall = statistics.median(walls)
        print(
            f"review of a clean site, {title}, through the {ROUND_TRIP * 1000:.0f} ms relay: {wall:.2f} s, "
            f"{wall / ROUND_TRIP:.1f} round trips, {evidence.connections} connections"
        )


def canonical_host_of_the_demo() -> None:
    """The whole look at the demo's canonical host and its apex, against the longest chain of waits in it.

    The chain is the name look-up, the slowest journey to the home page, and the slowest journey to a
    page that was found there: what no order of asking could shorten.
    """
    scenario = marram_ferries(Stage.AS_FOUND, datetime.datetime.now(datetime.UTC))
    walls, chains, connections = [], [], 0
    for _ in range(5):
        with WorldThread(World(scenario, delay_seconds=ROUND_TRIP / 2)) as running:
            evidence = take_in(running, WWW, paths=("/", f"{WWW}/timetable?day=sat"), protocol=True)
        lengths = {"typed": 0.0, "found": 0.0}
        for journey in evidence.journeys:
            kind = "found" if journey.reason is WayIn.FOUND else "typed"
            lengths[kind] = max(lengths[kind], sum(hop.elapsed_seconds for hop in journey.hops))
        home = max(
            sum(hop.elapsed_seconds for hop in journey.hops)
            for journey in evidence.journeys
            if journey.hops and journey.start == f"https://{WWW}/"
        )
        chains.append(ROUND_TRIP + max(lengths["typed"], home + lengths["found"]))
        walls.append(evidence.elapsed_seconds)
        connections = evidence.connections
    wall, chain = statistics.median(walls), statistics.median(chains)
    print(
        f"review of the demo's canonical host and its apex through the relay: {wall:.2f} s, {wall / ROUND_TRIP:.1f} "
        f"round trips, {connections} connections; longest chain of waits {chain:.2f} s, ratio {wall / chain:.2f}"
    )


def processor_of_a_look() -> None:
    """Of www and its apex with two addresses each, without what its servers in other threads and its start cost."""
    hosts = {
        "www.marram-ferries.example": VirtualHost(clean, CHAIN),
        "marram-ferries.example": VirtualHost(move_to_www, CHAIN),
    }
    addresses = ("192.0.2.10", "192.0.2.11")
    scenario = Scenario(dict.fromkeys(hosts, addresses), {(each,): hosts for each in addresses}, root())
    used = []
    lab = WorldThread(World(scenario))
    with lab as running:

        def spent() -> float:
            """Of this process, without the thread of the servers."""
            theirs = time.pthread_getcpuclockid(lab.ident)
            return time.process_time() - time.clock_gettime(theirs)

        for _ in range(6):
            before = spent()
            take_in(running, "www.marram-ferries.example", protocol=True)
            used.append(spent() - before)
    print(f"processor time of a look at www and its apex, two addresses each: {statistics.median(used[1:]):.2f} s")


def size_of_the_demo() -> None:
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([str(PROGRAM), "demo"], cwd=folder, check=True, capture_output=True)
        octets = (Path(folder) / "pewter-demo" / "review-as-found.json").read_bytes()
    connections = json.loads(octets)["evidence"]["connections"]
    print(
        f"review of the whole demo: {connections} connections; {len(octets) / 1000:.1f} KB, "
        f"{len(lzma.compress(octets)) / 1000:.1f} KB compressed (xz)"
    )


# The protocol look


@contextlib.contextmanager
def relayed(port: int):
    """A port that leads to ``port`` through the relay, in an event loop of its own."""
    loop = asyncio.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    relay = asyncio.run_coroutine_threadsafe(TcpRelay(port, ROUND_TRIP / 2).start(), loop).result(5)
    yield relay.port

    async def wind_up() -> None:
        await relay.stop()
        others = [task for task in asyncio.all_tasks() if task is not asyncio.current_task()]
        for task in others:
            task.cancel()
        await asyncio.gather(*others, return_exceptions=True)

    asyncio.run_coroutine_threadsafe(wind_up(), loop).result(5)
    loop.call_soon_threadsafe(loop.stop)
    thread.join(5)


async def look_at_protocol(port: int, limit: int = 8):
    """The first hellos and the protocol look, as a review takes them; wall seconds and the look."""
    destination = Destination("127.0.0.1", port, "127.0.0.1", port)
    plan = Plan((Target(PEER),), resolvers=("127.0.0.1:9",), connections_per_address=limit)
    network = Network.for_plan(plan, Budget())
    begun = time.perf_counter()

    certificates: dict[str, bytes] = {}

    async def first(versions: tuple[int, ...]) -> Probe:
        offer = Offer(versions, PEER)
        async with network.slots.connection(destination.address, Priority.HANDSHAKE):
            result = await send_hello(offer, destination, network, 10)
        certificates.update(result.certificates)
        return Probe(offer, result.answer)

    probes = tuple(await asyncio.gather(*map(first, FIRST_OFFERS)))
    worked = next(probe.offer for probe in probes if not hasattr(probe.answer, "how"))
    look = FrontEndLook(Asker(PEER, destination, network, 10, worked, certificates=certificates), probes)
    await look.run()
    return time.perf_counter() - begun, look, network.slots.made


async def bare_handshakes(port: int, count: int) -> float:
    """As many handshakes by the standard ssl module, eight at a time."""
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    gate = asyncio.Semaphore(8)

    async def one() -> None:
        async with gate:
            _, writer = await asyncio.open_connection("127.0.0.1", port, ssl=context)
            writer.transport.abort()

    begun = time.perf_counter()
    await asyncio.gather(*(one() for _ in range(count)))
    return time.perf_counter() - begun


def protocol_looks() -> None:
    settings = {
        "modern (nginx, 2 versions)": Setting("nginx", ("TLSv1.2", "TLSv1.3"), INTERMEDIATE, ("RSA 2048", "P-256"), True),
        "wide open (nginx, 3 old versions)": Setting("nginx", ("TLSv1", "TLSv1.1", "TLSv1.2"), EVERYTHING, ("RSA 2048", "P-256"), True),
    }  # fmt: skip
    for title, setting in settings.items():
        with tempfile.TemporaryDirectory() as folder, started(setting, Path(folder)) as port:
            asyncio.run(look_at_protocol(port))
            near, look, made = min((asyncio.run(look_at_protocol(port)) for _ in range(3)), key=lambda each: each[0])
            bare = min(asyncio.run(bare_handshakes(port, made)) for _ in range(3))
            with relayed(port) as far:
                wall = min(asyncio.run(look_at_protocol(far))[0] for _ in range(3))
                depth = min(asyncio.run(look_at_protocol(far, 48))[0] for _ in range(3))
        spoken = look.protocol
        suites = sum(len(seen.suites) for seen in spoken.suites)
        accepted = suites + len(spoken.accepted) + sum(len(seen.groups) for seen in spoken.groups)
        print(
            f"protocol look, {title}: {suites} suites, {made} connections ({made / accepted:.2f} for each suite, version "
            f"and group), {wall:.2f} s through the relay "
            f"({wall / ROUND_TRIP:.0f} round trips; {depth / ROUND_TRIP:.1f} deep with 48 at a time); on loopback "
            f"{near:.2f} s, {near / bare:.1f} times as many bare ssl handshakes"
        )


def printed_by_tests(where: str, chosen: str, *words: str) -> None:
    """Those lines of what the chosen tests print that hold one of the words."""
    command = [sys.executable, "-m", "pytest", "-q", "-s", "-k", chosen, where]
    shown = subprocess.run(command, cwd=HERE.parent, capture_output=True, text=True).stdout
    for line in shown.splitlines():
        if any(word in line for word in words):
            print(line.lstrip("."))


def names_area() -> None:
    """Two names in a zone with three servers: questions, and what they add to a review through the relay."""
    apex, servers = "marram-ferries.example", ("192.0.2.51", "192.0.2.52", "192.0.2.53")
    www = f"www.{apex}"
    hosts = {www: VirtualHost(clean, CHAIN), apex: VirtualHost(move_to_www, CHAIN)}
    own = "\n".join(f"@ NS ns{n}\nns{n} A {address}" for n, address in enumerate(servers))
    delegation = "\n".join(f"{apex}. NS ns{n}.{apex}.\nns{n}.{apex}. A {address}" for n, address in enumerate(servers))
    zone = read_zone(apex, f'{own}\n@ A 192.0.2.10\nwww A 192.0.2.10\n@ CAA 0 issue "ca.example"')
    above = (
        read_zone(".", "@ NS ns.registry.example.\nns.registry.example. A 198.51.100.53"),
        read_zone("example", f"@ NS ns.registry\nns.registry A 198.51.100.53\n{delegation}"),
    )
    scenario = Scenario(
        {}, {("192.0.2.10",): hosts}, root(), (*above, zone),
        {"198.51.100.53": above, **dict.fromkeys(servers, (zone,))},
    )  # fmt: skip
    times: dict[bool, list[float]] = {True: [], False: []}
    for _ in range(5):
        for with_names in (True, False):
            with WorldThread(World(scenario, delay_seconds=ROUND_TRIP / 2)) as running:
                evidence = take_in(running, www, protocol=True, names=with_names)
            times[with_names].append(evidence.elapsed_seconds)
            if with_names:
                asked, connections = len(evidence.dns.questions), evidence.connections
    added = statistics.median(times[True]) - statistics.median(times[False])
    print(
        f"names area, two names and three servers: {asked} questions; a review through the relay takes "
        f"{statistics.median(times[True]):.2f} s with it and {added:+.2f} s more than without ({connections} connections)"
    )


def share_of_tests() -> None:
    def lines(paths):
        text = (path.read_text(encoding="utf-8").splitlines() for path in paths)
        return sum(1 for each in text for line in each if line.strip() and not line.strip().startswith("#"))

    tests, benchmarks = lines(TESTS.rglob("*.py")), lines(Path(__file__).parent.rglob("*.py"))
    code = lines((TESTS.parent / "src").rglob("*.py"))
    share = tests / (code + tests + benchmarks)
    print(f"lines: {code} of code, {tests} of tests, {benchmarks} of benchmarks; tests are {share:.1%} of all")


if __name__ == "__main__":
    print(f"{datetime.date.today()}, Python {sys.version.split()[0]}")
    start_up()
    offline()
    round_trips()
    canonical_host_of_the_demo()
    processor_of_a_look()
    size_of_the_demo()
    names_area()
    protocol_looks()
    printed_by_tests(
        "tests/pki", "hostile or four or agrees_with_openssl or left_out",
        "PKITS", "hostile pool", "chain of 4", "generated chains",
    )  # fmt: skip
    printed_by_tests("tests/gather/test_hostile_bodies.py", "holds_up", "longest stall")
    share_of_tests()
