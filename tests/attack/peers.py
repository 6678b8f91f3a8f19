"""Servers that speak TLS as nobody should."""

import contextlib
import os
import struct
import threading
import time

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, x25519

from attack.stage import head
from pewter.octets import vector
from pewter.tls import schedule
from pewter.tls.codepoints import ContentType, ExtensionType, HandshakeType
from pewter.tls.hellos import (
    Extension,
    ServerHello,
    build_client_hello,
    build_message,
    build_server_hello,
    read_client_hello,
    read_offered_versions,
)
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


def key_updates(ask: bool, each: int = 400):
    """A whole handshake of TLS 1.3, and then new keys without end (RFC 8446 section 4.6.3)."""

    def script(connection) -> None:
        hello = read_hello(connection)
        if hello is None or 0x0304 not in read_offered_versions(hello) or 0x1301 not in hello.cipher_suites:
            return
        public = _x25519_of(next(each.body for each in hello.extensions if each.type == ExtensionType.KEY_SHARE))
        if public is None:
            return
        private = x25519.X25519PrivateKey.generate()
        shared = private.exchange(x25519.X25519PublicKey.from_public_bytes(public))
        share = Extension(ExtensionType.KEY_SHARE, b"\x00\x1d\x00\x20" + private.public_key().public_bytes_raw())
        version = Extension(ExtensionType.SUPPORTED_VERSIONS, b"\x03\x04")
        answered = build_server_hello(
            ServerHello(0x0303, os.urandom(32), hello.session_id, 0x1301, 0, (share, version))
        )
        hashed = schedule.suite_hash(0x1301)
        transcript = build_client_hello(hello) + answered
        secret = schedule.server_handshake_traffic_secret(hashed, shared, transcript)
        certificates = b"".join(vector(one.der, 3) + b"\x00\x00" for one in CHAIN)
        flight = build_message(8, b"\x00\x00") + build_message(11, b"\x00" + vector(certificates, 3))
        signed = (
            bytes(b" " * 64) + b"TLS 1.3, server CertificateVerify\x00" + schedule.digest(hashed, transcript + flight)
        )
        flight += build_message(15, b"\x04\x03" + vector(CHAIN[0].key.sign(signed, ec.ECDSA(hashes.SHA256())), 2))
        flight += build_message(20, schedule.finished_value(hashed, secret, transcript + flight))
        sealed = schedule.RecordProtection(0x1301, secret).seal(22, flight)
        connection.sendall(build_record(22, 0x0303, answered) + b"\x14\x03\x03\x00\x01\x01" + sealed)
        secret = schedule.server_application_traffic_secret(hashed, shared, transcript + flight)
        update = build_message(24, b"\x01" if ask else b"\x00")
        threading.Thread(target=_swallow, args=(connection,), daemon=True).start()
        while True:
            records = []
            for _ in range(each):
                records.append(schedule.RecordProtection(0x1301, secret).seal(22, update))
                secret = schedule.expand_label(hashed, secret, "traffic upd", b"", 32)
            connection.sendall(b"".join(records))

    return script


def _x25519_of(key_shares: bytes) -> bytes | None:
    position = 2
    while position < len(key_shares):
        group, length = struct.unpack_from("!HH", key_shares, position)
        if group == 0x001D:
            return key_shares[position + 4 : position + 4 + length]
        position += 4 + length
    return None


def _swallow(connection) -> None:
    with contextlib.suppress(OSError):
        while connection.recv(1 << 16):
            pass


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
    "key-updates": key_updates(False),
    "key-updates-asked": key_updates(True),
    "key-updates-slow": key_updates(True, 1),
    "closes": lambda connection: None,
    "accepts-and-trickles": lambda connection: [connection.sendall(b"\x16") or time.sleep(0.5) for _ in range(60)],
}  # fmt: skip
