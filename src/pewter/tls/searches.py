"""What to ask for in searching a server's suites and groups, and how to tell their order from its picks.

A server that is offered a set picks one of it.  Each pick says two things: that the suite is accepted, and
that the server puts it before every other one of the set that it accepts.  The order is total where the
server has one, so it is known once each two neighbours of a guessed order were held against each other;
a wrong guess is mended by what was learnt and asked again.  All pairs of one guess are asked at once,
which is what keeps the search shallow: strike-out, one pick after the other, takes as many round trips as
there are suites.
"""

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from .codepoints import Group, Version
from .suites import CipherSuite, table

_ANONYMOUS_SCSV = {0x00FF, 0x5600}
MAX_SUITES_A_HELLO = 96
"""Some old servers close on a hello with very many suites."""

TLS_1_3_GROUPS = (
    (Group.X25519MLKEM768, Group.SECP256R1MLKEM768, Group.SECP384R1MLKEM1024, Group.X25519KYBER768DRAFT00,
     Group.MLKEM768, Group.MLKEM1024, Group.MLKEM512),
    (Group.X25519, Group.SECP256R1, Group.X448, Group.SECP384R1, Group.SECP521R1,
     Group.FFDHE2048, Group.FFDHE3072, Group.FFDHE4096, Group.FFDHE6144, Group.FFDHE8192,
     Group.BRAINPOOLP256R1TLS13, Group.BRAINPOOLP384R1TLS13, Group.BRAINPOOLP512R1TLS13, Group.CURVESM2),
)  # fmt: skip
"""Hybrids apart from the rest, so that both are searched at once."""

OLD_CURVES = (
    (Group.X25519, Group.SECP256R1, Group.X448, Group.SECP384R1, Group.SECP521R1),
    tuple(
        group for group in Group if group < Group.SECP256R1 or Group.BRAINPOOLP256R1 <= group <= Group.BRAINPOOLP512R1
    ),
)
"""Curves of TLS 1.2 and below, as ServerKeyExchange names them."""


def suites_for(version: int) -> tuple[tuple[int, ...], ...]:
    """Every suite of the table that can stand in a hello of this version, in parts that are searched at once."""
    known = [each for each in table().values() if each.code not in _ANONYMOUS_SCSV and each.code != 0]
    if version == Version.TLS_1_3:
        return (tuple(each.code for each in known if each.is_tls_1_3),)
    usable = [each for each in known if not each.is_tls_1_3 and (version == Version.TLS_1_2 or not each.needs_tls_1_2)]
    parts: dict[int, list[int]] = {}
    for each in sorted(usable, key=_likelihood):
        parts.setdefault(_part(each), []).append(each.code)
    return tuple(
        tuple(part[start : start + MAX_SUITES_A_HELLO])
        for _, part in sorted(parts.items())
        for start in range(0, len(part), MAX_SUITES_A_HELLO)
    )


def _part(suite: CipherSuite) -> int:
    usual = suite.authentication in {"RSA", "ECDSA"} and not suite.is_export and suite.bits >= 112
    if usual and suite.key_exchange == "ECDHE" and suite.is_aead:
        return 0
    return 1 if usual and suite.key_exchange in {"ECDHE", "DHE", "RSA"} else 2


def _likelihood(suite: CipherSuite) -> tuple[int, int, int]:
    """Those that servers mostly have come first."""
    ciphers = ("AES_256_GCM", "AES_128_GCM", "CHACHA20", "AES_256", "AES_128")
    rank = next((position for position, each in enumerate(ciphers) if suite.cipher.startswith(each)), len(ciphers))
    exchange = {"ECDHE": 0, "DHE": 1, "RSA": 2}.get(suite.key_exchange, 3)
    return rank, exchange, suite.code


def usual_place(code: int) -> tuple[int, ...]:
    """A key by which most servers order suites: forward secrecy first, then AEAD, then the longer key."""
    suite = table().get(code)
    if suite is None:
        return (9, 0, 0, 0, code)
    return (
        not suite.forward_secrecy,
        not suite.bits,
        not suite.is_aead,
        -suite.bits,
        suite.key_exchange != "ECDHE",
        code,
    )


@dataclass
class Picks:
    """Everything that a server picked from one kind of sets."""

    _seen: list[tuple[frozenset[int], int]] = field(default_factory=list)

    def note(self, offered: Sequence[int], picked: int) -> None:
        self._seen.append((frozenset(offered), picked))

    @property
    def found(self) -> tuple[int, ...]:
        """Accepted ones, in the order in which they were found."""
        return tuple(dict.fromkeys(picked for _, picked in self._seen))

    def puts_first(self, one: int, other: int) -> bool:
        """Whether a pick showed that ``one`` goes before ``other``."""
        return any(picked == one and other in offered for offered, picked in self._seen)

    def guess(self, usual: Callable[[int], tuple[int, ...]] | None = None) -> tuple[int, ...]:
        """The found ones in the best order known: what was shown, else the usual, else what was found first."""
        left, order = list(self.found), []
        if usual is not None:
            left.sort(key=usual)
        while left:
            free = [each for each in left if not any(self.puts_first(other, each) for other in left if other != each)]
            chosen = free[0] if free else left[0]  # a circle shows a server without one order
            left.remove(chosen)
            order.append(chosen)
        return tuple(order)

    def open_pairs(self, order: Sequence[int]) -> tuple[tuple[int, int], ...]:
        """Neighbours of an order that were not held against each other yet."""
        return tuple(
            (one, other)
            for one, other in itertools.pairwise(order)
            if not self.puts_first(one, other) and not self.puts_first(other, one)
        )


def tell_order(forward: Sequence[int], picked_forward: int | None, picked_backward: int | None) -> str:
    """``server``, ``client``, ``mixed`` or ``not known``, from the picks out of a list and of the list turned round."""
    if picked_forward is None or picked_backward is None:
        return "not known"
    if picked_forward == picked_backward:
        return "server"
    return "client" if (picked_forward, picked_backward) == (forward[0], forward[-1]) else "mixed"
