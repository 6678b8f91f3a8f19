"""Fetching a file at an address that a certificate names: an issuer, an OCSP response, a CRL.

Only over http, as the Baseline Requirements have it.  The address is guarded like a redirect, and the
answer is bounded in octets and time.
"""

import asyncio

from pewter.evidence import Unseen
from pewter.web.redirects import FOLLOWED, next_url
from pewter.web.urls import InvalidUrl, Url, read_url

from .exchanges import BrokenOff, lone_connection
from .journeys import JourneyContext

MAX_REDIRECTS = 3


async def fetch_file(
    text: str, context: JourneyContext, max_octets: int, redirects: int = MAX_REDIRECTS
) -> bytes | Unseen:
    """The body of a 200 answer, or why there is none.  Redirects are followed, each guarded as the address itself."""
    try:
        url = read_url(text)
    except InvalidUrl as exc:
        return Unseen(f"the address cannot be used: {exc}")
    if url.is_https:
        return Unseen("the address is https, which would need a certificate to get one")
    destinations = await context.destinations(url)
    if isinstance(destinations, Unseen):
        return destinations
    destination = destinations[0]
    refusal = context.why_not_contact(url, destination)
    if refusal is not None:
        return Unseen(f"not contacted: {refusal}")
    try:
        async with lone_connection(url, destination, context.network, context.step_seconds) as connection:
            async with asyncio.timeout(context.step_seconds):
                head, body = await connection.get_body(url, max_octets)
    except TimeoutError:
        return Unseen(f"no whole answer within {context.step_seconds:g} s")
    except BrokenOff as exc:
        return Unseen(f"no answer: {exc}")
    if head.status in FOLLOWED:
        try:
            following = next_url(head.status, head.values("Location"), url)
        except InvalidUrl as exc:
            return Unseen(f"its redirect cannot be followed: {exc}")
        if isinstance(following, Url) and redirects:
            return await fetch_file(str(following), context, max_octets, redirects - 1)
        return Unseen(f"status {head.status}" if redirects else f"more than {MAX_REDIRECTS} redirects")
    if head.status != 200:
        return Unseen(f"status {head.status}")
    return body if body is not None else Unseen(f"more than {max_octets} octets")
