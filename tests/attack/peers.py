"""Servers that speak TLS as nobody should."""

import os
import struct
import time

from attack.stage import head
from pewter.tls.codepoints import ContentType, HandshakeType
from pewter.tls.hellos import ServerHello, build_message, build_server_hello, read_client_hello, read_offered_versions
from pewter.tls.messages import build_certificate
from pewter.tls.records import MessageReader, RecordReader, build_record
from support.certificates import leaf
from support.looks import CHAIN

MIB = 1 << 20


def read_hello(connection):
    records, messages = RecordReader(), MessageReader()
    while octets := connection.recv(1 << 16):
        if octets[0] & 0x80:
            return None
        records.feed(octets)
        while (record := records.next()) is not None:
            messages.feed(record.fragment)
        if (message := messages.next()) is not None:
            return read_client_hello(message[1])
    return None


def mirror(connection) -> None:
    """Takes whatever is offered first: every suite of every version, in any order."""
    hello = read_hello(connection)
    versions = [each for each in read_offered_versions(hello) if each <= 0x0303] if hello is not None else []
    if hello is not None and versions:
        suites = [each for each in hello.cipher_suites if each not in {0x00FF, 0x5600} and each & 0x0F0F != 0x0A0A]
        flight = (
            build_server_hello(ServerHello(max(versions), bytes(32), b"", suites[0], 0, ())),
            build_message(HandshakeType.CERTIFICATE, build_certificate(tuple(each.der for each in CHAIN))),
            build_message(HandshakeType.SERVER_HELLO_DONE, b""),
        )
        connection.sendall(b"".join(build_record(ContentType.HANDSHAKE, max(versions), each) for each in flight))
        connection.recv(1)


def hellos(*messages: bytes):
    """A ServerHello of TLS 1.2, and then these octets."""
    start = build_record(22, 0x0303, build_server_hello(ServerHello(0x0303, bytes(32), b"", 0xC02F, 0, ())))
    return lambda connection: (connection.recv(1 << 16), connection.sendall(start + b"".join(messages)))


def chain_of(*certificates: bytes) -> bytes:
    octets = build_message(HandshakeType.CERTIFICATE, build_certificate(certificates))
    return b"".join(build_record(22, 0x0303, octets[n : n + 16_000]) for n in range(0, len(octets), 16_000))


TLS = {
    "mirror": mirror,
    "silent": lambda connection: connection.recv(1 << 16) and time.sleep(60),
    "empty-records": lambda connection: (connection.recv(1 << 16), connection.sendall(b"\x16\x03\x03\x00\x00" * 100_000)),
    "warnings": lambda connection: (connection.recv(1 << 16), connection.sendall(b"\x15\x03\x03\x00\x02\x01\x5a" * 100_000)),
    "one-octet-records": lambda connection: (connection.recv(1 << 16), connection.sendall(b"\x16\x03\x03\x00\x01\x02" * 50_000)),
    "long-handshake": lambda connection: (connection.recv(1 << 16), connection.sendall(b"\x16\x03\x03\x40\x00\x02\xff\xff\xff" + bytes(1 << 22))),
    "http": lambda connection: (connection.recv(1 << 16), connection.sendall(head() + bytes(MIB))),
    "random": lambda connection: (connection.recv(1 << 16), connection.sendall(os.urandom(MIB))),
    "chain-of-many": hellos(chain_of(*[leaf().der] * 60)),
    "chain-of-rubbish": hellos(chain_of(*[b"\x30\x82\xff\xff"] * 5000)),
    "chain-of-empties": hellos(chain_of(*[b""] * 5000)),
    "chain-of-10-mb": hellos(chain_of(bytes(10 * MIB))),
    "deep-der": hellos(chain_of(b"".join(b"\x30\x84" + struct.pack("!I", 90_000 - 6 * n) for n in range(14_000)))),
    "hello-retry": lambda connection: (connection.recv(1 << 16), connection.sendall(build_record(22, 0x0303, build_server_hello(ServerHello(0x0303, bytes.fromhex("cf21ad74e59a6111be1d8c021e65b891c2a211167abb8c5e079e09e2c8a8339c"), b"", 0x1301, 0, ()))) * 50)),
    "closes": lambda connection: None,
    "accepts-and-trickles": lambda connection: [connection.sendall(b"\x16") or time.sleep(0.5) for _ in range(60)],
}  # fmt: skip
