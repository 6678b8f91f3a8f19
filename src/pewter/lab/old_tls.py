"""TLS 1.0 and 1.1 just far enough for a probe: hello, certificates, done.

The demo must not depend on what the local OpenSSL still allows.  The key exchange is static RSA, whose
messages end with the certificates; nothing can be encrypted over it.
"""

import os

from pewter.tls.codepoints import AlertDescription, ContentType, HandshakeType
from pewter.tls.hellos import ServerHello, build_message, build_server_hello
from pewter.tls.messages import build_certificate
from pewter.tls.records import build_record

TLS_RSA_WITH_AES_128_CBC_SHA = 0x002F
_FATAL = 2


def answer_in_old_version(version: int, chain: tuple[bytes, ...]) -> bytes:
    """The records of a server's first flight; ``chain`` is DER, leaf first."""
    hello = ServerHello(version, os.urandom(32), os.urandom(32), TLS_RSA_WITH_AES_128_CBC_SHA, 0, ())
    messages = (
        build_server_hello(hello),
        build_message(HandshakeType.CERTIFICATE, build_certificate(chain)),
        build_message(HandshakeType.SERVER_HELLO_DONE, b""),
    )
    return b"".join(build_record(ContentType.HANDSHAKE, version, message) for message in messages)


def alert_protocol_version(version: int) -> bytes:
    """The fatal alert with which a server refuses a version."""
    return build_record(ContentType.ALERT, version, bytes((_FATAL, AlertDescription.PROTOCOL_VERSION)))
