"""Sending one hello and hearing the answer out."""

import asyncio
import errno
import os
import socket
import time
from collections.abc import Callable
from typing import Protocol

import msgspec

from pewter.evidence import Handshake, HelloAnswer, HowEnded, HowFailed, NoConnection, Offer, Unseen
from pewter.tls import Conversation
from pewter.tls.trial import Picked

from .liveness import Liveness
from .network import Network
from .routes import Destination

MAX_OCTETS = 1 << 19
"""Of one answer: a certificate message of the greatest length we read, twice over."""

MAX_AT_ONCE = 1 << 13
"""Octets that are taken apart in one turn of the event loop."""

_NO_WAY_FROM_HERE = {errno.ENETUNREACH, errno.EADDRNOTAVAIL, errno.EAFNOSUPPORT, errno.ENETDOWN}
"""The fault of the reviewer's machine, mostly that it has no IPv6: nothing may be concluded about the site."""


class HelloResult(msgspec.Struct, frozen=True):
    """One answer and the certificates that came with it."""

    answer: HelloAnswer
    certificates: dict[str, bytes]
    elapsed_seconds: float


class Client(Protocol):
    """A sans-I/O client: a Conversation, or one hello of a search."""

    @property
    def answer(self) -> object: ...

    def start(self) -> bytes: ...

    def receive(self, octets: bytes) -> bytes: ...

    def peer_ended(self, how: HowEnded, detail: str) -> None: ...


async def send_hello(offer: Offer, destination: Destination, network: Network, step_seconds: float) -> HelloResult:
    """One hello on a connection of its own, bounded in octets and, by one total deadline, in time."""
    conversation = Conversation(offer, network.random(64))
    begun = time.monotonic()
    failure = await drive(conversation, destination, network.liveness, step_seconds)
    found = failure or conversation.answer
    assert found is not None
    return HelloResult(found, dict(conversation.certificates), time.monotonic() - begun)


async def drive(
    client: Client, destination: Destination, liveness: Liveness, step_seconds: float
) -> NoConnection | Unseen | None:
    """Let a client have its exchange; what is returned is why no connection came about, else its answer is set."""
    connected = False
    try:
        async with liveness.exchange(destination, step_seconds):
            reader, writer = await asyncio.open_connection(destination.connect_address, destination.connect_port)
            connected = True
            liveness.taken(destination)
            try:
                await _converse(client, reader, writer, lambda: liveness.heard(destination))
            finally:
                writer.transport.abort()
        if isinstance(client.answer, Handshake | Picked):
            liveness.answered(destination)
    except TimeoutError:
        seconds = liveness.seconds(destination, step_seconds)
        if not connected and not liveness.takes_connections(destination):
            return NoConnection(HowFailed.TIMED_OUT, f"no TCP connection within {seconds:g} s")
        client.peer_ended(HowEnded.SILENT, f"no whole answer within {seconds:g} s")
    except ConnectionResetError:
        liveness.heard(destination)
        if not connected:
            return NoConnection(HowFailed.RESET, "the connection was reset")
        client.peer_ended(HowEnded.RESET, "the connection was reset")
    except OSError as exc:
        liveness.heard(destination)
        if not connected:
            return failed_connection(exc, destination.address)
        client.peer_ended(HowEnded.RESET, str(exc.strerror or exc))
    return None


async def _converse(
    conversation: Client, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, heard: Callable[[], None]
) -> None:
    writer.write(conversation.start())
    received = 0
    while conversation.answer is None:
        octets = await reader.read(MAX_AT_ONCE)
        heard()
        await asyncio.sleep(0)  # what is there already is read without a pause: others have their turn
        received += len(octets)
        if not octets:
            conversation.peer_ended(HowEnded.CLOSED, "the server closed the connection")
        elif received > MAX_OCTETS:
            conversation.peer_ended(HowEnded.GARBLED, f"more than {MAX_OCTETS} octets and no end")
        elif reply := conversation.receive(octets):
            writer.write(reply)


def failed_connection(exc: OSError, address: str) -> NoConnection | Unseen:
    """A connection that did not come about, as evidence."""
    if exc.errno in _NO_WAY_FROM_HERE or (exc.errno == errno.EHOSTUNREACH and not _has_route(address)):
        kind = "IPv6 address" if ":" in address else "address"
        return Unseen(f"this machine has no way to the {kind} {address} ({os.strerror(exc.errno or 0)})")
    if isinstance(exc, ConnectionRefusedError):
        return NoConnection(HowFailed.REFUSED, "the connection was refused")
    if exc.errno in {errno.EHOSTUNREACH, errno.EHOSTDOWN}:
        return NoConnection(HowFailed.UNREACHABLE, "the host is unreachable")
    if exc.errno == errno.ETIMEDOUT:
        return NoConnection(HowFailed.TIMED_OUT, "no TCP connection came about")
    if isinstance(exc, socket.gaierror):
        return Unseen(f"{address} could not be used: {exc.strerror}")
    return NoConnection(HowFailed.FAILED, str(exc.strerror or exc))


def _has_route(address: str) -> bool:
    """Whether this machine knows a way to the address; nothing is sent to find out."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    try:
        with socket.socket(family, socket.SOCK_DGRAM) as probe:
            probe.connect((address, 443))
    except OSError:
        return False
    return True
