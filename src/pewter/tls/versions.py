"""Which protocol versions a server accepts: what the first hellos told, and what is asked beside them.

No sockets: :class:`Versions` yields hellos and is sent answers (:mod:`pewter.tls.search`).
"""

from collections.abc import Callable, Generator, Sequence
from typing import Any

import msgspec

from pewter.evidence import Alert, Ended, Handshake, NoConnection, Offer, Probe, Unseen, VersionOutcome, VersionSeen

from .candidates import usual_suites
from .codepoints import Version, version_name
from .offers import MODERN, OPTIONAL_EXTENSIONS
from .ssl2 import Ssl2Hello
from .steps import Ask, AskSsl2, Search, Step, Together
from .trial import Picked, Refusal, Refused

OLD_VERSIONS = (int(Version.TLS_1_1), int(Version.TLS_1_0), int(Version.SSL_3_0))
FIRST_OFFERS = (MODERN, (int(Version.TLS_1_2),), OLD_VERSIONS)
"""The hellos that every endpoint gets; where the last is refused, all old versions are."""

_COMMON_SUITES = (
    *(0xC02F, 0xC030, 0xC02B, 0xC02C, 0xC013, 0xC014, 0xC009, 0xC00A),
    *(0x009C, 0x009D, 0x002F, 0x0035, 0x000A),
)


class Versions:
    """The versions of one server.  ``search``: what is asked of a version that is found."""

    def __init__(self, name: str, probes: Sequence[Probe], search: Callable[[int], Search]) -> None:
        self.name = name
        self._probes = probes
        self._search = search
        self.seen: dict[int, VersionSeen] = {}

    @property
    def accepted(self) -> frozenset[int]:
        return frozenset(int(version) for version, seen in self.seen.items() if seen.outcome is VersionOutcome.ACCEPTED)

    @property
    def doubtful(self) -> tuple[int, ...]:
        """Of the modern ones those of which the first hellos told nothing for certain."""
        return tuple(version for version in MODERN if not self.is_settled(version))

    def take_first_answers(self) -> None:
        for probe in self._probes:
            offered = probe.offer.versions
            if isinstance(probe.answer, Handshake):
                self._accept(probe.answer.version, "")
                self._refuse_above(probe.answer.version, offered)
                continue
            for version in offered:
                is_alone = len(offered) == 1 or version == Version.TLS_1_3 or offered == OLD_VERSIONS
                if is_alone and not self.is_settled(version):
                    self.seen[version] = _seen_by(version, probe)

    def _accept(self, version: int, how: str) -> None:
        self.seen[version] = VersionSeen(version, VersionOutcome.ACCEPTED, how)

    def _refuse_above(self, version: int, offered: Sequence[int]) -> None:
        """A server takes the newest version that both have (RFC 8446 section 4.2.1, RFC 5246 section E.1)."""
        for newer in offered:
            if newer > version and newer not in self.accepted:
                how = f"{version_name(version)} in its place"
                self.seen[newer] = VersionSeen(newer, VersionOutcome.REFUSED, how, is_of_version=True)

    def is_settled(self, version: int) -> bool:
        seen = self.seen.get(version)
        if seen is None:
            return False
        return seen.outcome is VersionOutcome.ACCEPTED or seen.is_of_version

    def ask(self, version: int) -> Search:
        """A hello of another shape for a version whose first hello was not plainly answered."""
        suites = usual_suites(version)
        offers = [Offer((version,), self.name, suites, options=("rich",))]
        if version == Version.TLS_1_3:
            # Nothing but what a hello must have, and shares: some servers cannot do without.
            offers.append(Offer((version,), self.name, suites, shares=(0x001D, 0x0017), without=OPTIONAL_EXTENSIONS))
        else:
            offers.append(_short(version, self.name, suites))
        if (yield from self._try_offers(offers, (version,))):
            yield from self._search(version)

    def ask_old(self) -> Search:
        """Versions below TLS 1.2 that the first hello left open: in other shapes, and one by one below the newest."""
        if not all(map(self.is_settled, OLD_VERSIONS)) and not self.accepted & set(OLD_VERSIONS):
            suites = usual_suites(Version.TLS_1_1)
            rich = Offer(OLD_VERSIONS, self.name, suites, options=("rich",))
            short = msgspec.structs.replace(_short(Version.TLS_1_1, self.name, suites), versions=OLD_VERSIONS)
            yield from self._try_offers([rich, short], OLD_VERSIONS)
            if not self.accepted & set(OLD_VERSIONS) and not self.is_settled(Version.SSL_3_0):
                # SSL 3.0 has no extensions: some of its servers take no hello that has any.
                bare = Offer((Version.SSL_3_0,), self.name, usual_suites(Version.SSL_3_0))
                yield from self._try_offers([bare], (int(Version.SSL_3_0),))
        found = self.accepted & set(OLD_VERSIONS)
        below = [version for version in OLD_VERSIONS if found and version < max(found)]
        yield Together((*map(self._search, found), *map(self._ask_below, below)))

    def _ask_below(self, version: int) -> Search:
        suites = usual_suites(version)
        options = () if version == Version.SSL_3_0 else ("rich",)
        if (yield from self._try_offers([Offer((version,), self.name, suites, options=options)], (version,))):
            yield from self._search(version)

    def _try_offers(self, offers: Sequence[Offer], versions: Sequence[int]) -> Generator[Step, Any, bool]:
        """One offer after the other, until one is taken or the refusal is plainly of the version."""
        for offer in offers:
            match (yield Ask(offer)):
                case Picked(version=version):
                    self._accept(version, "")
                    self._refuse_above(version, versions)
                    return True
                case Refused() as refused:
                    for version in versions:
                        self.seen[version] = _refused(version, refused)
                    if refused.is_of_version:
                        return False
                case Unseen(reason=reason):
                    for version in versions:
                        self.seen[version] = VersionSeen(version, VersionOutcome.UNKNOWN, reason)
                    return False
        return False

    def ask_ssl_2(self) -> Search:
        version = Version.SSL_2_0
        match (yield AskSsl2()):
            case Ssl2Hello(ciphers=ciphers):
                self._accept(version, "" if ciphers else "without any cipher")
            case Refused() as refused:
                self.seen[version] = _refused(version, refused)
            case NoConnection(detail=reason) | Unseen(reason=reason):
                self.seen[version] = VersionSeen(version, VersionOutcome.UNKNOWN, reason)


def _short(version: int, name: str, suites: Sequence[int]) -> Offer:
    """For servers that close on many suites or on groups that they do not know."""
    few = tuple(each for each in _COMMON_SUITES if each in suites)
    return Offer((version,), name, few, groups=(0x0017, 0x0018))


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


def _refused(version: int, refused: Refused) -> VersionSeen:
    return VersionSeen(version, VersionOutcome.REFUSED, refused.how, refused.alert, refused.is_of_version)
