"""Why a server refuses a hello: experiments, one difference at a time.

A hello that is refused is sent again with one thing left out, padded to its old size so that nothing else is different
(RFC 7685).  Only where none of these is taken is its size tried, smaller and larger.

No sockets: searches yield hellos and are sent answers (:mod:`pewter.tls.steps`).
"""

import itertools
from collections.abc import Generator, Iterator, Sequence
from typing import Any

import msgspec

from pewter.evidence import Ended, Handshake, HowEnded, Offer, Probe

from .browsers import CHROMIUM, FIREFOX
from .candidates import EVERY_TLS_1_3_GROUP
from .codepoints import HYBRID_GROUPS, ExtensionType, Group, Version, extension_name
from .hellos import build_client_hello
from .offers import FIRST_SHARES, MODERN, OPTIONAL_EXTENSIONS, make_hello
from .shares import make_share
from .steps import Ask, Exchange, Search, Step, Together
from .trial import Picked

LARGE_ENOUGH = 700
"""Octets beyond what balancers stumble over that take a hello of 256 to 511 octets for one of SSL 2.0."""

SLACK = 24
"""Octets of padding by which it is seen whether the padding itself is minded."""

_FEW_SUITES = (0x1301, 0x1302, 0xC02B, 0xC02F, 0xC02C, 0xC030, 0xC009, 0xC013, 0x002F)
_FEW_SCHEMES = (0x0403, 0x0804, 0x0401, 0x0503, 0x0805, 0x0501)
_FEW_GROUPS = (int(Group.X25519), int(Group.SECP256R1))
_OF_BROWSERS = (ExtensionType.SESSION_TICKET, ExtensionType.COMPRESS_CERTIFICATE, ExtensionType.ENCRYPTED_CLIENT_HELLO)


class Cause(msgspec.Struct, frozen=True):
    """What of a hello a server refuses."""

    words: str = ""
    """``values that nobody knows (GREASE)``; empty where it was not found."""

    extensions: tuple[int, ...] = ()
    """Types, where it is for these."""

    octets: int = 0
    """Of the hello, where it is for its size."""

    is_too_small: bool = False


def octets_of(offer: Offer) -> int:
    """Of its handshake message."""
    shares = tuple(map(make_share, offer.shares)) if offer.shares is not None else ()
    return len(build_client_hello(make_hello(offer, bytes(32), bytes(32), shares)))


def _replaced(offer: Offer, **fields: Any) -> Offer:
    return msgspec.structs.replace(offer, **fields)


def _differences(hello: Offer) -> Iterator[tuple[Cause, Offer]]:
    """What can be done without, each by itself; last all optional extensions together."""
    is_browsers = "browser" in hello.options
    if hello.groups is not None and set(hello.groups) & set(HYBRID_GROUPS):
        yield Cause("a post-quantum group"), _without_hybrids(hello)
    if "grease" in hello.options:
        options = tuple(each for each in hello.options if each != "grease")
        yield Cause("values that nobody knows (GREASE)"), _replaced(hello, options=options)
    optional = (*OPTIONAL_EXTENSIONS, *(_OF_BROWSERS if is_browsers else ()))
    for each in optional:
        yield Cause(extension_name(each), (int(each),)), _replaced(hello, without=(*hello.without, each))
    if not is_browsers:
        yield Cause("many suites"), _replaced(hello, suites=_FEW_SUITES)
        yield Cause("groups beside X25519 and P-256"), _replaced(hello, groups=_FEW_GROUPS)
        yield Cause("many signature algorithms"), _replaced(hello, schemes=_FEW_SCHEMES)
    older = _replaced(hello, versions=(int(Version.TLS_1_2),), options=(*hello.options, "rich"), shares=None)
    yield Cause("TLS 1.3"), older
    yield Cause(_named(optional), optional), _replaced(hello, without=(*hello.without, *optional))


def _named(extensions: Sequence[int]) -> str:
    return ", ".join(map(extension_name, extensions))


def _without_hybrids(hello: Offer) -> Offer:
    groups, shares = (
        tuple(each for each in found if each not in HYBRID_GROUPS) if found is not None else None
        for found in (hello.groups, hello.shares)
    )
    return _replaced(hello, groups=groups, shares=shares)


def cause_of(hello: Offer, *, at_once: bool = False) -> Generator[Step, Any, Cause]:
    """For what a hello is refused of which it is sure that it is.

    ``at_once``: all experiments side by side, since each takes a whole deadline where the server says nothing.
    """
    size = octets_of(hello)
    tried = [(cause, _replaced(offer, pad_to=size)) for cause, offer in _differences(hello)]
    known = (yield from _taken_of([offer for _, offer in tried])) if at_once else {}
    for cause, offer in tried:
        if known[offer] if at_once else (yield from _is_taken(offer)):
            return (yield from _fewest(hello, size, cause)) if len(cause.extensions) > 1 else cause
    if size < LARGE_ENOUGH and (yield from _is_taken(_replaced(hello, pad_to=LARGE_ENOUGH))):
        return Cause(octets=size, is_too_small=True)
    small = _replaced(_without_hybrids(hello), suites=_FEW_SUITES, without=(*OPTIONAL_EXTENSIONS, *_OF_BROWSERS))
    if (yield from _is_taken(small)):
        octets = octets_of(small)
        if octets + SLACK < size and (yield from _is_taken(_replaced(small, pad_to=octets + SLACK))):
            return Cause(octets=size)
    return Cause()


def _fewest(hello: Offer, size: int, cause: Cause) -> Generator[Step, Any, Cause]:
    """Of several extensions those that have to be left out indeed."""
    minded = cause.extensions
    for extension in cause.extensions:
        others = tuple(each for each in minded if each != extension)
        if (yield from _is_taken(_replaced(hello, without=(*hello.without, *others), pad_to=size))):
            minded = others
    return Cause(_named(minded), minded)


def cause_of_silence(hello: Offer) -> Generator[Step, Any, Cause]:
    """Likewise, where each experiment takes a whole deadline: only what is known to cause it."""
    if octets_of(hello) < LARGE_ENOUGH and (yield from _is_taken(_replaced(hello, pad_to=LARGE_ENOUGH))):
        return Cause(octets=octets_of(hello), is_too_small=True)
    return Cause()


def _is_silent(probe: Probe) -> bool:
    return isinstance(probe.answer, Ended) and probe.answer.how is HowEnded.SILENT


def _taken_of(offers: Sequence[Offer]) -> Generator[Step, Any, dict[Offer, bool]]:
    found: dict[Offer, bool] = {}

    def ask(offer: Offer) -> Search:
        found[offer] = yield from _is_taken(offer)

    yield Together(tuple(map(ask, offers)))
    return found


def _is_taken(offer: Offer) -> Generator[Step, Any, bool]:
    return isinstance((yield Ask(offer, as_it_is=True)), Picked)


class FirstHello:
    """After the first hello was refused: one that is taken, and for what the first was not.

    What :meth:`find` gives is the control while :meth:`explain` asks.
    """

    def __init__(self, refused: Probe) -> None:
        self.probe = refused
        """What tells most of the server."""

        self.cause = Cause()

    def find(self) -> Generator[Step, Any, Offer | None]:
        """A hello that is taken, of any shape; None where none is."""
        shapes = _shapes(self.probe.offer, self.probe.offer.server_name)
        if _is_silent(self.probe):  # each takes a whole deadline
            shapes = itertools.islice(shapes, 1, 4)
        for offer in shapes:
            probe: Probe = yield Exchange(offer)
            if isinstance(probe.answer, Handshake):
                self.probe = probe
                return offer
        return None

    def explain(self, first: Offer) -> Generator[Step, Any, None]:
        """Whether the first hello is refused indeed, and why; the probe is the one that is most like it."""
        again: Probe = yield Exchange(first)
        if isinstance(again.answer, Handshake):
            self.probe = again
            return
        sent = _replaced(first, shares=tuple(map(int, FIRST_SHARES))) if first.shares is None else first
        self.cause = yield from (cause_of_silence(sent) if _is_silent(again) else cause_of(sent))
        nearest = first
        if self.cause.extensions:
            nearest = _replaced(first, without=self.cause.extensions)
        elif self.cause.is_too_small:
            nearest = _replaced(first, pad_to=LARGE_ENOUGH)
        if nearest is not first:
            probe: Probe = yield Exchange(nearest)
            if isinstance(probe.answer, Handshake):
                self.probe = probe


def _shapes(first: Offer, name: str | None) -> Iterator[Offer]:
    """From the likeliest on: the same again, small, large, as browsers send it, plain, with every group."""
    yield first
    yield _replaced(first, without=OPTIONAL_EXTENSIONS)
    yield _replaced(first, pad_to=LARGE_ENOUGH)
    yield CHROMIUM.offer(name)
    yield FIREFOX.offer(name)
    yield _without_hybrids(CHROMIUM.offer(name))
    yield Offer(MODERN, name, _FEW_SUITES, groups=(int(Group.SECP256R1),), shares=(int(Group.SECP256R1),),
                schemes=_FEW_SCHEMES, without=OPTIONAL_EXTENSIONS)  # fmt: skip
    yield Offer(MODERN, name, groups=EVERY_TLS_1_3_GROUP)
    yield Offer((int(Version.TLS_1_2),), name, _FEW_SUITES, groups=(0x0017, 0x0018))
