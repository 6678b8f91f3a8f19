"""The TLS 1.3 key schedule and record protection (RFC 8446 sections 5.2, 5.3 and 7.1)."""

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes, hmac
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305
from cryptography.hazmat.primitives.kdf.hkdf import HKDFExpand

from pewter.octets import DecodeError, vector

_SUITE_HASHES: dict[int, hashes.HashAlgorithm] = {
    0x1301: hashes.SHA256(),
    0x1302: hashes.SHA384(),
    0x1303: hashes.SHA256(),
}
_KEY_OCTETS = {0x1301: 16, 0x1302: 32, 0x1303: 32}
_IV_OCTETS = 12
_TAG_OCTETS = 16


def suite_hash(cipher_suite: int) -> hashes.HashAlgorithm:
    """The hash of a TLS 1.3 suite: SHA-384 for 0x1302, else SHA-256."""
    return _SUITE_HASHES[cipher_suite]


def digest(algorithm: hashes.HashAlgorithm, octets: bytes) -> bytes:
    """Hash ``octets``."""
    context = hashes.Hash(algorithm)
    context.update(octets)
    return context.finalize()


def extract(algorithm: hashes.HashAlgorithm, salt: bytes, ikm: bytes) -> bytes:
    """HKDF-Extract (RFC 5869 section 2.2)."""
    context = hmac.HMAC(salt or bytes(algorithm.digest_size), algorithm)
    context.update(ikm)
    return context.finalize()


def expand_label(algorithm: hashes.HashAlgorithm, secret: bytes, label: str, context: bytes, length: int) -> bytes:
    """HKDF-Expand-Label (RFC 8446 section 7.1); ``label`` without its ``tls13`` prefix."""
    info = length.to_bytes(2, "big") + vector(b"tls13 " + label.encode("ascii"), 1) + vector(context, 1)
    return HKDFExpand(algorithm=algorithm, length=length, info=info).derive(secret)


def derive_secret(algorithm: hashes.HashAlgorithm, secret: bytes, label: str, transcript: bytes) -> bytes:
    """Derive-Secret (RFC 8446 section 7.1); ``transcript`` is the messages themselves, not their hash."""
    return expand_label(algorithm, secret, label, digest(algorithm, transcript), algorithm.digest_size)


def handshake_secret(algorithm: hashes.HashAlgorithm, shared_secret: bytes) -> bytes:
    """The Handshake Secret of an exchange without a pre-shared key."""
    early = extract(algorithm, b"", bytes(algorithm.digest_size))
    return extract(algorithm, derive_secret(algorithm, early, "derived", b""), shared_secret)


def server_handshake_traffic_secret(algorithm: hashes.HashAlgorithm, shared_secret: bytes, transcript: bytes) -> bytes:
    """``s hs traffic`` over ClientHello...ServerHello."""
    return derive_secret(algorithm, handshake_secret(algorithm, shared_secret), "s hs traffic", transcript)


def client_handshake_traffic_secret(algorithm: hashes.HashAlgorithm, shared_secret: bytes, transcript: bytes) -> bytes:
    """``c hs traffic`` over ClientHello...ServerHello."""
    return derive_secret(algorithm, handshake_secret(algorithm, shared_secret), "c hs traffic", transcript)


def server_application_traffic_secret(
    algorithm: hashes.HashAlgorithm, shared_secret: bytes, transcript: bytes
) -> bytes:
    """``s ap traffic`` over ClientHello...server Finished."""
    derived = derive_secret(algorithm, handshake_secret(algorithm, shared_secret), "derived", b"")
    master = extract(algorithm, derived, bytes(algorithm.digest_size))
    return derive_secret(algorithm, master, "s ap traffic", transcript)


def finished_value(algorithm: hashes.HashAlgorithm, traffic_secret: bytes, transcript: bytes) -> bytes:
    """verify_data of Finished (RFC 8446 section 4.4.4)."""
    key = expand_label(algorithm, traffic_secret, "finished", b"", algorithm.digest_size)
    return extract(algorithm, key, digest(algorithm, transcript))


def message_hash(algorithm: hashes.HashAlgorithm, first_hello: bytes) -> bytes:
    """What stands for the first ClientHello in the transcript after a retry (RFC 8446 section 4.4.1)."""
    hashed = digest(algorithm, first_hello)
    return b"\xfe\x00\x00" + vector(hashed, 1)


class RecordProtection:
    """Opens the peer's protected records, or seals ours, one after the other."""

    def __init__(self, cipher_suite: int, traffic_secret: bytes) -> None:
        algorithm = suite_hash(cipher_suite)
        self.key = expand_label(algorithm, traffic_secret, "key", b"", _KEY_OCTETS[cipher_suite])
        self.iv = expand_label(algorithm, traffic_secret, "iv", b"", _IV_OCTETS)
        self._aead = ChaCha20Poly1305(self.key) if cipher_suite == 0x1303 else AESGCM(self.key)
        self._number = 0

    def _nonce(self) -> bytes:
        nonce = bytes(a ^ b for a, b in zip(self.iv, self._number.to_bytes(_IV_OCTETS, "big"), strict=True))
        self._number += 1
        return nonce

    def seal(self, content_type: int, content: bytes) -> bytes:
        """The next record of our own, whole."""
        inner = content + bytes((content_type,))
        header = b"\x17\x03\x03" + (len(inner) + _TAG_OCTETS).to_bytes(2, "big")
        return header + self._aead.encrypt(self._nonce(), inner, header)

    def open(self, header: bytes, ciphertext: bytes) -> tuple[int, bytes]:
        """Content type and content of the next record; DecodeError where it was tampered with or empty."""
        try:
            inner = self._aead.decrypt(self._nonce(), ciphertext, header)
        except (InvalidTag, ValueError) as exc:
            raise DecodeError("protected record", 0, "it does not decrypt under the handshake keys") from exc
        content = inner.rstrip(b"\x00")
        if not content:
            raise DecodeError("protected record", 0, "nothing but padding")
        return content[-1], content[:-1]
