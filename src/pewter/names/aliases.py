"""Alias chains: where a name leads, and how the chain ends."""

import enum
from collections.abc import Mapping

import msgspec

from pewter.evidence import Reply

MOST_ALIASES = 16


class ChainEnd(enum.Enum):
    """How a chain of aliases ends."""

    ADDRESSES = "addresses"
    NOTHING = "no address"
    """NODATA for the family that was asked."""

    NO_SUCH_NAME = "no such name"
    LOOP = "a loop"
    OPEN = "not followed to its end"


class Chain(msgspec.Struct, frozen=True):
    """``links[0]`` is the name; each further one the target of the alias before it."""

    links: tuple[str, ...]
    end: ChainEnd

    @property
    def last(self) -> str:
        return self.links[-1]

    @property
    def aliases(self) -> int:
        return len(self.links) - 1


def targets_in(*replies: Reply) -> dict[str, str]:
    """Alias targets by owner, as several answers together tell; made-up aliases of a DNAME among them."""
    return {each.owner: each.data for reply in replies for each in reply.answer if each.type == "CNAME"}


def follow(name: str, targets: Mapping[str, str], rcode: str, has_addresses: bool) -> Chain:
    """The chain of a name, whose last answer had ``rcode``.

    NXDOMAIN speaks of the last name of the chain (RFC 6604 section 3).
    """
    links = [name]
    while links[-1] in targets:
        target = targets[links[-1]]
        if target in links:
            return Chain((*links, target), ChainEnd.LOOP)
        if len(links) > MOST_ALIASES:
            return Chain(tuple(links), ChainEnd.OPEN)
        links.append(target)
    if has_addresses:
        return Chain(tuple(links), ChainEnd.ADDRESSES)
    match rcode:
        case "NXDOMAIN":
            return Chain(tuple(links), ChainEnd.NO_SUCH_NAME)
        case "NOERROR":
            return Chain(tuple(links), ChainEnd.NOTHING)
    return Chain(tuple(links), ChainEnd.OPEN)
