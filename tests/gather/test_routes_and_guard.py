import asyncio

import pytest

from pewter.errors import UsageError
from pewter.gather.guard import Guard
from pewter.gather.routes import Destination, Routes, read_origin, read_resolver, read_route
from pewter.gather.slots import BudgetSpent, Priority, Slots


@pytest.mark.parametrize(
    ("text", "asked", "expected"),
    [
        ("www.x.example=192.0.2.7", ("www.x.example", 443), Destination("192.0.2.7", 443, "192.0.2.7", 443)),
        ("WWW.x.example:443=127.0.0.1:18443", ("www.x.example", 443), Destination("192.0.2.7", 443, "", 0)),
        ("www.x.example:443=[::1]:18443", ("www.x.example", 443), Destination("::1", 443, "::1", 18443)),
        ("www.x.example:443=127.0.0.1:18443", ("www.x.example", 80), None),
        ("www.x.example=127.0.0.1", ("other.example", 443), None),
    ],
)
def test_routes_of_a_name(text, asked, expected):
    found = Routes((read_route(text),)).for_name(*asked)
    if expected is not None and not expected.connect_address:
        expected = Destination("127.0.0.1", 443, "127.0.0.1", 18443)
    assert found == ((expected,) if expected else ())


def test_route_of_a_name_goes_on_by_the_route_of_its_address():
    routes = Routes((read_route("x.example=192.0.2.7"), read_route("192.0.2.7:443=127.0.0.1:18443")))
    assert routes.for_name("x.example", 443) == (Destination("192.0.2.7", 443, "127.0.0.1", 18443),)


def test_routes_of_an_address():
    routes = Routes((read_route("192.0.2.7:443=127.0.0.1:18443"), read_route("[2001:db8::7]:443=127.0.0.1:18443")))
    assert routes.for_address("192.0.2.7", 443).reached_at == "127.0.0.1:18443"
    assert routes.for_address("2001:db8::7", 443).connect_port == 18443
    assert routes.for_address("192.0.2.7", 80).reached_at is None
    assert str(routes.routes[1]) == "[2001:db8::7]:443=127.0.0.1:18443"


def test_one_name_may_lead_to_several_addresses():
    routes = Routes((read_route("x.example=192.0.2.7"), read_route("x.example=192.0.2.8")))
    assert [each.address for each in routes.for_name("x.example", 443)] == ["192.0.2.7", "192.0.2.8"]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("www.x.example", "has no '='"),
        ("www.x.example=other.example", "'other.example' is no IP address"),
        ("www.x.example:0=127.0.0.1", "is no NAME"),
        ("www.x.example:99999=127.0.0.1", "is no NAME"),
        ("=127.0.0.1", "is no NAME"),
        ("a b=127.0.0.1", "is no host name"),
        ("x.example=127.0.0.1:", "is no NAME"),
    ],
)
def test_malformed_routes(text, message):
    with pytest.raises(UsageError, match=message):
        read_route(text)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("192.0.2.53", ("192.0.2.53", 53)), ("192.0.2.53:5353", ("192.0.2.53", 5353)), ("2001:db8::53", ("2001:db8::53", 53)),
        ("[2001:db8::53]:54", ("2001:db8::53", 54)), ("dns.example", None), ("192.0.2.53:0", None), ("", None),
    ],
)  # fmt: skip
def test_resolver_addresses(text, expected):
    if expected is None:
        with pytest.raises(UsageError, match="--resolver"):
            read_resolver(text)
    else:
        assert read_resolver(text) == expected


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("192.0.2.7", ("www.x.example", "192.0.2.7", None)),
        ("Shop.x.example=192.0.2.7:8443", ("shop.x.example", "192.0.2.7", 8443)),
        ("[2001:db8::7]:443", ("www.x.example", "2001:db8::7", 443)),
        ("[2001:db8::7]", ("www.x.example", "2001:db8::7", None)),
        ("2001:db8::7", ("www.x.example", "2001:db8::7", None)),
        ("x=origin.example", None),
        ("[2001:db8::7]:", None),
        ("192.0.2.7:0", None),
        ("=192.0.2.7", None),
        ("192.0.2.7:99999", None),
    ],
)
def test_origins(text, expected):
    if expected is None:
        with pytest.raises(UsageError, match="--origin"):
            read_origin(text, "www.x.example")
    else:
        assert read_origin(text, "www.x.example") == expected


def goes(address, port=443):
    return Destination(address, port, address, port)


ROUTES = Routes(
    tuple(
        map(
            read_route,
            ("192.0.2.60:443=127.0.0.1:18443", "stage.example:8443=127.0.0.1:18444", "open.example=127.0.0.1"),
        )
    )
)
GUARD = Guard(
    typed=frozenset({"x.example", "intranet.example", "mixed.example", "stage.example", "open.example"}),
    added=frozenset({"www.x.example"}),
    own=frozenset({"10.0.0.1"}),
    ports=frozenset({443, 4443}),
    routes=ROUTES,
    promised=frozenset({("cdn.example", 8443), ("cdn.example", 25), ("intranet.example", 6379), ("x.example", 8444)}),
)
BAD = "and evil.example was not typed"


@pytest.mark.parametrize(
    ("host", "destination", "reason"),
    [
        ("evil.example", goes("93.184.216.34"), None),
        ("evil.example", goes("93.184.216.34", 80), None),
        ("evil.example", goes("93.184.216.34", 6379), "port 6379 is none of the site's"),
        ("evil.example", goes("93.184.216.34", 4443), "port 4443 is none of the site's"),
        ("x.example", goes("93.184.216.34", 4443), None),
        ("www.x.example", goes("93.184.216.34", 4443), None),
        ("x.example", goes("93.184.216.34", 22), "port 22 is none of the site's"),
        ("evil.example", goes("2606:2800:220:1::1"), None),
        ("evil.example", goes("127.0.0.1"), f"127.0.0.1 is a loopback address, {BAD}"),
        ("evil.example", goes("::1"), f"::1 is a loopback address, {BAD}"),
        ("evil.example", goes("169.254.169.254"), f"169.254.169.254 is a link-local address, {BAD}"),
        ("evil.example", goes("10.1.2.3"), f"10.1.2.3 is a private or reserved address, {BAD}"),
        ("evil.example", goes("100.64.0.1"), f"100.64.0.1 is a private or reserved address, {BAD}"),
        ("evil.example", goes("::ffff:10.1.2.3"), f"::ffff:10.1.2.3 is a private or reserved address, {BAD}"),
        ("evil.example", goes("::ffff:93.184.216.34"), None),
        ("evil.example", goes("::10.1.2.3"), f"::10.1.2.3 is a private or reserved address, {BAD}"),
        ("evil.example", goes("::ffff:0:7f00:1"), f"::ffff:0:7f00:1 is a loopback address, {BAD}"),
        ("evil.example", goes("64:ff9b::7f00:1"), f"64:ff9b::7f00:1 is a loopback address, {BAD}"),
        ("evil.example", goes("64:ff9b::5db8:d822"), None),
        ("evil.example", goes("64:ff9b:1::1"), f"64:ff9b:1::1 is a NAT64 address of a local network, {BAD}"),
        ("evil.example", goes("2002:a00:1::1"), f"2002:a00:1::1 is a private or reserved address, {BAD}"),
        ("evil.example", goes("2001:0:1:2::3"), f"2001:0:1:2::3 is a Teredo address, which leads anywhere, {BAD}"),
        ("evil.example", goes("fec0::1"), f"fec0::1 is a site-local address, {BAD}"),
        ("evil.example", goes("fd00::1"), f"fd00::1 is a private or reserved address, {BAD}"),
        ("evil.example", goes("fe80::1%eth0"), f"fe80::1%eth0 is an address with a zone, which is of one link, {BAD}"),
        ("evil.example", goes("::"), f":: is a private or reserved address, {BAD}"),
        ("evil.example", goes("0.0.0.0"), f"0.0.0.0 is a private or reserved address, {BAD}"),
        ("evil.example", goes("224.0.0.1"), f"224.0.0.1 is a multicast address, {BAD}"),
        ("evil.example", goes("ff0e::1"), f"ff0e::1 is a multicast address, {BAD}"),
        # of the site
        ("intranet.example", goes("10.0.0.1"), None),
        ("evil.example", goes("10.0.0.1"), None),
        ("evil.example", goes("10.0.0.1", 6379), "port 6379 is none of the site's"),
        ("mixed.example", goes("10.9.9.9"), "10.9.9.9 is a private or reserved address, beside public ones of mixed.example"),
        ("www.x.example", goes("127.0.0.1"), "127.0.0.1 is a loopback address, and www.x.example was not typed"),
        # by a record of the site
        ("cdn.example", goes("93.184.216.34", 8443), None),
        ("x.example", goes("93.184.216.34", 8444), None),
        ("evil.example", goes("93.184.216.34", 8443), "port 8443 is none of the site's"),
        ("cdn.example", goes("93.184.216.34", 25), "port 25 belongs to another service: browsers do not go there"),
        ("cdn.example", goes("10.1.2.3", 8443), "10.1.2.3 is a private or reserved address, and cdn.example was not typed"),
        ("intranet.example", goes("10.0.0.1", 6379), "port 6379 is none of the site's"),
        # by a route: the place on its left side, and no other
        ("evil.example", ROUTES.for_address("192.0.2.60", 443), None),
        ("evil.example", ROUTES.for_address("192.0.2.60", 80), f"192.0.2.60 is a private or reserved address, {BAD}"),
        ("stage.example", *ROUTES.for_name("stage.example", 8443), None),
        ("127.0.0.1", goes("127.0.0.1", 18444), "127.0.0.1 is a loopback address, and 127.0.0.1 was not typed"),
        ("127.0.0.1", goes("127.0.0.1"), "127.0.0.1 is a loopback address, and 127.0.0.1 was not typed"),
        ("open.example", *ROUTES.for_name("open.example", 80), None),
        ("open.example", *ROUTES.for_name("open.example", 6379), "port 6379 is none of the site's"),
    ],
)  # fmt: skip
def test_guard(host, destination, reason):
    assert GUARD.why_not(host, destination) == reason


def test_a_look_makes_no_more_connections_than_its_budget():
    async def run():
        slots = Slots(2, most=3)
        made = 0
        with pytest.raises(BudgetSpent, match="not reached within 3 connections"):
            for _ in range(5):
                async with slots.connection("192.0.2.7", Priority.HANDSHAKE):
                    made += 1
        return made

    assert asyncio.run(run()) == 3


def test_slots_bound_connections_and_let_journeys_go_first():
    async def run():
        slots, order, most, now_open = Slots(2), [], 0, 0

        async def connect(label, priority):
            nonlocal most, now_open
            async with slots.connection("192.0.2.7", priority):
                now_open += 1
                most = max(most, now_open)
                order.append(label)
                await asyncio.sleep(0)
                now_open -= 1

        waiting = [connect(f"hello {n}", Priority.HANDSHAKE) for n in range(4)]
        waiting += [connect(f"journey {n}", Priority.JOURNEY) for n in range(2)]
        await asyncio.gather(*waiting)
        return order, most, slots.made

    order, most, made = asyncio.run(run())
    assert order == ["hello 0", "hello 1", "journey 0", "journey 1", "hello 2", "hello 3"]
    assert (most, made) == (2, 6)


def test_cancelled_waiter_gives_its_slot_back():
    async def run():
        slots = Slots(1)
        async with slots.connection("a", Priority.JOURNEY):
            waiter = asyncio.create_task(slots.connection("a", Priority.JOURNEY).__aenter__())
            await asyncio.sleep(0)
            waiter.cancel()
            await asyncio.gather(waiter, return_exceptions=True)
        async with asyncio.timeout(1), slots.connection("a", Priority.JOURNEY):
            return True

    assert asyncio.run(run())
