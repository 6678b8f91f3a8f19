"""What three kinds of visitors would negotiate, worked out from what an endpoint accepts."""

from collections.abc import Sequence

import msgspec

from pewter.evidence import BrowserHello, Endpoint, Order, Protocol, Seen, VersionOutcome
from pewter.phrases import some
from pewter.tls import Version, suite_name, version_name
from pewter.tls.browsers import BROWSERS, CHROMIUM
from pewter.tls.codepoints import HYBRID_GROUPS, Group, group_name
from pewter.tls.suites import table


class Client(msgspec.Struct, frozen=True):
    """A kind of visitor's program: what it offers, best first."""

    title: str
    versions: tuple[int, ...]
    suites: tuple[int, ...]
    groups: tuple[int, ...]


_TLS_1_3 = (0x1301, 0x1302, 0x1303)

CLIENTS = (
    Client(
        "current browser",
        CHROMIUM.versions,
        CHROMIUM.suites,
        CHROMIUM.groups,
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
        HYBRID_GROUPS,
    ),
)


class Negotiated(msgspec.Struct, frozen=True):
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
    found = [_negotiate(endpoint.protocol, client) for client in CLIENTS]
    # What a browser's own hello showed goes before what can be worked out.
    hello = next((each for each in endpoint.protocol.browsers if each.browser == CHROMIUM.title), None)
    match hello:
        case BrowserHello(seen=Seen(value=True), version=version, suite=suite, group=group):
            found[0] = Negotiated(CLIENTS[0].title, version, suite, group)
        case BrowserHello(seen=Seen(value=False)):
            found[0] = Negotiated(CLIENTS[0].title)
    return tuple(found)


def why_nothing_in_common(protocol: Protocol, hello: BrowserHello, key_kind: str) -> tuple[str, str]:
    """Why a browser's hello is refused, worked out from what the server accepts, and what would have to be there."""
    profile = next(each for each in BROWSERS if each.title == hello.browser)
    if hello.minds_octets:
        words = f"it is taken at another size, and not with its {hello.minds_octets:,} octets"
        return words, "a hello of any size up to some thousand octets taken"
    if hello.minds:
        return f"it is taken without {hello.minds}", "what a server does not know or need, passed over"
    authentication = "ECDSA" if key_kind == "EC" else "RSA"
    suite = f"TLS_ECDHE_{authentication}_WITH_AES_128_GCM_SHA256"
    found: list[str] = []
    for version in profile.versions:
        seen = protocol.suites_in(version)
        if version not in protocol.accepted or seen is None:
            continue
        common = [code for code in seen.suites if code in profile.suites]
        title = version_name(version)
        if not common:
            shown = some([suite_name(code).removeprefix("TLS_") for code in seen.suites], 3)
            found.append(f"of its suites in {title} ({shown}) the browser offers none")
            continue
        groups = protocol.groups_in(version)
        ephemeral = [code for code in common if table()[code].is_tls_1_3 or table()[code].key_exchange == "ECDHE"]
        if ephemeral and groups is not None and groups.groups and not set(groups.groups) & set(profile.groups):
            shown = some([*map(group_name, groups.groups)], 3)
            found.append(f"of its groups in {title} ({shown}) the browser offers none")
    if any("groups" in each for each in found):
        return "; ".join(found), "X25519 or P-256 among the groups"
    if found:
        return "; ".join(found), f"TLS 1.3, or {suite} in TLS 1.2"
    offered = "version, suites and groups are in common; signature algorithms or an extension are not"
    return offered, f"TLS 1.3, or {suite} in TLS 1.2, with a key that browsers take"


def _negotiate(protocol: Protocol, client: Client) -> Negotiated:
    common = [version for version in client.versions if version in protocol.accepted]
    if not common:
        unknown = any(
            seen.outcome is VersionOutcome.UNKNOWN and seen.version in client.versions for seen in protocol.versions
        )
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


def _choice(offered: Sequence[int], accepted: Sequence[int], order: Order) -> int | None:
    first, second = (accepted, offered) if order.is_servers else (offered, accepted)
    return next((int(each) for each in first if each in second), None)
