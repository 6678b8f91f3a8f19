"""The protocol look at one endpoint: versions, suites, groups and the options of the handshake.

It begins when the first hellos were answered, and asks everything else side by side:

    SSL 2.0, SSL 3.0, second hellos for doubtful versions
    suites of each accepted version, in parts -- their order
    groups of TLS 1.3 and curves of TLS 1.2 -- their order
    finite-field parameters, a rich TLS 1.2 hello, tickets, tolerance, other names, the other kind of key

A server that ends connections can mean three things: it refuses what was asked, it cannot read the hello,
or it has had enough of us.  Only the first is a finding.  So what ends without an alert is asked again, and a
hello that worked before is sent as a control: where that fails too, the server is under strain, and the look
slows down to one connection at a time and waits.
"""

import asyncio
import os
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, field

import msgspec

from pewter.evidence import (
    Alert,
    BrowserHello,
    Ended,
    Feature,
    FiniteField,
    GroupsSeen,
    Handshake,
    HowEnded,
    NoConnection,
    Offer,
    Order,
    Probe,
    Protocol,
    Seen,
    SuitesSeen,
    Tries,
    Unseen,
    VersionOutcome,
    VersionSeen,
    protocols,
)
from pewter.tls import Conversation, Version, alert_name, fingerprint
from pewter.tls.browsers import BROWSERS, BrowserProfile
from pewter.tls.codepoints import ExtensionType, Group, extension_name
from pewter.tls.offers import MODERN, OPTIONAL_EXTENSIONS
from pewter.tls.searches import (
    OLD_CURVES,
    TLS_1_3_GROUPS,
    Picks,
    suites_for,
    usual_group_order,
    usual_order,
)
from pewter.tls.ssl2 import Ssl2Hello, Ssl2Trial
from pewter.tls.suites import table
from pewter.tls.trial import Picked, Refused, Trial
from pewter.web.further_ways import UNKNOWN_HOST

from .hellos import drive
from .routes import Destination
from .searching import find, search, settle_order, together
from .slots import Priority, Slots

OLD_VERSIONS = (Version.TLS_1_2, Version.TLS_1_1, Version.TLS_1_0)
_SETTLED = frozenset({"alert protocol_version", "other version"})
"""Refusals that speak of the version alone."""

_NOT_ASKED = Unseen("not asked")

PAUSES_SECONDS = (0.5, 1.5, 3.0)
"""Before each further attempt at a server that refuses connections."""

TRIAL_SECONDS = 5.0
TICKET_SECONDS = 1.5
CONTROLS = 2
"""Times that a hello is held against the same one with a change, before the change is blamed."""

MAX_GROUP_PAIRS = 2
"""Pairs of groups that are held against each other: of their order only the first matter."""

MAX_CONNECTIONS = 400
"""Of one endpoint: more than a server with every suite of the table in four versions asks for."""

_TLS_1_3_GROUPS = tuple(int(group) for part in TLS_1_3_GROUPS for group in part)
_RSA_SCHEMES = (0x0804, 0x0805, 0x0806, 0x0401, 0x0501, 0x0601, 0x0201)
_ECDSA_SCHEMES = (0x0403, 0x0503, 0x0603, 0x0203)
_COMMON_SUITES = (
    0xC02F,
    0xC030,
    0xC02B,
    0xC02C,
    0xC013,
    0xC014,
    0xC009,
    0xC00A,
    0x009C,
    0x009D,
    0x002F,
    0x0035,
    0x000A,
)


@dataclass
class ProtocolLook:
    """One endpoint's look; :meth:`run` fills :attr:`protocol`, which holds what is known at any time."""

    name: str
    destination: Destination
    slots: Slots
    step_seconds: float
    probes: tuple[Probe, ...]
    """The first hellos and their answers."""

    minds: tuple[int, ...] = ()
    """Extension types that are left out of every hello, since the server ends it otherwise."""

    certificates: dict[str, bytes] = field(default_factory=dict)
    """What came with the full exchanges of this look."""

    more_probes: list[Probe] = field(default_factory=list)
    nameless: list[Probe] = field(default_factory=list)
    connections: int = 0
    _versions: dict[int, VersionSeen] = field(default_factory=dict)
    _suites: dict[int, SuitesSeen] = field(default_factory=dict)
    _groups: dict[int, GroupsSeen] = field(default_factory=dict)
    _features: dict[str, Feature] = field(default_factory=dict)
    _finite_field: Seen[FiniteField | None] | Unseen = _NOT_ASKED
    _browsers: dict[str, BrowserHello] = field(default_factory=dict)
    _controls: list[bool] = field(default_factory=list)
    """Whether each control was answered that was sent on its own, one connection at a time."""

    _ends_without_alert: bool = False
    """It was shown that this server refuses by ending the connection."""

    _strained: str = ""
    """Why nothing more is asked."""

    @property
    def protocol(self) -> Protocol:
        return Protocol(
            versions=tuple(seen for _, seen in sorted(self._versions.items(), reverse=True)),
            suites=tuple(seen for _, seen in sorted(self._suites.items(), reverse=True)),
            groups=tuple(seen for _, seen in sorted(self._groups.items(), reverse=True)),
            finite_field=self._finite_field,
            features=tuple(feature for _, feature in sorted(self._features.items())),
            browsers=tuple(self._browsers[each.title] for each in BROWSERS if each.title in self._browsers),
            tries=(Tries("the hello that worked before", len(self._controls), sum(self._controls)),)
            if self._controls and sum(self._controls) < len(self._controls)
            else (),
            connections=self.connections,
            slowed_down=self.slots.is_slow(self.destination.address),
        )

    async def run(self) -> None:
        self._take_first_answers()
        for version in (Version.SSL_3_0, Version.SSL_2_0):
            self._versions.setdefault(
                version, VersionSeen(version, VersionOutcome.UNKNOWN, "not reached before the deadline")
            )
        first: list[Awaitable[None]] = [self._ask_ssl_2(), self._ask_version(Version.SSL_3_0)]
        asked = (Version.TLS_1_3, *OLD_VERSIONS)
        first += [self._ask_version(version) for version in asked if not self._is_settled(version)]
        if not self._accepted:
            await together(first)
            if not self._accepted:
                return
            first = []
        await together([*first, *self._of_accepted()])
        late = self._accepted - {int(Version.SSL_2_0), *self._suites}
        await together(self._search_suites(version) for version in late)
        await together([self._ask_fallback_guard(), *(self._explain_refusal(profile) for profile in BROWSERS)])

    def _of_accepted(self) -> list[Awaitable[None]]:
        # SSL 2.0 has hellos and ciphers of its own, and nothing else to be asked.
        accepted = self._accepted - {int(Version.SSL_2_0)}
        if not accepted:
            return []
        old = [version for version in OLD_VERSIONS if version in accepted]
        work: list[Awaitable[None]] = [self._search_suites(version) for version in sorted(accepted, reverse=True)]
        if Version.TLS_1_3 in accepted:
            work += [self._search_groups(int(Version.TLS_1_3)), self._ask_tickets()]
        work += [self._ask_tolerance(), self._ask_nameless(None), self._ask_nameless(UNKNOWN_HOST)]
        work += [self._ask_other_key(), self._ask_h2()]
        if max(accepted) >= Version.TLS_1_2:
            work += [self._ask_as(profile) for profile in BROWSERS]
        if old:
            work.append(self._ask_rich(old[0]))
        return work

    # Versions

    def _take_first_answers(self) -> None:
        for probe in self.probes:
            if isinstance(probe.answer, Handshake):
                self._accept(probe.answer.version, "")
        for version in (Version.TLS_1_3, *OLD_VERSIONS):
            asked = [probe for probe in self.probes if version in probe.offer.versions]
            if version in self._versions or not asked:
                continue
            alone = next((probe for probe in asked if len(probe.offer.versions) == 1), asked[0])
            outcome, how = _outcome_of(alone)
            if version == Version.TLS_1_3 and isinstance(alone.answer, Handshake):
                outcome, how = VersionOutcome.REFUSED, "TLS 1.2 in its place"
            self._versions[version] = VersionSeen(version, outcome, how)

    @property
    def _accepted(self) -> frozenset[int]:
        return frozenset(
            int(version) for version, seen in self._versions.items() if seen.outcome is VersionOutcome.ACCEPTED
        )

    def _accept(self, version: int, how: str) -> None:
        self._versions[version] = VersionSeen(version, VersionOutcome.ACCEPTED, how)

    def _is_settled(self, version: int) -> bool:
        seen = self._versions.get(version)
        return seen is not None and (seen.outcome is VersionOutcome.ACCEPTED or seen.how in _SETTLED)

    async def _ask_version(self, version: int) -> None:
        """A hello of another shape for a version whose first hello was not plainly answered."""
        suites = tuple(each for part in suites_for(version)[:2] for each in part)
        offers = [Offer((version,), self.name, suites, options=("rich",))]
        if version == Version.TLS_1_3:
            # Nothing but what a hello must have, and shares: some servers cannot do without.
            offers.append(Offer((version,), self.name, suites, shares=(0x001D, 0x0017), without=OPTIONAL_EXTENSIONS))
        if Version.SSL_3_0 < version < Version.TLS_1_3:
            few = tuple(each for each in _COMMON_SUITES if each in suites)
            offers.append(Offer((version,), self.name, few, groups=(0x0017, 0x0018)))
        for offer in offers:
            answer = await self._ask(offer)
            match answer:
                case Picked():
                    self._accept(version, "")
                    return
                case Refused(how=how):
                    self._versions[version] = VersionSeen(version, VersionOutcome.REFUSED, how)
                    if how in _SETTLED:
                        return
                case Unseen(reason=reason):
                    self._versions[version] = VersionSeen(version, VersionOutcome.UNKNOWN, reason)
                    return

    async def _ask_ssl_2(self) -> None:
        trial = Ssl2Trial(os.urandom(16))
        failure = await self._drive(trial)
        version = Version.SSL_2_0
        match failure or trial.answer:
            case Ssl2Hello(ciphers=ciphers):
                self._accept(version, "" if ciphers else "without any cipher")
            case Refused(how=how):
                self._versions[version] = VersionSeen(version, VersionOutcome.REFUSED, how)
            case NoConnection(detail=reason) | Unseen(reason=reason):
                self._versions[version] = VersionSeen(version, VersionOutcome.UNKNOWN, reason)

    # Suites

    async def _search_suites(self, version: int) -> None:
        parts = suites_for(version)
        asked = sum(map(len, parts))
        picks = Picks()
        unfinished: list[str] = []

        def offer(suites: Sequence[int]) -> Offer:
            shares = () if version == Version.TLS_1_3 else None
            groups = _TLS_1_3_GROUPS if version == Version.TLS_1_3 else None
            return Offer((version,), self.name, tuple(suites), groups=groups, shares=shares)

        async def pick(suites: Sequence[int]) -> int | None:
            return await self._pick(offer(suites), suites, picks, unfinished, lambda answer: answer.suite)

        def usual() -> Callable[[int], tuple[int, ...]]:
            return usual_order(picks.found[0] if picks.found else 0)

        def keep(order: Order) -> None:
            why = unfinished[0] if unfinished else ""
            self._suites[version] = SuitesSeen(version, picks.guess(usual()), order, asked, why)

        self._suites[version] = SuitesSeen(version, (), Order.NOT_KNOWN, asked, "not reached before the deadline")
        order = await search(parts, picks, pick)
        if not picks.found and version == Version.TLS_1_3 and not unfinished:
            await self._search_with_shares(parts[0], picks, unfinished)
        keep(order)
        keep(await settle_order(order, picks, pick, usual(), len(picks.found)))

    async def _search_with_shares(self, suites: Sequence[int], picks: Picks, unfinished: list[str]) -> None:
        """For a server that cannot do with an empty key_share."""

        async def pick(left: Sequence[int]) -> int | None:
            offer = Offer((int(Version.TLS_1_3),), self.name, tuple(left), shares=(0x001D, 0x0017))
            return await self._pick(offer, left, picks, unfinished, lambda answer: answer.suite)

        await find(suites, pick)

    async def _pick(
        self,
        offer: Offer,
        candidates: Sequence[int],
        picks: Picks,
        unfinished: list[str],
        value: Callable[[Picked], int | None],
        *,
        to_key_exchange: bool = False,
    ) -> int | None:
        """What the server picks; None where it refuses, or where that could not be learnt."""
        answer = await self._ask(offer, to_key_exchange=to_key_exchange)
        match answer:
            case Picked():
                picked = value(answer)
                if picked is None or picked not in candidates:
                    return None
                picks.note(candidates, picked)
                return picked
            case Unseen(reason=reason):
                unfinished.append(reason)
        return None

    # Groups

    async def _search_groups(self, version: int, suites: Sequence[int] | None = None) -> None:
        """Groups by HelloRetryRequest in TLS 1.3; curves by ServerKeyExchange with these ``suites`` before it."""
        parts = TLS_1_3_GROUPS if version == Version.TLS_1_3 else OLD_CURVES
        asked = sum(map(len, parts))
        picks, unfinished = Picks(), list[str]()

        async def pick(groups: Sequence[int]) -> int | None:
            shares = () if version == Version.TLS_1_3 else None
            offer = Offer((version,), self.name, tuple(suites) if suites else None, tuple(map(int, groups)), shares)
            return await self._pick(
                offer, groups, picks, unfinished, lambda answer: answer.group, to_key_exchange=suites is not None
            )

        def keep(order: Order, why: str) -> None:
            self._groups[version] = GroupsSeen(version, picks.guess(usual_group_order), order, asked, why)

        keep(Order.NOT_KNOWN, "not reached before the deadline")
        order = await search(parts, picks, pick)
        silent = not picks.found and version == Version.TLS_1_3
        why = unfinished[0] if unfinished else "no answer to a hello without key shares" if silent else ""
        keep(order, why)
        pairs = MAX_GROUP_PAIRS if version == Version.TLS_1_3 else 0
        keep(await settle_order(order, picks, pick, usual_group_order, pairs), why)

    # Options

    async def _ask_rich(self, version: int) -> None:
        """All that TLS 1.2 and below answer in ServerHello, then what needs to know the suites."""
        elliptic = tuple(
            code for part in suites_for(version)[:2] for code in part if table()[code].key_exchange == "ECDHE"
        )
        finite = tuple(code for part in suites_for(version)[:2] for code in part if table()[code].key_exchange == "DHE")
        curves = self._search_groups(version, elliptic)
        await together([self._ask_rich_hello(version), self._ask_finite_field(version, finite), curves])

    async def _ask_rich_hello(self, version: int) -> None:
        suites = tuple(each for part in suites_for(version)[:2] for each in part)
        answer = await self._ask(Offer((version,), self.name, suites, options=("rich", "compression")))
        named = {
            protocols.SECURE_RENEGOTIATION: ExtensionType.RENEGOTIATION_INFO,
            protocols.EXTENDED_MASTER_SECRET: ExtensionType.EXTENDED_MASTER_SECRET,
            protocols.TICKETS_1_2: ExtensionType.SESSION_TICKET,
        }
        for feature, extension in named.items():
            seen = Seen(extension in answer.extensions) if isinstance(answer, Picked) else _why_unseen(answer)
            self._features[feature] = Feature(feature, seen)
        squeezed = Seen(answer.compression != 0) if isinstance(answer, Picked) else _why_unseen(answer)
        self._features[protocols.COMPRESSION] = Feature(protocols.COMPRESSION, squeezed)

    async def _ask_finite_field(self, version: int, suites: tuple[int, ...]) -> None:
        """Groups of RFC 7919 are left out of the hello, so that the server sends its own parameters."""
        answer = await self._ask(Offer((version,), self.name, suites), to_key_exchange=True)
        match answer:
            case Picked(prime=prime) if prime:
                bits = int.from_bytes(prime, "big").bit_length()
                self._finite_field = Seen(FiniteField(bits, fingerprint(prime)))
            case Refused():
                self._finite_field = Seen(None)
            case _:
                self._finite_field = Unseen("the parameters did not come")

    async def _ask_tickets(self) -> None:
        """A whole handshake, for what comes after it: session tickets, and whether they allow early data."""
        conversation = Conversation(self._fitted(Offer(MODERN, self.name)), os.urandom(64), finish=True)
        failure = await self._drive(conversation, seconds=TICKET_SECONDS + 1)
        if failure is not None or not conversation.finished:
            words = failure.detail if isinstance(failure, NoConnection) else "the handshake could not be finished"
            seen: Seen[bool] | Unseen = Unseen(words)
            early = seen
        else:
            seen, early = Seen(bool(conversation.tickets)), Seen(any(conversation.tickets))
        detail = f"max_early_data_size {max(conversation.tickets)}" if any(conversation.tickets) else ""
        self._features[protocols.TICKETS_1_3] = Feature(protocols.TICKETS_1_3, seen)
        self._features[protocols.EARLY_DATA] = Feature(protocols.EARLY_DATA, early, detail)

    async def _ask_h2(self) -> None:
        answered = [probe.answer for probe in self.probes if isinstance(probe.answer, Handshake)]
        if any(answer.alpn == "h2" for answer in answered):
            self._features[protocols.H2] = Feature(protocols.H2, Seen(True))
            return
        answer = await self._ask(Offer(MODERN, self.name, shares=(0x001D,), alpn=("h2",)))
        if isinstance(answer, Picked) and answer.version == Version.TLS_1_3 and not answer.hello_retry:
            # The protocol stands in EncryptedExtensions: only a whole exchange shows it.
            probe = await self._exchange(Offer(MODERN, self.name, alpn=("h2",)))
            chosen = probe.answer.alpn if isinstance(probe.answer, Handshake) else None
            self._features[protocols.H2] = Feature(protocols.H2, Seen(chosen == "h2"))
            return
        seen = (
            Seen(isinstance(answer, Picked) and answer.alpn == "h2") if isinstance(answer, Picked | Refused) else answer
        )
        self._features[protocols.H2] = Feature(protocols.H2, seen)

    async def _ask_tolerance(self) -> None:
        """The hello that worked, very large and with values that nobody knows; where that fails, each by itself."""
        best = next((each.answer for each in self.probes if isinstance(each.answer, Handshake)), None)
        versions = MODERN if best is None or best.version >= Version.TLS_1_2 else (best.version,)
        plain = Offer(versions, self.name, shares=(0x001D, 0x0017) if Version.TLS_1_3 in versions else None)
        options = {"grease": protocols.GREASE_TOLERANCE, "large": protocols.LARGE_HELLO_TOLERANCE}
        both = await self._ask(msgspec.structs.replace(plain, options=tuple(options)))
        for option, feature in options.items():
            if isinstance(both, Picked):
                self._features[feature] = Feature(feature, Seen(True))
            else:
                self._features[feature] = await self._held_against(plain, option, feature)

    async def _held_against(self, plain: Offer, option: str, feature: str) -> Feature:
        """A change is blamed only where the hello fails with it, and never without it, several times in turn."""
        changed = msgspec.structs.replace(plain, options=(option,))
        how = ""
        for _ in range(CONTROLS):
            answer = await self._ask(changed)
            if isinstance(answer, Picked):
                return Feature(feature, Seen(True))
            if isinstance(answer, Unseen):
                return Feature(feature, answer)
            how = answer.how
            if not isinstance(await self._ask(plain), Picked):
                return Feature(feature, Unseen("the same hello without it was not answered every time"))
        return Feature(feature, Seen(False), how)

    # Browsers

    async def _ask_as(self, profile: BrowserProfile) -> None:
        answer = await self._ask(profile.offer(self.name), to_key_exchange=True, as_it_is=True)
        match answer:
            case Picked():
                found = BrowserHello(
                    profile.title, Seen(True), answer.version, answer.suite, answer.group, answer.scheme
                )
            case Refused(how=how):
                found = BrowserHello(profile.title, Seen(False), how=how)
            case Unseen():
                found = BrowserHello(profile.title, answer)
        self._browsers[profile.title] = found

    async def _explain_refusal(self, profile: BrowserProfile) -> None:
        """Where suites are in common all the same: take back one thing at a time until the hello is taken."""
        found = self._browsers.get(profile.title)
        if found is None or found.seen != Seen(False) or not self._has_suites_of(profile):
            return
        hello = profile.offer(self.name)
        hybrids = {int(Group.X25519MLKEM768)}
        small = msgspec.structs.replace(
            hello,
            groups=tuple(each for each in profile.groups if each not in hybrids),
            shares=tuple(each for each in profile.shares if each not in hybrids),
            without=(ExtensionType.ENCRYPTED_CLIENT_HELLO,),
        )
        known = msgspec.structs.replace(hello, options=tuple(each for each in hello.options if each != "grease"))
        extensions = (
            *OPTIONAL_EXTENSIONS,
            ExtensionType.SESSION_TICKET,
            ExtensionType.COMPRESS_CERTIFICATE,
            ExtensionType.ENCRYPTED_CLIENT_HELLO,
        )
        changes = {"its size, with a post-quantum key share": small, "values that nobody knows (GREASE)": known}
        changes |= {extension_name(each): msgspec.structs.replace(hello, without=(each,)) for each in extensions}
        plain = msgspec.structs.replace(small, options=("rich",), without=extensions)
        changes["several of its extensions"] = plain
        for words, offer in changes.items():
            if isinstance(await self._ask(offer, to_key_exchange=True, as_it_is=True), Picked):
                self._browsers[profile.title] = msgspec.structs.replace(found, minds=words)
                return

    def _has_suites_of(self, profile: BrowserProfile) -> bool:
        return any(
            set(self._suites[version].suites) & set(profile.suites)
            for version in profile.versions
            if version in self._suites
        )

    async def _ask_fallback_guard(self) -> None:
        """TLS_FALLBACK_SCSV (RFC 7507) in a hello for less than the server's best version."""
        accepted = sorted(self._accepted - {int(Version.SSL_2_0)})
        lower = [version for version in accepted if version <= Version.TLS_1_1]
        if not lower or max(accepted) < Version.TLS_1_1 or len(accepted) < 2:
            return
        version = max(v for v in lower if v < max(accepted))
        answer = await self._ask(Offer((version,), self.name, options=("fallback",)))
        if isinstance(answer, Unseen):
            self._features[protocols.FALLBACK_GUARD] = Feature(protocols.FALLBACK_GUARD, answer)
        else:
            guarded = isinstance(answer, Refused)
            how = answer.how if isinstance(answer, Refused) else ""
            self._features[protocols.FALLBACK_GUARD] = Feature(protocols.FALLBACK_GUARD, Seen(guarded), how)

    async def _ask_nameless(self, name: str | None) -> None:
        self.nameless.append(await self._exchange(Offer(MODERN, name)))

    async def _ask_other_key(self) -> None:
        """A server may hold a certificate of each kind of key: ask for the kind that did not come."""
        best = next((each.answer for each in self.probes if isinstance(each.answer, Handshake)), None)
        if best is None or best.version < Version.TLS_1_2:
            return
        rsa = best.signature_scheme in _RSA_SCHEMES or table()[best.cipher_suite].authentication == "RSA"
        schemes = _ECDSA_SCHEMES if rsa else _RSA_SCHEMES
        wanted = "ECDSA" if rsa else "RSA"
        suites = tuple(
            each.code
            for each in table().values()
            if each.is_tls_1_3 or (each.authentication == wanted and each.is_aead)
        )
        suites = tuple(code for code in suites if code in {0x1301, 0x1302, 0x1303} or not table()[code].is_tls_1_3)
        probe = await self._exchange(Offer(MODERN, self.name, suites, schemes=schemes))
        known = {each.answer.chain[0] for each in self.probes if isinstance(each.answer, Handshake)}
        if isinstance(probe.answer, Handshake) and probe.answer.chain[0] not in known:
            self.more_probes.append(probe)

    # Connections

    async def _exchange(self, offer: Offer) -> Probe:
        """A whole exchange up to the certificates."""
        offer = self._fitted(offer)
        conversation = Conversation(offer, os.urandom(64))
        failure = await self._drive(conversation)
        answer = failure or conversation.answer
        assert answer is not None
        self.certificates.update(conversation.certificates)
        return Probe(offer, answer)

    def _fitted(self, offer: Offer) -> Offer:
        """Without what the server is known to mind."""
        return msgspec.structs.replace(offer, without=(*offer.without, *self.minds)) if self.minds else offer

    async def _ask(
        self, offer: Offer, *, to_key_exchange: bool = False, as_it_is: bool = False
    ) -> Picked | Refused | Unseen:
        """One hello, asked again until its answer can be relied on."""
        offer = offer if as_it_is else self._fitted(offer)
        for attempt in range(len(PAUSES_SECONDS) + 1):
            if self._strained:
                return Unseen(self._strained)
            trial = Trial(offer, os.urandom(64), to_key_exchange)
            failure = await self._drive(trial, seconds=TRIAL_SECONDS)
            answer = trial.answer
            if failure is None and isinstance(answer, Picked):
                return answer
            if failure is None and isinstance(answer, Refused) and (answer.is_alert or self._ends_without_alert):
                return answer
            if failure is None and isinstance(answer, Refused) and await self._works_still():
                # It ends the connection on this hello and not on the one that it took before.
                again = Trial(offer, os.urandom(64), to_key_exchange)
                failure = await self._drive(again, seconds=TRIAL_SECONDS)
                if failure is None and isinstance(again.answer, Picked):
                    return again.answer
                if failure is None and isinstance(again.answer, Refused):
                    self._ends_without_alert = True
                    return again.answer
            if isinstance(failure, Unseen):
                return failure
            self.slots.slow_down(self.destination.address)
            if attempt < len(PAUSES_SECONDS):
                await asyncio.sleep(PAUSES_SECONDS[attempt])
        detail = failure.detail if isinstance(failure, NoConnection) else "the server ended every connection"
        self._strained = f"the server stopped answering after {self.connections} connections ({detail})"
        return Unseen(self._strained)

    async def _works_still(self) -> bool:
        """The control: a hello that this server took before."""
        good = next((probe.offer for probe in self.probes if isinstance(probe.answer, Handshake)), None)
        if good is None:
            return True  # nothing ever worked: the endings are all that this server says
        slow = self.slots.is_slow(self.destination.address)
        conversation = Conversation(good, os.urandom(64))
        works = await self._drive(conversation) is None and isinstance(conversation.answer, Handshake)
        if slow:
            self._controls.append(works)
        return works

    async def _drive(
        self, client: Conversation | Trial | Ssl2Trial, seconds: float | None = None
    ) -> NoConnection | Unseen | None:
        if self.connections >= MAX_CONNECTIONS:
            return Unseen(f"more than {MAX_CONNECTIONS} connections would have been needed")
        async with self.slots.connection(self.destination.address, Priority.SEARCH):
            self.connections += 1
            return await drive(client, self.destination, min(seconds or self.step_seconds, self.step_seconds))


def _outcome_of(probe: Probe) -> tuple[VersionOutcome, str]:
    match probe.answer:
        case Alert(description=description):
            return VersionOutcome.REFUSED, f"alert {alert_name(description)}"
        case Ended(how=how):
            return VersionOutcome.REFUSED, "no answer" if how is HowEnded.SILENT else how.value
        case NoConnection(detail=detail) | Unseen(reason=detail):
            return VersionOutcome.UNKNOWN, detail
        case _:
            return VersionOutcome.REFUSED, "no TLS"


def _why_unseen(answer: Picked | Refused | Unseen) -> Unseen:
    return answer if isinstance(answer, Unseen) else Unseen("the hello was refused")
