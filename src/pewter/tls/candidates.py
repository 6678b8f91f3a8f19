"""Suites and groups that are asked for, in parts that are searched at once, and the orders that servers mostly have."""

import functools
import itertools
from collections.abc import Callable

from .codepoints import HYBRID_GROUPS, Group, Version
from .suites import CipherSuite, table

_ANONYMOUS_SCSV = {0x00FF, 0x5600}
MAX_SUITES_A_HELLO = 150
"""Some old servers close on a hello with very many suites."""

MAIN_SUITES = {
    int(Version.TLS_1_3): (0x1301, 0x1303, 0x1302),
    int(Version.TLS_1_2): (0xC02B, 0xC02F, 0xCCA9, 0xCCA8, 0xC02C, 0xC030),
}
"""Those that nearly every server has some of: a set that is picked empty needs no hello to be refused.

ChaCha20 stands at neither end: some servers choose by themselves, but let a client have it that puts it first.
"""

_MAIN_OLD_SUITES = (0xC009, 0xC013, 0xC00A, 0xC014, 0x002F, 0x0035)

_USUAL_CURVES = (Group.X25519, Group.SECP256R1, Group.X448, Group.SECP384R1, Group.SECP521R1)
TLS_1_3_GROUPS = (
    _USUAL_CURVES,
    (*HYBRID_GROUPS, Group.X25519KYBER768DRAFT00,
     Group.MLKEM768, Group.MLKEM1024, Group.MLKEM512, Group.CURVESM2,
     Group.BRAINPOOLP256R1TLS13, Group.BRAINPOOLP384R1TLS13, Group.BRAINPOOLP512R1TLS13),
    (Group.FFDHE2048, Group.FFDHE3072, Group.FFDHE4096, Group.FFDHE6144, Group.FFDHE8192),
)  # fmt: skip
"""In parts that are searched at once."""

EVERY_TLS_1_3_GROUP = tuple(int(group) for part in TLS_1_3_GROUPS for group in part)

OLD_CURVES = (
    _USUAL_CURVES,
    tuple(
        group for group in Group if group < Group.SECP256R1 or Group.BRAINPOOLP256R1 <= group <= Group.BRAINPOOLP512R1
    ),
)
"""Curves of TLS 1.2 and below, as ServerKeyExchange names them."""


@functools.cache
def suites_for(version: int) -> tuple[tuple[int, ...], ...]:
    """Every suite of the table that can stand in a hello of this version, in parts that are searched at once."""
    known = [each for each in table().values() if each.code not in _ANONYMOUS_SCSV and each.code != 0]
    main = MAIN_SUITES.get(version, _MAIN_OLD_SUITES)
    others = [each for each in known if each.code not in main]
    if version == Version.TLS_1_3:
        return main, tuple(each.code for each in others if each.is_tls_1_3)
    usable = [each for each in others if not each.is_tls_1_3 and (version == Version.TLS_1_2 or not each.needs_tls_1_2)]
    usable.sort(key=_likelihood)
    usual = tuple(each.code for each in usable if _is_usual(each))
    rest = tuple(each.code for each in usable if not _is_usual(each))
    pieces = (rest[start : start + MAX_SUITES_A_HELLO] for start in range(0, len(rest), MAX_SUITES_A_HELLO))
    return main, usual, *pieces


def usual_suites(version: int) -> tuple[int, ...]:
    """The suites of a hello that nearly every server of this version can take."""
    return tuple(itertools.chain.from_iterable(suites_for(version)[:2]))


def _is_usual(suite: CipherSuite) -> bool:
    proven = suite.authentication in {"RSA", "ECDSA"} and suite.key_exchange in {"ECDHE", "DHE", "RSA"}
    return proven and not suite.is_export and suite.bits >= 112


def _likelihood(suite: CipherSuite) -> tuple[int, int, int]:
    """Those that servers mostly have come first."""
    ciphers = ("AES_256_GCM", "AES_128_GCM", "CHACHA20", "AES_256", "AES_128")
    rank = next((position for position, each in enumerate(ciphers) if suite.cipher.startswith(each)), len(ciphers))
    exchange = {"ECDHE": 0, "DHE": 1, "RSA": 2}.get(suite.key_exchange, 3)
    return rank, exchange, suite.code


def usual_order(first: int) -> Callable[[int], tuple[int, ...]]:
    """A key by which most servers order suites: forward secrecy first, then AEAD, then by the length of the key.

    ``first`` is what the server likes best: it tells whether longer or shorter keys come first.
    """
    best = table().get(first)
    shorter_first = best is not None and best.bits == 128

    def key(code: int) -> tuple[int, ...]:
        suite = table().get(code)
        if suite is None:
            return (9, 0, 0, 0, 0, code)
        bits = suite.bits if shorter_first else -suite.bits
        is_chacha = suite.cipher.startswith("CHACHA20")
        by_length = (is_chacha, bits) if shorter_first else (bits, is_chacha)
        return (
            not suite.forward_secrecy,
            not suite.bits,
            not suite.is_aead,
            *by_length,
            suite.key_exchange != "ECDHE",
            suite.authentication != "ECDSA",
            code,
        )

    return key


def usual_group_order(group: int) -> tuple[int, ...]:
    """The key for groups: hybrids first, then in the order of the parts."""
    order = [int(each) for part in (TLS_1_3_GROUPS[1], TLS_1_3_GROUPS[0], *TLS_1_3_GROUPS[2:]) for each in part]
    return (order.index(group),) if group in order else (len(order), group)
