"""The options of the handshake: extensions, tickets, tolerance, the hellos of browsers, the other kind of key.

No sockets: :class:`Options` yields hellos and is sent answers (:mod:`pewter.tls.search`).
"""

from collections.abc import Generator, Mapping, Sequence
from typing import Any

import msgspec

from pewter.evidence import Alert, BrowserHello, Feature, Handshake, Offer, Probe, Seen, Unseen, protocols

from .browsers import BROWSERS, BrowserProfile
from .candidates import usual_suites
from .codepoints import ExtensionType, Version
from .offers import MODERN
from .refusals import cause_of
from .search import VersionSearch
from .steps import Ask, Exchange, Finish, Finished, Search, Step, Together
from .suites import table
from .trial import Picked, Refusal, Refused

CONTROLS = 2
"""Times that a hello is held against the same one with a change, before the change is blamed."""

_RSA_SCHEMES = (0x0804, 0x0805, 0x0806, 0x0401, 0x0501, 0x0601, 0x0201)
_ECDSA_SCHEMES = (0x0403, 0x0503, 0x0603, 0x0203)


class Options:
    """Of one server.  ``searches``: by version, what is found of its suites and groups."""

    def __init__(self, name: str, probes: Sequence[Probe], searches: Mapping[int, VersionSearch]) -> None:
        self.name = name
        self._probes = probes
        self._searches = searches
        self.features: dict[str, Feature] = {}
        self.browsers: dict[str, BrowserHello] = {}
        self.nameless: list[Probe] = []
        self.of_other_keys: list[Probe] = []
        self.finished: list[Probe] = []
        """Whole handshakes for other ends: a staple may be in them."""

    def all_of(self, accepted: frozenset[int]) -> tuple[Search, ...]:
        """What is asked beside the searches of a server that accepts these versions."""
        # SSL 2.0 has hellos and ciphers of its own, and nothing else to be asked.
        versions = accepted - {int(Version.SSL_2_0)}
        if not versions:
            return ()
        work: list[Search] = [self.ask_nameless()]
        if max(versions) >= Version.TLS_1_2:
            work += map(self.ask_as, BROWSERS)
        with_tickets = Version.TLS_1_3 in versions
        if not with_tickets or self._has_h2() is not None:
            work.append(self.ask_h2())
        return (*work, self.ask_tickets() if with_tickets else self.ask_tolerance())

    def last(self, accepted: frozenset[int]) -> tuple[Search, ...]:
        """What is asked once the rest is known."""
        return (self.ask_fallback_guard(accepted), *map(self.explain_refusal, BROWSERS))

    def take_rich(self, search: VersionSearch) -> Search:
        """All that TLS 1.2 and below answer in ServerHello."""
        answer = search.with_options
        if not isinstance(answer, Picked):
            suites = usual_suites(search.version)
            answer = yield Ask(Offer((search.version,), self.name, suites, options=("rich", "compression")))
        named = {
            protocols.SECURE_RENEGOTIATION: ExtensionType.RENEGOTIATION_INFO,
            protocols.EXTENDED_MASTER_SECRET: ExtensionType.EXTENDED_MASTER_SECRET,
            protocols.TICKETS_1_2: ExtensionType.SESSION_TICKET,
        }
        for feature, extension in named.items():
            seen = Seen(extension in answer.extensions) if isinstance(answer, Picked) else _why_unseen(answer)
            self.features[feature] = Feature(feature, seen)
        squeezed = Seen(answer.compression != 0) if isinstance(answer, Picked) else _why_unseen(answer)
        self.features[protocols.COMPRESSION] = Feature(protocols.COMPRESSION, squeezed)

    def take_tolerance(self, search: VersionSearch) -> Search:
        """The search had one hello with values that nobody knows, and a very large one."""
        if isinstance(search.with_options, Picked):
            for feature in (protocols.GREASE_TOLERANCE, protocols.LARGE_HELLO_TOLERANCE):
                self.features[feature] = Feature(feature, Seen(True))
        else:
            yield from self.ask_tolerance()

    def ask_nameless(self) -> Search:
        self.nameless.append((yield Exchange(Offer(MODERN, None), is_option=True)))

    def ask_tickets(self) -> Search:
        """A whole handshake, for what comes after it: session tickets, and whether they allow early data.

        Where it is not known yet whether the server has h2, with that alone on offer.
        """
        asks_h2 = self._has_h2() is None
        done: Finished = yield Finish(Offer(MODERN, self.name, alpn=("h2",) if asks_h2 else None))
        self._keep(done)
        answer = done.probe.answer if done.probe is not None else None
        if asks_h2 and isinstance(answer, Handshake):
            self._note_h2(Seen(answer.alpn == "h2"))
        elif asks_h2:
            if isinstance(answer, Alert):
                self._note_h2(Seen(False))
                yield from self._finish_plainly()
            else:
                yield Together((self.ask_h2(), self._finish_plainly()))
            return
        self._note_tickets(done)

    def _finish_plainly(self) -> Search:
        done: Finished = yield Finish(Offer(MODERN, self.name))
        self._keep(done)
        self._note_tickets(done)

    def _keep(self, done: Finished) -> None:
        if done.is_finished and done.probe is not None and isinstance(done.probe.answer, Handshake):
            self.finished.append(done.probe)

    def _note_tickets(self, done: Finished) -> None:
        seen: Seen[bool] | Unseen = Unseen(done.why_not or "the handshake could not be finished")
        early = seen
        if done.is_finished and not done.why_not:
            seen, early = Seen(bool(done.tickets)), Seen(any(done.tickets))
        detail = f"max_early_data_size {max(done.tickets)}" if any(done.tickets) else ""
        self.features[protocols.TICKETS_1_3] = Feature(protocols.TICKETS_1_3, seen)
        self.features[protocols.EARLY_DATA] = Feature(protocols.EARLY_DATA, early, detail)

    def _has_h2(self) -> bool | None:
        """As far as the first hellos told: one that passed over h2 and http/1.1 has neither."""
        answers = [probe.answer for probe in self._probes if isinstance(probe.answer, Handshake)]
        chosen = {each.alpn for each in answers if each.version == Version.TLS_1_3 or each.alpn is not None}
        return "h2" in chosen if chosen and chosen <= {"h2", None} else None

    def _note_h2(self, seen: Seen[bool] | Unseen) -> None:
        self.features[protocols.H2] = Feature(protocols.H2, seen)

    def ask_h2(self) -> Search:
        """A server that chose http/1.1 may have h2 all the same."""
        known = self._has_h2()
        if known is not None:
            self._note_h2(Seen(known))
            return
        offer = Offer(MODERN, self.name, alpn=("h2",))
        probe: Probe = yield Exchange(offer, is_option=True)
        match probe.answer:
            case Handshake(alpn=alpn):
                self._note_h2(Seen(alpn == "h2"))
            case Alert():
                self._note_h2(Seen(False))
            case _:
                # It ended without a word: is that its refusal?
                self._note_h2(_h2_by((yield Ask(msgspec.structs.replace(offer, shares=(0x001D,))))))

    def ask_tolerance(self) -> Search:
        """The hello that worked, very large and with values that nobody knows; where that fails, each by itself."""
        best = next((each.answer for each in self._probes if isinstance(each.answer, Handshake)), None)
        versions = MODERN if best is None or best.version >= Version.TLS_1_2 else (best.version,)
        plain = Offer(versions, self.name, shares=(0x001D, 0x0017) if Version.TLS_1_3 in versions else None)
        options = {"grease": protocols.GREASE_TOLERANCE, "large": protocols.LARGE_HELLO_TOLERANCE}
        both = yield Ask(msgspec.structs.replace(plain, options=tuple(options)))
        for option, feature in options.items():
            if isinstance(both, Picked):
                self.features[feature] = Feature(feature, Seen(True))
            else:
                self.features[feature] = yield from self._held_against(plain, option, feature)

    def _held_against(self, plain: Offer, option: str, feature: str) -> Generator[Step, Any, Feature]:
        """A change is blamed only where the hello fails with it, and never without it, several times in turn."""
        changed = msgspec.structs.replace(plain, options=(option,))
        how = ""
        for _ in range(CONTROLS):
            answer = yield Ask(changed)
            if isinstance(answer, Picked):
                return Feature(feature, Seen(True))
            if isinstance(answer, Unseen):
                return Feature(feature, answer)
            how = answer.how
            if not isinstance((yield Ask(plain)), Picked):
                return Feature(feature, Unseen("the same hello without it was not answered every time"))
        return Feature(feature, Seen(False), how)

    # Browsers

    def ask_as(self, profile: BrowserProfile) -> Search:
        answer = yield Ask(profile.offer(self.name), as_it_is=True, is_option=True)
        match answer:
            case Picked():
                found = BrowserHello(
                    profile.title, Seen(True), answer.version, answer.suite, answer.group, answer.scheme
                )
            case Refused(how=how):
                found = BrowserHello(profile.title, Seen(False), how=how)
            case Unseen():
                found = BrowserHello(profile.title, answer)
        self.browsers[profile.title] = found

    def explain_refusal(self, profile: BrowserProfile) -> Search:
        """Where suites are in common all the same: for what it is refused."""
        found = self.browsers.get(profile.title)
        if found is None or found.seen != Seen(False) or not self._has_suites_of(profile):
            return
        cause = yield from cause_of(profile.offer(self.name), at_once=found.how == Refusal.SILENT.value)
        self.browsers[profile.title] = msgspec.structs.replace(found, minds=cause.words, minds_octets=cause.octets)

    def _has_suites_of(self, profile: BrowserProfile) -> bool:
        return any(
            set(self._searches[version].suites) & set(profile.suites)
            for version in profile.versions
            if version in self._searches
        )

    def ask_fallback_guard(self, accepted: frozenset[int]) -> Search:
        """TLS_FALLBACK_SCSV (RFC 7507) in a hello for less than the server's best version."""
        versions = sorted(accepted - {int(Version.SSL_2_0)})
        lower = [version for version in versions if version <= Version.TLS_1_1]
        if not lower or max(versions) < Version.TLS_1_1 or len(versions) < 2:
            return
        version = max(v for v in lower if v < max(versions))
        answer = yield Ask(Offer((version,), self.name, options=("fallback",)))
        if isinstance(answer, Unseen):
            self.features[protocols.FALLBACK_GUARD] = Feature(protocols.FALLBACK_GUARD, answer)
        else:
            guarded = isinstance(answer, Refused)
            how = answer.how if isinstance(answer, Refused) else ""
            self.features[protocols.FALLBACK_GUARD] = Feature(protocols.FALLBACK_GUARD, Seen(guarded), how)

    def ask_other_key(self) -> Search:
        """A server may hold a certificate of each kind of key: ask for the kind that did not come."""
        best = next((each.answer for each in self._probes if isinstance(each.answer, Handshake)), None)
        if best is None or best.version < Version.TLS_1_2:
            return
        older = self._searches.get(int(Version.TLS_1_2))
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
        probe: Probe = yield Exchange(Offer(MODERN, self.name, suites, schemes=schemes))
        known = {each.answer.chain[0] for each in self._probes if isinstance(each.answer, Handshake)}
        if isinstance(probe.answer, Handshake) and probe.answer.chain[0] not in known:
            self.of_other_keys.append(probe)


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


def _why_unseen(answer: Refused | Unseen | None) -> Unseen:
    return answer if isinstance(answer, Unseen) else Unseen("the hello was refused")
