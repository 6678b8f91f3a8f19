"""All that is asked of one server's protocol: versions, suites and groups, options.

It begins when the first hellos were answered, and asks everything else side by side:

    SSL 2.0, second hellos for doubtful versions
    suites and groups of each accepted version -- their order
    options that no search carried along, tickets, other names, the hellos of browsers, the other kind of key
"""

from collections.abc import Sequence

from pewter.evidence import (
    FiniteField,
    GroupsSeen,
    Handshake,
    Probe,
    Protocol,
    Seen,
    SuitesSeen,
    Unseen,
    VersionOutcome,
    VersionSeen,
)

from .browsers import BROWSERS
from .codepoints import Version
from .conversation import fingerprint
from .offers import GROUPS, MODERN, cipher_suites
from .options import Options
from .search import VersionSearch
from .steps import Search, Together
from .suites import table
from .versions import Versions


class ProtocolSearch:
    """One server's; :meth:`run` fills :attr:`protocol`, which holds what is known at any time.

    ``curve``: of the ECDSA key that was shown, where it was one and no RSA key was.
    """

    def __init__(self, name: str, probes: Sequence[Probe], curve: int | None) -> None:
        self.name = name
        self._probes = probes
        self._curve = curve
        self.searches: dict[int, VersionSearch] = {}
        self.versions = Versions(name, probes, self._search)
        self.options = Options(name, probes, self.searches)

    @property
    def protocol(self) -> Protocol:
        searches = [search for _, search in sorted(self.searches.items(), reverse=True)]
        return Protocol(
            versions=tuple(seen for _, seen in sorted(self.versions.seen.items(), reverse=True)),
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
            finite_field=_finite_field(searches),
            features=tuple(feature for _, feature in sorted(self.options.features.items())),
            browsers=tuple(
                self.options.browsers[each.title] for each in BROWSERS if each.title in self.options.browsers
            ),
        )

    def run(self) -> Search:
        versions, options = self.versions, self.options
        versions.take_first_answers()
        late = "not reached before the deadline"
        versions.seen.setdefault(Version.SSL_2_0, VersionSeen(Version.SSL_2_0, VersionOutcome.UNKNOWN, late))
        # The longest chains of hellos first: the oldest wish has the next slot.
        work: list[Search] = [self._search(version) for version in sorted(versions.accepted)]
        work += [versions.ask_old(), *map(versions.ask, versions.doubtful), versions.ask_ssl_2()]
        if versions.accepted:
            yield Together((*work, *options.all_of(versions.accepted)))
        else:
            yield Together(tuple(work))
            yield Together(options.all_of(versions.accepted))
        yield Together(options.last(versions.accepted))

    def _search(self, version: int) -> Search:
        """The suites of a version; groups too in TLS 1.3 and in the newest version before it."""
        if version in self.searches or version == Version.SSL_2_0:
            return
        accepted = self.versions.accepted
        older = [each for each in accepted if Version.SSL_3_0 < each < Version.TLS_1_3]
        with_groups = version == Version.TLS_1_3 or version == max(older, default=0)
        search = VersionSearch(self.name, version, with_groups, Version.TLS_1_3 in accepted, self._curve)
        self.searches[version] = search
        self._seed(search)
        yield from search.find()
        after = [search.settle()]
        if search.is_tls_1_3:
            after.append(self.options.take_tolerance(search))
        elif with_groups:
            after.append(self.options.take_rich(search))
        if version == max(self.versions.accepted & set(MODERN) - {int(Version.TLS_1_3)}, default=version):
            after.append(self.options.ask_other_key())
        yield Together(tuple(after))

    def _seed(self, search: VersionSearch) -> None:
        """What the first hellos told already."""
        for probe in self._probes:
            answer = probe.answer
            if not isinstance(answer, Handshake) or answer.version != search.version or probe.offer.suites is not None:
                continue
            search.picks.note(cipher_suites((search.version,)), answer.cipher_suite)
            if answer.group is not None and search.with_groups:
                if search.is_tls_1_3:
                    search.groups.know(answer.group)  # it had shares: no word on the server's order
                else:
                    search.groups.note(tuple(map(int, GROUPS)), answer.group)


def _finite_field(searches: Sequence[VersionSearch]) -> Seen[FiniteField | None] | Unseen:
    older = [each for each in searches if not each.is_tls_1_3]
    if not older:
        return Unseen("not asked")
    for search in older:
        for prime in search.primes[:1]:
            return Seen(FiniteField(int.from_bytes(prime, "big").bit_length(), fingerprint(prime)))
    if any(table()[code].key_exchange == "DHE" for each in older for code in each.suites):
        return Unseen("the parameters did not come")
    return Unseen(older[0].unfinished) if older[0].unfinished else Seen(None)


def _why_no_groups(search: VersionSearch) -> str:
    if search.needs_shares:
        return "no answer to a hello without key shares"
    return search.unfinished
