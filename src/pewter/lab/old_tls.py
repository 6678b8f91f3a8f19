"""TLS just far enough for a probe, where the local OpenSSL is too new or too old: hello, certificates, done.

The demo must not depend on what the local OpenSSL still allows.  The key exchange is static RSA, whose
messages end with the certificates; nothing can be encrypted over it.
"""

import os

from pewter.octets import read_uint16s
from pewter.tls.codepoints import AlertDescription, ContentType, ExtensionType, Group, HandshakeType, Version
from pewter.tls.hellos import (
    HELLO_RETRY_RANDOM,
    ClientHello,
    Extension,
    ServerHello,
    build_message,
    build_server_hello,
)
from pewter.tls.messages import build_certificate
from pewter.tls.records import build_record

TLS_RSA_WITH_AES_128_CBC_SHA = 0x002F
HYBRID = int(Group.X25519MLKEM768)
_FATAL = 2
_OPENSSL_ORDER = (0x1302, 0x1303, 0x1301)
"""In which the servers behind the lab's front door prefer the suites of TLS 1.3."""


def answer_in_old_version(version: int, chain: tuple[bytes, ...]) -> bytes:
    """The records of a server's first flight; ``chain`` is DER, leaf first."""
    hello = ServerHello(version, os.urandom(32), os.urandom(32), TLS_RSA_WITH_AES_128_CBC_SHA, 0, ())
    messages = (
        build_server_hello(hello),
        build_message(HandshakeType.CERTIFICATE, build_certificate(chain)),
        build_message(HandshakeType.SERVER_HELLO_DONE, b""),
    )
    return b"".join(build_record(ContentType.HANDSHAKE, version, message) for message in messages)


def asks_for_hybrid(hello: ClientHello) -> bool:
    """Whether a hello offers X25519MLKEM768 without any key share: a client that searches for groups."""
    shares, groups = hello.extension(ExtensionType.KEY_SHARE), hello.extension(ExtensionType.SUPPORTED_GROUPS)
    return shares == b"\0\0" and groups is not None and HYBRID in read_uint16s(groups[2:], "supported_groups")


def ask_for_hybrid(hello: ClientHello) -> bytes:
    """The HelloRetryRequest for X25519MLKEM768; no client gets further than this here."""
    extensions = (
        Extension(ExtensionType.SUPPORTED_VERSIONS, b"\x03\x04"),
        Extension(ExtensionType.KEY_SHARE, HYBRID.to_bytes(2, "big")),
    )
    suite = next((code for code in _OPENSSL_ORDER if code in hello.cipher_suites), 0)
    if not suite:
        return build_record(ContentType.ALERT, 0x0303, bytes((_FATAL, AlertDescription.HANDSHAKE_FAILURE)))
    retry = ServerHello(Version.TLS_1_2, HELLO_RETRY_RANDOM, hello.session_id, suite, 0, extensions)
    return build_record(ContentType.HANDSHAKE, 0x0303, build_server_hello(retry))


def alert_protocol_version(version: int) -> bytes:
    """The fatal alert with which a server refuses a version."""
    return build_record(ContentType.ALERT, version, bytes((_FATAL, AlertDescription.PROTOCOL_VERSION)))
