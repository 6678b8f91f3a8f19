"""The look at one front end: what :mod:`pewter.tls.protocol` wishes to ask, asked over sockets."""

import asyncio

import msgspec

from pewter.evidence import Handshake, Probe, Protocol
from pewter.pki import Certificate, read_certificate
from pewter.tls.codepoints import Group, group_name
from pewter.tls.protocol import ProtocolSearch
from pewter.tls.search import VersionSearch

from .asking import Asker
from .driving import drive_search

_CURVES = {group_name(each): int(each) for each in Group}


class FrontEndLook:
    """One front end's look; :meth:`run` fills :attr:`protocol`, which holds what is known at any time."""

    def __init__(self, asker: Asker, probes: tuple[Probe, ...]) -> None:
        self.asker = asker
        self.probes = probes
        """The first hellos and their answers."""

        self.search = ProtocolSearch(asker.name, probes, self._key_curve())
        self.is_through = asyncio.Event()

    @property
    def searches(self) -> dict[int, VersionSearch]:
        return self.search.searches

    @property
    def more_probes(self) -> list[Probe]:
        return self.search.options.of_other_keys

    @property
    def further_probes(self) -> list[Probe]:
        """Whole handshakes for other ends: a staple may be in them."""
        return self.search.options.finished

    @property
    def nameless(self) -> list[Probe]:
        return self.search.options.nameless

    @property
    def protocol(self) -> Protocol:
        asker = self.asker
        return msgspec.structs.replace(
            self.search.protocol, tries=asker.tries, connections=asker.connections, slowed_down=asker.is_slowed_down
        )

    async def run(self) -> None:
        await drive_search(self.search.run(), self.asker)

    def _key_curve(self) -> int | None:
        """Of the ECDSA key that was shown, where it was one and no RSA key was."""
        leaves = {probe.answer.chain[0] for probe in self.probes if isinstance(probe.answer, Handshake)}
        known = self.asker.certificates
        read = [read_certificate(known[leaf]) for leaf in leaves if leaf in known]
        curves = {_CURVES.get(each.key.curve) for each in read if isinstance(each, Certificate)}
        return curves.pop() if len(curves) == 1 else None
