"""What a search yields: questions to a server, each with the answer that is sent back for it."""

from collections.abc import Generator
from typing import Any

import msgspec

from pewter.evidence import Offer, Probe, Unseen

from .trial import Picked, Refused


class Ask(msgspec.Struct, frozen=True):
    """One hello, of which the answer is wanted: Picked, Refused or Unseen."""

    offer: Offer
    as_it_is: bool = False
    """Nothing is left out of it that the server is known to mind."""

    is_option: bool = False
    """One question by itself, on which no other waits."""


class Exchange(msgspec.Struct, frozen=True):
    """A whole exchange up to the certificates, of which the Probe is wanted."""

    offer: Offer
    is_option: bool = False


class Finish(msgspec.Struct, frozen=True):
    """A whole handshake to its end, of which Finished is wanted."""

    offer: Offer


class Finished(msgspec.Struct, frozen=True):
    """What came of one."""

    probe: Probe | None
    """None where no answer came."""

    is_finished: bool
    tickets: tuple[int, ...]
    """max_early_data_size of each."""

    why_not: str = ""
    """Why no connection came about."""


class AskSsl2(msgspec.Struct, frozen=True):
    """An SSL 2.0 hello; the answer is Ssl2Hello, Refused, NoConnection or Unseen."""


class Together(msgspec.Struct, frozen=True):
    """Searches that do not wait for each other."""

    searches: tuple["Search", ...]


Answer = Picked | Refused | Unseen
Step = Ask | Exchange | Finish | AskSsl2 | Together
Search = Generator[Step, Any, None]
"""Yields what is to be asked, and is sent the answer; whoever has the sockets drives it."""
