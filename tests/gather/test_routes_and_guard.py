import asyncio

import pytest

from pewter.errors import UsageError
from pewter.gather.guard import why_not_contact
from pewter.gather.routes import Destination, Routes, read_address_and_port, read_route
from pewter.gather.slots import Priority, Slots


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
            read_address_and_port(text, "--resolver", 53)
    else:
        assert read_address_and_port(text, "--resolver", 53) == expected


def goes(address, port=443):
    return Destination(address, port, address, port)


ROUTES = Routes((read_route("192.0.2.60:443=127.0.0.1:18443"),))


@pytest.mark.parametrize(
    ("destination", "reason"),
    [
        pytest.param(goes("93.184.216.34"), None, id="public"),
        pytest.param(goes("2606:2800:220:1::1"), None, id="public-ipv6"),
        pytest.param(goes("127.0.0.1"), "127.0.0.1 is a loopback address, and not an address of the site", id="loopback"),
        pytest.param(goes("::1"), "::1 is a loopback address, and not an address of the site", id="loopback-ipv6"),
        pytest.param(goes("169.254.169.254"), "169.254.169.254 is a link-local address, and not an address of the site", id="link-local"),
        pytest.param(goes("10.1.2.3"), "10.1.2.3 is a private or reserved address, and not an address of the site", id="private"),
        pytest.param(goes("::ffff:10.1.2.3"), "::ffff:10.1.2.3 is a private or reserved address, and not an address of the site", id="mapped"),
        pytest.param(goes("fd00::1"), "fd00::1 is a private or reserved address, and not an address of the site", id="unique-local"),
        pytest.param(goes("0.0.0.0"), "0.0.0.0 is a private or reserved address, and not an address of the site", id="unspecified"),
        pytest.param(goes("224.0.0.1"), "224.0.0.1 is a multicast address, and not an address of the site", id="multicast"),
        pytest.param(goes("10.0.0.1"), None, id="own-private-address"),
        pytest.param(goes("10.0.0.1", 6379), "port 6379 of 10.0.0.1, which is a private or reserved address", id="own-address-other-port"),
        pytest.param(goes("192.0.2.60"), None, id="address-of-a-route"),
    ],
)  # fmt: skip
def test_guard(destination, reason):
    assert why_not_contact(destination, {"10.0.0.1"}, {80, 443}, ROUTES) == reason


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
