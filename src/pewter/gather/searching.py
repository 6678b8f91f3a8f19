"""Finding all that a server accepts of a set, and its order, with as few and as shallow hellos as possible.

What is sent is the caller's: here a pick is a question "which of these?" with one answer or none.
"""

import asyncio
import itertools
from collections.abc import Awaitable, Callable, Iterable, Sequence

from pewter.evidence import Order
from pewter.tls.searches import Picks, tell_order
from pewter.tls.suites import table

MAX_ORDER_ROUNDS = 8


async def together(work: Iterable[Awaitable[None]]) -> None:
    await asyncio.gather(*work)


Pick = Callable[[Sequence[int]], Awaitable[int | None]]


async def search(parts: Sequence[Sequence[int]], picks: Picks, pick: Pick) -> Order:
    """Find all that is accepted in the parts, side by side; what is returned is whose order counts.

    The first part, in which several are likely, is offered as it is and turned round at once: that tells
    whether the server or the client decides, and finds up to two.
    """
    main, *others = (tuple(map(int, part)) for part in parts)
    ends: list[int | None] = []

    async def search_main() -> None:
        ends.extend(await asyncio.gather(pick(main), pick(main[::-1])))
        if any(each is not None for each in ends):
            await _split([each for each in main if each not in ends], pick)

    await together((search_main(), *(find(part, pick) for part in others)))
    found = [each for each in main if each in picks.found]
    if len(found) < 2:
        found = list(picks.guess())
        if len(found) < 2:
            return Order.ONE if found else Order.NOT_KNOWN
        ends = list(await asyncio.gather(pick(found), pick(found[::-1])))
    return tell_order(found, ends[0], ends[1])


async def settle_order(
    order: Order, picks: Picks, pick: Pick, usual: Callable[[int], tuple[int, ...]], pairs_left: int
) -> Order:
    """Hold neighbours of the guessed order against each other until it is known, or no pair is left to spend."""
    if order is not Order.SERVER:
        return order
    for _ in range(MAX_ORDER_ROUNDS):
        pairs = picks.open_pairs(picks.guess(usual))[:pairs_left]
        if not pairs:
            break
        pairs_left -= len(pairs)
        # Turned round: a server that follows the client in this pair must not confirm our guess.
        await asyncio.gather(*(pick((other, one)) for one, other in pairs))
    # Some servers choose by themselves, but let a client have ChaCha20 that puts it first.
    neighbours = itertools.pairwise(picks.guess(usual))
    await asyncio.gather(*(pick((other, one)) for one, other in neighbours if _is_chacha(one) > _is_chacha(other)))
    if picks.has_contradiction:
        return Order.MIXED
    return Order.SERVER if not picks.open_pairs(picks.guess(usual)) else Order.SERVER_IN_PART


async def find(candidates: Sequence[int], pick: Pick) -> None:
    """Strike out what is picked, and ask both halves of the rest at once."""
    picked = await pick(tuple(candidates))
    if picked is not None:
        await _split([each for each in candidates if each != picked], pick)


async def _split(left: Sequence[int], pick: Pick) -> None:
    await together(find(half, pick) for half in (left[::2], left[1::2]) if half)


def _is_chacha(code: int) -> bool:
    suite = table().get(code)
    return suite is not None and suite.cipher.startswith("CHACHA20")
