"""The look at one front end: versions, suites, groups and the options of the handshake.

It begins when the first hellos were answered, and asks everything else side by side:

    SSL 2.0, second hellos for doubtful versions
    suites and groups of each accepted version -- their order
    options that no search carried along, tickets, other names, the hellos of browsers, the other kind of key
"""

import asyncio
from collections.abc import Awaitable, Iterable, Sequence
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
    NoConnection,
    Offer,
    Probe,
    Protocol,
    Seen,
    SuitesSeen,
    Unseen,
    VersionOutcome,
    VersionSeen,
    protocols,
)
from pewter.pki import Certificate, read_certificate
from pewter.tls import Conversation, Version, fingerprint, version_name
from pewter.tls.browsers import BROWSERS, BrowserProfile
from pewter.tls.codepoints import ExtensionType, Group, extension_name, group_name
from pewter.tls.offers import GROUPS, MODERN, OPTIONAL_EXTENSIONS, cipher_suites
from pewter.tls.search import Answer, Ask, Search, Together, VersionSearch, usual_suites
from pewter.tls.ssl2 import Ssl2Hello, Ssl2Trial
from pewter.tls.suites import table
from pewter.tls.trial import Picked, Refusal, Refused

from .asking import Asker
from .slots import Priority
from .together import both, together

OLD_VERSIONS = (int(Version.TLS_1_1), int(Version.TLS_1_0), int(Version.SSL_3_0))
FIRST_OFFERS = (MODERN, (int(Version.TLS_1_2),), OLD_VERSIONS)
"""The hellos that every endpoint gets; where the last is refused, all old versions are."""

TICKET_SECONDS = 1.5
CONTROLS = 2
"""Times that a hello is held against the same one with a change, before the change is blamed."""

_CURVES = {group_name(each): int(each) for each in Group}
_RSA_SCHEMES = (0x0804, 0x0805, 0x0806, 0x0401, 0x0501, 0x0601, 0x0201)
_ECDSA_SCHEMES = (0x0403, 0x0503, 0x0603, 0x0203)
_COMMON_SUITES = (
    *(0xC02F, 0xC030, 0xC02B, 0xC02C, 0xC013, 0xC014, 0xC009, 0xC00A),
    *(0x009C, 0x009D, 0x002F, 0x0035, 0x000A),
)


@dataclass
class FrontEndLook:
    """One front end's look; :meth:`run` fills :attr:`protocol`, which holds what is known at any time."""

    asker: Asker
    probes: tuple[Probe, ...]
    """The first hellos and their answers."""

    more_probes: list[Probe] = field(default_factory=list)
    further_probes: list[Probe] = field(default_factory=list)
    """Whole handshakes for other ends: a staple may be in them."""

    nameless: list[Probe] = field(default_factory=list)
    searches: dict[int, VersionSearch] = field(default_factory=dict)
    is_through: asyncio.Event = field(default_factory=asyncio.Event)
    _versions: dict[int, VersionSeen] = field(default_factory=dict)
    _features: dict[str, Feature] = field(default_factory=dict)
    _browsers: dict[str, BrowserHello] = field(default_factory=dict)

    @property
    def name(self) -> str:
        return self.asker.name

    @property
    def protocol(self) -> Protocol:
        searches = [search for _, search in sorted(self.searches.items(), reverse=True)]
        return Protocol(
            versions=tuple(seen for _, seen in sorted(self._versions.items(), reverse=True)),
            suites=tuple(
                SuitesSeen(each.version, each.suites, each.order, each.asked, each.unfinished) for each in searches
            ),
            groups=tuple(
                GroupsSeen(
                    each.version, each.accepted_groups, each.group_order, each.asked_groups, _why_no_groups(each)
                )
                for each in searches
                if each.with_groups
            ),
            finite_field=self._finite_field(searches),
            features=tuple(feature for _, feature in sorted(self._features.items())),
            browsers=tuple(self._browsers[each.title] for each in BROWSERS if each.title in self._browsers),
            tries=self.asker.tries,
            connections=self.asker.connections,
            slowed_down=self.asker.is_slowed_down,
        )

    async def run(self) -> None:
        self._take_first_answers()
        late = "not reached before the deadline"
        self._versions.setdefault(Version.SSL_2_0, VersionSeen(Version.SSL_2_0, VersionOutcome.UNKNOWN, late))
        doubtful = [self._ask_version(version) for version in MODERN if not self._is_settled(version)]
        # The longest chains of hellos first: the oldest wish has the next slot.
        work: list[Awaitable[None]] = [self._search(version) for version in sorted(self._accepted)]
        work += [self._ask_old(), *doubtful, self._ask_ssl_2()]
        if self._accepted:
            await _together([*work, *self._options()])
        else:
            await _together(work)
            await _together(self._options())
        await _together([self._ask_fallback_guard(), *(self._explain_refusal(each) for each in BROWSERS)])

    def _options(self) -> list[Awaitable[None]]:
        # SSL 2.0 has hellos and ciphers of its own, and nothing else to be asked.
        accepted = self._accepted - {int(Version.SSL_2_0)}
        if not accepted:
            return []
        work: list[Awaitable[None]] = [self._ask_nameless()]
        if max(accepted) >= Version.TLS_1_2:
            work += [self._ask_as(profile) for profile in BROWSERS]
        with_tickets = Version.TLS_1_3 in accepted
        if not with_tickets or self._has_h2() is not None:
            work.append(self._ask_h2())
        return [*work, self._ask_tickets() if with_tickets else self._ask_tolerance()]

    # Versions

    def _take_first_answers(self) -> None:
        for probe in self.probes:
            offered = probe.offer.versions
            if isinstance(probe.answer, Handshake):
                self._accept(probe.answer.version, "")
                self._refuse_above(probe.answer.version, offered)
                continue
            for version in offered:
                is_alone = len(offered) == 1 or version == Version.TLS_1_3 or offered == OLD_VERSIONS
                if is_alone and not self._is_settled(version):
                    self._versions[version] = _seen_by(version, probe)

    @property
    def _accepted(self) -> frozenset[int]:
        return frozenset(
            int(version) for version, seen in self._versions.items() if seen.outcome is VersionOutcome.ACCEPTED
        )

    def _accept(self, version: int, how: str) -> None:
        self._versions[version] = VersionSeen(version, VersionOutcome.ACCEPTED, how)

    def _refuse_above(self, version: int, offered: Sequence[int]) -> None:
        """A server takes the newest version that both have (RFC 8446 section 4.2.1, RFC 5246 section E.1)."""
        for newer in offered:
            if newer > version and newer not in self._accepted:
                how = f"{version_name(version)} in its place"
                self._versions[newer] = VersionSeen(newer, VersionOutcome.REFUSED, how, is_of_version=True)

    def _is_settled(self, version: int) -> bool:
        seen = self._versions.get(version)
        if seen is None:
            return False
        return seen.outcome is VersionOutcome.ACCEPTED or seen.is_of_version

    async def _ask_version(self, version: int) -> None:
        """A hello of another shape for a version whose first hello was not plainly answered."""
        suites = usual_suites(version)
        offers = [Offer((version,), self.name, suites, options=("rich",))]
        if version == Version.TLS_1_3:
            # Nothing but what a hello must have, and shares: some servers cannot do without.
            offers.append(Offer((version,), self.name, suites, shares=(0x001D, 0x0017), without=OPTIONAL_EXTENSIONS))
        else:
            offers.append(_short(version, self.name, suites))
        if await self._try_offers(offers, (version,)):
            await self._search(version)

    async def _ask_old(self) -> None:
        """Versions below TLS 1.2 that the first hello left open: in other shapes, and one by one below the newest."""
        if not all(map(self._is_settled, OLD_VERSIONS)) and not self._accepted & set(OLD_VERSIONS):
            suites = usual_suites(Version.TLS_1_1)
            rich = Offer(OLD_VERSIONS, self.name, suites, options=("rich",))
            short = msgspec.structs.replace(_short(Version.TLS_1_1, self.name, suites), versions=OLD_VERSIONS)
            await self._try_offers([rich, short], OLD_VERSIONS)
            if not self._accepted & set(OLD_VERSIONS) and not self._is_settled(Version.SSL_3_0):
                # SSL 3.0 has no extensions: some of its servers take no hello that has any.
                bare = Offer((Version.SSL_3_0,), self.name, usual_suites(Version.SSL_3_0))
                await self._try_offers([bare], (int(Version.SSL_3_0),))
        found = self._accepted & set(OLD_VERSIONS)
        below = [version for version in OLD_VERSIONS if found and version < max(found)]
        await _together([*map(self._search, found), *map(self._ask_below, below)])

    async def _ask_below(self, version: int) -> None:
        suites = usual_suites(version)
        options = () if version == Version.SSL_3_0 else ("rich",)
        if await self._try_offers([Offer((version,), self.name, suites, options=options)], (version,)):
            await self._search(version)

    async def _try_offers(self, offers: Sequence[Offer], versions: Sequence[int]) -> bool:
        """One offer after the other, until one is taken or the refusal is plainly of the version."""
        for offer in offers:
            match await self.asker.ask(offer):
                case Picked(version=version):
                    self._accept(version, "")
                    self._refuse_above(version, versions)
                    return True
                case Refused() as refused:
                    for version in versions:
                        self._versions[version] = _refused(version, refused)
                    if refused.is_of_version:
                        return False
                case Unseen(reason=reason):
                    for version in versions:
                        self._versions[version] = VersionSeen(version, VersionOutcome.UNKNOWN, reason)
                    return False
        return False

    async def _ask_ssl_2(self) -> None:
        trial = Ssl2Trial(self.asker.network.random(16))
        failure = await self.asker.drive(trial, priority=Priority.OPTION)
        version = Version.SSL_2_0
        match failure or trial.answer:
            case Ssl2Hello(ciphers=ciphers):
                self._accept(version, "" if ciphers else "without any cipher")
            case Refused() as refused:
                self._versions[version] = _refused(version, refused)
            case NoConnection(detail=reason) | Unseen(reason=reason):
                self._versions[version] = VersionSeen(version, VersionOutcome.UNKNOWN, reason)

    # Suites and groups

    async def _search(self, version: int) -> None:
        """The suites of a version; groups too in TLS 1.3 and in the newest version before it."""
        if version in self.searches or version == Version.SSL_2_0:
            return
        older = [each for each in self._accepted if Version.SSL_3_0 < each < Version.TLS_1_3]
        with_groups = version == Version.TLS_1_3 or version == max(older, default=0)
        is_new = Version.TLS_1_3 in self._accepted
        search = VersionSearch(self.name, version, with_groups, is_new, self._key_curve())
        self.searches[version] = search
        self._seed(search)
        await self._drive(search.find())
        after = [self._drive(search.settle())]
        if search.is_tls_1_3:
            after.append(self._take_tolerance(search))
        elif with_groups:
            after.append(self._take_rich(search))
        if version == max(self._accepted & set(MODERN) - {int(Version.TLS_1_3)}, default=version):
            after.append(self._ask_other_key())
        await _together(after)

    def _key_curve(self) -> int | None:
        """Of the ECDSA key that was shown, where it was one and no RSA key was."""
        leaves = {probe.answer.chain[0] for probe in self.probes if isinstance(probe.answer, Handshake)}
        read = [read_certificate(self.asker.certificates[leaf]) for leaf in leaves if leaf in self.asker.certificates]
        curves = {_CURVES.get(each.key.curve) for each in read if isinstance(each, Certificate)}
        return curves.pop() if len(curves) == 1 else None

    def _seed(self, search: VersionSearch) -> None:
        """What the first hellos told already."""
        for probe in self.probes:
            answer = probe.answer
            if not isinstance(answer, Handshake) or answer.version != search.version or probe.offer.suites is not None:
                continue
            search.picks.note(cipher_suites((search.version,)), answer.cipher_suite)
            if answer.group is not None and search.with_groups:
                if search.is_tls_1_3:
                    search.groups.know(answer.group)  # it had shares: no word on the server's order
                else:
                    search.groups.note(tuple(map(int, GROUPS)), answer.group)

    async def _drive(self, search: Search) -> None:
        """Let a search ask until it is through."""
        answer: Answer | None = None
        while True:
            try:
                step = search.send(answer)
            except StopIteration:
                return
            match step:
                case Together(searches=searches):
                    await _together(map(self._drive, searches))
                    answer = None
                case Ask(offer=offer):
                    answer = await self.asker.ask(offer)

    def _finite_field(self, searches: Sequence[VersionSearch]) -> Seen[FiniteField | None] | Unseen:
        older = [each for each in searches if not each.is_tls_1_3]
        if not older:
            return Unseen("not asked")
        for search in older:
            for prime in search.primes[:1]:
                return Seen(FiniteField(int.from_bytes(prime, "big").bit_length(), fingerprint(prime)))
        if any(table()[code].key_exchange == "DHE" for each in older for code in each.suites):
            return Unseen("the parameters did not come")
        return Unseen(older[0].unfinished) if older[0].unfinished else Seen(None)

    # Options

    async def _take_rich(self, search: VersionSearch) -> None:
        """All that TLS 1.2 and below answer in ServerHello."""
        answer = search.with_options
        if not isinstance(answer, Picked):
            suites = usual_suites(search.version)
            answer = await self.asker.ask(Offer((search.version,), self.name, suites, options=("rich", "compression")))
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

    async def _take_tolerance(self, search: VersionSearch) -> None:
        """The search had one hello with values that nobody knows, and a very large one."""
        if isinstance(search.with_options, Picked):
            for feature in (protocols.GREASE_TOLERANCE, protocols.LARGE_HELLO_TOLERANCE):
                self._features[feature] = Feature(feature, Seen(True))
        else:
            await self._ask_tolerance()

    async def _ask_nameless(self) -> None:
        self.nameless.append(await self.asker.exchange(Offer(MODERN, None), Priority.OPTION))

    async def _ask_tickets(self) -> None:
        """A whole handshake, for what comes after it: session tickets, and whether they allow early data.

        Where it is not known yet whether the server has h2, with that alone on offer.
        """
        asks_h2 = self._has_h2() is None
        conversation, failure = await self._finish(Offer(MODERN, self.name, alpn=("h2",) if asks_h2 else None))
        if asks_h2 and isinstance(conversation.answer, Handshake):
            self._note_h2(Seen(conversation.answer.alpn == "h2"))
        elif asks_h2 and isinstance(conversation.answer, Alert):
            self._note_h2(Seen(False))
            conversation, failure = await self._finish(Offer(MODERN, self.name))
        elif asks_h2:
            _, (conversation, failure) = await both(self._ask_h2(), self._finish(Offer(MODERN, self.name)))
        if failure is not None or not conversation.finished:
            words = failure.detail if isinstance(failure, NoConnection) else "the handshake could not be finished"
            seen: Seen[bool] | Unseen = Unseen(words)
            early = seen
        else:
            seen, early = Seen(bool(conversation.tickets)), Seen(any(conversation.tickets))
        detail = f"max_early_data_size {max(conversation.tickets)}" if any(conversation.tickets) else ""
        self._features[protocols.TICKETS_1_3] = Feature(protocols.TICKETS_1_3, seen)
        self._features[protocols.EARLY_DATA] = Feature(protocols.EARLY_DATA, early, detail)

    async def _finish(self, offer: Offer) -> tuple[Conversation, NoConnection | Unseen | None]:
        conversation = self.asker.conversation(offer)
        failure = await self.asker.drive(conversation, TICKET_SECONDS + 1, Priority.OPTION)
        if conversation.finished and isinstance(conversation.answer, Handshake):
            self.asker.certificates.update(conversation.certificates)
            self.further_probes.append(Probe(conversation.offer, conversation.answer))
        return conversation, failure

    def _has_h2(self) -> bool | None:
        """As far as the first hellos told: one that passed over h2 and http/1.1 has neither."""
        answers = [probe.answer for probe in self.probes if isinstance(probe.answer, Handshake)]
        chosen = {each.alpn for each in answers if each.version == Version.TLS_1_3 or each.alpn is not None}
        return "h2" in chosen if chosen and chosen <= {"h2", None} else None

    def _note_h2(self, seen: Seen[bool] | Unseen) -> None:
        self._features[protocols.H2] = Feature(protocols.H2, seen)

    async def _ask_h2(self) -> None:
        """A server that chose http/1.1 may have h2 all the same."""
        known = self._has_h2()
        if known is not None:
            self._note_h2(Seen(known))
            return
        offer = Offer(MODERN, self.name, alpn=("h2",))
        probe = await self.asker.exchange(offer, Priority.OPTION)
        match probe.answer:
            case Handshake(alpn=alpn):
                self._note_h2(Seen(alpn == "h2"))
            case Alert():
                self._note_h2(Seen(False))
            case _:
                # It ended without a word: is that its refusal?
                self._note_h2(_h2_by(await self.asker.ask(msgspec.structs.replace(offer, shares=(0x001D,)))))

    async def _ask_tolerance(self) -> None:
        """The hello that worked, very large and with values that nobody knows; where that fails, each by itself."""
        best = next((each.answer for each in self.probes if isinstance(each.answer, Handshake)), None)
        versions = MODERN if best is None or best.version >= Version.TLS_1_2 else (best.version,)
        plain = Offer(versions, self.name, shares=(0x001D, 0x0017) if Version.TLS_1_3 in versions else None)
        options = {"grease": protocols.GREASE_TOLERANCE, "large": protocols.LARGE_HELLO_TOLERANCE}
        both = await self.asker.ask(msgspec.structs.replace(plain, options=tuple(options)))
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
            answer = await self.asker.ask(changed)
            if isinstance(answer, Picked):
                return Feature(feature, Seen(True))
            if isinstance(answer, Unseen):
                return Feature(feature, answer)
            how = answer.how
            if not isinstance(await self.asker.ask(plain), Picked):
                return Feature(feature, Unseen("the same hello without it was not answered every time"))
        return Feature(feature, Seen(False), how)

    # Browsers

    async def _ask_as(self, profile: BrowserProfile) -> None:
        answer = await self.asker.ask(profile.offer(self.name), as_it_is=True, priority=Priority.OPTION)
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
            if isinstance(await self.asker.ask(offer, as_it_is=True), Picked):
                self._browsers[profile.title] = msgspec.structs.replace(found, minds=words)
                return

    def _has_suites_of(self, profile: BrowserProfile) -> bool:
        return any(
            set(self.searches[version].suites) & set(profile.suites)
            for version in profile.versions
            if version in self.searches
        )

    async def _ask_fallback_guard(self) -> None:
        """TLS_FALLBACK_SCSV (RFC 7507) in a hello for less than the server's best version."""
        accepted = sorted(self._accepted - {int(Version.SSL_2_0)})
        lower = [version for version in accepted if version <= Version.TLS_1_1]
        if not lower or max(accepted) < Version.TLS_1_1 or len(accepted) < 2:
            return
        version = max(v for v in lower if v < max(accepted))
        answer = await self.asker.ask(Offer((version,), self.name, options=("fallback",)))
        if isinstance(answer, Unseen):
            self._features[protocols.FALLBACK_GUARD] = Feature(protocols.FALLBACK_GUARD, answer)
        else:
            guarded = isinstance(answer, Refused)
            how = answer.how if isinstance(answer, Refused) else ""
            self._features[protocols.FALLBACK_GUARD] = Feature(protocols.FALLBACK_GUARD, Seen(guarded), how)

    async def _ask_other_key(self) -> None:
        """A server may hold a certificate of each kind of key: ask for the kind that did not come."""
        best = next((each.answer for each in self.probes if isinstance(each.answer, Handshake)), None)
        if best is None or best.version < Version.TLS_1_2:
            return
        older = self.searches.get(int(Version.TLS_1_2))
        if older is not None and older.is_found:
            kinds = {table()[code].authentication for code in older.suites}
            if not {"RSA", "ECDSA"} <= kinds:
                return  # its suites are all for one kind
        rsa = best.signature_scheme in _RSA_SCHEMES or table()[best.cipher_suite].authentication == "RSA"
        schemes = _ECDSA_SCHEMES if rsa else _RSA_SCHEMES
        wanted = "ECDSA" if rsa else "RSA"
        suites = tuple(
            each.code
            for each in table().values()
            if each.is_tls_1_3 or (each.authentication == wanted and each.is_aead)
        )
        suites = tuple(code for code in suites if code in {0x1301, 0x1302, 0x1303} or not table()[code].is_tls_1_3)
        probe = await self.asker.exchange(Offer(MODERN, self.name, suites, schemes=schemes))
        known = {each.answer.chain[0] for each in self.probes if isinstance(each.answer, Handshake)}
        if isinstance(probe.answer, Handshake) and probe.answer.chain[0] not in known:
            self.more_probes.append(probe)


async def _together(work: Iterable[Awaitable[None]]) -> None:
    await together(*work)


def _short(version: int, name: str, suites: Sequence[int]) -> Offer:
    """For servers that close on many suites or on groups that they do not know."""
    few = tuple(each for each in _COMMON_SUITES if each in suites)
    return Offer((version,), name, few, groups=(0x0017, 0x0018))


def _why_no_groups(search: VersionSearch) -> str:
    if search.needs_shares:
        return "no answer to a hello without key shares"
    return search.unfinished


def _seen_by(version: int, probe: Probe) -> VersionSeen:
    """What a hello that was not taken says of a version."""
    match probe.answer:
        case Alert(description=description):
            return _refused(version, Refused(Refusal.ALERT, alert=description))
        case Ended(how=how):
            return _refused(version, Refused(Refusal.of(how)))
        case NoConnection(detail=detail) | Unseen(reason=detail):
            return VersionSeen(version, VersionOutcome.UNKNOWN, detail)
        case _:
            return VersionSeen(version, VersionOutcome.REFUSED, "no TLS")


def _h2_by(answer: Picked | Refused | Unseen) -> Seen[bool] | Unseen:
    """What a hello with h2 alone tells; TLS 1.3 names its choice only where this hello does not read."""
    match answer:
        case Refused():
            return Seen(False)
        case Picked(version=version, alpn=alpn) if version < Version.TLS_1_3:
            return Seen(alpn == "h2")
        case Picked():
            return Unseen("the server did not answer it every time")
        case _:
            return answer


def _refused(version: int, refused: Refused) -> VersionSeen:
    return VersionSeen(version, VersionOutcome.REFUSED, refused.how, refused.alert, refused.is_of_version)


def _why_unseen(answer: Refused | Unseen | None) -> Unseen:
    return answer if isinstance(answer, Unseen) else Unseen("the hello was refused")
