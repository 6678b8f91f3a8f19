"""Fetching issuers at the addresses that certificates name (RFC 5280 section 4.2.2.1).

Only over http, as the Baseline Requirements have it, and only where the sent certificates and the
stores do not already lead to a root.  The address is guarded like a redirect, and the answer bounded.
"""

from collections.abc import AsyncIterator, Sequence

from pewter.evidence import FetchedIssuer, Unseen
from pewter.pki import Certificate, Store, read_certificate, read_certificate_blocks

from ..fetching import fetch_file
from ..scene import Scene

MAX_STEPS = 4
"""Certificates that are fetched above one another."""

MAX_OCTETS = 1 << 16
MAX_ADDRESSES = 2
"""caIssuers addresses of one certificate that are tried."""


async def missing_issuers(
    scene: Scene, sent: Sequence[Certificate], stores: Sequence[Store]
) -> AsyncIterator[tuple[FetchedIssuer, dict[str, bytes]]]:
    """Fetch upwards from the last certificate whose issuer is not at hand, each address once in a look."""
    at_hand = list(sent)
    for _ in range(MAX_STEPS):
        top = _top(at_hand, stores)
        if top is None:
            return
        found: list[Certificate] = []
        for url in top.extensions.ca_issuers[:MAX_ADDRESSES]:
            if not scene.is_first(("issuer", url)):
                continue
            answer = await _fetch(scene, url)
            if isinstance(answer, Unseen):
                yield FetchedIssuer(url, top.sha256, answer.reason), {}
                continue
            found = answer
            yield (
                FetchedIssuer(url, top.sha256, tuple(each.sha256 for each in found)),
                {each.sha256: each.der for each in found},
            )
            break
        if not found:
            return
        at_hand += found


def _top(at_hand: Sequence[Certificate], stores: Sequence[Store]) -> Certificate | None:
    """The certificate on the leaf's way up whose issuer is neither at hand nor an anchor."""
    top = at_hand[0]
    for _ in range(len(at_hand)):
        wanted = top.issuer.comparable
        if top.is_self_issued or any(wanted in store.by_subject for store in stores):
            return None
        above = [each for each in at_hand if each.subject.comparable == wanted and each is not top]
        if not above:
            return top
        top = above[0]
    return None


async def _fetch(scene: Scene, text: str) -> list[Certificate] | Unseen:
    body = await fetch_file(text, scene.context, MAX_OCTETS)
    if isinstance(body, Unseen):
        return body
    read = [read_certificate(der) for der in read_certificate_blocks(body)]
    found = [each for each in read if isinstance(each, Certificate)]
    return found or Unseen("what came is no certificate")
