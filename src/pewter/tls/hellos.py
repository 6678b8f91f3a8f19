"""ClientHello and ServerHello (RFC 8446 section 4.1, RFC 5246 section 7.4.1)."""

import msgspec

from pewter.octets import DecodeError, Reader, read_uint16s, uint16s, vector

from .codepoints import ExtensionType, HandshakeType, Version

HELLO_RETRY_RANDOM = bytes.fromhex("cf21ad74e59a6111be1d8c021e65b891c2a211167abb8c5e079e09e2c8a8339c")
"""ServerHello.random of a HelloRetryRequest: SHA-256 of "HelloRetryRequest" (RFC 8446 section 4.1.3)."""


EXTENSION_HEADER_OCTETS = 4
"""Type and length."""


class Extension(msgspec.Struct, frozen=True):
    """One extension, its body unread."""

    type: int
    body: bytes


class ClientHello(msgspec.Struct, frozen=True):
    """All fields of a ClientHello as they stand on the wire."""

    random: bytes
    """32 octets."""

    legacy_version: int
    cipher_suites: tuple[int, ...]
    session_id: bytes = b""
    compression_methods: bytes = b"\x00"
    extensions: tuple[Extension, ...] = ()

    def extension(self, wanted: int) -> bytes | None:
        """The body of the first extension of that type."""
        return next((extension.body for extension in self.extensions if extension.type == wanted), None)


class ServerHello(msgspec.Struct, frozen=True):
    """All fields of a ServerHello or HelloRetryRequest as they stand on the wire."""

    legacy_version: int
    random: bytes
    session_id: bytes
    cipher_suite: int
    compression_method: int
    extensions: tuple[Extension, ...]

    @property
    def is_hello_retry(self) -> bool:
        return self.random == HELLO_RETRY_RANDOM

    def extension(self, wanted: int) -> bytes | None:
        """The body of the first extension of that type."""
        return next((extension.body for extension in self.extensions if extension.type == wanted), None)

    @property
    def version(self) -> int:
        """The version agreed on: supported_versions where present, else legacy_version.

        TLS 1.3 leaves legacy_version at 0x0303 (RFC 8446 section 4.2.1).  Raises DecodeError
        where supported_versions does not hold exactly one version.
        """
        body = self.extension(ExtensionType.SUPPORTED_VERSIONS)
        if body is None:
            return self.legacy_version
        reader = Reader(body, "supported_versions")
        version = reader.uint(2)
        reader.end()
        return version


def build_message(message_type: int, body: bytes) -> bytes:
    """A handshake message: type, length of three octets, body."""
    return bytes((message_type,)) + vector(body, 3)


def build_extensions(extensions: tuple[Extension, ...]) -> bytes:
    """An extension block with its own length prefix."""
    return vector(b"".join(uint16s((each.type,)) + vector(each.body, 2) for each in extensions), 2)


def read_extensions(octets: bytes) -> tuple[Extension, ...]:
    """Split an extension block (RFC 8446 section 4.2) without its own length prefix.

    Order and repeats are kept: a type sent twice is evidence, and a rule reports it.
    Raises DecodeError where a length reaches past the end of the block.
    """
    reader = Reader(octets, "extensions")
    found: list[Extension] = []
    while reader:
        found.append(Extension(reader.uint(2), reader.vector(2)))
    return tuple(found)


def build_client_hello(hello: ClientHello) -> bytes:
    """The handshake message of ``hello``, ready for a record."""
    body = (
        uint16s((hello.legacy_version,))
        + hello.random
        + vector(hello.session_id, 1)
        + vector(uint16s(hello.cipher_suites), 2)
        + vector(hello.compression_methods, 1)
    )
    if hello.extensions:
        body += build_extensions(hello.extensions)
    return build_message(HandshakeType.CLIENT_HELLO, body)


def read_client_hello(body: bytes) -> ClientHello:
    """Read the body of a ClientHello message, its four octets of header cut off."""
    reader = Reader(body, "ClientHello")
    version = reader.uint(2)
    random = reader.take(32)
    session_id = reader.vector(1)
    suites = read_uint16s(reader.vector(2), "cipher_suites")
    compression = reader.vector(1)
    extensions = read_extensions(reader.vector(2)) if reader else ()
    reader.end()
    return ClientHello(random, version, suites, session_id, compression, extensions)


def build_server_hello(hello: ServerHello) -> bytes:
    """The handshake message of ``hello``, ready for a record."""
    body = (
        uint16s((hello.legacy_version,))
        + hello.random
        + vector(hello.session_id, 1)
        + uint16s((hello.cipher_suite,))
        + bytes((hello.compression_method,))
    )
    if hello.extensions:
        body += build_extensions(hello.extensions)
    return build_message(HandshakeType.SERVER_HELLO, body)


def read_server_hello(body: bytes) -> ServerHello:
    """Read the body of a ServerHello message, its four octets of header cut off."""
    reader = Reader(body, "ServerHello")
    version = reader.uint(2)
    random = reader.take(32)
    session_id = reader.vector(1)
    suite = reader.uint(2)
    compression = reader.uint(1)
    extensions = read_extensions(reader.vector(2)) if reader else ()
    reader.end()
    return ServerHello(version, random, session_id, suite, compression, extensions)


def read_offered_versions(hello: ClientHello) -> tuple[int, ...]:
    """The versions a ClientHello offers: supported_versions, or all up to legacy_version."""
    body = hello.extension(ExtensionType.SUPPORTED_VERSIONS)
    if body is None:
        return tuple(version for version in sorted(Version, reverse=True) if version <= hello.legacy_version)
    return read_uint16s(Reader(body, "supported_versions").vector(1), "supported_versions")


def read_server_name(hello: ClientHello) -> str | None:
    """The host_name in server_name (RFC 6066 section 3), or None."""
    body = hello.extension(ExtensionType.SERVER_NAME)
    if not body:
        return None
    entries = Reader(body, "server_name").nested(2, "ServerNameList")
    while entries:
        name_type, name = entries.uint(1), entries.vector(2)
        if name_type == 0:
            try:
                return name.decode("ascii").lower()
            except UnicodeDecodeError as exc:
                raise DecodeError("server_name", 0, "octets that are not ASCII") from exc
    return None
