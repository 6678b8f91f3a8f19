"""What three kinds of visitors would negotiate, worked out from what an endpoint accepts."""

from collections.abc import Sequence
from dataclasses import dataclass

from pewter.evidence import Endpoint, Protocol
from pewter.tls import Version
from pewter.tls.codepoints import Group
from pewter.tls.suites import table


@dataclass(frozen=True)
class Client:
    """A kind of visitor's program: what it offers, best first."""

    title: str
    versions: tuple[int, ...]
    suites: tuple[int, ...]
    groups: tuple[int, ...]


_TLS_1_3 = (0x1301, 0x1302, 0x1303)
_BROWSER_SUITES = (
    *(0xC02B, 0xC02F, 0xC02C, 0xC030, 0xCCA9, 0xCCA8),
    *(0xC013, 0xC014, 0x009C, 0x009D, 0x002F, 0x0035),
)

CLIENTS = (
    Client(
        "current browser",
        (Version.TLS_1_3, Version.TLS_1_2),
        (*_TLS_1_3, *_BROWSER_SUITES),
        (Group.X25519MLKEM768, Group.X25519, Group.SECP256R1, Group.SECP384R1),
    ),
    Client(
        "old phone (TLS 1.2 at most)",
        (Version.TLS_1_2, Version.TLS_1_1, Version.TLS_1_0),
        (0xC02B, 0xC02F, 0xC009, 0xC013, 0xC00A, 0xC014, 0x009C, 0x002F, 0x0035, 0x000A),
        (Group.SECP256R1, Group.SECP384R1),
    ),
    Client(
        "post-quantum only",
        (Version.TLS_1_3,),
        _TLS_1_3,
        (Group.X25519MLKEM768, Group.SECP256R1MLKEM768, Group.SECP384R1MLKEM1024),
    ),
)


@dataclass(frozen=True)
class Negotiated:
    """What comes about; no version where nothing does."""

    client: str
    version: int | None = None
    suite: int | None = None
    group: int | None = None
    is_known: bool = True
    """False where what was seen does not tell."""


def negotiations(endpoint: Endpoint) -> tuple[Negotiated, ...]:
    """For each kind of visitor, in the order of CLIENTS."""
    if endpoint.protocol is None:
        return ()
    return tuple(_negotiate(endpoint.protocol, client) for client in CLIENTS)


def _negotiate(protocol: Protocol, client: Client) -> Negotiated:
    accepted = {seen.version for seen in protocol.versions if seen.outcome == "accepted"}
    common = [version for version in client.versions if version in accepted]
    if not common:
        unknown = any(seen.outcome == "unknown" and seen.version in client.versions for seen in protocol.versions)
        return Negotiated(client.title, is_known=not unknown)
    version = max(common)
    seen = protocol.suites_in(version)
    if seen is None or (seen.unfinished and not seen.suites):
        return Negotiated(client.title, version, is_known=False)
    offered = [code for code in client.suites if table()[code].is_tls_1_3 == (version == Version.TLS_1_3)]
    suite = _choice(offered, seen.suites, seen.order)
    if suite is None:
        return Negotiated(client.title, is_known=not seen.unfinished)
    groups = protocol.groups_in(version)
    ephemeral = version == Version.TLS_1_3 or table()[suite].key_exchange == "ECDHE"
    if not ephemeral:
        return Negotiated(client.title, version, suite)
    if groups is None or (groups.unfinished and not groups.groups):
        return Negotiated(client.title, version, suite, is_known=client.title != CLIENTS[2].title)
    group = _choice(client.groups, groups.groups, groups.order)
    if group is None and version == Version.TLS_1_3:
        return Negotiated(client.title, is_known=not groups.unfinished)
    return Negotiated(client.title, version, suite, group)


def _choice(offered: Sequence[int], accepted: Sequence[int], order: str) -> int | None:
    first, second = (accepted, offered) if order.startswith("server") else (offered, accepted)
    return next((int(each) for each in first if each in second), None)
